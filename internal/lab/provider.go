package lab

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Faults of the stand-in identity provider.
const (
	ProviderLate       = "late"        // answers after a minute
	ProviderIssuer     = "issuer"      // the ID token is from another issuer
	ProviderNonce      = "nonce"       // it was made for another sign-in
	ProviderAudience   = "audience"    // it is for another client
	ProviderUnsigned   = "unsigned"    // it is not signed
	ProviderOtherKey   = "other-key"   // it is signed by a key that the provider does not publish
	ProviderExpired    = "expired"     // it is over
	ProviderNoGroups   = "no-groups"   // the claim with the groups is missing
	ProviderNoName     = "no-name"     // the claim with the name is missing
	ProviderNoToken    = "no-token"    // there is no ID token at all
	ProviderSaysIssuer = "says-issuer" // it says of itself that it is another one
)

// ProviderClient and ProviderSecret are what the stand-in identity provider calls the service, and their secret.
const (
	ProviderClient = "tollgate-console"
	ProviderSecret = "boatswain-whistle-71"
)

// ProviderPerson is somebody whom the stand-in identity provider knows.
type ProviderPerson struct {
	Subject, Name, Display string
	Groups                 []string
}

// ProviderPeople are all of them.
var ProviderPeople = []ProviderPerson{
	{"p-1041", "w.okafor", "Wren Okafor", []string{"Network Engineers", "Everybody"}},
	{"p-1057", "t.mensah", "Tamsin Mensah", []string{"Security Audit", "Everybody"}},
	{"p-1063", "g.pike", "Gil Pike", []string{"Everybody"}},
}

// Provider is a stand-in identity provider (OpenID Connect Core 1.0) that asks nobody for a password.
type Provider struct {
	URL string

	server         *http.Server
	signer, forger jose.Signer
	keys           jose.JSONWebKeySet

	mu    sync.Mutex
	fault string
	codes map[string]grant
	asked int
}

// grant is what a code stands for.
type grant struct {
	person                             ProviderPerson
	client, redirect, nonce, challenge string
}

// ServeProvider serves a stand-in identity provider on an address of loopback.
func ServeProvider(address string) (*Provider, error) {
	p := &Provider{codes: map[string]grant{}}
	var err error
	if p.signer, err = p.key("harbour-1", true); err != nil {
		return nil, err
	}
	if p.forger, err = p.key("harbour-1", false); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("serving the stand-in identity provider on %s: %w", address, err)
	}
	p.URL = "http://" + l.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.discovery)
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) { write(w, p.keys) })
	mux.HandleFunc("GET /logout", func(w http.ResponseWriter, r *http.Request) {
		page(
			w,
			"Signed out of the harbour",
			`<p><a href="`+html.EscapeString(r.URL.Query().Get("post_logout_redirect_uri"))+
				`">Back to the console</a></p>`,
		)
	})
	p.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = p.server.Serve(l) }()
	return p, nil
}

// Close stops it.
func (p *Provider) Close() error { return p.server.Close() }

// Break has it deviate; "" ends that.
func (p *Provider) Break(fault string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.fault = fault
}

// Asked counts the codes that it was to exchange.
func (p *Provider) Asked() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.asked
}

func (p *Provider) broken() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.fault
}

// key makes a signer, and publishes its key.
func (p *Provider) key(id string, publish bool) (jose.Signer, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	if publish {
		p.keys.Keys = append(
			p.keys.Keys,
			jose.JSONWebKey{Key: key.Public(), KeyID: id, Algorithm: "ES256", Use: "sig"},
		)
	}
	return jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: id}}, nil)
}

func write(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func page(w http.ResponseWriter, title, body string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "<!doctype html><html lang=en><title>%s</title><h1>%s</h1>%s</html>", title, title, body)
}

func (p *Provider) discovery(w http.ResponseWriter, r *http.Request) {
	issuer := p.URL
	switch p.broken() {
	case ProviderLate:
		select {
		case <-r.Context().Done():
		case <-time.After(time.Minute):
		}
		return
	case ProviderSaysIssuer:
		issuer = "https://elsewhere.example"
	}
	write(w, map[string]any{"issuer": issuer, "authorization_endpoint": p.URL + "/authorize",
		"token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys", "end_session_endpoint": p.URL + "/logout",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported": []string{
			"ES256",
		}, "code_challenge_methods_supported": []string{"S256"}})
}

// authorize lets the person at the browser choose who to be, or takes who is named.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != ProviderClient || q.Get("response_type") != "code" ||
		q.Get("code_challenge_method") != "S256" {
		http.Error(w, "this is no request of the console with PKCE", http.StatusBadRequest)
		return
	}
	for _, person := range ProviderPeople {
		if person.Name != q.Get("as") {
			continue
		}
		code := rand.Text()
		p.mu.Lock()
		p.codes[code] = grant{person: person, client: q.Get("client_id"), redirect: q.Get("redirect_uri"),
			nonce: q.Get("nonce"), challenge: q.Get("code_challenge")}
		p.mu.Unlock()
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}}.Encode(),
			http.StatusSeeOther)
		return
	}
	body := "<p>This stand-in asks for no password. Who are you?</p>"
	for _, person := range ProviderPeople {
		q.Set("as", person.Name)
		body += fmt.Sprintf(`<p><a href="/authorize?%s">%s</a></p>`, html.EscapeString(q.Encode()),
			html.EscapeString(person.Display))
	}
	page(w, "Lantern Ferries sign-in", body)
}

// token exchanges a code, once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	refuse := func(code string) {
		w.WriteHeader(http.StatusBadRequest)
		write(w, map[string]string{"error": code})
	}
	if p.broken() == ProviderLate {
		time.Sleep(time.Minute)
	}
	client, secret, basic := r.BasicAuth()
	if !basic {
		client, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	if client != ProviderClient || secret != ProviderSecret {
		refuse("invalid_client")
		return
	}
	code := r.PostFormValue("code")
	p.mu.Lock()
	p.asked++
	g, there := p.codes[code]
	delete(p.codes, code)
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if !there || g.redirect != r.PostFormValue("redirect_uri") ||
		base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge {
		refuse("invalid_grant")
		return
	}
	out := map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300}
	if p.broken() != ProviderNoToken {
		token, err := p.idToken(&g)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		out["id_token"] = token
	}
	write(w, out)
}

// idToken makes an ID token, or one that is wrong.
func (p *Provider) idToken(g *grant) (string, error) {
	now := time.Now()
	claims := map[string]any{
		"iss":                p.URL,
		"sub":                g.person.Subject,
		"aud":                g.client,
		"nonce":              g.nonce,
		"iat":                now.Unix(),
		"exp":                now.Add(5 * time.Minute).Unix(),
		"preferred_username": g.person.Name,
		"groups":             g.person.Groups,
	}
	signer := p.signer
	switch p.broken() {
	case ProviderIssuer:
		claims["iss"] = "https://elsewhere.example"
	case ProviderNonce:
		claims["nonce"] = "of-another-sign-in"
	case ProviderAudience:
		claims["aud"] = "another-client"
	case ProviderExpired:
		claims["exp"] = now.Add(-time.Hour).Unix()
	case ProviderNoGroups:
		delete(claims, "groups")
	case ProviderNoName:
		delete(claims, "preferred_username")
	case ProviderOtherKey:
		signer = p.forger
	case ProviderUnsigned:
		text, err := json.Marshal(claims)
		return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." +
			base64.RawURLEncoding.EncodeToString(text) + ".", err
	}
	text, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(text)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}
