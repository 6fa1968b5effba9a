package certificate

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ocsp"
)

// Status is what one source says of one certificate.
type Status struct {
	Source  string
	Known   bool
	Revoked bool
	At      time.Time
	Err     error
}

func (s Status) String() string {
	switch {
	case s.Err != nil:
		return s.Source + ": " + s.Err.Error()
	case s.Revoked:
		return "revoked, by " + s.Source
	}
	return "not revoked, by " + s.Source
}

// Bounds of what is fetched and kept.
const (
	maxCRL       = 32 << 20
	maxOCSP      = 64 << 10
	fetchTimeout = 3 * time.Second
	retryAfter   = 30 * time.Second
	maxAge       = time.Hour
	maxLists     = 200
	maxAnswers   = 20_000
)

// Checker fetches lists and asks responders, and keeps what they said until it is out of date.
type Checker struct {
	client  http.Client
	mu      sync.Mutex
	lists   map[string]*list
	answers map[string]answer
}

type list struct {
	mu      sync.Mutex
	crl     *x509.RevocationList
	revoked map[string]time.Time
	fetched time.Time
	tried   time.Time
	err     error
	signed  map[string]bool // by the issuers for which the signature was checked
}

type answer struct {
	status Status
	until  time.Time
}

// NewChecker makes a checker with nothing in it.
func NewChecker() *Checker {
	return &Checker{client: http.Client{Timeout: fetchTimeout, CheckRedirect: func(_ *http.Request, via []*http.Request) error {
		if len(via) > 3 {
			return errors.New("more than three redirections")
		}
		return nil
	}}, lists: map[string]*list{}, answers: map[string]answer{}}
}

// List looks a certificate up in the list at an URL or in a file. A list that is out of date is still used if it
// revokes; otherwise it counts as no answer.
func (c *Checker) List(ctx context.Context, where string, leaf, issuer *x509.Certificate, now time.Time) Status {
	s := Status{Source: "list " + where}
	c.mu.Lock()
	l := c.lists[where]
	if l == nil {
		if len(c.lists) >= maxLists {
			clear(c.lists)
		}
		l = &list{}
		c.lists[where] = l
	}
	c.mu.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	stale := l.crl == nil || now.Sub(l.fetched) > maxAge || !l.crl.NextUpdate.IsZero() && now.After(l.crl.NextUpdate)
	if stale && now.Sub(l.tried) > retryAfter {
		l.tried = now
		l.fetch(ctx, &c.client, where, now)
	}
	if l.crl == nil {
		s.Err = l.err
		return s
	}
	key := string(issuer.RawSubjectPublicKeyInfo)
	if _, done := l.signed[key]; !done {
		l.signed[key] = l.crl.CheckSignatureFrom(issuer) == nil
	}
	if !l.signed[key] {
		s.Err = fmt.Errorf("the list was not signed by %s", issuer.Subject)
		return s
	}
	at, revoked := l.revoked[string(leaf.SerialNumber.Bytes())]
	if revoked {
		s.Known, s.Revoked, s.At = true, true, at
		return s
	}
	if !l.crl.NextUpdate.IsZero() && now.After(l.crl.NextUpdate) {
		s.Err = fmt.Errorf("the list ran out at %s", l.crl.NextUpdate.UTC().Format(time.DateTime+" UTC"))
		if l.err != nil {
			s.Err = fmt.Errorf("%w, and a new one could not be had: %w", s.Err, l.err)
		}
		return s
	}
	s.Known = true
	return s
}

func (l *list) fetch(ctx context.Context, client *http.Client, where string, now time.Time) {
	data, err := read(ctx, client, where)
	if err == nil {
		if block, _ := pem.Decode(data); block != nil {
			data = block.Bytes
		}
		var crl *x509.RevocationList
		if crl, err = x509.ParseRevocationList(data); err == nil {
			l.crl, l.fetched, l.signed, l.revoked = crl, now, map[string]bool{}, make(map[string]time.Time, len(crl.RevokedCertificateEntries))
			for _, entry := range crl.RevokedCertificateEntries {
				l.revoked[string(entry.SerialNumber.Bytes())] = entry.RevocationTime
			}
		}
	}
	l.err = err
}

func read(ctx context.Context, client *http.Client, where string) ([]byte, error) {
	if path, ok := strings.CutPrefix(where, "file:"); ok || strings.HasPrefix(where, "/") {
		f, err := os.Open(strings.TrimPrefix(path, "//"))
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return bounded(f, maxCRL)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, where, nil)
	if err != nil {
		return nil, err
	}
	return do(client, request, maxCRL)
}

func do(client *http.Client, request *http.Request, limit int64) ([]byte, error) {
	response, err := client.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answered %s", request.URL.Host, response.Status)
	}
	return bounded(response.Body, limit)
}

func bounded(r io.Reader, limit int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = fmt.Errorf("more than %d octets", limit)
	}
	return data, err
}

// Ask asks a responder (RFC 6960) and keeps its answer until the moment it names, at most an hour.
func (c *Checker) Ask(ctx context.Context, responder string, leaf, issuer *x509.Certificate, now time.Time) Status {
	key := responder + "\x00" + string(issuer.RawSubjectPublicKeyInfo) + string(leaf.SerialNumber.Bytes())
	c.mu.Lock()
	kept, ok := c.answers[key]
	c.mu.Unlock()
	if ok && now.Before(kept.until) {
		return kept.status
	}
	s, until := c.ask(ctx, responder, leaf, issuer, now)
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.answers) >= maxAnswers {
		clear(c.answers)
	}
	c.answers[key] = answer{s, until}
	return s
}

func (c *Checker) ask(ctx context.Context, responder string, leaf, issuer *x509.Certificate, now time.Time) (Status, time.Time) {
	s := Status{Source: "responder " + responder}
	again := now.Add(retryAfter)
	question, err := ocsp.CreateRequest(leaf, issuer, nil)
	if err != nil {
		s.Err = err
		return s, again
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, responder, bytes.NewReader(question))
	if err != nil {
		s.Err = err
		return s, again
	}
	request.Header.Set("Content-Type", "application/ocsp-request")
	data, err := do(&c.client, request, maxOCSP)
	if err != nil {
		s.Err = err
		return s, again
	}
	s = readOCSP(data, s.Source, leaf, issuer, now)
	if s.Err != nil {
		return s, again
	}
	return s, now.Add(min(maxAge, 10*time.Minute))
}

// readOCSP reads and verifies an answer.
func readOCSP(data []byte, source string, leaf, issuer *x509.Certificate, now time.Time) Status {
	s := Status{Source: source}
	response, err := ocsp.ParseResponseForCert(data, leaf, issuer)
	switch {
	case err != nil:
		s.Err = err
	case !response.NextUpdate.IsZero() && now.After(response.NextUpdate):
		s.Err = fmt.Errorf("its answer ran out at %s", response.NextUpdate.UTC().Format(time.DateTime+" UTC"))
	case now.Add(5 * time.Minute).Before(response.ThisUpdate):
		s.Err = errors.New("its answer is from the future; compare the clocks")
	case response.Status == ocsp.Good:
		s.Known = true
	case response.Status == ocsp.Revoked:
		s.Known, s.Revoked, s.At = true, true, response.RevokedAt
	default:
		s.Err = errors.New("it does not know the certificate")
	}
	return s
}
