package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/fleet"
	"tollgate.example/key/internal/web/apitype"
)

// errOnlyChecked ends an edit of which only the report is wanted.
var errOnlyChecked = errors.New("only checked")

func (s *server) maker() fleet.Maker {
	at := time.Now()
	running, _ := s.Revisions.Running()
	return fleet.Maker{
		// a day for whoever sets them on the devices
		Running: running, KeepUntil: at.Add(24 * time.Hour).Truncate(time.Second),
		Holds: func(place config.Place, secret config.Secret, typed string) bool {
			clear, err := s.Box.Open(place, secret)
			return err == nil && clear == typed
		},
		ID:       func() string { return s.IDs.New(at).String() },
		Generate: seal.Generate,
		Seal:     s.Box.Seal,
	}
}

func (s *server) fleet() {
	big := operation("POST", "/client-import", "import-clients",
		"Import clients into the draft from CSV, with a report on every line")
	big.MaxBodyBytes = maxFile
	huma.Register(s.api, big, func(ctx context.Context, in *struct {
		Body apitype.Sheet
	}) (*body[apitype.ClientImport], error) {
		out, err := s.importClients(ctx, &in.Body)
		return ok(out), err
	})
	huma.Register(
		s.api,
		operation("GET", "/client-export", "export-clients", "Clients of the draft as CSV, without secrets"),
		func(ctx context.Context, in *struct {
			Query string `query:"q" maxLength:"200" doc:"Text to search for"`
		}) (*huma.StreamResponse, error) {
			list := s.Revisions.Draft().Clients
			places := matching(ctx, list, in.Query)
			chosen := make([]*config.Client, len(places))
			for i, at := range places {
				chosen[i] = list[at]
			}
			slices.SortFunc(chosen, func(a, b *config.Client) int { return strings.Compare(a.Name, b.Name) })
			return &huma.StreamResponse{Body: func(out huma.Context) {
				out.SetHeader("Content-Disposition", `attachment; filename="clients.csv"`)
				out.SetHeader("Content-Type", exportFormats["csv"])
				_, _ = out.BodyWriter().Write(fleet.Export(chosen)) // whoever went away needs it no longer
			}}, nil
		},
	)
	huma.Register(s.api, operation("POST", "/client-changes", "change-clients",
		"Change many clients of the draft at once: tags, switch, mode, new secrets"),
		func(ctx context.Context, in *struct {
			Body apitype.ClientsChange
		}) (*body[apitype.ClientsChanged], error) {
			out, err := s.changeClients(ctx, &in.Body)
			return ok(out), err
		})
}

func (s *server) importClients(ctx context.Context, in *apitype.Sheet) (out apitype.ClientImport, err error) {
	err = s.Revisions.EditMany(ctx, who(ctx).Name, func(draft *config.Config) (*config.Config, error) {
		next := draft.Copy()
		report, made, err := fleet.Import(next, in.CSV, s.maker())
		out = apitype.ClientImport{Import: report}
		if err != nil {
			return nil, err
		}
		if in.Check || report.Wrong > 0 && !in.Partial {
			audit.Of(ctx).Skip() // nothing is done
			return nil, errOnlyChecked
		}
		out.Done = true
		if len(made) > 0 {
			out.Secrets = string(fleet.Secrets(made))
		}
		return next, nil
	})
	return out, fleetProblem(err)
}

// fleetProblem makes problem details of a refused change of many clients.
func fleetProblem(err error) error {
	var fault *sheet.Fault
	switch {
	case err == nil || errors.Is(err, errOnlyChecked):
		return nil
	case errors.As(err, &fault):
		return faulty(fault.Field, fault.Message, fault.Remedy)
	}
	return publishProblem(err)
}

// matching are the places of the clients that hold a text, as far as whoever asks may see them.
func matching(ctx context.Context, list []*config.Client, query string) (places []int) {
	query = strings.ToLower(query)
	for i, c := range list {
		if touch(ctx, c) == nil && strings.Contains(strings.ToLower(clientText(c)), query) {
			places = append(places, i)
		}
	}
	return places
}

func (s *server) changeClients(
	ctx context.Context,
	in *apitype.ClientsChange,
) (out apitype.ClientsChanged, err error) {
	change := fleet.Change{Tags: in.Tags, Untag: in.Untag, Enabled: in.Enabled, MessageAuthenticator: in.Mode,
		Rotate: in.Rotate}
	if in.Rotate && in.KeepFor > 0 {
		change.KeepUntil = time.Now().Add(time.Duration(in.KeepFor) * time.Hour).Truncate(time.Second)
		out.KeptUntil = &change.KeepUntil
	}
	if len(in.Clients) == 0 && in.Matching == "" && !in.All {
		return out, faulty("clients", "no clients are chosen", "Name them, give a text that they hold, or say all.")
	}
	err = s.Revisions.EditMany(ctx, who(ctx).Name, func(draft *config.Config) (*config.Config, error) {
		next := draft.Copy()
		places, err := chosen(ctx, next, in)
		if err != nil {
			return nil, err
		}
		if out.Chosen = len(places); in.Check {
			audit.Of(ctx).Skip() // nothing is done
			return nil, errOnlyChecked
		}
		made, err := fleet.Apply(next, places, change, s.maker())
		if err != nil {
			return nil, err
		}
		for _, at := range places { // nobody gives away what they may change
			if err := touch(ctx, next.Clients[at]); err != nil {
				return nil, err
			}
		}
		out.Secrets = ""
		if len(made) > 0 {
			out.Secrets = string(fleet.Secrets(made))
		}
		return next, nil
	})
	return out, fleetProblem(err)
}

// chosen are the places of the clients that a change is about.
func chosen(ctx context.Context, c *config.Config, in *apitype.ClientsChange) ([]int, error) {
	if len(in.Clients) == 0 {
		return matching(ctx, c.Clients, in.Matching), nil
	}
	byName := map[string]int{}
	for i, client := range c.Clients {
		byName[client.ID], byName[strings.ToLower(client.Name)] = i, i
	}
	var places []int
	for i, ref := range in.Clients {
		at, there := byName[ref]
		if !there {
			at, there = byName[strings.ToLower(ref)]
		}
		if !there || touch(ctx, c.Clients[at]) != nil {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no client %q in the draft", ref), "",
				apitype.Fault{Field: fmt.Sprintf("clients[%d]", i), Message: "is not there"})
		}
		places = append(places, at)
	}
	slices.Sort(places)
	return slices.Compact(places), nil
}
