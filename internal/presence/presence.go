// Package presence keeps who is where: it takes sightings from sources, as far as they are in scope, resolves them with
// core/presence, records them, and tells subscribers what changed. What is known is made again from the records at the
// start; what was at an address at a past moment is worked out from them by the same function.
package presence

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
)

const (
	// ahead is how far in the future a sighting may lie, by a clock that is wrong; it counts from now then. behind is
	// how old it may be.
	ahead  = 5 * time.Minute
	behind = 24 * time.Hour
	// longestLease is how long a lease counts without being renewed.
	longestLease = 8 * 24 * time.Hour
	// settleEvery is how often it is looked for what is over.
	settleEvery = time.Second
	// settleAtOnce is at how many addresses it is worked out at once who is there.
	settleAtOnce = 1000
	// maxText bounds each text of a sighting.
	maxText = 300
)

// Person is somebody who was looked up.
type Person struct {
	Display string
	Groups  []string
}

// Options are what a Keeper works with.
type Options struct {
	Records *store.Sightings
	IDs     *ident.Source
	// Node is the number of this node.
	Node int
	// Config is the configuration in effect, Open opens a secret of it.
	Config func() *config.Config
	Open   func(at config.Place, s config.Secret) (string, error)
	// Name writes a name as people are known by it here, whatever form it came in.
	Name func(sent string) string
	// Find looks a person up by that name; ok is false where nobody knows.
	Find func(ctx context.Context, name string) (p Person, ok bool)
	// Tell tells other nodes of a sighting; nil where there are none.
	Tell func(*store.Sighting)
	// Traits is where it is kept what was seen of devices; TellTraits tells other nodes of that, nil where there are
	// none.
	Traits     TraitsStore
	TellTraits func(*store.DeviceTraits)
	// TellDoing tells other nodes how sources and subscribers do here; nil where there are none.
	TellDoing func(*Doing)
	Log       *slog.Logger
	Now       func() time.Time
}

// Keeper keeps presence. It is safe for concurrent use.
type Keeper struct {
	o         Options
	compiled  atomic.Pointer[compiled]
	feed      feed
	states    states
	floods    floods
	traits    traits
	elsewhere elsewhere
	told      seenOnce
	followers followers
	lookups   chan string
	asked     askedFor
	warnings  atomic.Pointer[[]string]

	listing   sync.Mutex
	addresses []netip.Addr // a list that was made lately, at listed
	listed    time.Time

	mu       sync.RWMutex
	book     *core.Book
	changes  []core.Change // to be used again
	complete atomic.Bool
}

// Open makes a keeper. It knows what it knew once Run has read the records.
func Open(o Options) *Keeper {
	if o.Now == nil {
		o.Now = time.Now
	}
	k := &Keeper{o: o, book: core.NewBook(), lookups: make(chan string, 4096)}
	k.book.Gather()
	k.traits.of, k.traits.dirty = map[core.MAC]*seenTraits{}, map[core.MAC]bool{}
	k.feed.open()
	k.states.open()
	return k
}

// Why a sighting is not taken.
var (
	ErrFuture = errors.New("it lies in the future")
	ErrPast   = errors.New("it is older than a day")
	ErrFlood  = errors.New("too much is reported about this address")
	ErrOff    = errors.New("the source is switched off")
	// ErrOthers is returned for a device that asks for an address where somebody else is.
	ErrOthers = errors.New("a device asks for an address that another one has, and the server has not given it")
)

// LeftOut is returned for a sighting that is out of scope, with the rule that drops it.
type LeftOut struct{ Rule string }

func (l *LeftOut) Error() string { return "it is out of scope: " + l.Rule }

// Report is what a source reports. Trust, life and names are put right by the keeper.
type Report struct {
	core.Sighting
	// Detail is what was reported, in words.
	Detail string
	// Asked tells that a device asks for the address, and nobody said yet that it is given: anybody can ask.
	Asked bool
	// Repeats tells that the source reports the same sign-in again and again, and of nobody that they left.
	Repeats bool
	// whole tells that it is part of a report that was counted as a whole.
	whole bool
}

