package session

import (
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store"
)

const (
	// maxOpen bounds the sessions that are open, maxOfClient those of one client: beyond that its oldest is given up.
	maxOpen     = 1_000_000
	maxOfClient = 600_000
	// maxEnded bounds the sessions that are remembered after their end, to recognise a stop that is sent again.
	maxEnded = 50_000
	// maxStamps bounds the devices whose latest Event-Timestamp is remembered; one that is further ahead than maxAhead
	// is not, since it would lock the device out.
	maxStamps = 100_000
	maxAhead  = 5 * time.Minute
	// slack is how much the bounds may be passed by what is under way at once.
	slack = 20_000
)

// Session is one that is open, or was when it was looked at. It is never changed: what a client reports makes a new
// one. Its identifier is that of the record that began it; time and kind are those of the last record.
type Session struct {
	store.Accounted
	// Records counts what was recorded of it.
	Records int
	// Node is the number of the node that has it open, of one that another node told of; then it has no identifier.
	Node int `json:"-"`
}

// key is what a client tells its sessions apart by. The same session identifier of another client, or of another
// device under the same client, is another session.
type key struct{ client, nas, session string }

// device is one that sends accounting.
type device struct{ client, nas string }

func deviceOf(a *store.Accounted) device { return device{a.Client, a.NAS} }

func keyOf(a *store.Accounted) key { return key{a.Client, a.NAS, a.Session} }

// entry is the place of a session in the book.
type entry struct {
	now atomic.Pointer[Session] // nil after its end
	// heard is when something was last heard of it, by the monotonic clock: only the time that the service runs counts.
	heard          time.Time
	before, behind *entry // of the same person
	leaving        bool   // it is given up, and its end on the way to the disk
}

// Book holds the sessions that are open: what the records of accounting come to. It is safe for concurrent use.
type Book struct {
	leases *Keeper

	mu      sync.RWMutex
	open    map[key]*entry
	byWho   map[string]*entry // the first of each person
	clients map[string]int    // how many of each are open and not leaving
	ended   map[key]last
	queue   []key // of ended, in order
	dirty   map[ident.ID]*entry
	applied ident.ID
	busy    map[key]chan struct{}
	leaving int // entries that are leaving
	// stamps are the latest Event-Timestamps, by device.
	stamps map[device]time.Time
	// order holds all entries by identifier. It is only appended to, or replaced: a reader needs no lock.
	order atomic.Pointer[[]*entry]
	gone  int // entries in order that are over

	given  given
	untold untold
	others others
}

// last is how a session ended.
type last struct {
	at                time.Time
	seconds, in, out_ int64
}

func newBook(leases *Keeper) *Book {
	b := &Book{leases: leases, open: map[key]*entry{}, byWho: map[string]*entry{}, clients: map[string]int{},
		ended: map[key]last{}, dirty: map[ident.ID]*entry{}, busy: map[key]chan struct{}{},
		stamps: map[device]time.Time{}}
	b.order.Store(&[]*entry{})
	b.given.init()
	return b
}

// written applies records, each batch after its commit.
func (b *Book) written(list []*store.Accounted) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, a := range list {
		b.apply(a)
		b.applied = max(b.applied, a.ID)
	}
}

func (b *Book) apply(a *store.Accounted) {
	b.stamped(a)
	if a.Kind == store.AccountingOn || a.Kind == store.AccountingOff {
		return
	}
	k := keyOf(a)
	e := b.open[k]
	switch {
	case a.Ends():
		b.remember(k, a)
		if e != nil {
			b.close(k, e, a.Cause != CauseElsewhere) // of one that goes on elsewhere the address is in use
		}
	case e == nil && a.Kind == store.AccountingAsked: // it ended meanwhile
	case e == nil || a.Of == 0: // begins
		if e != nil {
			b.close(k, e, true)
		}
		if len(b.open) < maxOpen+slack {
			s := &Session{Accounted: *a, Records: 1}
			s.Of = 0 // where it goes on after it was counted as over
			b.begin(k, s, time.Now())
		}
	case a.Kind == store.AccountingAsked:
		next := *e.now.Load()
		if next.VLAN != a.VLAN { // what the device makes of it, it has not said yet
			next.Applied = ""
		}
		next.Note, next.Records, next.Pass, next.VLAN = a.Note, next.Records+1, a.Pass, a.VLAN
		b.untold.add(countedOf(&next))
		e.now.Store(&next)
		b.dirty[next.ID] = e
	default:
		b.update(e, a)
	}
}

// stamped remembers the latest Event-Timestamp of a device.
func (b *Book) stamped(a *store.Accounted) {
	d := deviceOf(a)
	if last, known := b.stamps[d]; a.Stamp.After(last) && !a.Stamp.After(a.At.Add(maxAhead)) &&
		(known || len(b.stamps) < maxStamps) {
		b.stamps[d] = a.Stamp
	}
}

