package api

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/web/apitype"
)

// sayWho says who is at an address.
func sayWho(a *apitype.PresenceAnswer) string {
	switch {
	case a.Here != nil:
		text := fmt.Sprintf("%s is at %s", cmp.Or(a.Here.Display, a.Here.Who), a.Address)
		if a.Here.Ports != "" {
			text += " with the ports " + a.Here.Ports
		}
		return text + ": " + a.Here.Source + " says so since " + a.Here.Since.UTC().Format("15:04:05") + " UTC"
	case a.LeftOut != "":
		return a.Address + " is left out: " + a.LeftOut
	case len(a.Standings) > 0:
		return "nobody is at " + a.Address + ": " + a.Standings[0].Who + " was, and " + a.Standings[0].Says
	case a.Lease != nil && !a.Lease.Over:
		return "nobody is known at " + a.Address + ", which the device " + a.Lease.MAC + " has"
	}
	return "nothing is known of " + a.Address
}

func standing(s *core.Standing) apitype.Standing {
	return apitype.Standing{Presence: viewOf(&s.Entry), Outcome: string(s.Outcome), Says: sayOutcome(s),
		Counts: s.Outcome.Counts(), Last: s.Last}
}

// sayOutcome says what became of a claim.
func sayOutcome(s *core.Standing) string {
	switch s.Outcome {
	case core.Holds:
		if s.Leased {
			return "counts: its device was given the address"
		}
		return "counts"
	case core.Agrees:
		return "agrees with " + s.BySource
	case core.Outranked:
		return fmt.Sprintf("lost to %s: %s is trusted more", s.By, s.BySource)
	case core.Earlier:
		return fmt.Sprintf("lost to %s, who signed in later by %s", s.By, s.BySource)
	case core.HandedOn:
		return "is over: the address was given to another device"
	case core.GivenBack:
		return "is over: its device gave the address back"
	case core.LeftElsewhere:
		return "is over: a more trusted source says that the person left"
	case core.Ended:
		return "is over: the person left"
	}
	return "is over: nothing was heard any more"
}

const (
	// shownConflicts bounds the conflicts that are shown. A subscriber that was told nothing for contactAfter is
	// silent; one that is more than muchBehind changes behind does not keep up.
	shownConflicts = 50
	contactAfter   = 15 * time.Second
	muchBehind     = 1000
)

func (s *server) presenceState() apitype.PresenceState {
	now := time.Now()
	out := apitype.PresenceState{Total: s.Presence.Len(), Complete: s.Presence.Complete(),
		Sources: []apitype.SourceState{}, Subscribers: []apitype.SubscriberState{}, Rules: []apitype.RuleCount{},
		Strangers: []apitype.ReportStranger{}, Conflicts: []apitype.Standing{}, Warnings: s.Presence.Warnings()}
	for _, one := range s.Presence.SourcesEverywhere() {
		out.Sources = append(out.Sources, sourceState(&one, now))
	}
	for _, f := range s.Presence.FollowersEverywhere() {
		out.Subscribers = append(out.Subscribers, subscriberState(&f, now))
	}
	rules, _ := s.Presence.Dropped()
	for _, rule := range slices.Sorted(maps.Keys(rules)) {
		out.Rules = append(out.Rules, apitype.RuleCount{Rule: rule, Count: rules[rule]})
	}
	for _, one := range s.Presence.StrangersEverywhere() {
		out.Strangers = append(out.Strangers, apitype.ReportStranger{Way: one.Way, Address: one.From.String(),
			Last: one.Last, Count: one.Count, Node: one.Node})
	}
	for _, c := range s.Presence.Conflicts(shownConflicts) {
		out.Conflicts = append(out.Conflicts, standing(&c))
	}
	return out
}

func sourceState(one *presence.State, now time.Time) apitype.SourceState {
	out := apitype.SourceState{ID: one.ID, Name: one.Name, Way: one.Way, Enabled: one.Enabled, Trust: one.Trust,
		Minutes: one.Minutes, Taken: one.Taken, LeftOut: one.LeftOut, Refused: one.Refused, Unread: one.Unread,
		Node: one.Node}
	if !one.Seen.IsZero() {
		out.Seen = &one.Seen
	}
	switch {
	case !one.Enabled:
		out.State, out.Says = "off", "switched off"
	case one.Fault != "" && !one.FaultAt.Before(one.Seen):
		out.State, out.Says = "refused", one.Fault
	case one.Seen.IsZero():
		out.State, out.Says = "never", "nothing reported yet"
	case one.Silent(now):
		out.State, out.Says = "silent", "silent since "+one.Seen.UTC().Format("15:04:05")+" UTC"
	case len(one.Lost) > 0:
		out.State, out.Says = "silent", lostHosts(one.Lost)
	case one.Way == config.SourceHosts:
		out.State, out.Says = "reports", count(one.Hosts, "host reports", "hosts report")
	default:
		out.State, out.Says = "reports", "reports"
		if one.Taken == 0 && one.Unread > 0 {
			out.State, out.Says = "refused", "no form of line fits what it sends"
		}
	}
	return out
}

