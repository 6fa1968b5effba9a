package gate

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Rotate gives our machine account in the domain of a directory in use a new password.
func (g *Gate) Rotate(ctx context.Context, name string) error {
	open := g.Current().Directory(name)
	if open == nil || open.Member == nil {
		return fmt.Errorf("directory %s is not joined to its domain", name)
	}
	return g.MachineAccounts.Rotate(ctx, open.Member, &open.Config)
}

// RotateOld replaces the passwords of machine accounts that are due, and returns what went wrong.
func (g *Gate) RotateOld(ctx context.Context, now time.Time) error {
	var failed []error
	s := g.Current()
	for i := range s.Plan.Config.Directories {
		if d := s.Plan.Config.Directories[i]; g.MachineAccounts.Due(d, now) {
			failed = append(failed, g.Rotate(ctx, d.Name))
		}
	}
	return errors.Join(failed...)
}
