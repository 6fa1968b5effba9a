package lab

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"
)

// Mailbox is a stand-in for the mail server of Lantern Ferries: what it takes lies in a directory, a file each.
type Mailbox struct {
	dir    string
	server *smtp.Server
	count  atomic.Int64
	// Address is where it listens.
	Address string
}

// maxMail bounds a mail, in octets.
const maxMail = 1 << 20

// ServeMail serves a mailbox.
func ServeMail(address, dir string) (*Mailbox, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listening for mail on %s: %w", address, err)
	}
	m := &Mailbox{dir: dir, Address: l.Addr().String()}
	m.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &letter{box: m}, nil }))
	m.server.Domain, m.server.MaxMessageBytes, m.server.MaxRecipients = Domain, maxMail, 10
	m.server.ReadTimeout, m.server.WriteTimeout = 30*time.Second, 30*time.Second
	go m.server.Serve(l) // until Close
	return m, nil
}

// Close ends it.
func (m *Mailbox) Close() { m.server.Close() }

// letter is one mail on its way.
type letter struct {
	box *Mailbox
	to  string
}

func (l *letter) Mail(string, *smtp.MailOptions) error { return nil }

func (l *letter) Rcpt(to string, _ *smtp.RcptOptions) error {
	if name, _, ok := bytes.Cut([]byte(to), []byte("@")); !ok || bytes.ContainsAny(name, "/\\") {
		return &smtp.SMTPError{Code: 553, Message: "no such mailbox"}
	}
	l.to = to
	return nil
}

func (l *letter) Data(r io.Reader) error {
	text, err := io.ReadAll(io.LimitReader(r, maxMail))
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%04d-%s.eml", l.box.count.Add(1), l.to)
	return os.WriteFile(filepath.Join(l.box.dir, name), text, 0o600)
}

func (l *letter) Reset() { l.to = "" }

func (l *letter) Logout() error { return nil }
