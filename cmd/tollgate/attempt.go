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

// attemptFlags select attempts.
func attemptFlags(f *flag.FlagSet) func(args []string) url.Values {
	return recentFlags(f, [2]string{"user", "name as looked up; * stands for any characters"},
		[2]string{"mac", "MAC address in any form"}, [2]string{"client", "name of the client"},
		[2]string{"verdict", "admitted or refused"}, [2]string{"reason", "reason code, such as password.wrong"},
		[2]string{"lane", "name of the lane"})
}

// attempt is one attempt in a list.
func (s *invocation) attempt(a apitype.Attempt) {
	result := a.Reason
	switch {
	case a.Verdict == "admitted" && a.Policy == "":
		result = "by a remote server"
		if a.VLAN != "" {
			result += ", " + a.VLAN
		}
	case a.Pass != "":
		result = a.Pass
		if a.VLAN != "" {
			result += ", VLAN " + a.VLAN
		}
	}
	s.say("%s  %s  %-16s  %-12s  %-13s  %-20s  %s", s.paint(faint, a.At.Local().Format("15:04:05")),
		s.verdict(a.Verdict), cut(a.Sent, 16), cut(a.Client, 12), cut(a.Method, 13), cut(result, 20),
		s.paint(faint, short(a.ID)))
}

// idLength is that of an identifier.
const idLength = 13

// short leaves out of an identifier what nearly all have in common: its first digit, and the zeros at its end.
func short(id string) string {
	if len(id) != idLength || id[0] != '0' {
		return id
	}
	return strings.TrimRight(id[1:], "0")
}

// long makes an identifier of what short left of it.
func long(id string) string {
	if len(id) >= idLength || id == "" {
		return id
	}
	return "0" + strings.ToUpper(id) + strings.Repeat("0", idLength-1-len(id))
}

func cut(text string, n int) string {
	if r := []rune(text); len(r) > n {
		return string(r[:n-3]) + "..."
	}
	return text
}

func attemptCommands() []command {
	return []command{
		{"attempt", "list", "[TEXT]", "attempts, the newest first", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			query, limit := attemptFlags(f), f.Int("limit", 20, "how many")
			return func(s *invocation, args []string) error {
				list, err := records[apitype.Attempt](s, "/attempts", query(args), *limit)
				if err != nil {
					return err
				}
				return s.print(list, func() {
					if len(list) == 0 {
						s.say("No matching attempts.")
					}
					for _, a := range list {
						s.attempt(a)
					}
				})
			}
		}},
		{"attempt", "follow", "[TEXT]", "attempts as they arrive, until Ctrl-C",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				query, count := attemptFlags(f), f.Int("count", 0, "stop after this many; 0 for no limit")
				return func(s *invocation, args []string) error { return s.follow(query(args), *count) }
			}},
		{"attempt", "explain", "[ID]", "the trace of one attempt, and why it ended as it did",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				draft := f.Bool("draft", false, "decide again with the draft")
				return func(s *invocation, args []string) error {
					if len(args) > 1 {
						return usageError("give one attempt, or nothing for the newest refused")
					}
					id, err := s.whichAttempt(args)
					if err != nil {
						return err
					}
					path := "/attempts/" + url.PathEscape(id)
					if *draft {
						path += "?under=draft"
					}
					d, err := client.Get[apitype.AttemptDetail](s.ctx, s.api, path)
					if err != nil {
						return err
					}
					return s.print(d, func() { s.road(d) })
				}
			}},
	}
}

// whichAttempt is the one named, or the newest that was refused.
func (s *invocation) whichAttempt(args []string) (string, error) {
	if len(args) == 1 {
		return long(args[0]), nil
	}
	page, err := client.Get[apitype.Page[apitype.Attempt]](s.ctx, s.api, "/attempts?verdict=refused&limit=1")
	if err == nil && len(page.Items) == 0 {
		err = fmt.Errorf("nothing was refused so far; give the ID of an attempt")
	}
	if err != nil {
		return "", err
	}
	return page.Items[0].ID, nil
}

// follow prints attempts until the end, and connects again if the service goes away for a while.
func (s *invocation) follow(q url.Values, count int) error {
	return s.followLive("/attempts-live", "attempt", q, count, func(data []byte) {
		var a apitype.Attempt
		if json.Unmarshal(data, &a) == nil {
			s.attempt(a)
		}
	})
}

