package gate

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/directory"
	"tollgate.example/key/internal/membership"
	"tollgate.example/key/internal/wire/netlogon"
)

// Rotate gives our machine account in the domain of a directory in use a new password. Whatever happens meanwhile, the
// one that counts is among those kept: the new one is kept before the domain learns of it, beside the one that the domain
// takes now, which after a change of unknown outcome need not be the newest.
func (g *Gate) Rotate(ctx context.Context, name string) error {
	g.rotating.Lock() // over the network: two at once would each take the other's password for the one before
	defer g.rotating.Unlock()
	s := g.Current()
	open := s.Directory(name)
	member := s.Member(name)
	if open == nil || member == nil {
		return fmt.Errorf("we are no member of the domain of directory %s", name)
	}
	cfg := s.config(name)
	next, present := directory.MachinePassword(), ""
	err := member.SetPassword(ctx, next, func(taken string) error {
		present = taken
		return g.Memberships.Set(ctx, cfg.Domain, cfg.Computer, next, taken)
	})
	var refused netlogon.Status
	if present != "" && errors.As(err, &refused) { // the domain said no: the one before is still the one
		return errors.Join(err, g.Memberships.Set(ctx, cfg.Domain, cfg.Computer, present, ""))
	}
	return err
}

// RotateOld replaces the passwords of machine accounts that are due, and returns what went wrong.
func (g *Gate) RotateOld(ctx context.Context, now time.Time) error {
	var failed []error
	s := g.Current()
	for i := range s.Plan.Config.Directories {
		d := &s.Plan.Config.Directories[i]
		if changed := g.Memberships.Changed(d.Domain, d.Computer); d.Member() && !changed.IsZero() && now.Sub(changed) > membership.Life {
			failed = append(failed, g.Rotate(ctx, d.Name))
		}
	}
	return errors.Join(failed...)
}
