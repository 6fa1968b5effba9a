// Package push tells phones whose page is closed that a sign-in waits: by Web Push (RFC 8030), encrypted for the phone
// (RFC 8291) and signed with a key of ours (VAPID, RFC 8292).
package push

import (
	"context"
	"crypto/ecdh"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/mail"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	webpush "github.com/SherClockHolmes/webpush-go"
)

const (
	// patience is how long a push service may take for one message, maxAnswer how much of its answer is read.
	patience  = 10 * time.Second
	maxAnswer = 4 << 10
	// maxWaiting bounds the messages that wait, sending how many are sent at a time.
	maxWaiting = 1000
	sending    = 4
	// maxEndpoint bounds the address that a phone gives, maxMessage a message, in octets.
	maxEndpoint = 1000
	maxMessage  = 2000
)

// Subscription is where a phone takes messages, as its browser gives it.
type Subscription struct {
	Endpoint string `json:"endpoint"`
	P256DH   string `json:"p256dh"`
	Auth     string `json:"auth"`
}

// ErrSubscription is returned for what is no subscription.
var ErrSubscription = errors.New("this is no subscription for messages")

// Check reports what is wrong with a subscription that a phone gave.
func (s *Subscription) Check() error {
	u, err := url.Parse(s.Endpoint)
	if err != nil || u.Scheme != "https" || u.Hostname() == "" || u.User != nil || len(s.Endpoint) > maxEndpoint {
		return fmt.Errorf("%w: its address is no https address", ErrSubscription)
	}
	key, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s.P256DH, "="))
	if err == nil {
		_, err = ecdh.P256().NewPublicKey(key)
	}
	if err != nil {
		return fmt.Errorf("%w: it has no key of P-256", ErrSubscription)
	}
	if auth, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s.Auth, "=")); err != nil || len(auth) != 16 {
		return fmt.Errorf("%w: its secret has not 16 octets", ErrSubscription)
	}
	return nil
}

// Options are how messages are sent.
type Options struct {
	// Contact is whom a push service may write to about us, a mail address.
	Contact string
	// Key is where the key of ours is made from; with another one phones have to subscribe anew.
	Key []byte
	// Private allows push services in private networks and on this machine; without it a phone cannot have us ask
	// those.
	Private bool
	// Roots are authorities beside those of the system, nil for none.
	Roots *x509.CertPool
	// Gone is told of a phone whose subscription ended.
	Gone func(phone string)
	Log  *slog.Logger
}

// Sender sends messages.
type Sender struct {
	o               Options
	private, public string
	client          *http.Client
	queue           chan message
	ctx             context.Context
	cancel          context.CancelFunc
	done            sync.WaitGroup
}

type message struct {
	phone string
	to    Subscription
	text  []byte
	until time.Time
}

// Open begins to send. Close has to be called.
func Open(o Options) (*Sender, error) {
	contact, err := mail.ParseAddress(o.Contact)
	if err != nil {
		return nil, fmt.Errorf("the contact for push services, %q, is no mail address: %w", o.Contact, err)
	}
	o.Contact = contact.Address
	key, err := ecdh.P256().NewPrivateKey(o.Key)
	if err != nil {
		return nil, fmt.Errorf("making the key for push services: %w", err)
	}
	s := &Sender{o: o, private: base64.RawURLEncoding.EncodeToString(key.Bytes()),
		public: base64.RawURLEncoding.EncodeToString(key.PublicKey().Bytes()), queue: make(chan message, maxWaiting)}
	dialer := &net.Dialer{Timeout: patience, Control: func(_, address string, _ syscall.RawConn) error {
		return s.allowed(address)
	}}
	s.client = &http.Client{Timeout: patience, Transport: &http.Transport{DialContext: dialer.DialContext,
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: o.Roots}, TLSHandshakeTimeout: patience,
		MaxIdleConnsPerHost: sending, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true,
		MaxResponseHeaderBytes: 16 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	for range sending {
		s.done.Go(s.work)
	}
	return s, nil
}

// allowed keeps phones from having us reach what is inside.
func (s *Sender) allowed(address string) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if !s.o.Private && (!ip.IsGlobalUnicast() || ip.IsPrivate() || slices.ContainsFunc(elsewhere,
		func(p netip.Prefix) bool { return p.Contains(ip) })) {
		return fmt.Errorf("%s is not on the internet", ip)
	}
	return nil
}

// elsewhere are networks of providers (RFC 6598), of tests between devices (RFC 2544), of protocols (RFC 6890), and
// those whose addresses hold one of IPv4, which may be inside (RFC 4291, 6052, 8215, 3056, 4380).
var elsewhere = []netip.Prefix{netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("192.0.0.0/24"), netip.MustParsePrefix("::/96"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("2001::/32")}

// PublicKey is our key as browsers take it when they subscribe.
func (s *Sender) PublicKey() string { return s.public }

// Send sends a message to a phone, which is no use after a moment. It does not wait, and is dropped where too many do.
func (s *Sender) Send(phone string, to Subscription, text []byte, until time.Time) {
	if len(text) > maxMessage {
		return
	}
	select {
	case s.queue <- message{phone, to, text, until}:
	default:
		s.o.Log.Warn("a message to a phone is dropped, since too many wait for push services")
	}
}

// Close ends what is under way.
func (s *Sender) Close() {
	s.cancel()
	s.done.Wait()
	s.client.CloseIdleConnections()
}

func (s *Sender) work() {
	for {
		select {
		case <-s.ctx.Done():
			return
		case m := <-s.queue:
			if err := s.send(&m); err != nil && s.ctx.Err() == nil {
				s.o.Log.Warn("a message to a phone was not taken", "phone", m.phone, "error", err)
			}
		}
	}
}

func (s *Sender) send(m *message) error {
	left := time.Until(m.until)
	if left < time.Second {
		return nil
	}
	ctx, cancel := context.WithTimeout(s.ctx, patience)
	defer cancel()
	answer, err := webpush.SendNotificationWithContext(ctx, m.text, &webpush.Subscription{Endpoint: m.to.Endpoint,
		Keys: webpush.Keys{P256dh: m.to.P256DH, Auth: m.to.Auth}}, &webpush.Options{HTTPClient: s.client,
		Subscriber: s.o.Contact, TTL: int(left / time.Second), Urgency: webpush.UrgencyHigh, Topic: "sign-in",
		VAPIDPublicKey: s.public, VAPIDPrivateKey: s.private})
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, maxAnswer) // so that the connection can be used again
	switch {
	case answer.StatusCode == http.StatusNotFound, answer.StatusCode == http.StatusGone:
		s.o.Gone(m.phone)
	case answer.StatusCode >= 300:
		return fmt.Errorf("the push service answers %s", answer.Status)
	}
	return nil
}
