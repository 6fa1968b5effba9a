package session

import (
	"crypto/rand"
	"encoding/hex"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/store"
)

const (
	// maxGiven bounds the admissions that wait for their session.
	maxGiven = 1 << 16
	// joinedByName is how long an admission is joined to a session that does not name it by its Class.
	joinedByName = 5 * time.Minute
	// classPrefix begins our value of Class (RFC 2865 section 5.25), which clients send back in accounting.
	classPrefix = "tk"
)

// Given is what an attempt was given: what its session is joined with.
type Given struct {
	At                        time.Time
	Client, Who, Display, MAC string
	Lane, Pass, VLAN          string
	// Class is what the client sends back, in hexadecimal digits.
	Class string
	// Counted tells that the configuration counts sessions, so that it counts before its session is heard of.
	Counted bool
}

// given remembers admissions until their sessions begin.
type given struct {
	mu      sync.Mutex
	byClass map[string]*Given
	byName  map[name]*Given
	ring    []*Given
	next    int
	// recent are the latest of each person, whose sessions may be about to begin.
	recent map[string][]*Given
}

const (
	// beginsWithin is how long a session that was admitted counts as open before it is heard of; maxRecent bounds how
	// many of one person do.
	beginsWithin = 30 * time.Second
	maxRecent    = 64
)

// note keeps an admission among the latest of its person.
func (g *given) note(v *Given) {
	list := g.recent[v.Who]
	for len(list) > 0 && (len(list) >= maxRecent || v.At.Sub(list[0].At) > beginsWithin) {
		list = list[1:]
	}
	g.recent[v.Who] = append(list, v)
}

// begun notes that the session of an admission has begun: from now on it counts as long as it is open.
func (g *given) begun(who, mac string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if list := g.recent[who]; len(list) > 0 {
		g.recent[who] = slices.DeleteFunc(slices.Clone(list), func(v *Given) bool { return v.MAC == mac })
	}
}

// begin calls a function for each admission of a person that was given lately.
func (g *given) begin(who string, now time.Time, each func(*Given)) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, v := range g.recent[who] {
		if now.Sub(v.At) <= beginsWithin {
			each(v)
		}
	}
}

type name struct{ client, mac, who string }

// nameOf tells people on a device of a client apart; a client reports them with a realm or without.
func nameOf(client, mac, who string) name {
	_, who, _ = facts.SplitName(who)
	return name{client, mac, who}
}

func (g *given) init() {
	g.byClass, g.byName, g.ring = map[string]*Given{}, map[name]*Given{}, make([]*Given, maxGiven)
	g.recent = map[string][]*Given{}
}

// NewClass makes a value of Class that nobody can guess, and how it is recorded.
func NewClass() (value []byte, recorded string) {
	value = make([]byte, len(classPrefix)+8)
	copy(value, classPrefix)
	rand.Read(value[len(classPrefix):])
	return value, hex.EncodeToString(value[len(classPrefix):])
}

// readClass is how a value of Class is recorded; "" if it is not ours.
func readClass(value []byte) string {
	rest, ours := strings.CutPrefix(string(value), classPrefix)
	if !ours || len(rest) != 8 {
		return ""
	}
	return hex.EncodeToString([]byte(rest))
}

// Gave notes what an attempt was given, for the session that follows.
func (b *Book) Gave(v Given) {
	b.given.add(&v)
	if v.Counted {
		b.untold.add(Counted{Who: v.Who, MAC: v.MAC, Pass: v.Pass, Lane: v.Lane, Began: v.At})
	}
}

func (g *given) add(v *Given) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if old := g.ring[g.next]; old != nil {
		delete(g.byClass, old.Class)
		if n := nameOf(old.Client, old.MAC, old.Who); g.byName[n] == old {
			delete(g.byName, n)
		}
		if list := g.recent[old.Who]; len(list) > 0 && list[len(list)-1] == old {
			delete(g.recent, old.Who)
		}
	}
	if v.Counted {
		g.note(v)
	}
	g.ring[g.next] = v
	g.next = (g.next + 1) % len(g.ring)
	if v.Class != "" {
		g.byClass[v.Class] = v
	}
	g.byName[nameOf(v.Client, v.MAC, v.Who)] = v
}

// find returns what a session was given: by its Class, else by name, address and client, lately. foreign tells that the
// Class was given to another client.
func (g *given) find(class, client, mac, who string, now time.Time) (v *Given, foreign bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if v = g.byClass[class]; v != nil && class != "" {
		if v.Client == client {
			return v, false
		}
		return nil, true
	}
	if v = g.byName[nameOf(client, mac, who)]; v != nil && now.Sub(v.At) < joinedByName {
		return v, false
	}
	return nil, false
}

// again returns what the person of an open session was given when it was authenticated again, by the Class that its
// client sends now or else by name, address and client; nil if it was not, lately.
func (g *given) again(a *store.Accounted, before *Session) *Given {
	g.mu.Lock()
	defer g.mu.Unlock()
	v := g.byClass[a.Class]
	if a.Class == "" || a.Class == before.Class {
		v = g.byName[nameOf(before.Client, before.MAC, before.Who)]
	}
	if v == nil || v.Client != before.Client || v.Class == before.Class || !v.At.After(before.Began) ||
		time.Since(v.At) > joinedByName {
		return nil
	}
	return v
}
