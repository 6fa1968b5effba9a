package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/web/apitype"
)

// limitedMay are the calls that change configuration and are allowed to operators whose role is limited to some
// clients: each looks at which.
var limitedMay = set("add-client", "change-client", "remove-client", "change-clients",
	"unlearn-client", "publish", "ask-to-publish",
	"withdraw-ask", "discard-part", "try", "try-gear")

// unlimited are the calls that read, and tell of all clients at once.
var unlimited = set(
	"export-file",
	"compare-file",
	"export-sample",
	"list-differing-sessions",
	"export-audit",
	"get-rehearsal",
	"get-first-hour",
	"list-sightings",
	"get-presence-state", "list-presence-changes", "get-presence-person",
	"add-sighting",
	"list-seen-devices", "check-device-kind",
)

// beyond refuses a call that is about more than the clients of a limited operator; nil for what is not.
func beyond(w *operator.Who, call string, right operator.Right) *apitype.Problem {
	if len(w.Limits) == 0 || right == operator.Configure && limitedMay[call] || right != operator.Configure &&
		!unlimited[call] {
		return nil
	}
	return outside(w, "this is about more than them")
}

// outside refuses what is outside of the clients of a limited operator.
func outside(w *operator.Who, what string) *apitype.Problem {
	return &apitype.Problem{Title: http.StatusText(http.StatusForbidden), Status: http.StatusForbidden,
		Detail: fmt.Sprintf("%s is limited to clients with %s, and %s", w.Name, strings.Join(w.Limits, " "), what),
		Remedy: "Ask somebody whose role is not limited."}
}

// has reports whether a client has the tags of a limit: of each key one of the values.
func has(c *config.Client, limits []string) bool {
	wanted := map[string]bool{}
	for _, tag := range limits {
		key, value, _ := strings.Cut(tag, "=")
		wanted[key] = wanted[key] || strings.EqualFold(c.Tags[key], value)
	}
	for _, found := range wanted {
		if !found {
			return false
		}
	}
	return true
}

// reach makes what tells whether whoever calls may see what happened on a client in use, by its name; nil is all.
// Streams go on for hours, so it follows what is published.
func (s *server) reach(ctx context.Context) func(client string) bool {
	w := who(ctx)
	if len(w.Limits) == 0 {
		return nil
	}
	var of *config.Config
	var names map[string]bool
	return func(client string) bool {
		if running, _ := s.Revisions.Running(); running != of {
			of, names = running, map[string]bool{}
			for _, c := range running.Clients {
				names[strings.ToLower(c.Name)] = has(c, w.Limits)
			}
		}
		return names[strings.ToLower(client)]
	}
}

// sees reports whether whoever calls may see what happened on a client.
func (s *server) sees(ctx context.Context, client string) bool {
	reach := s.reach(ctx)
	return reach == nil || reach(client)
}

// theirs makes what tells whether whoever calls may see that somebody is at an address: it is what a session of that
// person on a client of theirs says, by its address or its device; nil is all. Of a session that names the address of
// somebody else it tells nothing.
func (s *server) theirs(ctx context.Context) func(*presence.Entry) bool {
	reach := s.reach(ctx)
	if reach == nil {
		return nil
	}
	type stay struct{ who, at string }
	there := map[stay]bool{}
	list, _ := s.bookFor(ctx).List(session.Filter{Reach: reach})
	for _, one := range list {
		if one.Lane == "" { // no attempt of ours: whoever has the secret of a client may say what he likes
			continue
		}
		who := s.Presence.Name(one.Who)
		there[stay{who, one.Address}], there[stay{who, strings.ToLower(one.MAC)}] = true, true
	}
	return func(e *presence.Entry) bool {
		mac := e.MAC.String()
		return there[stay{e.Who, e.Address.String()}] || mac != "" && there[stay{e.Who, mac}]
	}
}

// touch refuses a limited operator an object that is no client of theirs, before or after a change; nil is none.
func touch(ctx context.Context, objects ...any) error {
	w := who(ctx)
	if len(w.Limits) == 0 {
		return nil
	}
	for _, o := range objects {
		if c, client := o.(*config.Client); client && c != nil && !has(c, w.Limits) {
			return outside(&w, fmt.Sprintf("%s is none of them", c.Name))
		}
	}
	return nil
}

// apart refuses a limited operator what a change would make: a client that is none of theirs, or one whose addresses
// meet those of another one that is not. The longer prefix would take requests from it, or be taken for it.
func apart(ctx context.Context, c *config.Config, object any) error {
	w := who(ctx)
	mine, client := object.(*config.Client)
	if err := touch(ctx, object); err != nil || len(w.Limits) == 0 || !client {
		return err
	}
	for _, other := range c.Clients {
		if other.ID == mine.ID || has(other, w.Limits) {
			continue
		}
		for _, theirs := range other.Addresses {
			a, err := config.ParsePrefix(theirs)
			for _, text := range mine.Addresses {
				if b, bad := config.ParsePrefix(text); err == nil && bad == nil && a.Overlaps(b) {
					return outside(
						&w,
						fmt.Sprintf("%s is an address of %s, which is none of them", text, other.Name),
					)
				}
			}
		}
	}
	return nil
}

// within refuses a limited operator what touches more than the clients of theirs.
func (s *server) within(ctx context.Context, changes revision.Changes) error {
	w := who(ctx)
	if len(w.Limits) == 0 {
		return nil
	}
	running, _ := s.Revisions.Running()
	draft := s.Revisions.Draft()
	for _, c := range changes.List {
		if c.Kind != "client" {
			return outside(&w, fmt.Sprintf("%s %s is changed too", c.Kind, c.Object))
		}
		for _, of := range []*config.Config{running, draft} {
			if client, at := config.Find(of.Clients, c.ID); at >= 0 {
				if err := touch(ctx, client); err != nil {
					return err
				}
			}
		}
	}
	if changes.More > 0 {
		return outside(&w, "more is changed")
	}
	return nil
}
