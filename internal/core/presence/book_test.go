package presence

import (
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func after(seconds int) time.Time { return noon.Add(time.Duration(seconds) * time.Second) }

// model works out who is at an address from a list of sightings, from scratch and without regard to time or memory.
type model []Sighting

type told struct {
	source, ref, who string
	trust            uint8
	shared           bool
	address          netip.Addr
	mac              MAC
	ports            Ports
	over             bool
	signed, last     time.Time
	until            time.Time
	id               int64
}

func (m model) at(address netip.Addr, now time.Time) (out []string) {
	slices.SortFunc(m, func(a, b Sighting) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.ID, b.ID)) })
	var stays []*told
	var device MAC
	var first, until, released, renewed time.Time
	handed := false
	owned := map[MAC]time.Time{} // the lease of this address
	for _, s := range m {
		var mine *told
		for _, c := range stays {
			if c.source == s.Source && c.ref == s.Ref && (s.Ref != "" || c.who == s.Who && c.ports == s.Ports &&
				(s.Address.IsValid() && c.address == s.Address || !s.Address.IsValid() && c.mac == s.MAC)) {
				mine = c
			}
		}
		switch s.Kind {
		case SignedIn, Still:
			if mine == nil || mine.over || s.At.After(mine.until) {
				if mine == nil {
					mine = &told{source: s.Source, ref: s.Ref}
					stays = append(stays, mine)
				}
				if mine.over && !s.At.After(mine.until) {
					continue
				}
				mine.signed, mine.id, mine.over, mine.address, mine.mac = s.At, s.ID, false, s.Address, s.MAC
			}
			if s.Kind == SignedIn {
				mine.signed, mine.id = s.At, s.ID
			}
			mine.who, mine.trust, mine.shared, mine.ports = s.Who, s.Trust, s.Shared, s.Ports
			mine.last, mine.until = s.At, s.Until
			if s.Address.IsValid() {
				mine.address = s.Address
			}
			if s.MAC != 0 {
				mine.mac = s.MAC
			}
		case SignedOut:
			if mine != nil {
				if mine.over || s.At.Before(mine.until) {
					mine.until = s.At
				}
				if mine.over, mine.last = true, s.At; mine.mac == 0 && !(s.Ref == "" && s.Who == "") {
					mine.mac = s.MAC
				}
			} else if mine == nil {
				stays = append(stays, &told{source: s.Source, ref: s.Ref, who: s.Who, trust: s.Trust, ports: s.Ports,
					address: s.Address, mac: s.MAC, over: true, last: s.At, until: s.At, signed: s.At, id: s.ID})
			}
		case Leased:
			if s.Address != address {
				continue
			}
			if device != s.MAC || !s.At.Before(until) || !released.IsZero() {
				handed = handed || device != 0 && device != s.MAC
				device, first, released = s.MAC, s.At, time.Time{}
			}
			until, renewed = s.Until, s.At
			owned[s.MAC] = s.At
		case Released:
			if s.Address == address && s.MAC == device {
				released = s.At
			}
		}
	}
	_ = renewed
	var here []*told
	for _, c := range stays {
		byLease := c.mac != 0 && c.mac == device && now.Before(until) && released.IsZero()
		if c.address != address && !byLease {
			continue
		}
		left := false
		for _, o := range stays {
			left = left || o.over && o.who == c.who && o.source != c.source && o.trust < c.trust &&
				!c.last.After(
					o.until,
				) && (o.ports.All() || o.ports == c.ports) && (o.address == address || o.mac != 0 && o.mac == device &&
				now.Before(until) && released.IsZero())
		}
		switch {
		case c.over, !now.Before(c.until), left:
		case c.address == address && device != 0 && first.After(c.last) && c.mac != device && (c.mac != 0 || handed):
		case c.address == address && device != 0 && !released.IsZero() && !c.last.After(released) &&
			(c.mac == 0 || c.mac == device):
		default:
			here = append(here, c)
		}
	}
	slices.SortFunc(here, func(a, b *told) int {
		return cmp.Or(cmp.Compare(a.trust, b.trust), b.signed.Compare(a.signed), cmp.Compare(b.id, a.id))
	})
	var winners []*told
	for _, c := range here {
		wins := true
		for _, w := range winners {
			if w.ports.All() != c.ports.All() || !w.ports.Overlap(c.ports) {
				continue
			}
			together := w.shared && c.shared && w.trust == c.trust && c.ports.All() && w.who != c.who
			wins = wins && together
		}
		if wins {
			winners = append(winners, c)
			out = append(out, c.who+" "+c.ports.String())
		}
	}
	slices.Sort(out)
	return out
}

