package app

import (
	"context"
	"crypto/x509"
	"fmt"
	"os"

	"tollgate.example/key/internal/base/push"
	"tollgate.example/key/internal/base/seal"
)

// openPush begins to tell phones of sign-ins, if that is wanted. All nodes have the same key for it.
func (a *App) openPush(o *Options, box *seal.Box) error {
	if o.Push == "" {
		return nil
	}
	options := push.Options{Contact: o.Push, Key: box.Derive("web push"), Private: o.PushPrivate, Log: o.Log,
		Gone: func(phone string) {
			if err := a.factors.SetPush(context.Background(), phone, nil); err != nil {
				o.Log.Warn("forgetting where a phone took messages", "phone", phone, "error", err)
			}
		}}
	if o.PushCA != "" {
		text, err := os.ReadFile(o.PushCA)
		if err != nil {
			return fmt.Errorf("reading the authority for push services: %w", err)
		}
		if options.Roots, err = x509.SystemCertPool(); err != nil {
			options.Roots = x509.NewCertPool()
		}
		if !options.Roots.AppendCertsFromPEM(text) {
			return fmt.Errorf("%s holds no certificate of an authority in PEM", o.PushCA)
		}
	}
	sender, err := push.Open(options)
	if err != nil {
		return err
	}
	a.push = sender
	a.done = append(a.done, sender.Close)
	return nil
}
