package app

import (
	"context"
	"fmt"

	"tollgate.example/key/internal/session"
)

// owner keeps records of one kind in memory over the store.
type owner interface {
	// Reload reads a record anew that was changed or removed elsewhere.
	Reload(ctx context.Context, id string) error
}

// configuration is the owner of draft and revisions, which are read as a whole.
type configuration struct {
	reload func(ctx context.Context) error
}

func (c configuration) Reload(ctx context.Context, _ string) error { return c.reload(ctx) }

// blocks is the owner of which node gives which addresses.
type blocks struct{ *session.Keeper }

// Reload implements owner.
func (b blocks) Reload(ctx context.Context, id string) error { return b.ReloadBlock(ctx, id) }

// Changed tells the owner of a record that it was changed elsewhere, such as by another node: this node reads it anew
// from its store, where it is already. Kinds are account, device, factor, lease, issued, machine-account and
// configuration.
func (a *App) Changed(ctx context.Context, kind, id string) error {
	o := a.owners[kind]
	if o == nil {
		return fmt.Errorf("a record of kind %q changed, of which nobody keeps any", kind)
	}
	return o.Reload(ctx, id)
}
