package reporter

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// Report is what is sent: everybody who is signed in.
type Report struct {
	Host   string   `json:"host"`
	People []Signed `json:"people"`
}

// Signed is one of them.
type Signed struct {
	Who     string `json:"who"`
	Display string `json:"display,omitempty"`
	Ports   string `json:"ports,omitempty"`
	Seconds int64  `json:"seconds"`
}

// Answer is what the service says to it.
type Answer struct {
	Taken   int `json:"taken"`
	Refused []struct {
		Index int    `json:"index"`
		Error string `json:"error"`
	} `json:"refused"`
	Address string `json:"address"`
	Every   int    `json:"every"`
}

// Sender sends reports to the first of some nodes that takes them.
type Sender struct {
	// URLs are those of the nodes, such as https://tollgate.example:8440.
	URLs   []string
	Token  string
	client *http.Client
}

// NewSender makes one that trusts the authorities of PEM, or those of the system if there are none.
func NewSender(urls []string, token string, authorities []byte) (*Sender, error) {
	for _, url := range urls {
		if !strings.HasPrefix(url, "https://") && !loopback(url) {
			return nil, fmt.Errorf("%s: reports are sent over https only, since they carry a token", url)
		}
	}
	cfg := &tls.Config{MinVersion: tls.VersionTLS12}
	if len(authorities) > 0 {
		cfg.RootCAs = x509.NewCertPool()
		if !cfg.RootCAs.AppendCertsFromPEM(authorities) {
			return nil, errors.New("the file of authorities holds no certificate in PEM")
		}
	}
	return &Sender{URLs: urls, Token: token, client: &http.Client{Timeout: 10 * time.Second,
		Transport: &http.Transport{TLSClientConfig: cfg, MaxIdleConns: 2, IdleConnTimeout: 5 * time.Minute},
		// a redirect would carry the token elsewhere
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, nil
}

func loopback(url string) bool {
	return strings.HasPrefix(url, "http://127.") || strings.HasPrefix(url, "http://[::1]") ||
		strings.HasPrefix(url, "http://localhost:")
}

// ErrRejected is returned where the service answers, and does not take the report.
var ErrRejected = errors.New("the report was not taken")

// maxAnswer bounds what is read of an answer.
const maxAnswer = 1 << 20

// Send sends a report. A node that does not answer, or not with success, is followed by the next one.
func (s *Sender) Send(ctx context.Context, r *Report) (a Answer, err error) {
	body, err := json.Marshal(r)
	if err != nil {
		return a, fmt.Errorf("writing the report: %w", err)
	}
	var all []error
	for i, url := range s.URLs {
		a, err := s.send(ctx, url, body)
		if err == nil {
			if i > 0 { // where it went last is asked first
				s.URLs[0], s.URLs[i] = s.URLs[i], s.URLs[0]
			}
			return a, nil
		}
		all = append(all, err)
	}
	return a, errors.Join(all...)
}

func (s *Sender) send(ctx context.Context, url string, body []byte) (a Answer, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimRight(url, "/")+"/presence/v1/host",
		bytes.NewReader(body))
	if err != nil {
		return a, fmt.Errorf("reporting to %s: %w", url, err)
	}
	req.Header.Set("Authorization", "Bearer "+s.Token)
	req.Header.Set("Content-Type", "application/json")
	got, err := s.client.Do(req)
	if err != nil {
		return a, fmt.Errorf("reporting: %w", err)
	}
	defer got.Body.Close()
	text, err := io.ReadAll(io.LimitReader(got.Body, maxAnswer))
	if err != nil {
		return a, fmt.Errorf("reading the answer of %s: %w", url, err)
	}
	if got.StatusCode != http.StatusOK {
		var said struct {
			Detail string `json:"detail"`
		}
		_ = json.Unmarshal(text, &said) // whatever answers may be no node at all
		return a, fmt.Errorf("%w by %s: %s %s", ErrRejected, url, got.Status, said.Detail)
	}
	if err := json.Unmarshal(text, &a); err != nil {
		return a, fmt.Errorf("reading the answer of %s: %w", url, err)
	}
	return a, nil
}
