package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/web/apitype"
)

// testPatience bounds one test of a directory with all its servers.
const testPatience = 2 * time.Minute

// TestEnd closes the stream of a directory test.
type TestEnd struct {
	OK bool `json:"ok"`
}

func (s *server) directories() {
	op := operation("POST", "/directory-test", "test-directory", "Test a directory step by step, as typed or as in "+
		"the draft")
	sse.Register(s.api, op, map[string]any{"step": results.Step{}, "end": TestEnd{}}, func(ctx context.Context,
		in *struct {
			Body apitype.DirectoryTest
		}, send sse.Sender) {
		ctx, cancel := context.WithTimeout(ctx, testPatience)
		defer cancel()
		d, password, err := s.underTest(&in.Body)
		if err != nil {
			send.Data(results.Step{Key: "input", Title: "Read the input", State: results.Fail, Detail: err.Error(),
				Remedy: "Correct the field."})
			send.Data(TestEnd{})
			return
		}
		passed := directory.Test(ctx, d, password, in.Body.Person, s.memberOf(in.Body.ID), func(step results.Step) {
			if send.Data(step) != nil {
				cancel() // nobody reads any more
			}
		})
		send.Data(TestEnd{OK: passed})
	})
	s.discovery()
	s.groups()
	s.people()
	s.heldBack()
	s.tree()
	s.copies()
}

// memberOf is our membership of the domain of a directory in use, nil if there is none.
func (s *server) memberOf(id string) directory.MemberTester {
	current := s.Gate.Current()
	if d, at := config.Find(current.Plan.Config.Directories, id); at >= 0 {
		if member := current.Member(d.Name); member != nil {
			return member
		}
	}
	return nil
}

// underTest makes the directory to test of what was typed; a password that was not typed is that of the draft.
func (s *server) underTest(in *apitype.DirectoryTest) (config.Directory, string, error) {
	c := config.Config{Directories: []*config.Directory{{}}}
	d := c.Directories[0]
	d.ID = in.ID
	if err := s.applyDirectory(d, &in.DirectoryInput); err != nil {
		return *d, "", err
	}
	if in.BindPassword == "" && in.ID != "" {
		if old, at := config.Find(s.Revisions.Draft().Directories, in.ID); at >= 0 {
			if d.BindName == old.BindName && sameServers(d, old) {
				d.ID, d.BindPassword = old.ID, old.BindPassword
			}
		}
	}
	c.Normalise()
	for _, p := range c.Check() {
		if !p.Warning && p.Field != "name" {
			return *d, "", p
		}
	}
	password, err := s.Box.Open(d.BindPlace(), d.BindPassword)
	return *d, password, err
}

// sameServers reports whether the stored password may be sent: only where it was meant for. Otherwise somebody could
// have it sent to a server of their own.
func sameServers(typed, stored *config.Directory) bool {
	allowed := map[string]bool{}
	for _, server := range stored.Servers {
		allowed[server] = true
	}
	c := config.Config{Directories: []*config.Directory{typed}}
	config.Own(c.Directories, 0)
	c.Normalise()
	n := c.Directories[0]
	for _, server := range n.Servers {
		if !allowed[server] {
			return false
		}
	}
	return n.TLS == stored.TLS && n.CA == stored.CA && n.ServerName == stored.ServerName && n.DNS == stored.DNS
}
