// Package mail sends mail to people by SMTP (RFC 5321), over TLS other than on this machine.
package mail

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/netip"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Sender sends mail through one server.
type Sender struct {
	host    string
	port    int
	from    string
	domain  string // of the sender
	options []gomail.Option
}

// Message is one mail of plain text.
type Message struct{ To, Subject, Text string }

// patience is how long a server may take for one step.
const patience = 15 * time.Second

// Open reads the address of a server, smtp://[user@]host[:port] or smtps:// for TLS from the first octet, and of the
// sender. smtp goes over STARTTLS (RFC 3207), but on loopback it may go without. The file holds the password of the
// user. An empty address gives nil: no mail is sent.
func Open(address, from, passwordFile string) (*Sender, error) {
	if address == "" {
		return nil, nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Scheme != "smtp" && u.Scheme != "smtps" || u.Path != "" {
		return nil, fmt.Errorf(
			"the address of the mail server is smtp://HOST:PORT or smtps://HOST:PORT, not %q",
			address,
		)
	}
	sender, err := mail.ParseAddress(from)
	if err != nil {
		return nil, fmt.Errorf("the sender of mail, %q, is no address: %w", from, err)
	}
	_, domain, _ := strings.Cut(sender.Address, "@") // there is one, or it would be no address
	s := &Sender{host: u.Hostname(), port: 587, from: sender.String(), domain: domain}
	secure := gomail.TLSMandatory
	if ip, err := netip.ParseAddr(s.host); err == nil && ip.IsLoopback() || s.host == "localhost" {
		secure = gomail.TLSOpportunistic
	}
	s.options = []gomail.Option{gomail.WithTimeout(patience), gomail.WithTLSPolicy(secure)}
	if u.Scheme == "smtps" {
		s.port = 465
		s.options = append(s.options, gomail.WithSSL())
	}
	if port := u.Port(); port != "" {
		if s.port, err = strconv.Atoi(port); err != nil {
			return nil, fmt.Errorf("the port of the mail server, %q, is no number", port)
		}
	}
	s.options = append(s.options, gomail.WithPort(s.port))
	if user := u.User.Username(); user != "" {
		text, err := os.ReadFile(passwordFile)
		if err != nil {
			return nil, fmt.Errorf("reading the password for the mail server: %w", err)
		}
		s.options = append(s.options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(user),
			gomail.WithPassword(strings.TrimSpace(string(text))))
	}
	return s, nil
}

// Server is where mail is sent, for messages.
func (s *Sender) Server() string { return net.JoinHostPort(s.host, strconv.Itoa(s.port)) }

// Send sends messages over one connection. It returns what became of each, nil where the server took it.
func (s *Sender) Send(ctx context.Context, list []Message) []error {
	out := make([]error, len(list))
	all := func(err error) []error {
		for i := range out {
			if out[i] == nil {
				out[i] = err
			}
		}
		return out
	}
	client, err := gomail.NewClient(s.host, s.options...)
	if err != nil {
		return all(err)
	}
	if err := client.DialWithContext(ctx); err != nil {
		return all(fmt.Errorf("reaching the mail server %s: %w", s.Server(), err))
	}
	defer client.Close()
	for i, m := range list {
		if err := ctx.Err(); err != nil {
			out[i] = err
			continue
		}
		made := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
		made.Subject(m.Subject)
		made.SetDate()
		made.SetMessageIDWithValue(rand.Text() + "@" + s.domain)
		made.SetBodyString(gomail.TypeTextPlain, m.Text)
		if out[i] = errors.Join(made.From(s.from), made.To(m.To)); out[i] != nil {
			continue
		}
		if err := client.Send(made); err != nil {
			out[i] = fmt.Errorf("the mail server %s did not take it: %w", s.Server(), err)
		}
	}
	return out
}
