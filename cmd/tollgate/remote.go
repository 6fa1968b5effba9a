package main

import (
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

var remotes = kind[apitype.Remote]{
	noun: "remote", path: "/remotes",
	headings: []string{"NAME", "SERVERS", "TRANSPORT", "STATE", "LANES"},
	row: func(r apitype.Remote) []string {
		return []string{r.Name, serversText(r.Servers), r.Transport, remoteState(r), strings.Join(r.UsedBy, ", ")}
	},
	show: func(s *invocation, r apitype.Remote) {
		order := "the first that answers"
		if r.Weighted {
			order = "by weight"
		}
		probes := "never"
		if r.ProbeSeconds != nil && *r.ProbeSeconds > 0 {
			probes = fmt.Sprintf("every %d s", *r.ProbeSeconds)
		}
		accounting := ""
		if r.Accounting {
			accounting = "forwarded, too"
			if r.Transport == config.OverUDP {
				accounting += fmt.Sprintf(", to port %d", r.AccountingPort)
			}
		}
		tls := ""
		if r.Transport != config.OverUDP {
			tls = "as " + r.Certificate
			if r.ServerName != "" {
				tls += ", to " + r.ServerName
			}
		}
		s.fields([2]string{"name", r.Name}, [2]string{"servers", serversText(r.Servers)}, [2]string{"asked", order},
			[2]string{"transport", r.Transport}, [2]string{"TLS", tls},
			[2]string{"tries", fmt.Sprintf("%d of %d ms", r.Tries, r.TimeoutMillis)},
			[2]string{"dead time", fmt.Sprintf("%d s", r.DeadSeconds)}, [2]string{"probed", probes},
			[2]string{"unsigned answers", map[bool]string{true: "accepted"}[r.Unsigned]},
			[2]string{"accounting", accounting}, [2]string{"may grant", grantsText(r.Grants)},
			[2]string{"overriding pass", r.Pass}, [2]string{"lanes", strings.Join(r.UsedBy, ", ")},
			[2]string{"note", r.Note})
		for _, rule := range r.Rules {
			s.fields([2]string{"rule", rule.String()})
		}
		for _, one := range r.Sent {
			s.fields([2]string{one.Records, sentText(one)})
		}
		for _, m := range r.States {
			s.fields([2]string{m.Address, memberText(m)})
		}
	},
}

func serversText(list []config.RemoteServer) string {
	var out []string
	for _, one := range list {
		out = append(out, one.String())
	}
	return strings.Join(out, ", ")
}

// remoteState sums up how the machines of a remote server are doing.
func remoteState(r apitype.Remote) string {
	silent, known := 0, 0
	for _, m := range r.States {
		if m.Silent {
			silent++
		}
		if m.Asked > 0 {
			known++
		}
	}
	switch {
	case silent > 0:
		return fmt.Sprintf("%d of %d silent", silent, len(r.States))
	case known > 0:
		return "answers"
	}
	return ""
}

func memberText(m apitype.RemoteState) string {
	text := "not asked yet"
	switch {
	case m.Silent:
		text = "silent since " + m.Since.Local().Format(time.DateTime) + ": " + m.Fault
	case !m.Heard.IsZero():
		text = fmt.Sprintf("answered at %s, in %.1f ms, %d of %d", m.Heard.Local().Format(time.DateTime),
			float64(m.Micros)/1000, m.Answers,
			m.Asked)
	}
	if m.Version != "" {
		text += ", " + m.Version
	}
	if m.Speaks {
		text += ", answers Status-Server"
	}
	return text
}

// grantsText says what a remote server may grant.
func grantsText(grants []string) string {
	switch {
	case slices.Contains(grants, "*"):
		return "everything"
	case len(grants) == 0:
		return "nothing but time-outs and messages"
	}
	return strings.Join(grants, ", ")
}

// remoteFlags are the flags of add and change.
func remoteFlags(f *flag.FlagSet) func(s *invocation, in *apitype.RemoteInput) error {
	name, note := f.String("name", "", "new name"), f.String("text", "", "note")
	var servers, grants, rules list
	f.Var(&servers, "server", "IP address of a machine, with a port if it is not the usual one and *WEIGHT; "+
		"repeatable, "+
		"in the order to ask them")
	weighted := f.Bool("weighted", false, "share requests out by weight")
	transport := f.String("transport", "udp", "udp, tls or dtls")
	var ca contents
	f.Var(&ca, "ca", "tls: PEM file of the authority of its certificate")
	serverName, certificate := f.String("server-name", "", "tls: name in its certificate, if not the address"),
		f.String("certificate", "", "tls: certificate by which this server proves itself")
	timeout, tries, unsigned := f.Int("timeout", 2000, "time-out of each try, in milliseconds"),
		f.Int("tries", 2, "how often it is asked over UDP"), f.Bool("unsigned", false,
			"accept answers without Message-Authenticator")
	dead, probe := f.Int("dead", 30, "for how many seconds a machine that did not answer is asked last"),
		f.Int("probe", 20, "every how many seconds it is asked by Status-Server whether it is there; 0 for never")
	accounting, port := f.Bool("accounting", false, "send it the accounting of the lanes that forward to it, too"),
		f.Int("accounting-port", 0, "its UDP port for accounting; 0 is 1813")
	f.Var(&grants, "grant", "attribute that it may grant; repeatable, * for all, none for none")
	f.Var(&rules, "rule",
		`change of an attribute, such as "request: add NAS-Identifier = quay", "answer: drop Class", `+
			`"request: rewrite User-Name ~ (.*)@x = $1"; repeatable, none for none`)
	pass := f.String("pass", "", "pass whose attributes override those of its answers")
	typed := f.Bool("secret", false, "read the shared secret from the standard input, or ask for it")
	return func(s *invocation, in *apitype.RemoteInput) (err error) {
		was := given(f)
		assign(was, "name", &in.Name, *name)
		assign(was, "weighted", &in.Weighted, *weighted)
		assign(was, "transport", &in.Transport, *transport)
		assign(was, "server-name", &in.ServerName, *serverName)
		assign(was, "certificate", &in.Certificate, *certificate)
		assign(was, "timeout", &in.TimeoutMillis, *timeout)
		assign(was, "tries", &in.Tries, *tries)
		assign(was, "dead", &in.DeadSeconds, *dead)
		assign(was, "accounting", &in.Accounting, *accounting)
		assign(was, "accounting-port", &in.AccountingPort, *port)
		assign(was, "unsigned", &in.Unsigned, *unsigned)
		assign(was, "text", &in.Note, *note)
		assign(was, "pass", &in.Pass, *pass)
		if was["probe"] {
			in.ProbeSeconds = probe
		}
		if was["grant"] {
			if in.Grants = grants; len(grants) == 1 && grants[0] == "none" {
				in.Grants = []string{}
			}
		}
		if was["server"] {
			if in.Servers, err = readServers(servers); err != nil {
				return err
			}
		}
		if was["rule"] {
			if in.Rules, err = readRules(rules); err != nil {
				return err
			}
		}
		assign(was, "ca", &in.CA, string(ca))
		if !*typed {
			return nil
		}
		in.Secret, err = s.secret("Shared secret")
		return err
	}
}

func readServers(list []string) (out []config.RemoteServer, err error) {
	for _, text := range list {
		one := config.RemoteServer{Weight: 1}
		address, weight, weighted := strings.Cut(text, "*")
		if one.Address = address; weighted {
			if one.Weight, err = strconv.Atoi(weight); err != nil {
				return nil, usageError(fmt.Sprintf("-server %s: the weight is a number", text))
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// readRules reads rules in the form in which they are shown.
func readRules(list []string) ([]config.RemoteRule, error) {
	out := []config.RemoteRule{}
	if len(list) == 1 && list[0] == "none" {
		return out, nil
	}
	for _, text := range list {
		var r config.RemoteRule
		on, rest, there := strings.Cut(text, ":")
		rest, value, _ := strings.Cut(rest, " = ")
		rest, match, _ := strings.Cut(rest, " ~ ")
		words := strings.Fields(rest)
		if !there || len(words) != 2 {
			return nil, usageError(fmt.Sprintf("-rule %q: write for instance \"answer: drop Class\" or \"request: "+
				"rewrite "+
				"User-Name ~ (.*)@x = $1\"", text))
		}
		r.On, r.Do, r.Attribute, r.Match, r.Value = strings.TrimSpace(on), words[0], words[1], match, value
		out = append(out, r)
	}
	return out, nil
}

func remoteCommands() []command {
	label := func(r apitype.Remote) (apitype.Meta, string) { return r.Meta, r.Name }
	return slices.Concat(remotes.commands(), []command{
		{"remote", "add", "NAME", "add a remote server that lanes can forward to",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				fill, p := remoteFlags(f), publishFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					in := apitype.RemoteInput{RemoteFields: apitype.RemoteFields{Name: name}}
					if err := fill(s, &in); err != nil {
						return err
					}
					out, err := add[apitype.Remote](s, "/remotes", p, in)
					if err != nil {
						return err
					}
					return s.objectSaved("remote", "added", out, out.Revision, func() (apitype.Meta, string) {
						return label(out.Object)
					})
				}
			}},
		{"remote", "change", "NAME", "change one in the draft",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				fill, p := remoteFlags(f), publishFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					out, err := change(s, "/remotes", name, p, func(old apitype.Remote) (any, string, error) {
						in := apitype.RemoteInput{RemoteFields: old.RemoteFields}
						err := fill(s, &in)
						return in, old.Tag, err
					})
					if err != nil {
						return err
					}
					return s.objectSaved("remote", "changed", out, out.Revision, func() (apitype.Meta, string) {
						return label(out.Object)
					})
				}
			}},
	})
}
