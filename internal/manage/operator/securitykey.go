package operator

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/securitykey"
)

// ErrNoKey is returned for somebody who has no security key for this page.
var ErrNoKey = errors.New("there is no security key of yours for this address of the console")

// keysOf are the security keys of an operator.
func (r *Registry) keysOf(name string) (out []securitykey.Key) {
	for _, k := range r.factors.Keys(place, name) {
		out = append(out, securitykey.Key{ID: k.ID, Text: k.Text})
	}
	return out
}

// AskKey asks for a security key of somebody whose name and password are right, as half of a sign-in.
func (r *Registry) AskKey(ctx context.Context, a Attempt, site securitykey.Site) (session string,
	options json.RawMessage, err error) {
	turn, err := r.turn(&a)
	if err != nil {
		return "", nil, err
	}
	o, err := r.prove(ctx, &a, turn.origin.known)
	if err != nil {
		return "", nil, err
	}
	turn.half()
	session, options, err = r.keys.BeginShow(site, o.Name, r.keysOf(o.Name), time.Now())
	if errors.Is(err, securitykey.ErrKey) {
		err = ErrNoKey
	}
	return session, options, err
}

// showKey checks what the browser says of a security key.
func (r *Registry) showKey(ctx context.Context, name string, a *Attempt) error {
	now := time.Now()
	key, err := r.keys.Show(a.KeySession, name, r.keysOf(name), a.KeyResponse, now)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrFactorWrong, err)
	}
	return r.factors.KeyShown(ctx, key.ID, key.Text, a.From, now)
}

// BeginKey begins to register a security key of whoever is signed in.
func (r *Registry) BeginKey(w *Who, site securitykey.Site) (session string, options json.RawMessage, err error) {
	return r.keys.BeginRegister(site, w.Name, r.keysOf(w.Name), time.Now())
}

// AddKey ends that; the key counts from then on, and the session as one in which a second factor was shown. The
// recovery codes are empty if there are some from before.
func (r *Registry) AddKey(ctx context.Context, w *Who, session, label string, response []byte) ([]string, error) {
	now := time.Now()
	text, err := r.keys.Register(session, w.Name, response, now)
	if err != nil {
		return nil, err
	}
	codes, err := r.factors.AddKey(ctx, factor.Request{Store: place, Name: w.Name, Label: label, By: w.Name}, text, now)
	if err != nil {
		return nil, err
	}
	return codes, r.store.ShowFactor(ctx, w.KeyID)
}

// Own are the second factors of an operator that count.
func (r *Registry) Own(name string) (out []factor.Token) {
	for _, t := range r.factors.OfPerson(place, name, time.Now()) {
		if t.Confirmed {
			out = append(out, t)
		}
	}
	return out
}
