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
	"slices"
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
	// maxWaiting bounds how many wait for one list or one responder, so that a silent one does not hold up those who
	// need another.
	maxWaiting = 256
)

// Checker fetches lists and asks responders, and keeps what they said until it is out of date.
type Checker struct {
	client  http.Client
	mu      sync.Mutex
	lists   map[string]*list
	answers map[string]answer
	asking  map[string]int // how many wait for a responder
}

// list is a revocation list as it was fetched last. What it holds is replaced whole, and fetched by one at a time.
type list struct {
	mu      sync.Mutex
	kept    *fetched
	tried   time.Time
	err     error
	running chan struct{} // closed when a fetch under way ends, nil without one
	waiting int
}

// fetched is one list; it is not changed once signed is full.
type fetched struct {
	crl     *x509.RevocationList
	revoked map[string]time.Time
	at      time.Time
	scope   scope

	mu     sync.Mutex
	signed map[string]error // by the issuers for which the signature was checked
}

type answer struct {
	status Status
	until  time.Time
}

// NewChecker makes a checker with nothing in it.
func NewChecker() *Checker {
	return &Checker{client: http.Client{Timeout: fetchTimeout, CheckRedirect: func(_ *http.Request,
		via []*http.Request) error {
		if len(via) > 3 {
			return errors.New("more than three redirections")
		}
		return nil
	}}, lists: map[string]*list{}, answers: map[string]answer{}, asking: map[string]int{}}
}

// List looks a certificate up in the list at an URL or in a file (RFC 5280 section 6.3). A list that is out of date is
// still used if it revokes; otherwise it counts as no answer.
func (c *Checker) List(ctx context.Context, where string, cert, issuer *x509.Certificate, now time.Time) Status {
	s := Status{Source: "list " + where}
	f, err := c.list(where).get(ctx, &c.client, where, now)
	if f == nil {
		s.Err = err
		return s
	}
	if s.Err = f.by(issuer); s.Err != nil {
		return s
	}
	if s.Err = f.scope.covers(cert); s.Err != nil {
		return s
	}
	if at, revoked := f.revoked[string(cert.SerialNumber.Bytes())]; revoked {
		s.Known, s.Revoked, s.At = true, true, at
		return s
	}
	switch crl := f.crl; {
	case now.Add(clockSkew).Before(crl.ThisUpdate):
		s.Err = errors.New("the list is from the future; compare the clocks")
	case crl.NextUpdate.IsZero():
		s.Err = errors.New("the list does not say until when it is valid")
	case now.After(crl.NextUpdate):
		s.Err = fmt.Errorf("the list ran out at %s", crl.NextUpdate.UTC().Format(time.DateTime+" UTC"))
		if err != nil {
			s.Err = fmt.Errorf("%w, and a new one could not be had: %w", s.Err, err)
		}
	default:
		s.Known = true
	}
	return s
}

// clockSkew is by how much the clock of an authority may be ahead of ours.
const clockSkew = 5 * time.Minute

func (c *Checker) list(where string) *list {
	c.mu.Lock()
	defer c.mu.Unlock()
	l := c.lists[where]
	if l == nil {
		if len(c.lists) >= maxLists {
			clear(c.lists)
		}
		l = &list{}
		c.lists[where] = l
	}
	return l
}

