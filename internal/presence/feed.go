package presence

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
)

// keptChanges is how many changes are kept for subscribers that come back.
const keptChanges = 1 << 17

// feed are the latest changes, numbered. Their numbers are of this start of this node: a subscriber that comes from
// another one is told to take everything anew.
type feed struct {
	epoch string
	mu    sync.Mutex
	ring  []numbered
	next  uint64 // number of the next change
	news  chan struct{}
}

type numbered struct {
	core.Change
	at time.Time
}

func (f *feed) open() {
	var raw [6]byte
	rand.Read(raw[:])
	f.epoch, f.next, f.news = hex.EncodeToString(raw[:]), 1, make(chan struct{})
}

func (f *feed) add(list []core.Change, now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, c := range list {
		if at := int((f.next - 1) % keptChanges); at < len(f.ring) {
			f.ring[at] = numbered{c, now}
		} else {
			f.ring = append(f.ring, numbered{c, now})
		}
		f.next++
	}
	close(f.news)
	f.news = make(chan struct{})
}

// after copies changes after a number, up to a limit; ok is false if some of them are not there any more.
func (f *feed) after(n uint64, limit int, out []numbered) (list []numbered, news <-chan struct{}, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if n+1 < f.next-min(f.next-1, uint64(len(f.ring))) || n >= f.next {
		return nil, f.news, false
	}
	for at := n + 1; at < f.next && len(out) < limit; at++ {
		out = append(out, f.ring[(at-1)%keptChanges])
	}
	return out, f.news, true
}

func (f *feed) head() uint64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.next - 1
}

// Position is a place in the changes, as subscribers keep it.
func (k *Keeper) position(n uint64) string { return fmt.Sprintf("%s-%d", k.feed.epoch, n) }

// parsePosition reads one; ok is false for one of another start or node.
func (k *Keeper) parsePosition(text string) (n uint64, ok bool) {
	epoch, number, found := strings.Cut(text, "-")
	n, err := strconv.ParseUint(number, 10, 64)
	return n, found && err == nil && epoch == k.feed.epoch
}

// Filter is what a reader of the feed is told of; empty is everything.
type Filter struct {
	Networks []netip.Prefix
	Groups   []string
}

// FilterOf is that of a subscriber.
func FilterOf(s *config.Subscriber) Filter {
	f := Filter{Groups: s.Groups}
	for _, text := range s.Networks {
		if p, err := config.ParsePrefix(text); err == nil {
			f.Networks = append(f.Networks, p)
		}
	}
	return f
}

func (f *Filter) near(a netip.Addr) bool {
	return len(f.Networks) == 0 ||
		slices.ContainsFunc(f.Networks, func(p netip.Prefix) bool { return p.Contains(a) })
}

func (f *Filter) inGroup(groups []string) bool {
	return len(f.Groups) == 0 || slices.ContainsFunc(groups, func(g string) bool {
		return slices.ContainsFunc(f.Groups, func(wanted string) bool { return strings.EqualFold(g, wanted) })
	})
}

// Fits tells that a reader is told of people in these groups at an address.
func (f *Filter) Fits(a netip.Addr, groups []string) bool { return f.near(a) && f.inGroup(groups) }

// see is a change as a reader sees it. Whoever left the groups of a reader is gone for it.
func (f *Filter) see(c core.Change) (core.Change, bool) {
	if !f.near(c.Address) {
		return c, false
	}
	if !c.Gone && !f.inGroup(c.Groups) {
		c = core.Change{Gone: true, Entry: core.Entry{Address: c.Address, Ports: c.Ports, Who: c.Who}}
	}
	return c, true
}

// Told is a change with its position.
type Told struct {
	core.Change
	Position string
	At       time.Time
}

// ErrGap is returned where changes after a position are not there any more, or the position is of another node or
// start: a snapshot is due.
var ErrGap = errors.New("what changed since is not known any more: take a snapshot")

// Changes waits until something changed after a position, or the context ends, and lists it up to a limit; next is the
// position after it.
func (k *Keeper) Changes(ctx context.Context, position string, f Filter, limit int) (list []Told, next string,
	err error) {
	at, ok := k.parsePosition(position)
	if !ok {
		return nil, "", ErrGap
	}
	for {
		batch, news, ok := k.feed.after(at, limit, nil)
		if !ok {
			return nil, "", ErrGap
		}
		for _, one := range batch {
			at++
			if c, mine := f.see(one.Change); mine {
				list = append(list, Told{c, k.position(at), one.at})
			}
		}
		if len(list) > 0 {
			return list, k.position(at), nil
		}
		if len(batch) > 0 {
			continue
		}
		select {
		case <-news:
		case <-ctx.Done():
			return nil, k.position(at), nil
		}
	}
}

