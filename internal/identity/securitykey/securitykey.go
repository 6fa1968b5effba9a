// Package securitykey checks security keys (W3C Web Authentication, level 2) as a second factor on pages of ours.
package securitykey

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
)

const (
	// within is how long a person may take to touch the key.
	within = 2 * time.Minute
	// maxOpen bounds the ceremonies that wait, maxOwn those of one person, of which the oldest gives way; maxResponse
	// what a browser says, in octets.
	maxOpen     = 10_000
	maxOwn      = 20
	maxResponse = 64 << 10
)

// Errors.
var (
	// ErrSite is returned for a page at an address at which browsers offer no keys.
	ErrSite = errors.New("browsers offer security keys only to pages with a name, by https or on localhost")
	// ErrOver is returned for a ceremony that is over, or was never one of the person.
	ErrOver = errors.New("this took too long, or was done already")
	// ErrKey is returned for a key that is not one of the person, or does not prove itself.
	ErrKey = errors.New("this security key is not accepted")
	// ErrBusy is returned while too many ceremonies wait.
	ErrBusy = errors.New("too many security keys are waited for")
)

// Site is the page that a key is for: its origin, and the name that the key knows it by.
type Site struct {
	Origin, ID string
	// Verified has the key verify whoever touches it, by a PIN or a fingerprint (user verification, section 6.2.1).
	Verified bool
}

func (s Site) verification() protocol.UserVerificationRequirement {
	if s.Verified {
		return protocol.VerificationRequired
	}
	return protocol.VerificationPreferred
}

// SiteOf is the site of a page by its origin and the host that it asked.
func SiteOf(origin, host string) (Site, error) {
	u, err := url.Parse(origin)
	if err != nil || u.Host == "" || !strings.EqualFold(u.Host, host) {
		return Site{}, ErrSite
	}
	name := u.Hostname()
	if _, err := netip.ParseAddr(name); err == nil {
		return Site{}, ErrSite
	}
	if u.Scheme != "https" && name != "localhost" {
		return Site{}, ErrSite
	}
	if port := u.Port(); port != "" {
		return Site{Origin: u.Scheme + "://" + net.JoinHostPort(name, port), ID: name}, nil
	}
	return Site{Origin: u.Scheme + "://" + name, ID: name}, nil
}

// Key is a key of somebody as it is kept: text is what is stored.
type Key struct{ ID, Text string }

// stored is a key with the site that it was registered for.
type stored struct {
	Site       string              `json:"site"`
	Credential webauthn.Credential `json:"credential"`
}

// holder is somebody with keys, as the library asks for it.
type holder struct {
	name string
	keys []webauthn.Credential
}

func (h *holder) WebAuthnID() []byte {
	sum := sha256.Sum256([]byte(strings.ToLower(h.name)))
	return sum[:]
}

func (h *holder) WebAuthnName() string                       { return h.name }
func (h *holder) WebAuthnDisplayName() string                { return h.name }
func (h *holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

// ceremony is one that waits for a key.
type ceremony struct {
	data  webauthn.SessionData
	name  string
	site  Site
	fresh bool
	until time.Time
}

// Desk holds the ceremonies that wait. Its zero value is ready.
type Desk struct {
	mu   sync.Mutex
	open map[string]*ceremony
}

// Waits reports whether a ceremony of a person waits for a key. It goes on doing so.
func (d *Desk) Waits(id, name string, now time.Time) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.open[id]
	return c != nil && strings.EqualFold(c.name, name) && now.Before(c.until)
}

func library(site Site) (*webauthn.WebAuthn, error) {
	return webauthn.New(&webauthn.Config{RPID: site.ID, RPDisplayName: "Tollgate Key", RPOrigins: []string{site.Origin},
		AttestationPreference: protocol.PreferNoAttestation, AuthenticatorSelection: protocol.AuthenticatorSelection{
			ResidentKey: protocol.ResidentKeyRequirementDiscouraged, UserVerification: site.verification()}})
}

// holderOf is somebody with those keys that are for a site.
func holderOf(name string, site Site, keys []Key) (*holder, []int) {
	out := &holder{name: name}
	var at []int
	for i, k := range keys {
		var s stored
		if json.Unmarshal([]byte(k.Text), &s) == nil && s.Site == site.ID {
			out.keys = append(out.keys, s.Credential)
			at = append(at, i)
		}
	}
	return out, at
}

