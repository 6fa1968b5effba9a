package e2e

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
)

// provider sets a stand-in identity provider up.
func (w *world) provider() *lab.Provider {
	w.t.Helper()
	p, err := lab.ServeProvider("127.0.0.1:0")
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { p.Close() })
	w.operatorSettings(func(o *apitype.OperatorSettings) {
		o.Provider = &apitype.Provider{Issuer: p.URL, ClientID: lab.ProviderClient, Secret: lab.ProviderSecret,
			Console: w.api.URL, Label: "Harbour sign-on", Groups: []apitype.GroupRole{
				{Group: "Network Engineers", Role: "engineer"}, {Group: "Security Audit", Role: "auditor"}}}
	})
	return p
}

// surfer is a browser that keeps cookies, also those that are for TLS alone, and stops where it is sent back to.
type surfer struct {
	*http.Client
	w    *world
	back *url.URL
}

func (w *world) surfer() *surfer {
	jar, _ := cookiejar.New(nil)
	s := &surfer{w: w}
	// each from an address of its own: answers are limited by where they come from
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 2, byte(surfers.Add(1)))}}
	s.Client = &http.Client{Jar: insecure{jar}, Timeout: 30 * time.Second,
		Transport: &http.Transport{DialContext: dialer.DialContext}, CheckRedirect: func(r *http.Request,
			_ []*http.Request) error {
			if r.URL.Query().Get("code") != "" {
				s.back = r.URL
				return http.ErrUseLastResponse
			}
			if r.URL.Path == "/authorize" && r.URL.Query().Get("as") == "" {
				q := r.URL.Query()
				q.Set("as", r.Context().Value(asKey{}).(string))
				r.URL.RawQuery = q.Encode()
			}
			return nil
		}}
	return s
}

var surfers atomic.Int32

type asKey struct{}

// insecure gives secure cookies to plain HTTP on loopback, as browsers do.
type insecure struct{ *cookiejar.Jar }

func (j insecure) Cookies(u *url.URL) []*http.Cookie {
	secure := *u
	secure.Scheme = "https"
	return j.Jar.Cookies(&secure)
}

func (j insecure) SetCookies(u *url.URL, list []*http.Cookie) {
	secure := *u
	secure.Scheme = "https"
	j.Jar.SetCookies(&secure, list)
}

// get returns what a page says.
func (s *surfer) get(address, as string) (int, string) {
	s.w.t.Helper()
	req, err := http.NewRequestWithContext(
		context.WithValue(s.w.t.Context(), asKey{}, as),
		http.MethodGet,
		address,
		nil,
	)
	if err != nil {
		s.w.t.Fatal(err)
	}
	resp, err := s.Do(req)
	if err != nil {
		s.w.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<16))
	return resp.StatusCode, string(text)
}

// through goes to the provider as somebody and comes back.
func (s *surfer) through(as string) (int, string) {
	s.w.t.Helper()
	s.back = nil
	status, text := s.get(s.w.api.URL+"/api/v1/sign-in/provider", as)
	if s.back == nil {
		return status, text
	}
	return s.get(s.back.String(), as)
}

// Operators sign in by the identity provider, with the roles of their groups; what is wrong with its answers is refused
// and recorded, each by itself.
func TestIdentityProvider(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.surfer().w.noProvider()
	p := w.provider()
	s := w.surfer()
	if status, text := s.through("w.okafor"); status != http.StatusOK || !strings.Contains(text, "Signed in") {
		t.Fatalf("%d %s", status, text)
	}
	var about apitype.About
	me := w.as(s.bearer())
	me.do(http.MethodGet, "/about", nil, &about)
	if about.Operator != "w.okafor" || about.Role != "engineer" || !about.Elsewhere {
		t.Errorf("%+v", about)
	}
	w.audits("who=w.okafor", "signed in by the identity provider", "w.okafor engineer")
	w.wants(0, []string{"operator", "list"}, "w.okafor", "provider")
	w.wants(1, []string{"operator", "change", "w.okafor", "-role", "owner"}, "comes from groups of provider")
	me.refused(http.StatusConflict, http.MethodPut, "/me/password", apitype.OwnPassword{Present: "x",
		Next: "gangway-and-rope"}, "not kept here")
	me.refused(http.StatusForbidden, http.MethodPost, "/tokens", apitype.TokenInput{Name: "long", Days: 30}, "7 days")
	if status, _, _ := w.signInRaw(apitype.SignInInput{Name: "w.okafor"}); status != http.StatusUnauthorized {
		t.Errorf("by a password: %d", status)
	}
	// what was brought back is good once, and in that browser alone
	back := s.back.String()
	if status, text := s.get(back, ""); status != http.StatusBadRequest || !strings.Contains(text, "not under way") {
		t.Errorf("the same answer again: %d %s", status, text)
	}
	victim := w.surfer()
	s.back = nil
	s.get(w.api.URL+"/api/v1/sign-in/provider", "t.mensah")
	if status, text := victim.get(s.back.String(), ""); status != http.StatusBadRequest || victim.bearer() != "" {
		t.Errorf("in another browser: %d %s", status, text)
	}
	for fault, want := range map[string]string{lab.ProviderIssuer: "issued by a different provider",
		lab.ProviderNonce: "made for another sign-in", lab.ProviderAudience: "audience",
		lab.ProviderUnsigned: "not accepted",
		lab.ProviderOtherKey: "failed to verify signature", lab.ProviderExpired: "expired",
		lab.ProviderNoGroups: "no claim &#34;groups&#34;", lab.ProviderNoName: "no claim &#34;preferred_username&#34;",
		lab.ProviderNoToken: "gave no ID token"} {
		p.Break(fault)
		other := w.surfer()
		status, text := other.through("t.mensah")
		if status != http.StatusBadRequest || !strings.Contains(text, want) || other.bearer() != "" {
			t.Errorf("%s: %d %s, want %q", fault, status, text, want)
		}
		w.audits("result=refused", "signed in by the identity provider")
	}
	p.Break("")
	if status, text := w.surfer().through("g.pike"); status != http.StatusBadRequest || !strings.Contains(text,
		"none of the groups") {
		t.Errorf("without a role: %d %s", status, text)
	}
	// a name that an operator here has is not taken over
	w.operator("t.mensah", "owner")
	if status, text := w.surfer().through("t.mensah"); status != http.StatusBadRequest || !strings.Contains(text,
		"belongs to another operator") {
		t.Errorf("with the name of another operator: %d %s", status, text)
	}
	back = w.api.URL + "/api/v1/sign-in/provider/back?error=access_denied&state=x"
	if status, text := w.surfer().get(back, ""); status !=
		http.StatusBadRequest ||
		!strings.Contains(text, "not under way") {
		t.Errorf("an error of nothing: %d %s", status, text)
	}
	if n := len(w.browserless()); n != 2 { // and the one of the set-up
		t.Errorf("%d sessions", n)
	}
	// signing out leads to where one signs out at the provider
	var out apitype.SignedOut
	me.do(http.MethodPost, "/sign-out", nil, &out)
	if !strings.HasPrefix(out.Provider, p.URL+"/logout?") {
		t.Errorf("%+v", out)
	}
}

