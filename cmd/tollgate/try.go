package main

import (
	"crypto/tls"
	"crypto/x509"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream/trial"
)

// tryFlags are how a device that signs in is set up.
type tryFlags struct {
	attrs                                        attributeFlag
	user, password, secret, from, method, bypass *string
	next, code, factor                           *string
	outer, ca, serverName, cert, key, version    *string
	machine, machineCert, machineKey             *string
	unsigned, status, resume, rounds             *bool
	timeout                                      *time.Duration
	tries                                        *int
}

func newTryFlags(f *flag.FlagSet) *tryFlags {
	t := &tryFlags{}
	t.user, t.password = f.String("user", "", "name to sign in with, or the MAC address with -method mac"),
		f.String("password", "", "password; asked for if missing")
	t.code = f.String(
		"code",
		"",
		"one-time code: appended to the password in PAP, entered when asked for in TACACS+",
	)
	t.factor = f.String("factor", "", "answer to a question for the second factor (Access-Challenge), or phone to\n"+
		"press Enter and wait for an approval there")
	t.next = f.String("new-password", "", "what an expired password is changed to, by MS-CHAPv2 in EAP")
	t.secret = f.String("secret", "", "shared secret (TRY_SECRET); asked for if missing")
	t.from = f.String("from", "", "local address to send from")
	t.method = f.String("method", "pap", methodHelp())
	t.bypass = f.String("bypass", "pap", "with -method mac, how the address is sent: pap, chap or eap-md5")
	t.outer = f.String("outer", "", "name shown outside the tunnel")
	t.ca, t.serverName = f.String("ca", "", "PEM file of the authority that the device trusts; without it any "+
		"certificate will do"), f.String("server-name", "", "name that the server certificate must carry")
	t.cert, t.key = f.String("cert", "", "client certificate, PEM file"),
		f.String("key", "", "its private key, PEM file")
	t.machine, t.machineCert, t.machineKey = f.String("machine", "", "TEAP: name of the computer, host/NAME"),
		f.String("machine-cert", "", "TEAP: its certificate, PEM file"), f.String("machine-key", "",
			"TEAP: its key, PEM file")
	t.version = f.String("tls", "", "the only version of TLS the device speaks: 1.0, 1.1, 1.2 or 1.3")
	t.resume = f.Bool("resume", false, "sign in twice, the second time with the ticket of the first")
	t.rounds = f.Bool("rounds", false, "show every round of the conversation")
	t.unsigned = f.Bool("unsigned", false, "do not send Message-Authenticator")
	t.status = f.Bool("status", false, "only check that the server answers (Status-Server)")
	t.timeout, t.tries = f.Duration("timeout", 3*time.Second, "time to wait for each try"),
		f.Int("tries", 2, "how often to send")
	f.Var(&t.attrs, "attr", "NAME=VALUE of a further attribute; repeatable")
	return t
}

func tryCommands() []command {
	return []command{{"try", "", "SERVER", "send a real request by RADIUS or TACACS+, as a device would",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			t, g := newTryFlags(f), newGearFlags(f)
			return func(s *invocation, args []string) error {
				server, err := one(args, "server, such as 127.0.0.1:1812")
				if err != nil {
					return err
				}
				switch *g.protocol {
				case "tacacs":
					return s.tryGear(server, t, g, given(f))
				case "radius":
				default:
					return errProtocol
				}
				r, err := t.request(server)
				if err != nil {
					return err
				}
				return s.try(r, t, given(f))
			}
		}}}
}

func (t *tryFlags) request(server string) (trial.Request, error) {
	r := trial.Request{Server: server, Secret: *t.secret, Method: *t.method, Bypass: *t.bypass, User: *t.user,
		Password: *t.password + *t.code, Code: *t.factor, Unsigned: *t.unsigned,
		Status: *t.status, Timeout: *t.timeout, Tries: *t.tries}
	if r.Code == "phone" {
		r.Code, r.Phone, r.Timeout, r.Tries = "", true, max(r.Timeout, phonePatience), 1
		r.Told = func(message string) { fmt.Fprintln(os.Stderr, message) }
	}
	if r.User == "" && !r.Status {
		return r, usageError("give a name with -user, or ask only for the status with -status")
	}
	if !slices.Contains(config.Methods, r.Method) {
		return r, usageError(fmt.Sprintf("-method takes one of %s, not %q", strings.Join(config.Methods, ", "),
			r.Method))
	}
	if err := t.source(&r.From); err != nil {
		return r, err
	}
	for _, a := range t.attrs {
		r.Attributes = append(r.Attributes, results.Attribute{Name: a.Name, Value: a.Value})
	}
	return r, t.outfit(&r.Supplicant)
}

// phonePatience is how long a request may wait for an approval.
const phonePatience = 110 * time.Second