func (m model) log(t *testing.T) {
	for _, s := range m {
		t.Logf(
			"%d %s %s %s %s ref %q %s %v %v until %s",
			s.ID,
			s.At.Format(time.TimeOnly),
			s.Source,
			s.Kind,
			s.Who,
			s.Ref,
			s.Address,
			s.MAC,
			s.Ports,
			s.Until.Format(time.TimeOnly),
		)
	}
}

var sources = []Origin{{Source: "sessions", Trust: 2}, {Source: "logons", Trust: 4}, {Source: "hosts", Trust: 4,
	Shared: true}, {Source: "desk", Trust: 1}}

func random(r *rand.Rand, id int64, late bool) Sighting {
	addresses := []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2"),
		netip.MustParseAddr("2001:db8::1")}
	at := after(r.IntN(500))
	s := Sighting{ID: id, At: at, Origin: sources[r.IntN(len(sources))], Who: string(rune('a' + r.IntN(3)))}
	switch n := r.IntN(10); {
	case n < 4:
		s.Kind = SignedIn
	case n < 6:
		s.Kind = Still
	case n < 8:
		s.Kind = SignedOut
	case n == 8 && !late:
		s.Kind = Released
	default:
		s.Kind = Leased
	}
	s.Until = at.Add(time.Duration(50+r.IntN(400)) * time.Second)
	if late {
		s.Until = at.Add(time.Hour) // so that nothing is over before what comes late
	}
	s.Address, s.MAC = addresses[r.IntN(3)], MAC(1+r.IntN(2))
	if s.Kind == Leased || s.Kind == Released {
		s.Who = ""
		if late { // each address is handed on once
			turn := r.IntN(2)
			s.MAC, s.At = MAC(1+turn), after(250*turn)
		}
		return s
	}
	if late { // the device of a stay is always the same, so that nothing depends on the order
		s.MAC = MAC(1 + (len(s.Source)+int(s.Who[0]))%2)
	}
	switch r.IntN(4) {
	case 0:
		s.Address = netip.Addr{}
		s.Ref = fmt.Sprintf("%s-%d", s.Who, r.IntN(2))
	case 1:
		if !late {
			s.MAC = 0
		}
	case 2:
		s.MAC, s.Ports = 0, Ports{uint16(1000 * (1 + r.IntN(2))), uint16(2500)}
	}
	return s
}

