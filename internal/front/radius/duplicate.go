package radius

import (
	"net/netip"
	"sync"
	"time"
)

const (
	// remembered is how long a reply is kept for retransmissions (RFC 5080 section 2.2.2).
	remembered = 10 * time.Second
	// maxRemembered bounds the replies kept in each shard.
	maxRemembered = 1 << 14
	shards        = 16
)

// request identifies a request as RFC 2865 section 3 does.
type request struct {
	source     netip.AddrPort
	identifier byte
}

// answer is what became of a request; reply is nil while it is being worked on, or if it was never answered.
type answer struct {
	authenticator [16]byte
	at            time.Time
	reply         []byte
	// held tells that the reply may come later than others are remembered for; over that it has come, or never will.
	held, over bool
}

// duplicates remembers requests, so that a retransmission is answered from here and the work is never done twice.
type duplicates struct {
	shards [shards]struct {
		mu    sync.Mutex
		known map[request]*answer
		order []aged // in the order of arrival, from head
		head  int
	}
}

type aged struct {
	key    request
	answer *answer
}

func newDuplicates() *duplicates {
	d := &duplicates{}
	for i := range d.shards {
		d.shards[i].known = map[request]*answer{}
	}
	return d
}

// arrive notes a request. If it is a retransmission, again is true and reply is what to send, nil for nothing yet.
// A new authenticator under the same identifier is a new request that takes the place of the old one.
func (d *duplicates) arrive(key request, authenticator [16]byte, now time.Time) (entry *answer, reply []byte,
	again bool) {
	s := &d.shards[(uint(key.identifier)^uint(key.source.Port()))%shards]
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.known[key]; old != nil && old.authenticator == authenticator &&
		(old.held || now.Sub(old.at) < remembered) {
		return old, old.reply, true
	}
	for n := len(s.order) - s.head; n > 0 && (now.Sub(s.order[s.head].answer.at) >= remembered ||
		len(s.order)-s.head >= maxRemembered); n-- {
		switch old := s.order[s.head]; {
		case s.known[old.key] != old.answer:
		case old.answer.held && len(s.order)-s.head < maxRemembered: // and goes on being remembered
			old.answer.at = now
			s.order = append(s.order, old)
		default:
			delete(s.known, old.key)
		}
		s.order[s.head] = aged{}
		s.head++
	}
	if s.head > 1024 && s.head*2 > len(s.order) {
		s.order = append(s.order[:0], s.order[s.head:]...)
		s.head = 0
	}
	entry = &answer{authenticator: authenticator, at: now}
	s.known[key] = entry
	s.order = append(s.order, aged{key, entry})
	return entry, nil, false
}

// forget drops a request that was not taken after all, so that its retransmission is. A nil entry is that of a request
// that cannot come again, and nothing is remembered of it.
func (d *duplicates) forget(key request, entry *answer) {
	if entry == nil {
		return
	}
	s := &d.shards[(uint(key.identifier)^uint(key.source.Port()))%shards]
	s.mu.Lock()
	defer s.mu.Unlock()
	if entry.held, entry.over = false, true; s.known[key] == entry {
		delete(s.known, key)
	}
}

// hold remembers a request until its reply comes, however long that takes.
func (d *duplicates) hold(key request, entry *answer) {
	if entry == nil {
		return
	}
	s := &d.shards[(uint(key.identifier)^uint(key.source.Port()))%shards]
	s.mu.Lock()
	entry.held = !entry.over
	s.mu.Unlock()
}

// answered keeps the reply of a request.
func (d *duplicates) answered(key request, entry *answer, reply []byte) {
	if entry == nil {
		return
	}
	s := &d.shards[(uint(key.identifier)^uint(key.source.Port()))%shards]
	s.mu.Lock()
	if entry.held { // it came long after the request
		entry.at = time.Now()
	}
	entry.reply, entry.held, entry.over = reply, false, true
	s.mu.Unlock()
}
