package operator

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
)

const (
	// browserLife is for how long a browser is known, browserRenew when what it keeps is made anew.
	browserLife  = 365 * 24 * time.Hour
	browserRenew = 180 * 24 * time.Hour
	// maxBrowser is how long what a browser keeps may be, in octets.
	maxBrowser = 2000
	// maxSharing bounds the operators who are known to share a browser.
	maxSharing = 8
)

// browserPlace is that of what browsers keep.
var browserPlace = config.Place{Purpose: "operators", Object: "browser"}

// browser is what a browser keeps that somebody has signed in with: it opens nothing, but however many guess at the
// names of those operators elsewhere, and from the same address, its sign-ins are looked at.
type browser struct {
	Key   string   `json:"key"`
	Names []string `json:"names"`
	Until int64    `json:"until"`
}

// browser reads what a browser keeps; nil is one that is not known.
func (r *Registry) browser(kept string, now time.Time) *browser {
	if kept == "" || len(kept) > maxBrowser {
		return nil
	}
	sealed, err := base64.RawURLEncoding.DecodeString(kept)
	if err != nil {
		return nil
	}
	text, err := r.box.Open(browserPlace, config.Secret(sealed))
	var b browser
	if err != nil || json.Unmarshal([]byte(text), &b) != nil || b.Key == "" || now.UnixMilli() > b.Until {
		return nil
	}
	return &b
}

// keep is what a browser is to keep after somebody has signed in with it, "" for what it has already.
func (r *Registry) keep(b *browser, name string, now time.Time) string {
	if b == nil {
		b = &browser{Key: rand.Text()}
	}
	if slices.Contains(b.Names, name) && time.UnixMilli(b.Until).Sub(now) > browserRenew {
		return ""
	}
	names := append(slices.DeleteFunc(b.Names, func(n string) bool { return n == name }), name)
	b.Names, b.Until = names[max(0, len(names)-maxSharing):], now.Add(browserLife).UnixMilli()
	text, _ := json.Marshal(b)
	return base64.RawURLEncoding.EncodeToString([]byte(r.box.Seal(browserPlace, string(text))))
}

// turn is a sign-in that is looked at. It is counted as a failed one until it is right.
type turn struct {
	of     *limits
	names  *names
	key    string
	name   string
	kept   *browser
	origin origin
	// named tells that it is counted by its name.
	named bool
}

// turn reports whether a sign-in is looked at. Where too many have guessed at a name, from places that are not known to
// be of its operator, only a code of the second factor opens the way to the password.
func (r *Registry) turn(a *Attempt) (*turn, error) {
	now := time.Now()
	t := &turn{of: r.limits, names: r.names, key: a.From, name: strings.TrimSpace(a.Name)}
	if b := r.browser(a.Browser, now); b != nil {
		t.kept = b
		if slices.Contains(b.Names, alike(t.name)) {
			t.of, t.key = r.browsers, b.Key
		}
	}
	allowed, at := t.of.take(t.key, t.name)
	if t.origin = at; t.of == r.browsers {
		t.origin = origin{true, true}
	}
	switch {
	case !allowed:
		return nil, ErrTooMany
	case t.origin.own:
	case a.KeySession != "" && r.keys.Waits(a.KeySession, t.name, now): // begun with the right password
	case r.names.take(t.name):
		t.named = true
	case !r.factors.Shows(place, t.name, a.Code, now):
		return nil, ErrGuessed
	}
	return t, nil
}

// half notes that the password was right, and the second factor is to come.
func (t *turn) half() { t.over("") }

// right notes a sign-in that was right.
func (t *turn) right() { t.over(t.name) }

func (t *turn) over(name string) {
	t.of.succeeded(t.key, name)
	if t.named {
		t.names.back(t.name)
	}
}
