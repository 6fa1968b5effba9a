package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/apitype"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/directory"
)

// testPatience bounds one test of a directory with all its servers.
const testPatience = 2 * time.Minute

// TestEnd closes the stream of a directory test.
type TestEnd struct {
	OK bool `json:"ok"`
}

func (s *server) directories() {
	op := operation("POST", "/directory-test", "test-directory", "Test a directory step by step, as typed or as in the draft")
	sse.Register(s.api, op, map[string]any{"step": directory.Step{}, "end": TestEnd{}}, func(ctx context.Context, in *struct {
		Body apitype.DirectoryTest
	}, send sse.Sender) {
		ctx, cancel := context.WithTimeout(ctx, testPatience)
		defer cancel()
		d, password, err := s.underTest(&in.Body)
		if err != nil {
			send.Data(directory.Step{Key: "input", Title: "Read the input", State: directory.Fail, Detail: err.Error(), Remedy: "Correct the field."})
			send.Data(TestEnd{})
			return
		}
		passed := directory.Test(ctx, d, password, in.Body.Person, func(step directory.Step) {
			if send.Data(step) != nil {
				cancel() // nobody reads any more
			}
		})
		send.Data(TestEnd{OK: passed})
	})
	huma.Register(s.api, operation("GET", "/directories/{ref}/groups", "list-directory-groups", "Groups of a directory of the draft by any part of their name"), func(ctx context.Context, in *struct {
		OneInput
		Query string `query:"q" maxLength:"200"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}) (*body[apitype.Groups], error) {
		d, err := s.open(in.Ref)
		if err != nil {
			return nil, err
		}
		defer d.Close()
		groups, more, err := d.Groups(ctx, in.Query, in.Limit)
		if err != nil {
			return nil, problem(http.StatusBadGateway, err.Error(), "Run the test of this directory.")
		}
		out := apitype.Groups{Items: []apitype.Group{}, More: more}
		for _, g := range groups {
			out.Items = append(out.Items, apitype.Group(g))
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("GET", "/directories/{ref}/people/{name}", "find-person", "Look one person up with groups and attributes"), func(ctx context.Context, in *struct {
		OneInput
		Name string `path:"name" maxLength:"200"`
	}) (*body[apitype.Found], error) {
		d, err := s.open(in.Ref)
		if err != nil {
			return nil, err
		}
		defer d.Close()
		person, code, detail := d.Find(ctx, in.Name)
		out := apitype.Found{Person: person, Reason: string(code)}
		values := map[string]string{"name": in.Name, "store": d.Name(), "stores": d.Name(), "detail": detail, "realm": "its realm"}
		if code == reason.OK {
			values["person"] = person.Label()
			out.Reason = string(person.State)
			if person.State != reason.OK {
				out.Text, out.Remedy = reason.Explain(person.State, values)
			}
			return ok(out), nil
		}
		out.Text, out.Remedy = reason.Explain(code, values)
		return ok(out), nil
	})
}

// open prepares a directory of the draft for one call.
func (s *server) open(ref string) (*directory.Directory, error) {
	d, at := config.Find(s.Revisions.Draft().Directories, ref)
	if at < 0 {
		return nil, problem(http.StatusNotFound, "there is no directory "+ref+" in the draft", "")
	}
	password, err := s.Box.Open(d.BindPassword)
	if err != nil {
		return nil, err
	}
	return directory.Open(*d, password)
}

// underTest makes the directory to test of what was typed; a password that was not typed is that of the draft.
func (s *server) underTest(in *apitype.DirectoryTest) (config.Directory, string, error) {
	c := config.Config{Directories: []config.Directory{{}}}
	d := &c.Directories[0]
	s.applyDirectory(d, &in.DirectoryInput)
	if in.BindPassword == "" && in.ID != "" {
		if old, at := config.Find(s.Revisions.Draft().Directories, in.ID); at >= 0 {
			if d.BindName == old.BindName && sameServers(d, old) {
				d.BindPassword = old.BindPassword
			}
		}
	}
	c.Normalise()
	for _, p := range c.Check() {
		if !p.Warning && p.Field != "name" {
			return *d, "", p
		}
	}
	password, err := s.Box.Open(d.BindPassword)
	return *d, password, err
}

// sameServers reports whether the stored password may be sent: only where it was meant for. Otherwise somebody could
// have it sent to a server of their own.
func sameServers(typed, stored *config.Directory) bool {
	allowed := map[string]bool{}
	for _, server := range stored.Servers {
		allowed[server] = true
	}
	c := config.Config{Directories: []config.Directory{*typed}}
	c.Directories[0].Servers = append([]string(nil), typed.Servers...)
	c.Normalise()
	n := &c.Directories[0]
	for _, server := range n.Servers {
		if !allowed[server] {
			return false
		}
	}
	return n.TLS == stored.TLS && n.CA == stored.CA && n.ServerName == stored.ServerName
}