// get returns the list, fetched anew where it is old. Whoever has a list that is valid yet does not wait for the next
// one.
func (l *list) get(ctx context.Context, client *http.Client, where string, now time.Time) (*fetched, error) {
	l.mu.Lock()
	stale := l.kept == nil || now.Sub(l.kept.at) > maxAge || now.After(l.kept.crl.NextUpdate)
	if stale && l.running == nil && now.Sub(l.tried) > retryAfter {
		l.tried, l.running = now, make(chan struct{})
		go l.fetch(client, where, now, l.running)
	}
	running, kept, err := l.running, l.kept, l.err
	if running == nil || kept != nil && !now.After(kept.crl.NextUpdate) {
		l.mu.Unlock()
		return kept, err
	}
	if l.waiting >= maxWaiting {
		l.mu.Unlock()
		return kept, fmt.Errorf("%d certificates wait for %s already", maxWaiting, where)
	}
	l.waiting++
	l.mu.Unlock()
	var gaveUp error
	select {
	case <-running:
	case <-ctx.Done():
		gaveUp = fmt.Errorf("fetching %s: %w", where, ctx.Err())
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.waiting--; gaveUp != nil {
		return kept, gaveUp
	}
	return l.kept, l.err
}

// fetch gets a list. It belongs to nobody who waits, so that one who gives up does not fail the others.
func (l *list) fetch(client *http.Client, where string, now time.Time, done chan struct{}) {
	ctx, cancel := context.WithTimeout(context.Background(), fetchTimeout)
	defer cancel()
	var made *fetched
	data, err := read(ctx, client, where)
	if err == nil {
		made, err = parseList(data, now)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.running = nil; err == nil {
		l.kept = made
	}
	l.err = err
	close(done)
}

func parseList(data []byte, now time.Time) (*fetched, error) {
	if block, _ := pem.Decode(data); block != nil {
		data = block.Bytes
	}
	crl, err := x509.ParseRevocationList(data)
	if err != nil {
		return nil, err
	}
	f := &fetched{crl: crl, at: now, signed: map[string]error{}, revoked: make(map[string]time.Time,
		len(crl.RevokedCertificateEntries))}
	if f.scope, err = scopeOf(crl); err != nil {
		return nil, err
	}
	for _, entry := range crl.RevokedCertificateEntries {
		f.revoked[string(entry.SerialNumber.Bytes())] = entry.RevocationTime
	}
	return f, nil
}

// maxSigners bounds for how many issuers one list remembers whether they signed it.
const maxSigners = 16

// by says why a list is not one of an issuer, nil if it is.
func (f *fetched) by(issuer *x509.Certificate) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	err, done := f.signed[string(issuer.Raw)]
	if !done {
		if !bytes.Equal(f.crl.RawIssuer, issuer.RawSubject) || f.crl.CheckSignatureFrom(issuer) != nil {
			err = fmt.Errorf("the list was not signed by %s", issuer.Subject)
		}
		if len(f.signed) >= maxSigners {
			clear(f.signed)
		}
		f.signed[string(issuer.Raw)] = err
	}
	return err
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
	if kept, ok := c.answers[key]; ok && now.Before(kept.until) {
		c.mu.Unlock()
		return kept.status
	}
	if c.asking[responder] >= maxWaiting {
		c.mu.Unlock()
		return Status{Source: "responder " + responder, Err: fmt.Errorf("%d certificates wait for it already",
			maxWaiting)}
	}
	c.asking[responder]++
	c.mu.Unlock()
	s, until := c.ask(ctx, responder, leaf, issuer, now)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.asking[responder]--; c.asking[responder] == 0 {
		delete(c.asking, responder)
	}
	if len(c.answers) >= maxAnswers {
		clear(c.answers)
	}
	c.answers[key] = answer{s, until}
	return s
}

func (c *Checker) ask(ctx context.Context, responder string, leaf, issuer *x509.Certificate, now time.Time) (Status,
	time.Time) {
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
	s = readOCSP(data, s.Source, leaf, issuer, now, 0)
	if s.Err != nil {
		return s, again
	}
	return s, now.Add(min(maxAge, 10*time.Minute))
}

// stapleAge is how old an answer may be that the peer brought along, and one that does not say when there will be a
// newer one.
const stapleAge = time.Hour

// readOCSP reads and verifies an answer (RFC 6960 section 3.2): signed by the issuer, or by a responder to whom it gave
// that right, and recent. oldest bounds its age, 0 for as long as it says itself.
func readOCSP(data []byte, source string, cert, issuer *x509.Certificate, now time.Time, oldest time.Duration) Status {
	s := Status{Source: source}
	response, err := ocsp.ParseResponseForCert(data, cert, issuer)
	if err != nil {
		s.Err = err
		return s
	}
	if s.Err = mayAnswer(response.Certificate, issuer, now); s.Err != nil {
		return s
	}
	if response.Status == ocsp.Revoked { // for good, so its age does not matter
		s.Known, s.Revoked, s.At = true, true, response.RevokedAt
		return s
	}
	if oldest == 0 && response.NextUpdate.IsZero() {
		oldest = stapleAge
	}
	switch {
	case !response.NextUpdate.IsZero() && now.After(response.NextUpdate):
		s.Err = fmt.Errorf("its answer ran out at %s", response.NextUpdate.UTC().Format(time.DateTime+" UTC"))
	case now.Add(clockSkew).Before(response.ThisUpdate):
		s.Err = errors.New("its answer is from the future; compare the clocks")
	case oldest > 0 && now.Sub(response.ThisUpdate) > oldest:
		s.Err = fmt.Errorf("its answer is of %s, which is too old", response.ThisUpdate.UTC().Format(time.DateTime+
			" UTC"))
	case response.Status == ocsp.Good:
		s.Known = true
	default:
		s.Err = errors.New("it does not know the certificate")
	}
	return s
}

// mayAnswer says why a signer may not answer for an issuer (RFC 6960 section 4.2.2.2), nil if it may: the issuer
// itself, or somebody whom it gave the extended key usage OCSPSigning. Without that, whoever has any certificate of the
// authority could call a revoked one good.
func mayAnswer(signer, issuer *x509.Certificate, now time.Time) error {
	switch {
	case signer == nil || bytes.Equal(signer.Raw, issuer.Raw):
		return nil
	case !slices.Contains(signer.ExtKeyUsage, x509.ExtKeyUsageOCSPSigning):
		return fmt.Errorf("its answer is signed by %s, who may not answer for %s", signer.Subject, issuer.Subject)
	case now.Before(signer.NotBefore) || now.After(signer.NotAfter):
		return fmt.Errorf("its answer is signed by %s, whose certificate is not valid now", signer.Subject)
	}
	return nil
}
