package main

import (
	"flag"
	"fmt"
	"net/netip"
	"os"
	"time"

	"tollgate.example/key/internal/peer"
)

func tryCommands() []command {
	return []command{{"try", "", "SERVER", "send a real request to a RADIUS server, as a device would", func(f *flag.FlagSet) func(*session, []string) error {
		var attrs attributeFlag
		user, password := f.String("user", "", "name to sign in with"), f.String("password", "", "password; asked for if missing")
		secret := f.String("secret", "", "shared secret (TRY_SECRET); asked for if missing")
		from := f.String("from", "", "local address to send from")
		unsigned := f.Bool("unsigned", false, "leave Message-Authenticator out")
		status := f.Bool("status", false, "only ask whether the server is there (Status-Server)")
		timeout, tries := f.Duration("timeout", 3*time.Second, "time to wait for each try"), f.Int("tries", 2, "how often to send")
		f.Var(&attrs, "attr", "NAME=VALUE of a further attribute; repeatable")
		return func(s *session, args []string) error {
			server, err := one(args, "server, such as 127.0.0.1:1812")
			if err != nil {
				return err
			}
			r := peer.Request{Server: server, Secret: *secret, User: *user, Password: *password, Unsigned: *unsigned, Status: *status, Timeout: *timeout, Tries: *tries}
			if r.User == "" && !r.Status {
				return usageError("give a name with -user, or ask only for the status with -status")
			}
			if *from != "" {
				if r.From, err = netip.ParseAddr(*from); err != nil {
					return usageError(fmt.Sprintf("-from takes an address, not %q", *from))
				}
			}
			for _, a := range attrs {
				r.Attributes = append(r.Attributes, peer.Attribute{Name: a.Name, Value: a.Value})
			}
			return s.try(r, given(f))
		}
	}}}
}

func (s *session) try(r peer.Request, was map[string]bool) error {
	var err error
	if r.Secret == "" {
		r.Secret = os.Getenv("TRY_SECRET")
	}
	if r.Secret == "" {
		if r.Secret, err = s.secret("Shared secret"); err != nil {
			return err
		}
	}
	if !was["password"] && !r.Status {
		if r.Password, err = s.secret("Password of " + r.User); err != nil {
			return err
		}
	}
	reply, err := peer.Send(s.ctx, r)
	if err != nil {
		return err
	}
	err = s.print(reply, func() {
		verdict := "admitted"
		if !reply.Accepted {
			verdict = "refused"
		}
		s.say("%s  %s after %.1f ms, try %d", s.verdict(verdict), reply.Code, float64(reply.Took.Microseconds())/1000, reply.Tries)
		for _, a := range reply.Attributes {
			s.say("  %-26s %s", a.Name, a.Value)
		}
	})
	if err == nil && !reply.Accepted {
		return errFailed
	}
	return err
}
