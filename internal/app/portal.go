package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/web/portal"
)

// openPortal serves the pages where people look after their own second factor, if there is an address for them.
func (a *App) openPortal(o *Options, box *seal.Box, trail *audit.Trail) error {
	if o.Portal == "" {
		return nil
	}
	theme, err := readTheme(o.PortalTheme)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", o.Portal)
	if err != nil {
		return fmt.Errorf("listening for the portal on %s: %w", o.Portal, err)
	}
	server := &http.Server{ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: time.Minute, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
		ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn),
		Handler: portal.Handler(portal.Options{Box: box, Factors: a.factors, Log: o.Log, Now: o.Now, Theme: theme,
			Find: a.Gate.Seek, Open: a.graces, Approves: a.approves, Asks: a.approvals.asks, Answer: a.approvals.answer,
			URL:   func() string { return a.PortalURL },
			Tell:  a.tellChange,
			Seen:  a.seenOnPortal,
			Check: a.Gate.ProveAt, PushKey: a.pushKey(),
			Note: func(ctx context.Context, i *portal.Invitation, from netip.Addr, what string) error {
				return trail.Put(
					ctx,
					audit.Line{Actor: audit.Actor{Who: i.Name, From: from.String(), How: "portal"},
						Call: "portal", Kind: "factor", Object: i.Store + "/" + i.Name, Name: i.Name, What: what,
						Result: audit.Done},
				)
			}})}
	address, scheme := l.Addr().(*net.TCPAddr), "http://"
	if o.PortalCert != "" || !address.IP.IsLoopback() {
		own := *o
		if o.PortalCert != "" {
			own.TLSCert, own.TLSKey = o.PortalCert, o.PortalKey
		}
		if server.TLSConfig, err = webCertificate(&own); err != nil {
			l.Close()
			return err
		}
		scheme = "https://"
		if leaf := server.TLSConfig.Certificates[0].Leaf; leaf != nil {
			a.portalEnds, a.portalOwn = leaf.NotAfter, own.TLSCert == ""
		}
	}
	if a.PortalURL = strings.TrimRight(o.PortalURL, "/"); a.PortalURL == "" {
		a.PortalURL = scheme + address.String()
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		serve := server.Serve
		if server.TLSConfig != nil {
			serve = func(l net.Listener) error { return server.ServeTLS(l, "", "") }
		}
		if err := serve(limited(l)); !errors.Is(err, http.ErrServerClosed) {
			a.failed <- fmt.Errorf("serving the portal: %w", err)
		}
	}()
	a.done = append(a.done, func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if server.Shutdown(ctx) != nil {
			server.Close()
		}
		<-ended
	})
	return nil
}

func readTheme(file string) (*portal.Theme, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the theme of the pages for people: %w", err)
	}
	theme, err := portal.ReadTheme(text)
	if err != nil {
		return nil, fmt.Errorf("the theme of the pages for people, %s: %w", file, err)
	}
	return theme, nil
}

// pushKey is the key that phones subscribe with, "" where they are told of nothing.
func (a *App) pushKey() string {
	if a.push == nil {
		return ""
	}
	return a.push.PublicKey()
}

// keyFault tells what is wrong with the key file, "" for nothing.
func keyFault(data string) func() string {
	return func() string {
		info, err := os.Stat(filepath.Join(data, "key"))
		switch {
		case err != nil:
			return "the key file cannot be read: " + err.Error()
		case info.Mode().Perm()&0o077 != 0:
			return fmt.Sprintf("others than the service may read the key file (mode %o)", info.Mode().Perm())
		}
		return ""
	}
}

// graces tells whether some lane admits people without a second factor for now: then they may enrol by themselves.
func (a *App) graces(now time.Time) bool {
	for _, l := range a.Gate.Current().Plan.Lanes {
		if l.SecondFactor != "" && l.Spares(now) {
			return true
		}
	}
	return false
}
