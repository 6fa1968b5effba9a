// Package phone is a stand-in for the phone of a person: it does what the page of the portal does in a browser, for the
// lab and for tests.
package phone

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"tollgate.example/key/internal/identity/approval"
)

// Phone is one phone of a person. Clock is by how much its clock is off.
type Phone struct {
	// URL is where the pages are.
	URL    string
	Device string
	Person string
	Codes  []string
	Clock  time.Duration
	// Client is what requests are sent with; nil for the usual one.
	Client *http.Client

	key    *ecdsa.PrivateKey
	offset time.Duration
}

// maxBody bounds what is read of a page.
const maxBody = 1 << 20

var pairLink = regexp.MustCompile(`href="([^"]*/phone#p=[^"]+)"`)

// Enrol opens an invitation, gives the password, and pairs a new phone.
func Enrol(ctx context.Context, client *http.Client, link, password, label string) (*Phone, error) {
	at, err := url.Parse(link)
	if err != nil {
		return nil, fmt.Errorf("reading the invitation: %w", err)
	}
	base := at.Scheme + "://" + at.Host
	p := &Phone{URL: base, Client: client}
	page, err := p.form(ctx, "/enrol", url.Values{"t": {at.Query().Get("t")}, "password": {password}})
	if err != nil {
		return nil, err
	}
	found := pairLink.FindStringSubmatch(page)
	if found == nil {
		return nil, errors.New(
			"the page offers no phone: no lane in effect takes approvals, or the password is wrong",
		)
	}
	_, pass, _ := strings.Cut(html.UnescapeString(found[1]), "#p=")
	return p, p.Pair(ctx, pass, label)
}

func (p *Phone) form(ctx context.Context, path string, v url.Values) (string, error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, p.URL+path, strings.NewReader(v.Encode()))
	if err != nil {
		return "", err
	}
	q.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	answer, err := p.client().Do(q)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, maxBody))
	return string(text), err
}

func (p *Phone) client() *http.Client {
	if p.Client != nil {
		return p.Client
	}
	return http.DefaultClient
}

// Refused is an answer that is none; Why is a word of the portal.
type Refused struct {
	Status int
	Why    string `json:"why"`
	Now    int64  `json:"now"`
}

func (r *Refused) Error() string { return fmt.Sprintf("%d %s", r.Status, r.Why) }

// post sends what is made for a time, once more if our clock was off.
func (p *Phone) post(ctx context.Context, path string, build func(at int64) (any, error), into any) error {
	for again := false; ; again = true {
		at := time.Now().Add(p.Clock).Add(p.offset).UnixMilli()
		body, err := build(at)
		if err != nil {
			return err
		}
		var refused *Refused
		err = p.Send(ctx, path, body, into)
		if !errors.As(err, &refused) || refused.Why != "clock" || again {
			return err
		}
		p.offset = time.UnixMilli(refused.Now).Sub(time.Now().Add(p.Clock))
	}
}

// Send sends a message as it is.
func (p *Phone) Send(ctx context.Context, path string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, p.URL+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/json")
	answer, err := p.client().Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	d := json.NewDecoder(io.LimitReader(answer.Body, maxBody))
	if answer.StatusCode != http.StatusOK {
		out := &Refused{Status: answer.StatusCode}
		_ = d.Decode(out) // the status says enough
		return out
	}
	return d.Decode(into)
}

// Sign signs as browsers do: r and s, of 32 octets each.
func (p *Phone) Sign(message string) ([]byte, error) {
	sum := sha256.Sum256([]byte(message))
	r, s, err := ecdsa.Sign(rand.Reader, p.key, sum[:])
	if err != nil {
		return nil, err
	}
	out := make([]byte, 64)
	r.FillBytes(out[:32])
	s.FillBytes(out[32:])
	return out, nil
}

// Pair makes a key, and has the portal take it.
func (p *Phone) Pair(ctx context.Context, pass, label string) (err error) {
	if p.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return err
	}
	key, err := x509.MarshalPKIXPublicKey(&p.key.PublicKey)
	if err != nil {
		return err
	}
	signature, err := p.Sign("tollgate pair\n" + pass)
	if err != nil {
		return err
	}
	var out struct {
		Device, Person string
		Codes          []string
	}
	if err = p.Send(ctx, "/phone/pair", map[string]any{"pass": pass, "key": key, "signature": signature,
		"label": label}, &out); err != nil {
		return fmt.Errorf("pairing the phone: %w", err)
	}
	p.Device, p.Person, p.Codes = out.Device, out.Person, out.Codes
	return nil
}

// Asks are the sign-ins that wait. It waits for others than those that are known.
func (p *Phone) Asks(ctx context.Context, known ...string) ([]approval.Ask, error) {
	var out struct{ Asks []approval.Ask }
	err := p.post(ctx, "/phone/asks", func(at int64) (any, error) {
		signature, err := p.Sign(fmt.Sprintf("tollgate asks\n%s\n%d", p.Device, at))
		return map[string]any{"device": p.Device, "at": at, "signature": signature,
			"known": append([]string{}, known...)}, err
	}, &out)
	return out.Asks, err
}

// Answer answers one of them.
func (p *Phone) Answer(
	ctx context.Context,
	ask string,
	verdict approval.Verdict,
	number int,
) (approval.Verdict, error) {
	var out struct{ Came approval.Verdict }
	err := p.post(ctx, "/phone/answer", func(at int64) (any, error) {
		signature, err := p.Sign(
			fmt.Sprintf("tollgate answer\n%s\n%d\n%s\n%s\n%d", p.Device, at, ask, verdict, number),
		)
		return map[string]any{"device": p.Device, "at": at, "signature": signature, "ask": ask, "verdict": verdict,
			"number": number}, err
	}, &out)
	return out.Came, err
}

// Private is the key of the phone, so that it can be kept; Restore takes it back.
func (p *Phone) Private() ([]byte, error) { return x509.MarshalECPrivateKey(p.key) }

// Restore takes the key of a phone that was paired before.
func (p *Phone) Restore(private []byte) (err error) {
	p.key, err = x509.ParseECPrivateKey(private)
	return err
}
