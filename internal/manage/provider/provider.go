// Package provider signs operators in by an identity provider: OpenID Connect Core 1.0, the authorization code flow
// with PKCE (RFC 7636).
package provider

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/operator"
)

const (
	// patience is how long the provider has for one answer, and maxAnswer how long that may be, in octets.
	patience  = 10 * time.Second
	maxAnswer = 1 << 20
	// begunFor is how long a sign-in may take; maxUsed bounds those that are remembered, so that they end once.
	begunFor = 10 * time.Minute
	maxUsed  = 10_000
	// failedFor is how long the provider is not asked again after it did not answer.
	failedFor = 3 * time.Second
	// discoveredFor is how long what the provider says of itself is taken to be true.
	discoveredFor = time.Hour
	// skew is how far its clock may be off.
	skew = 2 * time.Minute
)

// Errors of signing in by a provider.
var (
	ErrOff     = errors.New("there is no identity provider set up")
	ErrUnknown = errors.New(
		"this sign-in is not under way here: it took too long, was ended already, or was begun in " +
			"another browser",
	)
)

// Source is what operators from a provider have as theirs.
const Source = "provider"

// CallbackPath is where the provider sends people back to, under the address of the console.
const CallbackPath = "/api/v1/sign-in/provider/back"

// begun is a sign-in under way. The browser keeps it, sealed: strangers begin as many as they like, and cost nothing
// here.
type begun struct {
	State    string    `json:"state"`
	Verifier string    `json:"verifier"`
	Nonce    string    `json:"nonce"`
	At       time.Time `json:"at"`
	Issuer   string    `json:"issuer"`
	Client   string    `json:"client"`
}

// binding is the place of those.
var binding = config.Place{Purpose: "provider-sign-in", Object: "browser"}

// Client knows the provider, and the sign-ins that have ended.
type Client struct {
	box *seal.Box

	known  atomic.Pointer[discovered]
	lookup sync.Mutex // one asks the provider at a time
	// failed is what the last one came to, who did not get an answer; it is that for others for a moment too.
	failed   error
	failedAt time.Time

	mu   sync.Mutex
	used map[string]time.Time // by state
}

// discovered is what a provider says of itself.
type discovered struct {
	key  string
	at   time.Time
	http *http.Client
	oidc *oidc.Provider
	// End is where people sign out, "" for nowhere.
	End string `json:"end_session_endpoint"`
	// Shows is how clients show their secret; by default in a header (OpenID Connect Discovery 1.0 section 3).
	Shows []string `json:"token_endpoint_auth_methods_supported"`
}

// New makes a client.
func New(box *seal.Box) *Client { return &Client{box: box, used: map[string]time.Time{}} }

// limited refuses answers that are too long.
type limited struct{ http.RoundTripper }

func (l limited) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := l.RoundTripper.RoundTrip(r)
	if err == nil {
		resp.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(resp.Body, maxAnswer), resp.Body}
	}
	return resp, err
}

func client(p *operator.Provider) (*http.Client, error) {
	transport := &http.Transport{
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
		Proxy:           http.ProxyFromEnvironment,
		MaxIdleConns:    4,
		IdleConnTimeout: time.Minute,
	}
	if p.CA != "" {
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM([]byte(p.CA)) {
			return nil, errors.New("the CA of the identity provider is no PEM certificate")
		}
		transport.TLSClientConfig.RootCAs = pool
	}
	return &http.Client{Transport: limited{transport}, Timeout: patience,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, nil
}

// discover returns what the provider says of itself, asked anew from time to time.
func (c *Client) discover(ctx context.Context, p *operator.Provider) (*discovered, error) {
	key := p.Issuer + "\n" + p.CA
	c.lookup.Lock()
	defer c.lookup.Unlock()
	if d := c.known.Load(); d != nil && d.key == key && time.Since(d.at) < discoveredFor {
		return d, nil
	}
	if c.failed != nil && time.Since(c.failedAt) < failedFor {
		return nil, c.failed
	}
	d, err := c.ask(ctx, p, key)
	if c.failed, c.failedAt = err, time.Now(); err == nil {
		c.known.Store(d)
	}
	return d, err
}

func (c *Client) ask(ctx context.Context, p *operator.Provider, key string) (*discovered, error) {
	web, err := client(p)
	if err != nil {
		return nil, err
	}
	// the keys are fetched later, by the same client, so the context of this call must not end that
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), web), p.Issuer)
	if err != nil {
		return nil, fmt.Errorf("asking the identity provider %s about itself: %w", p.Issuer, err)
	}
	d := &discovered{key: key, at: time.Now(), http: web, oidc: found}
	if err := found.Claims(d); err != nil {
		return nil, fmt.Errorf("reading what the identity provider says of itself: %w", err)
	}
	return d, nil
}

func (c *Client) config(p *operator.Provider, d *discovered) (*oauth2.Config, error) {
	secret, err := c.box.Open(p.SecretPlace(), p.Secret)
	if err != nil {
		return nil, fmt.Errorf("opening the client secret: %w", err)
	}
	endpoint := d.oidc.Endpoint()
	// a code is shown once: it must not be tried in one way and then in another
	endpoint.AuthStyle = oauth2.AuthStyleInHeader
	if secret == "" || len(d.Shows) > 0 && !slices.Contains(d.Shows, "client_secret_basic") {
		endpoint.AuthStyle = oauth2.AuthStyleInParams
	}
	return &oauth2.Config{ClientID: p.ClientID, ClientSecret: secret, Endpoint: endpoint, Scopes: p.Scopes,
		RedirectURL: p.Console + CallbackPath}, nil
}

