package operator

import (
	"hash/maphash"
	"strings"
	"sync"
	"time"
)

const (
	// nameBurst wrong passwords for one name from places that are not known to be its operator's, then one every
	// nameEvery.
	nameBurst = 100
	nameEvery = time.Minute
	// nameSlots is how many counters there are. Names share them by a hash that nobody else can compute.
	nameSlots = 1 << 14
)

// names count wrong passwords by the name they were given for, whether there is such an operator or not. What is kept
// is of a fixed size and nothing is ever pushed out of it: names that are made up fill counters that belong to
// nobody in particular, too few of them to matter.
type names struct {
	now  func() time.Time
	seed maphash.Seed

	mu    sync.Mutex
	begun time.Time
	slots [nameSlots]spent
}

// spent is how many guesses of a name are used up, as of a second since the beginning.
type spent struct {
	many float32
	at   uint32
}

func newNames() *names { return &names{now: time.Now, seed: maphash.MakeSeed(), begun: time.Now()} }

// alike is a name as it is counted.
func alike(name string) string { return strings.ToLower(strings.TrimSpace(name)) }

// of is the counter of a name as it is now. The caller holds the lock.
func (n *names) of(name string) *spent {
	s := &n.slots[maphash.String(n.seed, alike(name))%nameSlots]
	now := uint32(max(0, n.now().Sub(n.begun)/time.Second))
	if now > s.at { // it stays as it is while the clock is behind
		s.many = max(0, s.many-float32(now-s.at)/float32(nameEvery/time.Second))
		s.at = now
	}
	return s
}

// take counts a guess, and reports false if there were too many.
func (n *names) take(name string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	s := n.of(name)
	if s.many+1 > nameBurst {
		return false
	}
	s.many++
	return true
}

// back takes one out of the count again, since the password was right.
func (n *names) back(name string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	s := n.of(name)
	s.many = max(0, s.many-1)
}
