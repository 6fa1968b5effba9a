package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

// presenceCalls registers who is where.
func (s *server) presenceCalls() {
	s.presenceKinds()
	s.deviceKinds()
	huma.Register(
		s.api,
		operation("GET", "/presence", "list-presence", "Who is at which address now"),
		s.listPresence,
	)
	huma.Register(s.api, operation("GET", "/presence/who", "get-presence",
		"Who is at an address and port, now or at a past moment, and why"), s.whoIsThere)
	huma.Register(s.api, operation("GET", "/presence/people/{name}", "get-presence-person",
		"Where one person is, and was in a span of time"), s.presenceOfPerson)
	huma.Register(s.api, operation("GET", "/presence/changes", "list-presence-changes",
		"Wait for what changes after a position; without one, tell the position of now"), s.presenceChanges)
	huma.Register(
		s.api,
		operation("GET", "/presence/sightings", "list-sightings", "What was reported of who is where"),
		s.listSightings,
	)
	huma.Register(s.api, operation("POST", "/presence/sightings", "add-sighting", "Report who is where, by hand"),
		s.addSighting)
	huma.Register(s.api, operation("GET", "/presence/state", "get-presence-state",
		"How sources and subscribers do, and what is left out"),
		func(context.Context, *none) (*body[apitype.PresenceState], error) { return ok(s.presenceState()), nil })
	huma.Register(
		s.api,
		operation("POST", "/sources/check", "check-readers", "Try forms of lines on pasted lines"),
		func(_ context.Context, in *struct{ Body apitype.ReadersInput }) (*body[apitype.Page[apitype.ReadLine]],
			error) {
			return checkReaders(&in.Body)
		},
	)
}

// kindOf is what a device is taken for: by the tag of a known one, or by the rules.
func (s *server) kindOf(mac string) string {
	if mac == "" {
		return ""
	}
	f := facts.Facts{Kind: s.Gate.Current().Plan.Kinds().Of(mac, s.Presence.Traits(mac))}
	if d := s.Gate.Devices.Find(strings.ToUpper(mac)); d != nil {
		f.Device = d.Facts(time.Now())
	}
	return f.DeviceKind()
}

// withKind is who is at an address, with the kind of the device.
func (s *server) withKind(e *core.Entry) apitype.Presence {
	out := viewOf(e)
	out.Kind = s.kindOf(out.MAC)
	return out
}

func viewOf(e *core.Entry) apitype.Presence {
	groups := e.Groups
	if groups == nil {
		groups = []string{}
	}
	return apitype.Presence{Address: e.Address.String(), Ports: e.Ports.String(), Who: e.Who, Display: e.Display,
		Groups: groups, Role: e.Role, MAC: e.MAC.String(), Host: e.Host, Source: e.Source, Way: e.Way,
		Trust: int(e.Trust), Since: e.Since, Signed: e.Signed, Until: e.Until}
}

func (s *server) listPresence(ctx context.Context, in *struct {
	Q      string `query:"q" maxLength:"200" doc:"Searched in name, person, address, MAC and host"`
	Who    string `query:"who" maxLength:"300"`
	Source string `query:"source" maxLength:"200"`
	Group  string `query:"group" maxLength:"300"`
	In     string `query:"in" maxLength:"100" doc:"Only addresses in this prefix"`
	After  string `query:"after" maxLength:"100" doc:"Address to go on after"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*body[apitype.PresencePage], error) {
	filter := presence.Filter{}
	if in.Group != "" {
		filter.Groups = []string{in.Group}
	}
	if in.In != "" {
		p, err := config.ParsePrefix(in.In)
		if err != nil {
			return nil, faulty("in", err.Error(), "Write for instance 192.0.2.0/24.")
		}
		filter.Networks = []netip.Prefix{p}
	}
	var after netip.Addr
	if in.After != "" {
		var err error
		if after, err = netip.ParseAddr(in.After); err != nil {
			return nil, faulty("after", err.Error(), "Give the address of the last entry.")
		}
	}
	pattern := record.NewPattern("*" + in.Q + "*")
	who := record.NewPattern(cmp.Or(in.Who, "*"))
	theirs := s.theirs(ctx)
	list, more := s.Presence.List(filter, func(e *core.Entry) bool {
		return (theirs == nil || theirs(e)) && (in.Source == "" || strings.EqualFold(e.Source, in.Source)) &&
			(in.Who == "" || who.Match(e.Who)) &&
			(in.Q == "" || pattern.Match(e.Who) || pattern.Match(e.Display) || pattern.Match(e.Address.String()) ||
				pattern.Match(e.MAC.String()) || pattern.Match(e.Host))
	}, after, in.Limit)
	out := apitype.PresencePage{
		Items:    []apitype.Presence{},
		Total:    s.Presence.Len(),
		Complete: s.Presence.Complete(),
	}
	if theirs != nil {
		all, _ := s.Presence.List(presence.Filter{}, theirs, netip.Addr{}, out.Total+1)
		out.Total = len(all)
	}
	for i := range list {
		out.Items = append(out.Items, s.withKind(&list[i]))
	}
	if more {
		out.Next = list[len(list)-1].Address.String()
	}
	return ok(out), nil
}

// changesWait is how long a question for changes waits.
const changesWait = 10 * time.Second

func (s *server) presenceChanges(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"60"`
}) (*body[apitype.PresenceChanges], error) {
	out := apitype.PresenceChanges{Items: []apitype.PresenceChange{}}
	if in.After == "" {
		var err error
		out.Next, err = s.Presence.Position()
		return ok(out), err
	}
	ctx, cancel := context.WithTimeout(ctx, changesWait)
	defer cancel()
	list, next, err := s.Presence.Changes(ctx, in.After, presence.Filter{}, 500)
	if err != nil {
		return nil, problem(http.StatusGone, err.Error(), "Read the list anew, and ask for the position.")
	}
	for i := range list {
		out.Items = append(out.Items, apitype.PresenceChange{At: list[i].At, Gone: list[i].Gone,
			Presence: viewOf(&list[i].Entry)})
	}
	out.Next = next
	return ok(out), nil
}

