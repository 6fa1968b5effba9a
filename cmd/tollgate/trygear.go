package main

import (
	"crypto/tls"
	"flag"
	"os"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream/trial"
)

// gearFlags are what only TACACS+ asks.
type gearFlags struct {
	protocol, ask, command, port, remote *string
	level                                *int
	args                                 whole
	secure                               *bool
}

func newGearFlags(f *flag.FlagSet) *gearFlags {
	g := &gearFlags{}
	g.protocol = f.String("protocol", "radius", "radius or tacacs")
	g.ask = f.String("ask", "login", "tacacs: "+strings.Join(trial.GearAsks, ", ")+", or a service such as ppp")
	g.command, g.port, g.remote = f.String("command", "", "tacacs: command to ask about, or to report"),
		f.String("port", "vty0", "tacacs: port on the device"), f.String("remote", "",
			"tacacs: address that the person comes from")
	g.level = f.Int("level", 1, "tacacs: privilege level that enable asks for, or that the person has")
	f.Var(&g.args, "arg", "tacacs: NAME=VALUE or NAME*VALUE of a further argument; repeatable")
	g.secure = f.Bool("secure", false, "tacacs: over TLS 1.3, with -ca, -server-name, -cert and -key")
	return g
}

// tryGear asks one thing over TACACS+.
func (s *invocation) tryGear(server string, t *tryFlags, g *gearFlags, was map[string]bool) error {
	gear := &trial.Gear{Server: server, Secret: *t.secret, Timeout: *t.timeout}
	defer gear.Close()
	if err := t.source(&gear.From); err != nil {
		return err
	}
	signs := *g.ask == "login" || *g.ask == "enable" || *g.ask == "password"
	ask := trial.GearAsk{Ask: *g.ask, User: *t.user, Password: *t.password, New: *t.next, Code: *t.code,
		Level: *g.level, Port: *g.port, Remote: *g.remote, Command: *g.command, Args: g.args}
	if was["method"] {
		ask.Method = *t.method
	}
	if ask.User == "" {
		return usageError("give a name with -user")
	}
	if ask.Ask == "command" && ask.Command == "" {
		return usageError("give the command with -command")
	}
	var err error
	if *g.secure {
		var outfit supplicant.Settings
		if err := t.outfit(&outfit); err != nil {
			return err
		}
		gear.TLS = &tls.Config{RootCAs: outfit.Roots, ServerName: *t.serverName,
			InsecureSkipVerify: outfit.Roots == nil}
		if outfit.Certificate != nil {
			gear.TLS.Certificates = []tls.Certificate{*outfit.Certificate}
		}
	} else if gear.Secret == "" {
		if gear.Secret = os.Getenv("TRY_SECRET"); gear.Secret == "" {
			if gear.Secret, err = s.secret("Shared secret"); err != nil {
				return err
			}
		}
	}
	if signs && !was["password"] {
		if ask.Password, err = s.secret("Password of " + ask.User); err != nil {
			return err
		}
	}
	reply, err := gear.Try(s.ctx, ask)
	if err != nil {
		return err
	}
	err = s.print(reply, func() {
		if *t.rounds {
			s.sayRounds(&results.Reply{Rounds: reply.Rounds})
		}
		s.say("%s  %s after %.1f ms", s.verdict(map[bool]string{true: "admitted", false: "refused"}[reply.Passed]),
			reply.Status, float64(reply.Took)/float64(time.Millisecond))
		for _, row := range [][2]string{{"message", reply.Message}, {"data", reply.Data}} {
			if row[1] != "" {
				s.sayLine(row[0], row[1])
			}
		}
		for _, arg := range reply.Args {
			s.say("  %s", arg)
		}
	})
	if err == nil && !reply.Passed {
		return errFailed
	}
	return err
}

// methodHelp lists the methods that a flag takes.
func methodHelp() string {
	return "how to sign in: " + strings.Join(config.Methods, ", ") + "; over tacacs " + strings.Join(trial.GearMethods,
		", ")
}

const errProtocol = usageError("-protocol takes radius or tacacs")
