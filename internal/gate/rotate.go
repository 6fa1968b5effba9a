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
// one that counts is among those kept: the new one is kept before the domain learns of it.
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
	before := g.Memberships.Passwords(cfg.Domain, cfg.Computer)
	if len(before) == 0 {
		return fmt.Errorf("no password of machine account %s is kept here: join the domain again", cfg.Computer)
	}
	if _, err := member.Test(ctx); err != nil {
		return fmt.Errorf("the secure channel to the domain of %s: %w", name, err)
	}
	next := directory.MachinePassword()
	if err := g.Memberships.Set(ctx, cfg.Domain, cfg.Computer, next, before[0]); err != nil {
		return err
	}
	err := member.SetPassword(ctx, next)
	var refused netlogon.Status
	if errors.As(err, &refused) { // the domain said no: the one before is still the one
		return errors.Join(err, g.Memberships.Set(ctx, cfg.Domain, cfg.Computer, before[0], ""))
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
