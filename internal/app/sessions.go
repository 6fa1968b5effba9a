package app

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/front/radius"
	"tollgate.example/key/internal/manage/host"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
)

// recentlyGiven is how far back attempts are joined with the sessions that follow, after a restart.
const recentlyGiven = 10 * time.Minute

// openSessions opens accounting and the sessions that are open.
func (a *App) openSessions(ctx context.Context, o *Options, ids *ident.Source, clock *host.Clock,
	leases *session.Keeper) error {
	file, err := store.OpenOpenSessions(ctx, o.Data)
	if err != nil {
		return err
	}
	if a.Sessions, err = session.OpenSessions(ctx, file, leases, func(written func([]*store.Accounted)) (
		*store.Accounting, error) {
		return store.OpenAccounting(ctx, o.Data, ids, o.retention(o.KeepAccounting, clock), func(b []*store.Accounted) {
			written(b)
			a.seen(b)
		})
	}); err != nil {
		return errors.Join(err, file.Close())
	}
	a.done = append(a.done, a.Sessions.Close)
	page, err := a.Attempts.Find(ctx, store.Filter{Span: store.Span{Since: time.Now().Add(-recentlyGiven)},
		Verdict: string(results.Admitted), Limit: 20_000})
	if err != nil {
		return fmt.Errorf("reading the latest attempts: %w", err)
	}
	for i := len(page.Items) - 1; i >= 0; i-- {
		if t := &page.Items[i]; t.Class != "" {
			a.Sessions.Gave(givenBy(t))
		}
	}
	return nil
}

// givenBy is what an attempt was given.
func givenBy(t *store.Attempt) session.Given {
	return session.Given{At: t.At, Client: t.Client, Who: t.Who, Display: t.Display, MAC: t.MAC, Lane: t.Lane,
		Pass: t.Pass, VLAN: t.VLAN, Class: t.Class}
}

// serveAccounting opens the sockets of accounting, and of both ports over TLS and DTLS.
func (a *App) serveAccounting(o *Options, registry *sources.Registry) error {
	served, err := radius.ServeAccounting(a.Gate, registry, a.Sessions, o.Accounting)
	if err != nil {
		return err
	}
	a.Accounting = served.Addresses()
	a.done = append(a.done, served.Close)
	streams, err := radius.ServeStreams(a.radius, served, o.RADIUSTLS)
	if err != nil && o.RADIUSTLSOptional {
		o.Log.Warn("RADIUS over TLS is off; name its address with -radius-tls", "error", err)
		streams, err = radius.ServeStreams(a.radius, served, nil)
	}
	if err != nil {
		return err
	}
	a.RADIUSTLS = streams.Addresses()
	a.done = append(a.done, streams.Close)
	datagrams, err := radius.ServeDatagrams(a.radius, served, o.RADIUSDTLS)
	if err != nil && o.RADIUSDTLSOptional {
		o.Log.Warn("RADIUS over DTLS is off; name its address with -radius-dtls", "error", err)
		datagrams, err = radius.ServeDatagrams(a.radius, served, nil)
	}
	if err != nil {
		return err
	}
	a.RADIUSDTLS = datagrams.Addresses()
	a.done = append(a.done, datagrams.Close)
	return nil
}
