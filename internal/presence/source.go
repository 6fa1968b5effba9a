package presence

import (
	"cmp"
	"crypto/sha256"
	"errors"
	"hash/maphash"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
)

// Source is a source in effect.
type Source struct {
	config.Source
	readers []*core.Reader
	from    []netip.Prefix
}

// compiled is what the keeper needs of a configuration, made ready.
type compiled struct {
	of          *config.Config
	scope       *scope
	byWay       map[string]*Source // sources that are there by themselves
	sources     []*Source
	tokens      map[[sha256.Size]byte]*Source
	subscribers map[[sha256.Size]byte]*config.Subscriber
}

// current is what is in effect, made ready.
func (k *Keeper) current() *compiled {
	now := k.o.Config()
	if c := k.compiled.Load(); c != nil && c.of == now {
		return c
	}
	c := k.compile(now)
	k.compiled.Store(c)
	return c
}

func (k *Keeper) compile(now *config.Config) *compiled {
	c := &compiled{of: now, scope: compileScope(now), byWay: map[string]*Source{},
		tokens: map[[sha256.Size]byte]*Source{}, subscribers: map[[sha256.Size]byte]*config.Subscriber{}}
	for _, w := range config.SourceWays {
		if builtIn(w.Name) {
			c.byWay[w.Name] = &Source{
				Source: config.Source{Name: w.Name, Enabled: w.Name != config.SourcePortal, Way: w.Name, Trust: w.Trust,
					Minutes: w.Minutes},
			}
		}
	}
	for _, s := range now.Sources {
		one := &Source{Source: *s}
		for _, text := range s.From {
			if p, err := config.ParsePrefix(text); err == nil {
				one.from = append(one.from, p)
			}
		}
		for _, r := range s.Readers {
			if reader, err := core.CompileReader(r.Pattern, core.Kind(r.Means)); err == nil {
				one.readers = append(one.readers, reader)
			}
		}
		if builtIn(s.Way) {
			c.byWay[s.Way] = one
		} else {
			c.sources = append(c.sources, one)
		}
		if sum, ok := k.sum(s.SecretPlace(), s.Secret); ok {
			c.tokens[sum] = one
		}
	}
	for _, s := range now.Subscribers {
		if sum, ok := k.sum(s.SecretPlace(), s.Secret); ok && s.Enabled {
			c.subscribers[sum] = s
		}
	}
	for _, w := range config.SourceWays {
		if s := c.byWay[w.Name]; s != nil {
			c.sources = append(c.sources, s)
		}
	}
	return c
}

// builtIn tells that sources of a way are there without being configured.
func builtIn(way string) bool {
	return way == config.SourceSessions || way == config.SourceAccounting || way == config.SourceAttempts ||
		way == config.SourceOperators || way == config.SourcePortal
}

func (k *Keeper) sum(at config.Place, s config.Secret) ([sha256.Size]byte, bool) {
	if !s.Set() {
		return [sha256.Size]byte{}, false
	}
	text, err := k.o.Open(at, s)
	if err != nil {
		k.o.Log.Error("a token of presence cannot be opened", "of", at.Purpose, "id", at.Object, "error", err)
		return [sha256.Size]byte{}, false
	}
	return sha256.Sum256([]byte(text)), true
}

// BuiltIn is the source of a way that is there by itself.
func (k *Keeper) BuiltIn(way string) *Source { return k.current().byWay[way] }

// ErrStranger is returned for whoever shows no token that is known, or comes from elsewhere.
var ErrStranger = errors.New("the token is not known, or not from this address")

// ByToken is the source that shows a token.
func (k *Keeper) ByToken(token string, from netip.Addr) (*Source, error) {
	s := k.current().tokens[sha256.Sum256([]byte(token))]
	if s == nil || len(s.From) > 0 && !s.within(from) {
		if s != nil {
			k.states.refuse(s, "it reported from "+from.String()+", where it may not", k.o.Now())
		}
		return nil, ErrStranger
	}
	return s, nil
}

// ByAddress is the source of a way that may send from an address; nil for none.
func (k *Keeper) ByAddress(way string, from netip.Addr) *Source {
	for _, s := range k.current().sources {
		if s.Way == way && s.Enabled && s.within(from) {
			return s
		}
	}
	k.states.stranger(way, from, k.o.Now())
	return nil
}

// within tells that it may send from an address.
func (s *Source) within(a netip.Addr) bool {
	return slices.ContainsFunc(s.from, func(p netip.Prefix) bool { return p.Contains(a) })
}

// Read reads a line by the readers of a source; ok is false if none fits.
func (s *Source) Read(line string) (out core.Sighting, ok bool, err error) {
	for _, r := range s.readers {
		if out, ok, err = r.Read(line); ok {
			return out, ok, err
		}
	}
	return core.Sighting{}, false, nil
}

// State is how a source does.
type State struct {
	Name, Way                       string
	ID                              string
	Enabled                         bool
	Trust, Minutes                  int
	Seen                            time.Time // when it reported last
	Taken, LeftOut, Refused, Unread int64
	Fault                           string
	FaultAt                         time.Time
	// Hosts is how many hosts report, Lost those that went silent while people were signed in; only of hosts.
	Hosts int
	Lost  []Lost
	// Node is the other node that tells this, "" for this one.
	Node string
}