// namedHosts is how many hosts that went silent are named.
const namedHosts = 3

// lostHosts says which hosts went silent with people signed in, the latest first.
func lostHosts(list []presence.Lost) string {
	var names []string
	for _, one := range list[:min(len(list), namedHosts)] {
		names = append(names, fmt.Sprintf("%s (%s) since %s UTC", cmp.Or(one.Name, "a host"), one.Address,
			one.Since.UTC().Format("15:04:05")))
	}
	text := count(len(list), "host", "hosts") + " went silent with people signed in: " + strings.Join(names, ", ")
	if more := len(list) - len(names); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func subscriberState(f *presence.Follower, now time.Time) apitype.SubscriberState {
	out := apitype.SubscriberState{ID: f.ID, Name: f.Name, From: f.From, Told: f.Told, Behind: f.Behind, Node: f.Node}
	for to, at := range map[**time.Time]time.Time{&out.Since: f.Connected, &out.Contact: f.Contact,
		&out.Snapshot: f.Snapshot} {
		if !at.IsZero() {
			*to = &at
		}
	}
	switch {
	case !f.Enabled:
		out.State, out.Says = "off", "switched off"
	case f.Fault != "":
		out.State, out.Says = "silent", f.Fault
	case f.Contact.IsZero():
		out.State, out.Says = "never", "not seen since the service started"
	case now.Sub(f.Contact) > contactAfter:
		out.State, out.Says = "silent", "silent for "+now.Sub(f.Contact).Round(time.Second).String()+
			": what it knows may be stale"
	case f.Behind > muchBehind:
		out.State, out.Says = "behind", fmt.Sprintf("%d changes behind", f.Behind)
	default:
		out.State, out.Says = "live", "live"
	}
	return out
}

// checkReaders tries forms of lines.
func checkReaders(in *apitype.ReadersInput) (*body[apitype.Page[apitype.ReadLine]], error) {
	var readers []*core.Reader
	for i, r := range in.Readers {
		reader, err := core.CompileReader(r.Pattern, core.Kind(r.Means))
		if err != nil {
			return nil, faulty(fmt.Sprintf("readers[%d].pattern", i), err.Error(),
				"Write the line with {who}, {address}, {mac}, {host}, {ports} and {} in the place of what changes.")
		}
		readers = append(readers, reader)
	}
	out := apitype.Page[apitype.ReadLine]{Items: []apitype.ReadLine{}}
	for _, line := range in.Lines {
		one := apitype.ReadLine{Line: line, Fields: map[string]string{}}
		for i, r := range readers {
			found, fits, err := r.Read(line)
			if !fits {
				continue
			}
			one.Reader, one.Means = i+1, string(found.Kind)
			if err != nil {
				one.Fault = err.Error()
				break
			}
			for field, value := range map[string]string{"who": found.Who, "mac": found.MAC.String(),
				"host": found.Host, "ports": found.Ports.String()} {
				if value != "" {
					one.Fields[field] = value
				}
			}
			if found.Address.IsValid() {
				one.Fields["address"] = found.Address.String()
			}
			break
		}
		out.Items = append(out.Items, one)
	}
	return ok(out), nil
}

// seekPresence finds who is at an address, and where people are.
func (s *server) seekPresence(h *hits) {
	h.kind()
	list := s.Presence.Named(h.query, everything)
	if address, err := netip.ParseAddr(h.query); err == nil {
		list = s.Presence.Here(address)
	}
	for i := range list {
		e := &list[i]
		page := "/presence/who?address=" + url.QueryEscape(e.Address.String())
		if !e.Ports.All() {
			page += fmt.Sprintf("&port=%d", e.Ports.First)
		}
		h.add(func() apitype.Answer {
			return apitype.Answer{Kind: "presence", Name: cmp.Or(e.Display, e.Who), Page: page,
				Note: "at " + e.Address.String()}
		}, e.Address.String(), e.Who, e.Display)
	}
}
