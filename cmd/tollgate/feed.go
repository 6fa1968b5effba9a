package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

var feeds = kind[apitype.Feed]{
	noun: "feed", path: "/feeds",
	headings: []string{"NAME", "RECORDS", "TO", "SELECTS", "STATE"},
	row: func(f apitype.Feed) []string {
		return []string{f.Name, strings.Join(f.Records, ", "), feedTarget(f), feedFilter(f), feedState(f)}
	},
	show: func(s *invocation, f apitype.Feed) {
		tls := ""
		if f.To == config.FeedTLS {
			tls = "the authorities of the system"
			if f.CA != "" {
				tls = "an authority of its own"
			}
			if f.ServerName != "" {
				tls += ", name " + f.ServerName
			}
			if f.Certificate != "" {
				tls += ", shown " + f.Certificate
			}
		}
		facility, files := fmt.Sprint(f.Facility), ""
		if f.To == config.FeedFile {
			facility, files = "", fmt.Sprintf("%d of %d MB", f.Keep, f.Megabytes)
		}
		s.fields([2]string{"name", f.Name}, [2]string{"enabled", map[bool]string{true: "yes", false: "no"}[f.Enabled]},
			[2]string{"records", strings.Join(f.Records, ", ")}, [2]string{"to", feedTarget(f)},
			[2]string{"TLS", tls}, [2]string{"facility", facility}, [2]string{"files", files},
			[2]string{"selects", feedFilter(f)}, [2]string{"note", f.Note})
		for _, one := range f.States {
			s.fields([2]string{one.Records, sentText(one)})
		}
	},
}

func feedTarget(f apitype.Feed) string {
	if f.To == config.FeedFile {
		return "file " + f.File + ".jsonl"
	}
	return f.To + " " + f.Address
}

func feedFilter(f apitype.Feed) string {
	var out []string
	for _, part := range [][2]string{{"verdict", f.Verdict}, {"client", f.Client}, {"who", f.Who}, {"lane", f.Lane}} {
		if part[1] != "" {
			out = append(out, part[0]+" "+part[1])
		}
	}
	if len(out) == 0 {
		return "all"
	}
	return strings.Join(out, ", ")
}

// feedState sums up how far a feed has come.
func feedState(f apitype.Feed) string {
	if !f.Enabled {
		return "off"
	}
	if len(f.States) == 0 {
		return "not in effect"
	}
	sent := int64(0)
	for _, one := range f.States {
		if one.Fault != "" {
			return "STUCK since " + one.Since.Local().Format(time.TimeOnly)
		}
		sent += one.Sent
	}
	return fmt.Sprintf("%d sent", sent)
}

func sentText(one apitype.FeedState) string {
	text := fmt.Sprintf("%d sent, %d not selected", one.Sent, one.Passed)
	if one.GivenUp > 0 {
		text += fmt.Sprintf(", %d GIVEN UP", one.GivenUp)
	}
	if !one.At.IsZero() && one.At.Unix() > 0 {
		text += ", up to " + one.At.Local().Format(time.DateTime)
	}
	if one.Behind {
		text += ", and there are more"
	}
	if one.Fault != "" {
		text += "; nothing since " + one.Since.Local().Format(time.DateTime) + ": " + one.Fault
	}
	return text
}

// feedFlags are the flags of add and change.
func feedFlags(f *flag.FlagSet) func(was map[string]bool, old *apitype.Feed, label string) any {
	name, enabled, note := f.String("name", "", "new name"), f.Bool("enabled", true, "send at all"),
		f.String("text", "", "note")
	var records list
	f.Var(&records, "record", "attempts, accounting, journal or audit; repeatable")
	to, address := f.String("to", "", "syslog-tls, syslog-tcp, syslog-udp or file"),
		f.String("address", "", "syslog: host:port of the receiver")
	var ca contents
	f.Var(&ca, "ca", "syslog-tls: PEM file of the authority of its certificate")
	serverName := f.String("server-name", "", "syslog-tls: name in its certificate, if not the host")
	certificate, facility := f.String("certificate", "", "syslog-tls: certificate of ours to show"),
		f.Int("facility", 0, "syslog: facility, 0 to 23; 0 is 10, security")
	file := f.String("file", "", "file: its name in the directory feeds of the data directory")
	megabytes, keep := f.Int("megabytes", 0, "file: size after which another one is begun; 0 is 100"),
		f.Int("keep", 0, "file: how many are kept; 0 is 10")
	verdict, client := f.String("verdict", "", "only admitted or refused"), f.String("client", "",
		"only of these clients; * stands for any characters")
	who, lane := f.String("who", "", "only of these people"), f.String("lane", "", "only of these lanes")
	return func(was map[string]bool, old *apitype.Feed, label string) any {
		in := apitype.FeedFields{Enabled: true, To: config.FeedTLS}
		if old != nil {
			in = old.FeedFields
		}
		in.Name = label
		assign(was, "name", &in.Name, *name)
		assign(was, "enabled", &in.Enabled, *enabled)
		assign(was, "record", &in.Records, []string(records))
		assign(was, "to", &in.To, *to)
		assign(was, "address", &in.Address, *address)
		assign(was, "server-name", &in.ServerName, *serverName)
		assign(was, "certificate", &in.Certificate, *certificate)
		assign(was, "facility", &in.Facility, *facility)
		assign(was, "file", &in.File, *file)
		assign(was, "megabytes", &in.Megabytes, *megabytes)
		assign(was, "keep", &in.Keep, *keep)
		assign(was, "verdict", &in.Verdict, *verdict)
		assign(was, "client", &in.Client, *client)
		assign(was, "who", &in.Who, *who)
		assign(was, "lane", &in.Lane, *lane)
		assign(was, "text", &in.Note, *note)
		assign(was, "ca", &in.CA, string(ca))
		return in
	}
}

func feedCommands() []command {
	return slices.Concat(feeds.commands(), writer("feed", "/feeds", feedFlags, func(f apitype.Feed) (apitype.Meta,
		string) {
		return f.Meta, f.Name
	}), []command{
		{"feed", "test", "NAME", "send one event by a feed, published or not",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					if err := s.api.Do(s.ctx, http.MethodPost, "/feeds/"+url.PathEscape(name)+"/test", nil,
						nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() { s.say("An event was sent by way of %s.", name) })
				}
			}},
	})
}