// Take takes a report of a source, and returns its identifier. What it comes to is known when it returns.
func (k *Keeper) Take(source *Source, r Report) (ident.ID, error) {
	now := k.o.Now()
	s := &r.Sighting
	id, err := k.take(source, &r, now)
	k.states.count(source, s, err, now)
	return id, err
}

func (k *Keeper) take(source *Source, r *Report, now time.Time) (ident.ID, error) {
	s := &r.Sighting
	if !source.Enabled {
		return 0, ErrOff
	}
	switch {
	case s.At.IsZero():
		s.At = now
	case s.At.After(now.Add(ahead)):
		return 0, ErrFuture
	case s.At.After(now) && !r.whole: // a host that says so again within a millisecond is right
		s.At = now
	case s.At.Before(now.Add(-behind)):
		return 0, ErrPast
	}
	tidy(s)
	s.Source, s.Way, s.Trust, s.Shared = source.Name, source.Way, uint8(source.Trust), source.Shared
	life := time.Duration(source.Minutes) * time.Minute
	if end := s.At.Add(behind); s.Kind != core.Leased && s.Until.After(end) {
		s.Until = end
	} else if end = s.At.Add(longestLease); s.Until.After(end) {
		s.Until = end
	}
	if s.Until.IsZero() {
		s.Until = s.At.Add(life)
	}
	if s.Who != "" {
		s.Who = strings.ToLower(k.o.Name(s.Who))
	}
	if s.Host != "" {
		k.Notice(source, s.MAC, facts.Traits{Host: s.Host}, s.At)
	}
	if err := s.Check(); err != nil {
		return 0, err
	}
	if rule := k.current().scope.drops(s); rule != "" {
		return 0, &LeftOut{rule}
	}
	if !r.whole && !k.floods.allow(s, now, 1) {
		return 0, ErrFlood
	}
	id := k.o.IDs.New(now)
	s.ID = int64(id)
	told, err := k.apply(s, now, r.Asked, r.Repeats)
	if err != nil || !told {
		return id, err
	}
	record := recordOf(s, r.Detail)
	if k.o.Tell != nil { // before it belongs to the records
		k.o.Tell(record)
	}
	k.o.Records.Add(record)
	return id, nil
}

// tidy bounds what a sighting says.
func tidy(s *core.Sighting) {
	for _, text := range []*string{&s.Who, &s.Display, &s.Ref, &s.Host, &s.Role} {
		*text = strings.TrimSpace(strings.ToValidUTF8(*text, "?"))
		if len(*text) > maxText {
			*text = strings.ToValidUTF8((*text)[:maxText], "")
		}
	}
	s.Address = s.Address.Unmap().WithZone("")
}

// apply brings a sighting in, and tells what it changed. One that changes next to nothing is not worth recording.
func (k *Keeper) apply(s *core.Sighting, now time.Time, asked, repeats bool) (worth bool, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if asked && !k.book.Free(s.Address, s.MAC, now) {
		return false, ErrOthers
	}
	if k.book.Fresh(s) || repeats && k.book.Repeated(s) {
		return false, nil
	}
	touched, err := k.book.Apply(s)
	k.settle(touched, now)
	if s.Who != "" && s.Kind != core.SignedOut {
		if _, known := k.book.Groups(s.Who); !known && k.asked.again(s.Who, now) {
			select {
			case k.lookups <- s.Who:
			default: // the next round finds it
			}
		}
	}
	return true, err
}

// settle settles addresses, and tells subscribers what changed.
func (k *Keeper) settle(touched []netip.Addr, now time.Time) {
	k.changes = k.changes[:0]
	for _, a := range touched {
		k.changes = k.book.Settle(a, now, k.changes)
	}
	if len(k.changes) > 0 && k.complete.Load() {
		k.feed.add(k.changes, now)
	}
}

// Heard takes a sighting that another node took.
func (k *Keeper) Heard(r *store.Sighting) {
	s, err := sightingOf(r)
	if err != nil || s.Check() != nil {
		return
	}
	if !k.told.first(r.Of) { // again, since it seemed that it was missed
		return
	}
	if worth, err := k.apply(&s, k.o.Now(), false, false); err == nil && worth {
		k.o.Records.Add(r)
	}
}

// seenOnce remembers the latest sightings of other nodes, so that one that is told again counts once.
type seenOnce struct {
	mu    sync.Mutex
	known map[ident.ID]bool
	order []ident.ID
}

