package main

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// sessionSettings are the flags of a client about its sessions.
type sessionSettings struct {
	accounting, address, again *string
	overTLS                    *string
	silence                    *time.Duration
	port                       *int
	identify                   list
	typed, remove              *bool
}

func (o *sessionSettings) flags(f *flag.FlagSet) {
	o.accounting = f.String("accounting", "record", "record, or answer to answer its accounting and drop it")
	o.silence = f.Duration("session-silence", 24*time.Hour, "after how long without a word a session counts as over")
	o.address = f.String("change-address", "", "address that takes disconnects and changes (RFC 5176), none for "+
		"where\naccounting comes from")
	o.port = f.Int("change-port", 0, "its port; 0 is 3799, or 2083 over TLS, -1 sends it none")
	o.overTLS = f.String("change-tls", "off", "on sends disconnects and changes over TLS")
	f.Var(&o.identify, "identify", "attribute that names a session to it; repeatable, none for the usual ones")
	o.again = f.String("reauthenticate", config.ByTimeout, "how it authenticates a session again: timeout, or "+
		"disconnect")
	o.typed = f.Bool("change-secret", false, "read the secret for changes from the standard input, or ask for it")
	o.remove = f.Bool("change-secret-remove", false, "use the shared secret for changes")
}

func (o *sessionSettings) apply(s *invocation, was map[string]bool, in *apitype.ClientInput) error {
	to := &in.Sessions
	assign(was, "accounting", &to.Accounting, *o.accounting)
	assign(was, "session-silence", &to.SilenceMinutes, int(o.silence.Minutes()))
	assign(was, "change-address", &to.ChangeAddress, strings.TrimPrefix(*o.address, "none"))
	assign(was, "change-port", &to.ChangePort, *o.port)
	assign(was, "change-tls", &to.ChangeTLS, *o.overTLS == "on")
	assign(was, "reauthenticate", &to.Reauthenticate, *o.again)
	if was["identify"] {
		if to.Identify = o.identify; len(o.identify) == 1 && o.identify[0] == "none" {
			to.Identify = nil
		}
	}
	if in.RemoveChangeSecret = *o.remove; *o.typed {
		secret, err := s.secret("Secret for changes")
		if err != nil {
			return err
		}
		in.ChangeSecret = secret
	}
	return nil
}

// accountingState says in words what becomes of a client's accounting.
func accountingState(c apitype.Client) string {
	if c.Sessions.Accounting == config.AnswerAccounting {
		return "answered and dropped"
	}
	return "recorded; a session counts as over after " + inWords(c.Sessions.Silence()) + " without a word"
}

func inWords(d time.Duration) string {
	if d%time.Hour == 0 {
		return many(int(d.Hours()), "hour")
	}
	return many(int(d.Minutes()), "minute")
}

// changesState says in words where changes are sent.
func changesState(c apitype.Client) string {
	if c.Sessions.ChangePort < 0 {
		return "nowhere: it is sent none"
	}
	where := "the address that accounting comes from"
	if c.Sessions.ChangeAddress != "" {
		where = c.Sessions.ChangeAddress
	}
	port := c.Sessions.ChangePort
	if port == 0 {
		port = 3799
		if c.Sessions.ChangeTLS {
			port = 2083
		}
	}
	text := fmt.Sprintf("%s, port %d", where, port)
	if c.Sessions.ChangeTLS {
		return text + ", over TLS"
	}
	if c.ChangeSecretSet {
		text += ", with a secret of its own"
	}
	return text
}