func (s *server) whoIsThere(ctx context.Context, in *struct {
	Address string    `query:"address" required:"true" maxLength:"100"`
	Port    int       `query:"port" minimum:"0" maximum:"65535"`
	At      time.Time `query:"at" doc:"A past moment; empty is now"`
}) (*body[apitype.PresenceAnswer], error) {
	address, err := netip.ParseAddr(strings.TrimSpace(in.Address))
	if err != nil {
		return nil, faulty(
			"address",
			fmt.Sprintf("%q is no IP address", in.Address),
			"Write for instance 192.0.2.41.",
		)
	}
	if in.At.After(time.Now()) {
		return nil, faulty("at", "it lies in the future", "Give a past moment, or none for now.")
	}
	a, err := s.Presence.Who(ctx, address, uint16(in.Port), in.At)
	if err != nil {
		return nil, err
	}
	theirs := s.theirs(ctx)
	if theirs != nil {
		here := &core.Entry{}
		if a.Here != nil {
			here = &a.Here.Entry
		}
		if !in.At.IsZero() || !theirs(here) {
			w := who(ctx)
			return nil, outside(&w, "nobody with a session on them is there now")
		}
	}
	out := apitype.PresenceAnswer{Address: a.Address.String(), Port: in.Port, At: a.At, LeftOut: a.Rule,
		Standings: []apitype.Standing{}}
	for i := range a.Standings {
		if theirs != nil && !theirs(&a.Standings[i].Entry) { // somebody else, such as on the same host
			continue
		}
		out.Standings = append(out.Standings, standing(&a.Standings[i]))
	}
	if a.Here != nil {
		here := standing(a.Here)
		here.Kind = s.kindOf(here.MAC)
		out.Here = &here
	}
	if l := a.Lease; l != nil {
		out.Lease = &apitype.PresenceLease{MAC: l.MAC.String(), Since: l.Since, Until: l.Until, Over: l.Gone}
	}
	out.Says = sayWho(&out)
	return ok(out), nil
}