// Whatever is sighted, in whatever order, the book comes to what the slow model comes to, and what it tells of changes
// adds up to it.
func TestTheBookAgreesWithTheModel(t *testing.T) {
	for seed := range uint64(5000) {
		r := rand.New(rand.NewPCG(seed, 7))
		late := seed%2 == 1
		var list model
		for i := range 1 + r.IntN(25) {
			if s := random(r, int64(i+1), late); s.Check() == nil {
				list = append(list, s)
			}
		}
		order := slices.Clone(list)
		if late {
			r.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
		} else {
			slices.SortFunc(order, func(a, b Sighting) int {
				return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.ID, b.ID))
			})
		}
		b, sum := NewBook(), map[string]bool{}
		settle := func(touched []netip.Addr, now time.Time) {
			var changes []Change
			for _, a := range touched {
				changes = b.Settle(a, now, changes)
			}
			for _, c := range changes {
				key := fmt.Sprintf("%s %s %s", c.Address, c.Who, c.Ports)
				if c.Gone != sum[key] {
					t.Fatalf("seed %d: %+v is told though it was %v before", seed, c, sum[key])
				}
				sum[key] = !c.Gone
			}
		}
		var seen model
		for i := range order {
			s := &order[i]
			now := after(500)
			if !late {
				now = s.At
				settle(b.Due(now), now)
			}
			touched, err := b.Apply(s)
			if err != nil {
				t.Fatal(err)
			}
			settle(touched, now)
			seen = append(seen, *s)
		}
		for _, now := range []time.Time{after(500), after(650), after(900)} {
			settle(b.Due(now), now)
			for _, a := range []string{"192.0.2.1", "192.0.2.2", "2001:db8::1"} {
				want := slices.Clone(seen).at(netip.MustParseAddr(a), now)
				got := []string{}
				for _, e := range b.Entries(netip.MustParseAddr(a), now) {
					got = append(got, e.Who+" "+e.Ports.String())
				}
				slices.Sort(got)
				if !slices.Equal(got, want) && len(got)+len(want) > 0 {
					seen.log(t)
					all, lease := b.Explain(netip.MustParseAddr(a), now)
					t.Fatalf("seed %d (late %v): at %s at %s are %q, not %q\n%+v\n%+v", seed, late, a,
						now.Format(time.TimeOnly), got, want, all, lease)
				}
				told := []string{}
				for key, there := range sum {
					if there && key[:len(a)+1] == a+" " {
						told = append(told, key[len(a)+1:])
					}
				}
				slices.Sort(told)
				if !slices.Equal(got, told) {
					seen.log(t)
					all, lease := b.Explain(netip.MustParseAddr(a), now)
					t.Logf("%s\n%+v\n%+v", now, all, lease)
					t.Fatalf("seed %d: at %s are %q, and changes add up to %q", seed, a, got, told)
				}
			}
		}
	}
}

// What is applied first and settled in the end comes to the same as what is settled each time, also where more is
// sighted meanwhile.
func TestWhatIsGatheredIsSettledAsWell(t *testing.T) {
	at := []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2"),
		netip.MustParseAddr("2001:db8::1")}
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 11))
		one, gathered := NewBook(), NewBook()
		gathered.Gather()
		now, early := after(500), 0
		apply := func(b *Book, s Sighting) {
			touched, err := b.Apply(&s)
			if err != nil {
				t.Fatal(err)
			}
			for _, a := range touched {
				b.Settle(a, now, nil)
			}
		}
		for i := range 5 + r.IntN(30) {
			s := random(r, int64(i+1), false)
			if s.Check() != nil {
				continue
			}
			if early = r.IntN(20); early == 0 { // some are settled already
				gathered.SettleGathered(1, now)
			}
			apply(one, s)
			apply(gathered, s)
		}
		for gathered.SettleGathered(1, now) {
		}
		for _, a := range at {
			one.Settle(a, now, nil)
			if more := gathered.Settle(a, now, nil); len(more) > 0 {
				t.Fatalf("seed %d: it was not settled that %+v", seed, more)
			}
			for _, port := range []uint16{0, 80, 1500, 2200} {
				who, role, ok := one.At(a, port)
				also, roleAlso, okAlso := gathered.At(a, port)
				if ok != okAlso || role != roleAlso || ok && who.Name != also.Name {
					t.Fatalf("seed %d: at %s port %d is %v, not %v", seed, a, port, also, who)
				}
			}
		}
		if one.Len() != gathered.Len() || !slices.Equal(one.Contested(), gathered.Contested()) {
			t.Fatalf("seed %d: %d entries and %v contested, not %d and %v", seed, gathered.Len(), gathered.Contested(),
				one.Len(), one.Contested())
		}
	}
}