// source reads the address to send from.
func (t *tryFlags) source(to *netip.Addr) error {
	if *t.from == "" {
		return nil
	}
	addr, err := netip.ParseAddr(*t.from)
	if err != nil {
		return usageError(fmt.Sprintf("-from takes an address, not %q", *t.from))
	}
	*to = addr
	return nil
}

// outfit sets the device up from files.
func (t *tryFlags) outfit(to *supplicant.Settings) error {
	to.Outer, to.ServerName, to.Binding, to.MachineIdentity = *t.outer, *t.serverName, true, *t.machine
	to.NewPassword = *t.next
	if *t.ca != "" {
		text, err := os.ReadFile(*t.ca)
		if err != nil {
			return err
		}
		if to.Roots = x509.NewCertPool(); !to.Roots.AppendCertsFromPEM(text) {
			return fmt.Errorf("%s holds no certificate in PEM form", *t.ca)
		}
	}
	for _, pair := range []struct {
		cert, key string
		to        **tls.Certificate
	}{{*t.cert, *t.key, &to.Certificate}, {*t.machineCert, *t.machineKey, &to.Machine}} {
		if pair.cert == "" {
			continue
		}
		made, err := tls.LoadX509KeyPair(pair.cert, pair.key)
		if err != nil {
			return fmt.Errorf("reading %s and its key: %w", pair.cert, err)
		}
		*pair.to = &made
	}
	version, known := supplicant.Versions[*t.version]
	if !known {
		return usageError("-tls takes 1.0, 1.1, 1.2 or 1.3")
	}
	to.MinTLS, to.MaxTLS = version, version
	return nil
}

func (s *invocation) try(r trial.Request, t *tryFlags, was map[string]bool) error {
	var err error
	if r.Secret == "" {
		r.Secret = os.Getenv("TRY_SECRET")
	}
	if r.Secret == "" {
		if r.Secret, err = s.secret("Shared secret"); err != nil {
			return err
		}
	}
	m := config.FindMethod(r.Method)
	if !was["password"] && !r.Status && m.Needs != config.NeedsCertificate && m.Needs != config.NeedsAddress {
		if r.Password, err = s.secret("Password of " + r.User); err != nil {
			return err
		}
	}
	times := 1
	if *t.resume {
		r.Supplicant.Sessions, times = tls.NewLRUClientSessionCache(4), 2
	}
	var replies []results.Reply
	for range times {
		reply, err := trial.Send(s.ctx, r)
		if err != nil {
			if *t.rounds || reply.Fault != "" {
				s.sayRounds(&reply)
			}
			return err
		}
		replies = append(replies, reply)
	}
	last := replies[len(replies)-1]
	var out any = replies
	if times == 1 {
		out = last
	}
	err = s.print(out, func() {
		for i := range replies {
			s.sayReply(&replies[i], *t.rounds)
		}
	})
	if err == nil && !last.Accepted {
		return errFailed
	}
	return err
}

func (s *invocation) sayRounds(reply *results.Reply) {
	for _, round := range reply.Rounds {
		arrow := map[string]string{"peer": "->", "server": "<-"}[round.From]
		for i, line := range wrap(round.Text, width-18) {
			if i == 0 {
				s.say("  %7.1f ms  %s  %s", float64(round.Micros)/1000, arrow, line)
			} else {
				s.say("%18s%s", "", line)
			}
		}
	}
}

func (s *invocation) sayReply(reply *results.Reply, rounds bool) {
	if rounds {
		s.sayRounds(reply)
	}
	verdict := "admitted"
	if !reply.Accepted {
		verdict = "refused"
	}
	if reply.Code == "Access-Challenge" {
		verdict = "asked"
	}
	packets := "1 packet"
	if reply.Packets != 1 {
		packets = fmt.Sprintf("%d packets", reply.Packets)
	}
	s.say(
		"%s  %s after %.1f ms, %s, try %d",
		s.verdict(verdict),
		reply.Code,
		float64(reply.Took.Microseconds())/1000,
		packets,
		reply.Tries,
	)
	if tunnel := reply.TLS; tunnel != nil && tunnel.Version != "" {
		resumed := "full handshake"
		if tunnel.Resumed {
			resumed = "resumed"
		}
		s.say("  %-26s %s, %s, %s", "tunnel", tunnel.Version, tunnel.Suite, resumed)
	}
	if reply.TLS != nil && len(reply.TLS.Chain) > 0 {
		s.sayLine("server certificate", reply.TLS.Chain[0])
	}
	if reply.Keys != "" {
		s.say("  %-26s %s", "session keys", map[string]string{"match": "the same on both sides",
			"differ": "DIFFER from our own"}[reply.Keys])
	}
	if reply.Fault != "" {
		s.sayLine("the device stopped", reply.Fault)
	}
	for _, a := range reply.Attributes {
		s.say("  %-26s %s", a.Name, a.Value)
	}
}

// sayLine prints a value that may need more than one line.
func (s *invocation) sayLine(label, value string) {
	for _, line := range wrap(value, width-29) {
		s.say("  %-26s %s", label, line)
		label = ""
	}
}