func (s *server) listSightings(ctx context.Context, in *struct {
	Who     string    `query:"who" maxLength:"300" doc:"* stands for any characters"`
	Address string    `query:"address" maxLength:"100"`
	MAC     string    `query:"mac" maxLength:"30"`
	Source  string    `query:"source" maxLength:"200"`
	Kind    string    `query:"kind" maxLength:"20"`
	Since   time.Time `query:"since"`
	Until   time.Time `query:"until"`
	Before  string    `query:"before" maxLength:"13"`
	Limit   int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*body[apitype.Page[apitype.Sighting]], error) {
	var before ident.ID
	if in.Before != "" {
		var err error
		if before, err = ident.Parse(in.Before); err != nil {
			return nil, faulty("before", err.Error(), "Give the next of the page before.")
		}
	}
	mac := ""
	if in.MAC != "" {
		if mac = core.ParseMAC(in.MAC).String(); mac == "" {
			return nil, faulty(
				"mac",
				fmt.Sprintf("%q is no MAC address", in.MAC),
				"Write for instance 02-00-5e-00-00-01.",
			)
		}
	}
	list, next, searched, err := s.Presence.Sightings(ctx, store.SightingFilter{Who: in.Who, Address: in.Address,
		MAC: mac, Source: in.Source, Kind: in.Kind, Limit: in.Limit, Patience: patience,
		Span: store.Span{Since: in.Since, Until: in.Until, Before: before}})
	if err != nil {
		return nil, err
	}
	s.Presence.Call(list)
	out := apitype.Page[apitype.Sighting]{Items: sightingViews(list)}
	if next != 0 {
		out.Next = next.String()
	}
	if !searched.IsZero() {
		out.Searched = &searched
	}
	return ok(out), nil
}

func sightingViews(list []store.Sighting) []apitype.Sighting {
	out := make([]apitype.Sighting, 0, len(list))
	for i := range list {
		r := &list[i]
		ports := core.Ports{First: uint16(r.First), Last: uint16(r.Last)}
		out = append(out, apitype.Sighting{ID: r.Of.String(), At: r.At, Kind: r.Kind, Source: r.Source,
			Way: r.Way, Who: r.Who, Display: r.Display, Address: r.Address, Ports: ports.String(), MAC: r.MAC,
			Host: r.Host, Until: r.Until, Detail: r.Detail})
	}
	return out
}

const (
	// shownDay is how much of the past of a person is shown unless it is said, longestDay how much at most;
	// shownReports how many sightings of it.
	shownDay     = 12 * time.Hour
	longestDay   = 7 * 24 * time.Hour
	shownReports = 200
)

func (s *server) presenceOfPerson(ctx context.Context, in *struct {
	Name  string    `path:"name" maxLength:"300"`
	Since time.Time `query:"since" doc:"Beginning of the span; 12 hours before its end if it is missing"`
	Until time.Time `query:"until" doc:"End of the span; now if it is missing"`
}) (*body[apitype.PresencePerson], error) {
	to := in.Until
	if to.IsZero() {
		to = time.Now()
	}
	from := in.Since
	if from.IsZero() {
		from = to.Add(-shownDay)
	}
	if !from.Before(to) || to.Sub(from) > longestDay {
		return nil, faulty(
			"since",
			"the span ends before it begins, or is longer than a week",
			"Ask for a part of it.",
		)
	}
	stays, reports, err := s.Presence.Day(ctx, in.Name, from, to)
	if err != nil {
		return nil, err
	}
	reports = reports[:min(len(reports), shownReports)]
	s.Presence.Call(reports)
	out := apitype.PresencePerson{Name: in.Name, From: from, To: to, Here: []apitype.Presence{},
		Stays: []apitype.PresenceStay{}, Sightings: sightingViews(reports),
		Conflicts: []apitype.Standing{}, Groups: []string{}}
	here, lost := s.Presence.Person(in.Name)
	for i := range here {
		out.Here = append(out.Here, s.withKind(&here[i]))
		out.Display, out.Role = cmp.Or(out.Display, here[i].Display), cmp.Or(out.Role, here[i].Role)
		if len(here[i].Groups) > 0 {
			out.Groups = here[i].Groups
		}
	}
	for i := range lost {
		out.Conflicts = append(out.Conflicts, standing(&lost[i]))
	}
	for _, one := range stays {
		out.Stays = append(out.Stays, apitype.PresenceStay{Source: one.Source, Way: one.Way, Address: one.Address,
			Ports: one.Ports, MAC: one.MAC, Host: one.Host, From: one.From, To: one.To, Open: one.Open,
			Detail: one.Detail})
	}
	return ok(out), nil
}

func (s *server) addSighting(
	ctx context.Context,
	in *struct{ Body apitype.SightingFields },
) (*body[apitype.Sighting],
	error) {
	b := &in.Body
	r := presence.Report{Detail: strings.TrimSpace("reported by " + who(ctx).Name + " " + b.Why)}
	r.Kind, r.Who, r.Host = core.Kind(cmp.Or(b.Kind, string(core.SignedIn))), strings.TrimSpace(b.Who), b.Host
	var err error
	if b.Address != "" {
		if r.Address, err = netip.ParseAddr(strings.TrimSpace(b.Address)); err != nil {
			return nil, faulty(
				"address",
				fmt.Sprintf("%q is no IP address", b.Address),
				"Write for instance 192.0.2.41.",
			)
		}
	}
	if b.Ports != "" {
		if r.Ports, err = core.ParsePorts(b.Ports); err != nil {
			return nil, faulty("ports", err.Error(), "Write two numbers with a hyphen between.")
		}
	}
	if b.MAC != "" {
		if r.MAC = core.ParseMAC(b.MAC); r.MAC == 0 {
			return nil, faulty(
				"mac",
				fmt.Sprintf("%q is no MAC address", b.MAC),
				"Write for instance 02-00-5e-00-00-01.",
			)
		}
	}
	if b.Minutes > 0 {
		r.Until = time.Now().Add(time.Duration(b.Minutes) * time.Minute)
	}
	audit.Of(ctx).On("sighting", b.Address, b.Who).Say(fmt.Sprintf("reported that %s is %s at %s", cmp.Or(b.Who,
		"everybody"), r.Kind, cmp.Or(b.Address, b.MAC)))
	id, err := s.Presence.Take(s.Presence.BuiltIn(config.SourceOperators), r)
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, "the sighting is not taken: "+err.Error(),
			"Name a person and an address, and look at the scopes.")
	}
	return ok(apitype.Sighting{ID: id.String(), At: id.Time(), Kind: string(r.Kind), Source: config.SourceOperators,
		Way: config.SourceOperators, Who: b.Who, Address: b.Address, Ports: b.Ports, MAC: b.MAC, Detail: r.Detail}), nil
}