// maxSeen bounds how many are remembered.
const maxSeen = 200_000

func (o *seenOnce) first(id ident.ID) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.known[id] {
		return false
	}
	if o.known == nil {
		o.known = map[ident.ID]bool{}
	}
	o.known[id] = true
	if o.order = append(o.order, id); len(o.order) > maxSeen {
		delete(o.known, o.order[0])
		o.order = o.order[1:]
	}
	return true
}

// maxMissed bounds what another node is told that it missed.
const maxMissed = 100_000

// TakenSince lists what this node took since a moment, the oldest first.
func (k *Keeper) TakenSince(ctx context.Context, since time.Time) (out []store.Sighting) {
	k.o.Records.Flush(ctx)
	f := store.SightingFilter{Span: store.Span{After: ident.At(since)}, Limit: 10_000}
	for len(out) < maxMissed {
		page, err := k.o.Records.Find(ctx, f)
		if err != nil {
			k.o.Log.Warn("what another node missed cannot be read", "error", err)
			return out
		}
		for _, s := range page.Items {
			if s.Of.Node() == k.o.Node {
				out = append(out, s)
			}
		}
		if page.Next == 0 {
			break
		}
		f.After = page.Next
	}
	return out
}

// Run reads what was recorded, then looks for what is over and for the groups of people, until the context ends.
func (k *Keeper) Run(ctx context.Context) {
	if err := k.loadTraits(ctx); err != nil && ctx.Err() == nil {
		k.o.Log.Error("what was seen of devices before the start is not known", "error", err)
	}
	if err := k.replay(ctx); err != nil && ctx.Err() == nil {
		k.o.Log.Error(
			"presence could not be made again from what was recorded; it begins with what is reported now",
			"error",
			err,
		)
	}
	for more := true; more; {
		k.mu.Lock()
		more = k.book.SettleGathered(settleAtOnce, k.o.Now())
		k.complete.Store(!more)
		k.mu.Unlock()
	}
	var groups sync.WaitGroup
	groups.Go(func() { k.regroup(ctx) })
	defer groups.Wait()
	tick := time.NewTicker(settleEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			late, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*settleEvery)
			k.saveTraits(late)
			cancel()
			return
		case <-tick.C:
		}
		now := k.o.Now()
		k.mu.Lock()
		due := k.book.Due(now)
		k.mu.Unlock()
		for some := range slices.Chunk(due, settleAtOnce) {
			k.mu.Lock()
			k.settle(some, now)
			k.mu.Unlock()
		}
		k.saveTraits(ctx)
		k.tellDoing(now)
	}
}

// Complete tells that what was recorded before the start is known again.
func (k *Keeper) Complete() bool { return k.complete.Load() }

// recordOf is a sighting as it is recorded.
func recordOf(s *core.Sighting, detail string) *store.Sighting {
	r := &store.Sighting{At: s.At, Kind: string(s.Kind), Source: s.Source, Way: s.Way, Trust: int(s.Trust),
		Shared: s.Shared, Role: s.Role, Who: s.Who, Display: s.Display, Ref: s.Ref, First: int(s.Ports.First),
		Last: int(
			s.Ports.Last,
		), MAC: s.MAC.String(), Host: s.Host, Until: s.Until, Detail: detail, Of: ident.ID(s.ID)}
	if s.Address.IsValid() {
		r.Address = s.Address.String()
	}
	return r
}

// sightingOf is a record as a sighting.
func sightingOf(r *store.Sighting) (core.Sighting, error) {
	s := core.Sighting{
		ID:      int64(r.Of),
		At:      r.At,
		Kind:    core.Kind(r.Kind),
		Who:     r.Who,
		Display: r.Display,
		Ref:     r.Ref,
		Origin:  core.Origin{Source: r.Source, Way: r.Way, Trust: uint8(r.Trust), Shared: r.Shared, Role: r.Role},
		Ports:   core.Ports{First: uint16(r.First), Last: uint16(r.Last)},
		MAC:     core.ParseMAC(r.MAC),
		Host:    r.Host,
		Until:   r.Until,
	}
	if r.Address == "" {
		return s, nil
	}
	var err error
	s.Address, err = netip.ParseAddr(r.Address)
	return s, err
}
