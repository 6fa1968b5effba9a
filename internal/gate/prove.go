package gate

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// Prove checks the password of somebody in a directory in use, for a sign-in to the console: looked up anew, and with
// the same guard against locking the account as for devices.
func (g *Gate) Prove(ctx context.Context, directory, name, clear, from string) (*facts.Person, reason.Code, string) {
	d := g.Current().Directory(directory)
	if d == nil {
		return nil, reason.DirectoryFailed, "no directory of that name is in use"
	}
	d.Forget(name)
	person, code, detail := d.Find(ctx, name)
	if code != reason.OK {
		return nil, code, detail
	}
	v := &Visit{gate: g}
	v.Facts.Client = "console"
	if addr, err := netip.ParseAddr(from); err == nil {
		v.Facts.From = addr
	}
	code, detail = v.guarded(ctx, d.Directory, person, func() (reason.Code, string) {
		return d.CheckPassword(ctx, person.ID, clear)
	})
	if code == reason.OK && person.State != reason.OK {
		code = person.State
	}
	return person, code, detail
}

// ProveAt checks the password of somebody in a store, for the person's own pages: looked up anew, and with the same
// guards as for devices. Why somebody may not sign in is told behind a right password only.
func (g *Gate) ProveAt(ctx context.Context, store, name, clear string, from netip.Addr) (*facts.Person, reason.Code) {
	s := g.Current()
	d := s.Directory(store)
	switch {
	case clear == "":
		return nil, reason.PasswordEmpty
	case d != nil:
		d.Forget(name)
	case !strings.EqualFold(store, config.LocalStore):
		return nil, reason.DirectoryFailed
	}
	now := time.Now()
	v := &Visit{gate: g, snapshot: s, begun: now, Facts: facts.Facts{At: now, Client: "portal", Sent: name, From: from}}
	v.before.Name = name
	person, code, _ := v.ask(ctx, store)
	if code != reason.OK {
		return nil, code
	}
	v.claimed(person)
	if code = v.CheckPassword(ctx, clear); code == reason.OK {
		code = person.State
	}
	return person, code
}
