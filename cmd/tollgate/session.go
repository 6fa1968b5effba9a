package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// sessionFlags select sessions.
func sessionFlags(f *flag.FlagSet) func(args []string) url.Values {
	selected := selectFlags(f, [2]string{"user", "name; * stands for any characters"},
		[2]string{"mac", "MAC address in any form"}, [2]string{"client", "name of the client"},
		[2]string{"pass", "pass that was given, of open ones"},
		[2]string{"address", "IP address of the device, of open ones"})
	ended := f.Bool("ended", false, "sessions that ended")
	return func(args []string) url.Values {
		q := selected(args)
		if *ended {
			q.Set("state", "ended")
		}
		return q
	}
}

// inSession is how long a session has lasted, or lasted.
func inSession(v *apitype.Session) string {
	length := time.Duration(v.Seconds) * time.Second
	if v.Open {
		length = max(length, time.Since(v.Began))
	}
	switch {
	case length < 2*time.Minute:
		return fmt.Sprintf("%d s", int(length.Seconds()))
	case length >= 48*time.Hour:
		return fmt.Sprintf("%d d", int(length.Hours()/24))
	case length >= time.Hour:
		return fmt.Sprintf("%d h %02d", int(length.Hours()), int(length.Minutes())%60)
	}
	return fmt.Sprintf("%d min", int(length.Minutes()))
}

// octets writes an amount of data.
func octets(n int64) string {
	for _, unit := range []struct {
		of   int64
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if n >= unit.of {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(unit.of), unit.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}

// vlans is the VLAN that was given, and the one that is applied if it is another.
func vlans(v *apitype.Session) string {
	if v.Applied != "" && v.Applied != v.VLAN {
		return v.VLAN + " -> " + v.Applied
	}
	return v.VLAN
}

func sessionCommands() []command {
	return append([]command{
		{"session", "list", "[TEXT]", "sessions, those that began last first",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				query, limit := sessionFlags(f), f.Int("limit", 20, "how many")
				return func(s *invocation, args []string) error {
					list, err := records[apitype.Session](s, "/sessions", query(args), *limit)
					if err != nil {
						return err
					}
					return s.print(list, func() { s.sessionTable(list) })
				}
			}},
		{"session", "show", "ID", "one session with its story", func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				id, err := one(args, "session")
				if err != nil {
					return err
				}
				d, err := client.Get[apitype.SessionDetail](s.ctx, s.api, "/sessions/"+url.PathEscape(id))
				if err != nil {
					return err
				}
				return s.print(d, func() { s.sessionStory(&d) })
			}
		}},
		{"session", "follow", "[TEXT]", "what clients report, as it arrives, until Ctrl-C",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				query, count := sessionFlags(f), f.Int("count", 0, "stop after this many; 0 for no limit")
				return func(s *invocation, args []string) error {
					q := query(args)
					q.Del("state")
					return s.followLive("/sessions-live", "record", q, *count, func(data []byte) {
						var r apitype.SessionRecord
						if json.Unmarshal(data, &r) == nil {
							s.say("%s  %-13s  %-20s  %-14s  %-15s  %s", s.paint(faint,
								r.Event.At.Local().Format("15:04:05")), cut(r.Session.ID, 13), cut(r.Session.User, 20),
								cut(r.Session.Client, 14), cut(r.Session.Address, 15), cut(r.Event.Kind, 10))
						}
					})
				}
			}},
		exportCommand("session", "write sessions to a file, the newest first", "/sessions-export", sessionFlags),
		{"session", "differing", "", "open sessions whose people would now get something else",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				lane, limit := f.String("lane", "", "only of this lane"), f.Int("limit", 500, "how many to look at")
				return func(s *invocation, _ []string) error {
					d, err := client.Get[apitype.DifferingSessions](s.ctx, s.api,
						fmt.Sprintf("/sessions-differing?limit=%d&lane=%s",
							*limit, url.QueryEscape(*lane)))
					if err != nil {
						return err
					}
					return s.print(d, func() {
						for _, one := range d.Items {
							s.say("%s  %-20s  %-14s  %s", one.Session.ID, cut(one.Session.User, 20),
								cut(one.Session.Client, 14),
								one.Why)
						}
						s.say("%d of %s would change.", len(d.Items), many(d.Looked, "session"))
						s.unasked(d.Missing)
					})
				}
			}},
	}, askCommand("disconnect", "disconnect", "end sessions: the device is disconnected"),
		askCommand("reauth", "reauthenticate", "have devices authenticate again"),
		askCommand("change", "change", "give open sessions another pass"))
}