// Begin begins a sign-in: the address to send the browser to, and what the browser has to bring back beside.
func (c *Client) Begin(ctx context.Context, p *operator.Provider) (address, kept string, err error) {
	if p == nil {
		return "", "", ErrOff
	}
	d, err := c.discover(ctx, p)
	if err != nil {
		return "", "", err
	}
	o, err := c.config(p, d)
	if err != nil {
		return "", "", err
	}
	bg := begun{State: rand.Text(), Verifier: oauth2.GenerateVerifier(), Nonce: rand.Text(), At: time.Now(),
		Issuer: p.Issuer, Client: p.ClientID}
	text, err := json.Marshal(bg)
	if err != nil {
		return "", "", err
	}
	address = o.AuthCodeURL(bg.State, oidc.Nonce(bg.Nonce), oauth2.S256ChallengeOption(bg.Verifier))
	return address, string(c.box.Seal(binding, string(text))), nil
}

// take opens what the browser kept of a sign-in, once.
func (c *Client) take(p *operator.Provider, state, kept string) (b begun, err error) {
	text, err := c.box.Open(binding, config.Secret(kept))
	if err != nil || json.Unmarshal([]byte(text), &b) != nil || state == "" || b.State != state ||
		time.Since(b.At).Abs() > begunFor || b.Issuer != p.Issuer || b.Client != p.ClientID {
		return b, ErrUnknown
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, again := c.used[state]; again {
		return b, ErrUnknown
	}
	if len(c.used) >= maxUsed { // the provider takes a code once anyway
		for other, at := range c.used {
			if time.Since(at) > begunFor || len(c.used) >= maxUsed {
				delete(c.used, other)
			}
		}
	}
	c.used[state] = time.Now()
	return b, nil
}

// End ends a sign-in with what the browser brings back. Present are the settings now: a sign-in that began under others
// is refused. Who it is stands in the ID token alone, which is checked for signature, issuer, audience, nonce and time.
func (c *Client) End(ctx context.Context, present *operator.Provider, query url.Values, kept string) (
	operator.Person, operator.Role, error) {
	var none operator.Person
	if present == nil {
		return none, "", ErrOff
	}
	b, err := c.take(present, query.Get("state"), kept)
	if err != nil {
		return none, "", err
	}
	if fault := query.Get("error"); fault != "" {
		return none, "", fmt.Errorf("the identity provider refused: %s", short(strings.TrimSpace(fault+" "+
			query.Get("error_description"))))
	}
	d, err := c.discover(ctx, present)
	if err != nil {
		return none, "", err
	}
	if issuer := query.Get("iss"); issuer != "" && issuer != present.Issuer { // RFC 9207
		return none, "", fmt.Errorf("the answer is from another issuer, %s", short(issuer))
	}
	o, err := c.config(present, d)
	if err != nil {
		return none, "", err
	}
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, d.http), patience)
	defer cancel()
	token, err := o.Exchange(ctx, query.Get("code"), oauth2.VerifierOption(b.Verifier))
	if err != nil {
		return none, "", fmt.Errorf("exchanging the code at the identity provider: %s", short(err.Error()))
	}
	raw, _ := token.Extra("id_token").(string)
	if raw == "" {
		return none, "", errors.New("the identity provider gave no ID token")
	}
	id, err := d.oidc.Verifier(&oidc.Config{ClientID: present.ClientID,
		Now: func() time.Time { return time.Now().Add(-skew) }}).Verify(ctx, raw)
	if err != nil {
		return none, "", fmt.Errorf("the ID token is not accepted: %s", short(err.Error()))
	}
	if b.Nonce == "" || subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(b.Nonce)) != 1 {
		return none, "", errors.New("the ID token is not accepted: it was made for another sign-in (nonce)")
	}
	return person(present, id)
}

// person reads who it is.
func person(p *operator.Provider, id *oidc.IDToken) (operator.Person, operator.Role, error) {
	var claims map[string]any
	if err := id.Claims(&claims); err != nil {
		return operator.Person{}, "", fmt.Errorf("reading the ID token: %w", err)
	}
	name, _ := claims[p.NameClaim].(string)
	if name == "" || id.Subject == "" {
		return operator.Person{}, "", fmt.Errorf("the ID token has no claim %q with the name", p.NameClaim)
	}
	var groups []string
	switch list := claims[p.GroupsClaim].(type) {
	case []any:
		for _, g := range list {
			if text, ok := g.(string); ok {
				groups = append(groups, text)
			}
		}
	case string:
		groups = strings.Fields(list)
	case nil:
		return operator.Person{}, "", fmt.Errorf("the ID token has no claim %q with the groups; ask for its scope, or "+
			"name another claim", p.GroupsClaim)
	}
	return operator.Person{
			Subject: id.Subject,
			Name:    name,
			Groups:  groups,
		}, operator.RoleOf(
			p.Groups,
			"",
			groups,
		), nil
}

// Out is where the browser signs out at the provider, "" for nowhere.
func (c *Client) Out(p *operator.Provider) string {
	d := c.known.Load()
	if p == nil || d == nil || d.End == "" {
		return ""
	}
	out, err := url.Parse(d.End)
	if err != nil || out.Scheme != "https" && out.Scheme != "http" {
		return ""
	}
	q := out.Query()
	q.Set("client_id", p.ClientID)
	q.Set("post_logout_redirect_uri", p.Console+"/")
	out.RawQuery = q.Encode()
	return out.String()
}

// short keeps what the provider says from filling pages.
func short(text string) string {
	text = strings.ToValidUTF8(text, "?")
	if runes := []rune(text); len(runes) > 300 {
		text = string(runes[:300]) + "…"
	}
	return text
}
