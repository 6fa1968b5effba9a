// Package ident makes identifiers that sort by time and are unique across nodes: 41 bits of milliseconds since 2024,
// 8 bits of node, 14 bits of sequence. As numbers they are the primary keys of records; for people they are written
// as 13 characters of Crockford's base 32.
package ident

import (
	"fmt"
	"strings"
	"sync"
	"time"
)

// ID is an identifier; 0 is none.
type ID int64

const (
	nodeBits     = 8
	sequenceBits = 14
	alphabet     = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
	length       = 13
)

var epoch = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()

// Source makes identifiers for one node. It is safe for concurrent use.
type Source struct {
	node int64
	mu   sync.Mutex
	last int64 // milliseconds and sequence of the newest identifier
}

// NewSource makes identifiers of the node with that number, 0 to 255.
func NewSource(node uint8) *Source { return &Source{node: int64(node)} }

// New makes an identifier for a moment. Identifiers never repeat and never go backwards, even if the clock does.
func (s *Source) New(at time.Time) ID {
	want := (at.UnixMilli() - epoch) << sequenceBits
	s.mu.Lock()
	s.last = max(s.last+1, want)
	n := s.last
	s.mu.Unlock()
	return ID(n>>sequenceBits<<(nodeBits+sequenceBits) | s.node<<sequenceBits | n&(1<<sequenceBits-1))
}

// Above makes every identifier from now on higher than another, which was made before a restart or by a clock that was
// ahead.
func (s *Source) Above(id ID) {
	n := int64(id)>>(nodeBits+sequenceBits)<<sequenceBits | int64(id)&(1<<sequenceBits-1)
	s.mu.Lock()
	s.last = max(s.last, n)
	s.mu.Unlock()
}

// Time is the moment, to the millisecond, at which the identifier was made.
func (id ID) Time() time.Time {
	return time.UnixMilli(int64(id)>>(nodeBits+sequenceBits) + epoch)
}

// Node is the number of the node that made the identifier.
func (id ID) Node() int { return int(id >> sequenceBits & (1<<nodeBits - 1)) }

// At is the smallest identifier of a moment, for ranges of time.
func At(at time.Time) ID {
	return ID(max(0, at.UnixMilli()-epoch) << (nodeBits + sequenceBits))
}

// String writes the identifier in 13 characters.
func (id ID) String() string {
	var out [length]byte
	for i := length - 1; i >= 0; i-- {
		out[i] = alphabet[id&31]
		id >>= 5
	}
	return string(out[:])
}

// Parse reads an identifier as String writes it, without regard to case.
func Parse(text string) (ID, error) {
	if len(text) != length {
		return 0, fmt.Errorf("%q is not an identifier: it needs %d characters", text, length)
	}
	var id ID
	for _, c := range strings.ToUpper(text) {
		digit := strings.IndexRune(alphabet, c)
		if digit < 0 {
			return 0, fmt.Errorf("%q is not an identifier: it holds %q", text, c)
		}
		id = id<<5 | ID(digit)
	}
	if id < 0 {
		return 0, fmt.Errorf("%q is not an identifier: it is out of range", text)
	}
	return id, nil
}