// What is known of a person while all is gathered is found before it is settled.
func TestPeopleAreFoundWhileAllIsGathered(t *testing.T) {
	b := NewBook()
	b.Gather()
	s := Sighting{ID: 1, At: noon, Kind: SignedIn, Origin: sources[0], Who: "a",
		Address: netip.MustParseAddr("192.0.2.1"), Until: after(100)}
	if touched, err := b.Apply(&s); err != nil || len(touched) > 0 {
		t.Fatalf("%v, %v", touched, err)
	}
	if n, some := len(b.OfPerson("a", noon)), len(b.SomeOfPerson("a", 9, noon)); n != 1 || some != 1 {
		t.Errorf("the person is found at %d and %d addresses", n, some)
	}
}

// A sign-in that is reported again is the same one only where nobody else is, and of the same person at the same place.
func TestASignInThatIsRepeated(t *testing.T) {
	device := Sighting{Kind: SignedIn, Origin: sources[0], Who: "a", Ref: "device", MAC: 7}
	for name, c := range map[string]struct {
		between func(*Sighting)
		again   func(*Sighting)
		want    bool
	}{
		"again":                 {want: true},
		"later":                 {again: func(s *Sighting) { s.At = s.At.Add(sameSignIn) }},
		"somebody else":         {again: func(s *Sighting) { s.Who = "b" }},
		"with another role":     {again: func(s *Sighting) { s.Role = "guest" }},
		"on another device":     {again: func(s *Sighting) { s.MAC = 8 }},
		"beside somebody":       {between: func(s *Sighting) { s.Who, s.Ref = "b", "other" }},
		"on a device that left": {between: func(s *Sighting) { s.Kind = SignedOut }},
		"before the last word":  {between: func(s *Sighting) { s.At = s.At.Add(time.Minute) }},
	} {
		b := NewBook()
		at := func(id int64, seconds int, change func(*Sighting)) *Sighting {
			s := device
			s.ID, s.At, s.Until = id, after(seconds), after(seconds+3600)
			if change != nil {
				change(&s)
			}
			return &s
		}
		if _, err := b.Apply(at(1, 0, nil)); err != nil {
			t.Fatal(err)
		}
		if c.between != nil {
			if _, err := b.Apply(at(2, 0, c.between)); err != nil {
				t.Fatal(err)
			}
		}
		if got := b.Repeated(at(3, 1, c.again)); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// A source that reports people who leave without having come, or addresses without end, takes no more than its share.
func TestNobodyTakesAllTheRoom(t *testing.T) {
	b := NewBook()
	refused := 0
	for i := range maxLeft + 1000 {
		s := Sighting{ID: int64(i + 1), At: noon, Kind: SignedOut, Origin: Origin{Source: "made-up", Trust: 5},
			Who: fmt.Sprint("p", i), Address: address(i)}
		if _, err := b.Apply(&s); errors.Is(err, ErrFull) {
			refused++
		} else if err != nil {
			t.Fatal(err)
		}
	}
	if refused != 1000 || b.claims.n != maxLeft {
		t.Errorf("%d are refused, %d kept", refused, b.claims.n)
	}
	come := Sighting{
		ID:      1 << 40,
		At:      noon.Add(time.Second),
		Kind:    SignedIn,
		Origin:  Origin{Source: "made-up", Trust: 5},
		Who:     "p0",
		Address: address(0),
		Until:   noon.Add(time.Hour),
	}
	if _, err := b.Apply(&come); err != nil || b.left != maxLeft-1 {
		t.Errorf("who comes now is refused: %v, %d", err, b.left)
	}
	for _, a := range b.Due(noon.Add(2 * Late)) {
		b.Settle(a, noon.Add(2*Late), nil)
	}
	for _, a := range b.Due(noon.Add(4 * Late)) {
		b.Settle(a, noon.Add(4*Late), nil)
	}
	if b.left != 0 || b.claims.n != 1 || b.bySource["made-up"] != 1 {
		t.Errorf("in the end %d claims are kept, %d of those who left, %d counted", b.claims.n, b.left,
			b.bySource["made-up"])
	}
}