// put keeps a ceremony, and returns its name.
func (d *Desk) put(c *ceremony, now time.Time) (string, error) {
	var b [16]byte
	rand.Read(b[:])
	id := hex.EncodeToString(b[:])
	c.until = now.Add(within)
	d.mu.Lock()
	defer d.mu.Unlock()
	own, oldest := 0, ""
	for k, other := range d.open {
		switch {
		case now.After(other.until):
			delete(d.open, k)
		case strings.EqualFold(other.name, c.name):
			if own++; oldest == "" || other.until.Before(d.open[oldest].until) {
				oldest = k
			}
		}
	}
	if own >= maxOwn {
		delete(d.open, oldest)
	}
	if len(d.open) >= maxOpen {
		return "", ErrBusy
	}
	if d.open == nil {
		d.open = map[string]*ceremony{}
	}
	d.open[id] = c
	return id, nil
}

// take takes a ceremony away: each has one answer.
func (d *Desk) take(id, name string, fresh bool, now time.Time) (*ceremony, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.open[id]
	if c == nil || !strings.EqualFold(c.name, name) || c.fresh != fresh || now.After(c.until) {
		return nil, ErrOver
	}
	delete(d.open, id)
	return c, nil
}

// BeginRegister begins to register a key of somebody who may have others. The options are for the browser.
func (d *Desk) BeginRegister(site Site, name string, keys []Key, now time.Time) (id string, options json.RawMessage,
	err error) {
	w, err := library(site)
	if err != nil {
		return "", nil, fmt.Errorf("%w: %s", ErrSite, err)
	}
	who, _ := holderOf(name, site, keys)
	made, data, err := w.BeginRegistration(who, webauthn.WithExclusions(
		webauthn.Credentials(who.keys).CredentialDescriptors()))
	if err != nil {
		return "", nil, err
	}
	if options, err = json.Marshal(made.Response); err != nil {
		return "", nil, err
	}
	id, err = d.put(&ceremony{data: *data, name: name, site: site, fresh: true}, now)
	return id, options, err
}

// Register ends that with what the browser says, and returns what is to be stored of the key.
func (d *Desk) Register(id, name string, response []byte, now time.Time) (text string, err error) {
	c, err := d.take(id, name, true, now)
	if err != nil {
		return "", err
	}
	if len(response) > maxResponse {
		return "", ErrKey
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(response)
	if err != nil {
		return "", fmt.Errorf("%w: %s", ErrKey, reasonOf(err))
	}
	w, err := library(c.site)
	if err != nil {
		return "", err
	}
	made, err := w.CreateCredential(&holder{name: c.name}, c.data, parsed)
	if err != nil {
		return "", fmt.Errorf("%w: %s", ErrKey, reasonOf(err))
	}
	out, err := json.Marshal(stored{Site: c.site.ID, Credential: *made})
	return string(out), err
}

// BeginShow begins to ask for a key of somebody. ErrKey tells that there is none for this site.
func (d *Desk) BeginShow(site Site, name string, keys []Key, now time.Time) (id string, options json.RawMessage,
	err error) {
	w, err := library(site)
	if err != nil {
		return "", nil, fmt.Errorf("%w: %s", ErrSite, err)
	}
	who, _ := holderOf(name, site, keys)
	if len(who.keys) == 0 {
		return "", nil, ErrKey
	}
	asked, data, err := w.BeginLogin(who)
	if err != nil {
		return "", nil, err
	}
	if options, err = json.Marshal(asked.Response); err != nil {
		return "", nil, err
	}
	id, err = d.put(&ceremony{data: *data, name: name, site: site}, now)
	return id, options, err
}

// Show ends that with what the browser says. It returns the key that was shown, with what is to be stored of it now: a
// key counts, so that a copy of it is noticed.
func (d *Desk) Show(id, name string, keys []Key, response []byte, now time.Time) (Key, error) {
	c, err := d.take(id, name, false, now)
	if err != nil {
		return Key{}, err
	}
	if len(response) > maxResponse {
		return Key{}, ErrKey
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(response)
	if err != nil {
		return Key{}, fmt.Errorf("%w: %s", ErrKey, reasonOf(err))
	}
	w, err := library(c.site)
	if err != nil {
		return Key{}, err
	}
	who, at := holderOf(c.name, c.site, keys)
	shown, err := w.ValidateLogin(who, c.data, parsed)
	if err != nil {
		return Key{}, fmt.Errorf("%w: %s", ErrKey, reasonOf(err))
	}
	if shown.Authenticator.CloneWarning {
		return Key{}, fmt.Errorf("%w: it counts backwards, so there may be a copy of it", ErrKey)
	}
	for i, k := range who.keys {
		if string(k.ID) != string(shown.ID) {
			continue
		}
		text, err := json.Marshal(stored{Site: c.site.ID, Credential: *shown})
		return Key{ID: keys[at[i]].ID, Text: string(text)}, err
	}
	return Key{}, ErrKey
}

// reasonOf is what the library says, in short.
func reasonOf(err error) string {
	var e *protocol.Error
	if errors.As(err, &e) && e.DevInfo != "" {
		return e.Details + ": " + e.DevInfo
	}
	return err.Error()
}