// Position is the position of now.
func (k *Keeper) Position() (string, error) {
	if !k.Complete() {
		return "", errors.New("this node has just started, and does not know yet who is where")
	}
	return k.position(k.feed.head()), nil
}

// Snapshot hands out everybody who is somewhere, and returns the position after which changes go on. What changes
// meanwhile may be in both, which does no harm.
func (k *Keeper) Snapshot(f Filter, each func([]core.Entry) error) (position string, err error) {
	at := k.feed.head()
	k.mu.RLock()
	addresses := k.book.Addresses()
	k.mu.RUnlock()
	slices.SortFunc(addresses, netip.Addr.Compare)
	var list []core.Entry
	for len(addresses) > 0 {
		n := min(500, len(addresses))
		list = list[:0]
		now := k.o.Now()
		k.mu.RLock()
		for _, a := range addresses[:n] {
			if !f.near(a) {
				continue
			}
			for _, e := range k.book.Entries(a, now) {
				if f.inGroup(e.Groups) {
					list = append(list, e)
				}
			}
		}
		k.mu.RUnlock()
		addresses = addresses[n:]
		if err := each(list); err != nil {
			return "", err
		}
	}
	return k.position(at), nil
}

// Follower is a subscriber that is connected, or was.
type Follower struct {
	Name, ID string
	Enabled  bool
	From     string
	// Connected is since when it is connected, zero if it is not; Contact is when it last asked or was told something;
	// Snapshot when it took everything last.
	Connected, Contact, Snapshot time.Time
	Told                         int64
	// Behind counts the changes that it has not been told of yet.
	Behind int64
	// Fault is why it is not told, where we tell it.
	Fault string
	// Node is the other node that it is at, "" for this one.
	Node  string
	at    uint64
	count int // connections
}

// followers are the subscribers by name.
type followers struct {
	mu   sync.Mutex
	list map[string]*Follower
}

// Subscriber is the one that shows a token.
func (k *Keeper) Subscriber(token string, from netip.Addr) (*config.Subscriber, error) {
	s := k.current().subscribers[sha256.Sum256([]byte(token))]
	if s == nil || len(s.From) > 0 && !config.Within(s.From, from) {
		return nil, ErrStranger
	}
	return s, nil
}

// Note notes what a subscriber did.
func (k *Keeper) Note(s *config.Subscriber, note func(f *Follower, now time.Time)) {
	k.followers.mu.Lock()
	defer k.followers.mu.Unlock()
	if k.followers.list == nil {
		k.followers.list = map[string]*Follower{}
	}
	f := k.followers.list[s.Name]
	if f == nil {
		f = &Follower{}
		k.followers.list[s.Name] = f
	}
	f.Contact = k.o.Now()
	note(f, f.Contact)
}

// Reached notes how far a follower was told.
func (k *Keeper) Reached(s *config.Subscriber, position string, told int) {
	n, ok := k.parsePosition(position)
	k.Note(s, func(f *Follower, _ time.Time) {
		if f.Told += int64(told); ok {
			f.at = n
		}
		f.Fault = ""
	})
}

// Failed notes that a follower could not be told.
func (k *Keeper) Failed(s *config.Subscriber, why string) {
	k.Note(s, func(f *Follower, _ time.Time) { f.Fault = why })
}

// Connect notes that a subscriber is connected, until what it returns is called; ok is false if it is so often enough.
func (k *Keeper) Connect(s *config.Subscriber, from string, atOnce int) (done func(), ok bool) {
	k.Note(s, func(f *Follower, now time.Time) {
		if ok = f.count < atOnce; !ok {
			return
		}
		if f.count++; f.count == 1 {
			f.Connected = now
		}
		f.From = from
	})
	return func() {
		k.Note(s, func(f *Follower, _ time.Time) {
			if f.count--; f.count == 0 {
				f.Connected = time.Time{}
			}
		})
	}, ok
}

// Followers lists the subscribers with how far each is.
func (k *Keeper) Followers() (out []Follower) {
	head := k.feed.head()
	k.followers.mu.Lock()
	defer k.followers.mu.Unlock()
	for _, s := range k.o.Config().Subscribers {
		f := Follower{}
		if known := k.followers.list[s.Name]; known != nil {
			f = *known
		}
		f.Name, f.ID, f.Enabled = s.Name, s.ID, s.Enabled
		if !f.Contact.IsZero() && f.at > 0 {
			f.Behind = int64(head - min(head, f.at))
		}
		out = append(out, f)
	}
	return out
}