// A stranger who brings answers that were made up has the provider asked a few times, and nobody else is held up.
func TestAnswersThatAreMadeUp(t *testing.T) {
	t.Parallel()
	w := start(t)
	p := w.provider()
	s := w.surfer()
	late := 0
	for range 40 {
		s.back = nil
		s.get(w.api.URL+"/api/v1/sign-in/provider", "w.okafor")
		forged := *s.back
		q := forged.Query()
		q.Set("code", "MADE-UP")
		forged.RawQuery = q.Encode()
		switch status, text := s.get(forged.String(), ""); status {
		case http.StatusTooManyRequests:
			late++
		case http.StatusBadRequest:
		default:
			t.Fatalf("%d %s", status, text)
		}
	}
	if n := p.Asked(); n > 10 || late < 25 {
		t.Errorf("the provider was asked %d times, %d answers were refused at once", n, late)
	}
	if s.bearer() != "" {
		t.Error("a made-up answer signs in")
	}
	if status, text := w.surfer().through("w.okafor"); status != http.StatusOK {
		t.Errorf("from elsewhere: %d %s", status, text)
	}
}

// browserless lists the sessions of operators.
func (w *world) browserless() []apitype.OperatorSession {
	w.t.Helper()
	var list apitype.Page[apitype.OperatorSession]
	w.do(http.MethodGet, "/operator-sessions", nil, &list)
	return list.Items
}

func (w *world) noProvider() {
	w.t.Helper()
	if status, text := w.surfer().through("w.okafor"); status != http.StatusNotFound || !strings.Contains(text,
		"no identity provider") {
		w.t.Errorf("without a provider: %d %s", status, text)
	}
}

// bearer is the session that the browser has.
func (s *surfer) bearer() string {
	u, _ := url.Parse(s.w.api.URL)
	for _, c := range s.Jar.Cookies(u) {
		if c.Name == "tollgate_session" {
			return c.Value
		}
	}
	return ""
}

// A provider that says of itself that it is another one, that answers late, or not at all: said, and nobody waits for
// ever.
func TestIdentityProviderThatDoesNotAnswer(t *testing.T) {
	t.Parallel()
	w := start(t)
	p := w.provider()
	for fault, want := range map[string]string{lab.ProviderSaysIssuer: "did not match the issuer",
		lab.ProviderLate: "exceeded"} {
		p.Break(fault)
		time.Sleep(3100 * time.Millisecond) // what the last one came to is that for others too
		began := time.Now()
		if status, text := w.surfer().through("w.okafor"); status != http.StatusBadGateway ||
			!strings.Contains(text, want) {
			t.Errorf("%s: %d %s", fault, status, text)
		}
		if took := time.Since(began); took > 15*time.Second {
			t.Errorf("%s took %s", fault, took)
		}
	}
	p.Close()
	if status, text := w.surfer().through("w.okafor"); status != http.StatusBadGateway {
		t.Errorf("gone: %d %s", status, text)
	}
	w.wants(
		1,
		[]string{
			"operator",
			"provider",
			"http://provider.example",
			"-client-id",
			"x",
			"-console",
			w.api.URL,
			"-group",
			"A=owner",
		},
		"no https address",
	)
	w.wants(
		1,
		[]string{"operator", "provider", p.URL, "-client-id", "x", "-console", w.api.URL},
		"no group has a role",
	)
	w.wants(
		0,
		[]string{"operator", "provider", p.URL, "-client-id", "x", "-console", w.api.URL, "-group", "A=auditor"},
		"redirect address",
		"/sign-in/provider/back",
		"secret                 set",
	)
	w.wants(0, []string{"operator", "provider", "none"}, "needed by no role")
}