// followLive prints the events of a stream of that name.
func (s *invocation) followLive(path, name string, q url.Values, count int, show func(data []byte)) error {
	last, seen := "", 0
	for {
		var options []client.Option
		if last != "" {
			id := last
			options = append(options, func(r *http.Request) { r.Header.Set("Last-Event-ID", id) })
		}
		err := s.api.Stream(s.ctx, http.MethodGet, path+"?"+q.Encode(), nil, func(e client.Event) bool {
			switch e.Name {
			case name:
				last = e.ID
				if s.json {
					s.say("%s", e.Data)
				} else {
					show(e.Data)
				}
				seen++
			case "gap":
				var gap apitype.Gap
				if json.Unmarshal(e.Data, &gap) == nil {
					fmt.Fprintf(s.err, "Some of those recorded from %s to %s were left out, since there were too "+
						"many; list them to see all.\n",
						gap.Since.Local().Format(time.TimeOnly), gap.Until.Local().Format(time.TimeOnly))
				}
			}
			return count == 0 || seen < count
		}, options...)
		if s.ctx.Err() != nil || count > 0 && seen >= count {
			return nil
		}
		if err != nil && last == "" {
			return err // it never worked
		}
		fmt.Fprintln(s.err, "the stream ended; connecting again")
		select {
		case <-s.ctx.Done():
			return nil
		case <-time.After(2 * time.Second):
		}
	}
}

var stateGlyph = map[string]string{"passed": "o", "decided": "X", "not-reached": ".", "not-asked": "."}

// road draws the stations of an attempt, the one that decided opened.
func (s *invocation) road(d apitype.AttemptDetail) {
	t := d.Trace
	where := "on " + or(d.Where, d.Client)
	if d.Facts.Gear != nil {
		where = fmt.Sprintf("asked for %s on %s", d.Where, d.Client)
	}
	s.say("%s  %s %s, %s, %.1f ms, %s", s.verdict(string(t.Verdict)), or(d.Person, d.Sent), where,
		d.At.Local().Format("2006-01-02 15:04:05 MST"), float64(d.Micros)/1000, d.Under)
	s.say("")
	for _, station := range t.Stations {
		glyph, took := stateGlyph[string(station.State)], ""
		if station.Key == "pass" && t.Verdict == "admitted" {
			glyph = "/"
		}
		if station.Micros > 0 {
			took = fmt.Sprintf("%.1f ms", float64(station.Micros)/1000)
		}
		line := fmt.Sprintf("  %s %-14s %-40s %10s", glyph, station.Title, cut(station.Value, 40), took)
		if station.State == "decided" && t.Verdict != "admitted" {
			line = s.paint(bold, line)
		}
		s.say("%s", strings.TrimRight(line, " "))
		if station.State == "decided" && t.Verdict != "admitted" {
			s.open(d, station.Wanted, station.Found)
		}
	}
	if last := t.Stations[len(t.Stations)-1]; t.Verdict == "admitted" && last.Found != "" && d.Facts.Gear != nil {
		s.say("    | %s: %s", last.Wanted, last.Found)
	} else if t.Verdict == "admitted" && last.Found != "" {
		s.say("    | %s, instead of %s", last.Found, last.Wanted)
	}
	s.comparisons(d)
	if len(t.Reply) > 0 {
		s.say("\nReply attributes")
		for _, r := range t.Reply {
			s.say("  %-26s %-28s %s", r.Name, r.Value, s.paint(faint, r.Hex))
		}
	}
}

// open shows the station that decided: what was wanted, what was found, and the remedy.
func (s *invocation) open(d apitype.AttemptDetail, wanted, found string) {
	for _, line := range wrap(fmt.Sprintf("%s (%s)", d.Trace.Sentence, d.Trace.Reason), width-6) {
		s.say("    | %s", s.paint(red, line))
	}
	for _, row := range [][2]string{{"wanted", wanted}, {"found ", or(found, "nothing")}, {"remedy", d.Trace.Remedy}} {
		if row[1] == "" {
			continue
		}
		for i, line := range wrap(row[1], width-16) {
			s.say("    | %-7s %s", map[bool]string{true: row[0], false: ""}[i == 0], line)
		}
	}
}

func (s *invocation) comparisons(d apitype.AttemptDetail) {
	if len(d.Trace.Policies) == 0 {
		return
	}
	s.say("\nPolicies of the lane, what was asked and what was found")
	for _, p := range d.Trace.Policies {
		mark := " "
		if p.Fits {
			mark = "/"
		}
		s.say("  %s %d %s %s", mark, p.Number, p.Name, p.Skipped)
		for _, c := range p.Compared {
			s.say("      %-44s %s", cut(c.Wanted, 44), cut(or(c.Found, "nothing"), 48))
		}
	}
}

func or(texts ...string) string {
	for _, text := range texts {
		if text != "" {
			return text
		}
	}
	return ""
}
