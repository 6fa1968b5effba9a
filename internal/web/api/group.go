package api

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

// shelf keeps directories of the draft open between calls, so that their connections and lists of groups last.
type shelf struct {
	mu   sync.Mutex
	open map[string]*shelved
}

type shelved struct {
	*directory.Directory
	cfg  string
	used time.Time
}

// shelfLife is how long a directory of the draft stays open unused.
const shelfLife = 10 * time.Minute

// get returns the directory that is configured so, opening it if needed.
func (h *shelf) get(d *config.Directory, password string) (*directory.Directory, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, old := range h.open {
		if time.Since(old.used) > shelfLife {
			old.Close()
			delete(h.open, id)
		}
	}
	cfg := fmt.Sprint(*d)
	if old := h.open[d.ID]; old != nil {
		if old.cfg == cfg {
			old.used = time.Now()
			return old.Directory, nil
		}
		old.Close()
		delete(h.open, d.ID)
	}
	opened, err := directory.Open(*d, password)
	if err != nil {
		return nil, err
	}
	if h.open == nil {
		h.open = map[string]*shelved{}
	}
	h.open[d.ID] = &shelved{opened, cfg, time.Now()}
	return opened, nil
}

// directory returns a directory of the draft, the one in use if it is configured just so.
func (s *server) directory(ref string) (*directory.Directory, *config.Directory, error) {
	draft := s.Revisions.Draft()
	d, at := config.Find(draft.Directories, ref)
	if at < 0 {
		return nil, nil, problem(http.StatusNotFound, "there is no directory "+ref+" in the draft",
			"`tollgate directory list` shows those that are there.")
	}
	if used := s.Gate.Current().Same(d); used != nil {
		return used.Directory, d, nil
	}
	password, err := s.Box.Open(d.BindPlace(), d.BindPassword)
	if err != nil {
		return nil, nil, err
	}
	opened, err := s.shelf.get(d, password)
	return opened, d, err
}

// inUse is how a directory in use is configured.
func (s *server) inUse(ref string) (*config.Directory, error) {
	d, at := config.Find(s.Gate.Current().Plan.Config.Directories, ref)
	if at < 0 {
		return nil, problem(http.StatusNotFound, "there is no directory "+ref+" in use", "Publish it first.")
	}
	return d, nil
}

func (s *server) groups() {
	huma.Register(s.api, operation("GET", "/directories/{ref}/groups", "list-directory-groups",
		"Groups of a directory of the draft by any part of their name"), func(ctx context.Context, in *struct {
		OneInput
		Query string `query:"q" maxLength:"200"`
		After string `query:"after" maxLength:"2000" doc:"The next of the page before"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}) (*body[apitype.Groups], error) {
		d, cfg, err := s.directory(in.Ref)
		if err != nil {
			return nil, err
		}
		after, err := base64.RawURLEncoding.DecodeString(in.After)
		if err != nil {
			return nil, problem(http.StatusUnprocessableEntity, "after is not the next of a page",
				"Leave it out to begin.")
		}
		page, err := d.Groups(ctx, in.Query, string(after), in.Limit)
		if err != nil {
			return nil, problem(http.StatusBadGateway, err.Error(), "Run the test of this directory.")
		}
		out := apitype.Groups{Items: []apitype.Group{}, Next: base64.RawURLEncoding.EncodeToString([]byte(page.Next)),
			Total: page.Total, More: page.More}
		for _, g := range page.Items {
			out.Items = append(out.Items, apitype.Group{Group: g, Picked: config.PickedAs(cfg.Groups, g.ID)})
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("GET", "/directories/{ref}/picked", "list-picked-groups",
		"What became of the picked groups of a directory of the draft"), func(ctx context.Context,
		in *OneInput) (*body[apitype.Picked], error) {
		d, _, err := s.directory(in.Ref)
		if err != nil {
			return nil, err
		}
		items, err := d.Picked(ctx)
		if err != nil {
			return nil, problem(http.StatusBadGateway, err.Error(), "Run the test of this directory.")
		}
		return ok(apitype.Picked{Items: items}), nil
	})
	huma.Register(s.api, operation("POST", "/directories/{ref}/pick", "pick-group",
		"Pick a group of a directory, so that policies can name it and follow it when it is renamed"),
		func(ctx context.Context, in *struct {
			OneInput
			PublishInput
			Body apitype.PickInput
		}) (*body[apitype.Saved[config.PickedGroup]], error) {
			d, cfg, err := s.directory(in.Ref)
			if err != nil {
				return nil, err
			}
			if name := config.PickedAs(cfg.Groups, in.Body.ID); name != "" && in.Body.Name == "" {
				return ok(apitype.Saved[config.PickedGroup]{Object: config.PickedGroup{ID: in.Body.ID, Name: name}}),
					nil
			}
			found, err := d.Lookup(ctx, in.Body.ID)
			if err != nil {
				return nil, problem(http.StatusUnprocessableEntity, err.Error(),
					"Search the groups of this directory, and pick one of those.", apitype.Fault{Field: "id",
						Message: "is no group of this directory"})
			}
			picked := config.PickedGroup{ID: found.ID, Name: strings.TrimSpace(in.Body.Name)}
			if picked.Name == "" {
				picked.Name = found.Name
			}
			number, err := s.editDirectory(ctx, in.PublishInput, cfg.ID, func(d *config.Directory) {
				d.Groups = config.Pick(d.Groups, picked)
			})
			return ok(apitype.Saved[config.PickedGroup]{Object: picked, Revision: number}), err
		})
	huma.Register(s.api, operation("POST", "/directories/{ref}/forget", "forget-people",
		"Forget what is remembered of people and groups of a directory in use, so that they are asked anew"),
		func(_ context.Context, in *struct {
			OneInput
			Body apitype.ForgetInput
		}) (*body[apitype.Forgotten], error) {
			d, err := s.inUse(in.Ref)
			if err != nil {
				return nil, err
			}
			return ok(apitype.Forgotten{People: s.Gate.Current().Directory(d.Name).Forget(in.Body.Person)}), nil
		})
}

// editDirectory changes one directory of the draft.
func (s *server) editDirectory(ctx context.Context, p PublishInput, id string, change func(*config.Directory)) (int,
	error) {
	err := s.Revisions.Edit(ctx, who(ctx).Name, func(c *config.Config, _ revision.Authors) (string, error) {
		_, at := config.Find(c.Directories, id)
		if at < 0 {
			return "", problem(http.StatusNotFound, "the directory was removed meanwhile", "")
		}
		change(config.Own(c.Directories, at))
		return id, nil
	})
	if err != nil {
		return 0, editProblem(err)
	}
	return s.publishOne(ctx, p, id)
}