func (b *Book) begin(k key, s *Session, heard time.Time) {
	e := &entry{heard: heard}
	s.Attributes, s.To, s.Raw = nil, "", nil
	b.given.begun(s.Who, s.MAC)
	b.untold.add(countedOf(s))
	e.now.Store(s)
	b.open[k] = e
	b.clients[k.client]++
	if s.Who != "" {
		if e.behind = b.byWho[s.Who]; e.behind != nil {
			e.behind.before = e
		}
		b.byWho[s.Who] = e
	}
	order := append(*b.order.Load(), e)
	b.order.Store(&order)
	b.dirty[s.ID] = e
	b.hold(s)
}

// update makes what a session is after another record. Counters never go back, nor does time.
func (b *Book) update(e *entry, a *store.Accounted) {
	next := *e.now.Load()
	if a.At.After(next.At) {
		next.At = a.At
	}
	next.Kind, next.Silence, next.Source = a.Kind, a.Silence, a.Source
	if a.Stamp.After(next.Stamp) {
		next.Stamp = a.Stamp
	}
	if a.Class != next.Class { // authenticated again
		next.Class, next.Lane, next.Pass, next.VLAN = a.Class, a.Lane, a.Pass, a.VLAN
		b.untold.add(countedOf(&next))
	}
	next.Seconds, next.In, next.Out = max(next.Seconds, a.Seconds), max(next.In, a.In), max(next.Out, a.Out)
	next.PacketsIn, next.PacketsOut = max(next.PacketsIn, a.PacketsIn), max(next.PacketsOut, a.PacketsOut)
	for to, from := range map[*string]string{&next.Address: a.Address, &next.Applied: a.Applied, &next.Note: a.Note,
		&next.Place: a.Place, &next.MAC: a.MAC} {
		if from != "" {
			*to = from
		}
	}
	next.Records++
	e.heard = time.Now()
	e.now.Store(&next)
	b.dirty[next.ID] = e
	b.hold(&next)
}

// close takes a session off the book, and frees its address if that is so.
func (b *Book) close(k key, e *entry, free bool) {
	s := e.now.Load()
	over := countedOf(s)
	over.Over = true
	b.untold.add(over)
	e.now.Store(nil)
	delete(b.open, k)
	if e.leaving {
		b.leaving--
	} else {
		b.fewer(k.client)
	}
	if e.before != nil {
		e.before.behind = e.behind
	} else if s.Who != "" && b.byWho[s.Who] == e {
		if e.behind != nil {
			b.byWho[s.Who] = e.behind
		} else {
			delete(b.byWho, s.Who)
		}
	}
	if e.behind != nil {
		e.behind.before = e.before
	}
	e.before, e.behind = nil, nil
	b.dirty[s.ID] = e
	if b.gone++; b.gone > 1000 && b.gone*2 > len(*b.order.Load()) {
		b.compact()
	}
	if addr, err := netip.ParseAddr(s.Address); err == nil && b.leases != nil && free {
		b.leases.Ended(addr, s.Client, s.Display)
	}
}

// fewer counts one session less of a client.
func (b *Book) fewer(client string) {
	if b.clients[client]--; b.clients[client] <= 0 {
		delete(b.clients, client)
	}
}

// compact leaves out what is over. Readers go on with the list they have.
func (b *Book) compact() {
	var kept []*entry
	for _, e := range *b.order.Load() {
		if e.now.Load() != nil {
			kept = append(kept, e)
		}
	}
	b.order.Store(&kept)
	b.gone = 0
}

// hold keeps an address of a pool for as long as its session may be silent.
func (b *Book) hold(s *Session) {
	if s.Address == "" || b.leases == nil {
		return
	}
	if addr, err := netip.ParseAddr(s.Address); err == nil {
		b.leases.Hold(addr, s.Client, s.Display, time.Now(), s.Silence)
	}
}

// remember keeps how a session ended.
func (b *Book) remember(k key, a *store.Accounted) {
	if _, known := b.ended[k]; !known {
		b.queue = append(b.queue, k)
		if len(b.queue) > maxEnded {
			delete(b.ended, b.queue[0])
			b.queue = b.queue[1:]
		}
	}
	b.ended[k] = last{a.At, a.Seconds, a.In, a.Out}
}

// Len counts the sessions that are open.
func (b *Book) Len() int {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return len(b.open)
}

// of goes through what is open of a person.
func (b *Book) of(who string, each func(*Session)) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	for e := b.byWho[who]; e != nil; e = e.behind {
		if s := e.now.Load(); s != nil {
			each(s)
		}
	}
}