// askCommand asks the client of one session, or of those that flags select.
func askCommand(verb, action, help string) command {
	return command{"session", verb, "[ID]", help, func(f *flag.FlagSet) func(*invocation, []string) error {
		in := apitype.SessionsAsk{SessionAsk: apitype.SessionAsk{Action: action}}
		f.StringVar(&in.User, "user", "", "all sessions of a person; * stands for any characters")
		f.StringVar(&in.MAC, "mac", "", "all sessions of a device")
		f.StringVar(&in.Client, "client", "", "all sessions of a client")
		f.StringVar(&in.OfPass, "of-pass", "", "all sessions with a pass")
		f.BoolVar(&in.Preview, "preview", false, "say how many, and ask nobody")
		if action == "change" {
			f.StringVar(&in.Pass, "to", "", "pass to change to (required)")
		}
		return func(s *invocation, args []string) error {
			selected := in.User != "" || in.MAC != "" || in.Client != "" || in.OfPass != ""
			switch {
			case action == "change" && in.Pass == "":
				return usageError("name the pass with -to")
			case len(args) > 1 || (len(args) == 1) == selected:
				return usageError("give one session, or select some with -user, -mac, -client or -of-pass")
			case len(args) == 1:
				var a apitype.SessionAnswer
				if err := s.api.Do(s.ctx, http.MethodPost, "/sessions/"+url.PathEscape(args[0])+"/ask", in.SessionAsk,
					&a); err != nil {
					return err
				}
				return s.answered(apitype.SessionsAnswer{Count: 1, Done: map[bool]int{true: 1}[a.Done],
					Answers: []apitype.SessionAnswer{a}}, false)
			}
			var out apitype.SessionsAnswer
			if err := s.api.Do(s.ctx, http.MethodPost, "/sessions-ask", in, &out); err != nil {
				return err
			}
			return s.answered(out, in.Preview)
		}
	}}
}

// answered prints what clients answered. That one was not done is a failure.
func (s *invocation) answered(out apitype.SessionsAnswer, preview bool) error {
	err := s.print(out, func() {
		if preview {
			s.say("%s would be asked for.", many(out.Count, "session"))
			s.unasked(out.Missing)
			return
		}
		for _, a := range out.Answers {
			word := s.paint(green, "done")
			if !a.Done {
				word = s.paint(red, "not done")
			}
			s.say("%s  %s on %s: %s, %s", a.ID, a.User, a.Client, word, a.Answer)
		}
		if out.Count != 1 {
			s.say("%d of %s done.", out.Done, many(out.Count, "session"))
		}
		s.unasked(out.Missing)
	})
	if err == nil && !preview && (out.Done < out.Count || len(out.Missing) > 0) {
		return errFailed
	}
	return err
}

// unasked names nodes whose sessions are left out.
func (s *invocation) unasked(nodes []string) {
	if len(nodes) > 0 {
		s.say("%s", s.paint(red, "Sessions of "+strings.Join(nodes, " and ")+" are left out: no answer."))
	}
}

func (s *invocation) sessionTable(list []apitype.Session) {
	if len(list) == 0 {
		s.say("No matching sessions. Clients report them where accounting is set up on them.")
		return
	}
	rows := make([][]string, len(list))
	for i := range list {
		v := &list[i]
		last := inSession(v)
		if v.Cause != "" {
			last += ", " + v.Cause
		}
		rows[i] = []string{v.ID, cut(v.User, 18), cut(v.Client, 12), cut(v.Place, 10), v.Address, cut(v.Pass, 10),
			vlans(v), cut(last, 22)}
	}
	s.table([]string{"ID", "USER", "CLIENT", "PLACE", "ADDRESS", "PASS", "VLAN", "LASTS"}, rows)
}

func (s *invocation) sessionStory(d *apitype.SessionDetail) {
	state := "ended"
	if d.Open {
		state = "open"
	}
	s.fields([2]string{"session", d.ID + ", " + state}, [2]string{"who", d.User}, [2]string{"person", d.Person},
		[2]string{"MAC address", d.MAC}, [2]string{"address", d.Address}, [2]string{"client", d.Client},
		[2]string{"calls itself", d.NAS}, [2]string{"place", d.Place}, [2]string{"lane", d.Lane},
		[2]string{"pass", d.Pass}, [2]string{"VLAN given", d.VLAN}, [2]string{"VLAN applied", d.Applied},
		[2]string{"since", d.Began.Local().Format("2006-01-02 15:04:05 MST")},
		[2]string{"lasts", inSession(&d.Session)},
		[2]string{"from the device", octets(d.In)}, [2]string{"to the device", octets(d.Out)},
		[2]string{"ended by", d.Cause}, [2]string{"note", d.Note}, [2]string{"Acct-Session-Id", d.Session.Session})
	s.say("")
	if d.Attempt != nil {
		s.say("%s  admitted by %s, attempt %s", s.paint(faint, d.Attempt.At.Local().Format("2006-01-02 15:04:05")),
			d.Attempt.Policy, d.Attempt.ID)
	}
	for _, e := range d.Story {
		text := e.Text
		if e.Kind == "interim" || e.Kind == "stop" {
			text += fmt.Sprintf(" (%s in, %s out)", octets(e.In), octets(e.Out))
		}
		if e.Note != "" {
			text += "; " + e.Note
		}
		for i, line := range wrap(text, width-22) {
			at := strings.Repeat(" ", 19)
			if i == 0 {
				at = s.paint(faint, e.At.Local().Format("2006-01-02 15:04:05"))
			}
			s.say("%s  %s", at, line)
		}
	}
}