// Silent tells that it has not reported for as long as its reports hold.
func (s *State) Silent(now time.Time) bool {
	return s.Enabled && !s.Seen.IsZero() && now.Sub(s.Seen) > time.Duration(s.Minutes)*time.Minute
}

// states are how sources do, what scope dropped, and who reports without being known.
type states struct {
	mu        sync.Mutex
	bySource  map[string]*State
	byRule    map[string]int64
	strangers map[Stranger]*Strange
	hosts     map[hostKey]*hostSeen
}

// Stranger is who reports without being a source.
type Stranger struct {
	Way  string
	From netip.Addr
}

// Strange is what was seen of a stranger.
type Strange struct {
	Stranger
	Last  time.Time
	Count int64
	// Node is the other node that it reports to, "" for this one.
	Node string
}

// maxStrangers bounds how many of them are remembered.
const maxStrangers = 200

func (t *states) open() {
	t.bySource, t.byRule, t.strangers = map[string]*State{}, map[string]int64{}, map[Stranger]*Strange{}
	t.hosts = map[hostKey]*hostSeen{}
}

func (t *states) of(s *Source) *State {
	one := t.bySource[s.Name]
	if one == nil {
		one = &State{}
		t.bySource[s.Name] = one
	}
	return one
}

func (t *states) count(s *Source, r *core.Sighting, err error, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	one := t.of(s)
	one.Seen = now
	var out *LeftOut
	switch {
	case err == nil:
		one.Taken++
	case errors.As(err, &out):
		one.LeftOut++
		t.byRule[out.Rule]++
	default:
		one.Refused++
		one.Fault, one.FaultAt = err.Error(), now
		if r.Who != "" {
			one.Fault += " (" + r.Who + ")"
		}
	}
}

// Unread counts a line that no reader of a source fits.
func (k *Keeper) Unread(s *Source) {
	k.states.mu.Lock()
	defer k.states.mu.Unlock()
	one := k.states.of(s)
	one.Unread++
	one.Seen = k.o.Now()
}

// Refuse notes why something of a source was not taken.
func (k *Keeper) Refuse(s *Source, why string) { k.states.refuse(s, why, k.o.Now()) }

func (t *states) refuse(s *Source, why string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	one := t.of(s)
	one.Refused++
	one.Fault, one.FaultAt = why, now
}

func (t *states) stranger(way string, from netip.Addr, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	key := Stranger{way, from}
	one := t.strangers[key]
	if one == nil {
		if len(t.strangers) >= maxStrangers {
			return
		}
		one = &Strange{Stranger: key}
		t.strangers[key] = one
	}
	one.Last = now
	one.Count++
}

// Sources lists how all sources do, the most trusted first.
func (k *Keeper) Sources() []State {
	c, now := k.current(), k.o.Now()
	k.mu.RLock()
	defer k.mu.RUnlock()
	k.states.mu.Lock()
	defer k.states.mu.Unlock()
	out := make([]State, 0, len(c.sources))
	for _, s := range c.sources {
		one := State{}
		if known := k.states.bySource[s.Name]; known != nil {
			one = *known
		}
		one.Name, one.Way, one.ID, one.Enabled, one.Trust, one.Minutes = s.Name, s.Way, s.ID, s.Enabled, s.Trust,
			s.Minutes
		if s.Way == config.SourceHosts {
			one.Hosts, one.Lost = k.lost(s, now)
		}
		out = append(out, one)
	}
	slices.SortStableFunc(out, func(a, b State) int {
		return cmp.Or(cmp.Compare(a.Trust, b.Trust), strings.Compare(a.Name, b.Name))
	})
	return out
}

// Dropped counts what each rule of scope left out since the start; Strangers lists who reports without being known.
func (k *Keeper) Dropped() (byRule map[string]int64, strangers []Strange) {
	k.states.mu.Lock()
	defer k.states.mu.Unlock()
	byRule = map[string]int64{}
	for rule, n := range k.states.byRule {
		byRule[rule] = n
	}
	for _, s := range k.states.strangers {
		strangers = append(strangers, *s)
	}
	slices.SortFunc(strangers, func(a, b Strange) int { return b.Last.Compare(a.Last) })
	return byRule, strangers
}

// floods bounds what is taken about one address in a second. Addresses share places, so that it costs the same whatever
// comes.
type floods struct {
	mu    sync.Mutex
	seed  maphash.Seed
	begun bool
	slots [1 << 14]slot
}

type slot struct {
	second int64
	count  int
}

// perSecond is how many sightings about one address are taken in a second.
const perSecond = 400

func (f *floods) allow(s *core.Sighting, now time.Time, cost int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.begun {
		f.seed, f.begun = maphash.MakeSeed(), true
	}
	var at uint64
	if s.Address.IsValid() {
		at = maphash.Comparable(f.seed, s.Address)
	} else {
		at = maphash.Comparable(f.seed, s.MAC)
	}
	one := &f.slots[at%uint64(len(f.slots))]
	if second := now.Unix(); one.second != second {
		one.second, one.count = second, 0
	}
	one.count += cost
	return one.count <= perSecond
}
