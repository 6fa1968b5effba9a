package presence

import (
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	core "tollgate.example/key/internal/core/presence"
)

const (
	// MaxPeople is how many people one host may report, perReport what a report costs of the reports about one address
	// that are taken in a second, however many people it names.
	MaxPeople = 1000
	perReport = 100
	// longestStay is how long ago somebody is said to have signed in at most: earlier makes no difference.
	longestStay = 12 * time.Hour
	// maxHosts bounds how many hosts are remembered, hostKept is for how long.
	maxHosts = 100_000
	hostKept = 24 * time.Hour
)

// HostPerson is somebody who is signed in on a host.
type HostPerson struct {
	Who, Display string
	// Ports are those that the connections of the person come from; zero where the host has one person.
	Ports core.Ports
	// For is for how long the person has been signed in, by the clock of the host alone.
	For time.Duration
}

// Host is what a host says of itself: who is signed in, all of them. Whoever was, and is no longer named, has left.
type Host struct {
	// Address is where the report comes from: a host speaks for itself alone.
	Address netip.Addr
	Name    string
	People  []HostPerson
}

// Refused is why one of the people of a host was not taken.
type Refused struct {
	Index int
	Err   error
}

// TakeHost takes what a host reports, and lists who was not taken and why. What it comes to is known when it returns.
// The error is about the report as a whole: then nothing is taken.
func (k *Keeper) TakeHost(source *Source, h Host) (refused []Refused, err error) {
	now := k.o.Now()
	h.Address = h.Address.Unmap().WithZone("")
	switch {
	case !source.Enabled:
		return nil, ErrOff
	case len(h.People) > MaxPeople:
		return nil, core.ErrCrowded
	case !k.floods.allow(&core.Sighting{Address: h.Address}, now, perReport):
		k.states.refuse(source, ErrFlood.Error()+" ("+h.Address.String()+")", now)
		return nil, ErrFlood
	}
	k.states.heardHost(source.Name, &h, now)
	k.mu.RLock()
	before := k.book.Reported(source.Name, h.Address, now)
	k.mu.RUnlock()
	stay := map[core.Stay]bool{}
	for _, p := range h.People {
		stay[core.Stay{Who: strings.ToLower(k.o.Name(strings.TrimSpace(p.Who))), Ports: p.Ports}] = true
	}
	for _, was := range before { // first, so that a block of ports is free before another person has it
		if !stay[was] {
			k.takeOf(source, &h, core.SignedOut, was.Who, "", was.Ports, now)
		}
	}
	for i, p := range h.People {
		kind, at := core.SignedIn, now.Add(-min(max(0, p.For), longestStay))
		name := strings.ToLower(k.o.Name(strings.TrimSpace(p.Who)))
		if slices.Contains(before, core.Stay{Who: name, Ports: p.Ports}) {
			kind, at = core.Still, now
		}
		var out *LeftOut
		if err := k.takeOf(source, &h, kind, p.Who, p.Display, p.Ports, at); err != nil && !errors.As(err, &out) {
			refused = append(refused, Refused{i, err})
		}
	}
	return refused, nil
}

// takeOf takes one sighting of what a host reported.
func (k *Keeper) takeOf(source *Source, h *Host, kind core.Kind, who, display string, ports core.Ports,
	at time.Time) error {
	now := k.o.Now()
	r := Report{Sighting: core.Sighting{Kind: kind, At: at, Who: who, Display: display, Address: h.Address,
		Ports: ports, Host: h.Name}, whole: true}
	// What is older than the last word of the host would change nothing.
	s := r.Sighting
	s.Source, s.Who = source.Name, strings.ToLower(k.o.Name(strings.TrimSpace(who)))
	k.mu.RLock()
	last := k.book.LastWord(&s)
	k.mu.RUnlock()
	if !r.At.After(last) {
		r.At = last.Add(time.Millisecond)
	}
	if kind != core.SignedOut {
		r.Until = now.Add(time.Duration(source.Minutes) * time.Minute)
	}
	_, err := k.take(source, &r, now)
	k.states.count(source, &r.Sighting, err, now)
	return err
}

type hostKey struct {
	source  string
	address netip.Addr
}

type hostSeen struct {
	name   string
	people int
	at     time.Time
}

// Lost is a host that went silent while people were signed in there, and did not say goodbye.
type Lost struct {
	Name    string
	Address netip.Addr
	Since   time.Time
}

func (t *states) heardHost(source string, h *Host, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	key := hostKey{source, h.Address}
	if t.hosts[key] == nil && len(t.hosts) >= maxHosts {
		for k, one := range t.hosts {
			if now.Sub(one.at) > hostKept {
				delete(t.hosts, k)
			}
		}
		if len(t.hosts) >= maxHosts {
			return
		}
	}
	t.hosts[key] = &hostSeen{h.Name, len(h.People), now}
}

// lost lists the hosts of a source that went silent with people signed in, to which no other node has listened since.
func (k *Keeper) lost(s *Source, now time.Time) (reporting int, out []Lost) {
	for key, one := range k.states.hosts {
		switch {
		case key.source != s.Name || now.Sub(one.at) > hostKept:
		case now.Sub(one.at) <= time.Duration(s.Minutes)*time.Minute:
			reporting++
		case one.people > 0 && len(k.book.Reported(s.Name, key.address, now)) == 0:
			out = append(out, Lost{one.name, key.address, one.at})
		}
	}
	slices.SortFunc(out, func(a, b Lost) int { return b.Since.Compare(a.Since) })
	return reporting, out[:min(len(out), maxLost)]
}

// maxLost bounds how many lost hosts are told.
const maxLost = 100
