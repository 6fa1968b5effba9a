package app

import (
	"context"
	"time"
)

// housekeeping removes what has passed its time.
func (a *App) housekeeping(ctx context.Context, o *Options) {
	tick := time.NewTicker(10 * time.Minute)
	defer tick.Stop()
	for {
		if err := a.store.RemoveOldKeys(ctx, time.Now().UnixMilli()); err != nil && ctx.Err() == nil {
			o.Log.Warn("removing ended sessions", "error", err)
		}
		if err := a.Gate.RotateOld(ctx, time.Now()); err != nil && ctx.Err() == nil {
			o.Log.Warn("replacing the passwords of machine accounts", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
