package session

import (
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/store"
)

// Counted is what other nodes are told of a session, or of an admission whose session was not heard of yet, where
// sessions are counted: of a person's sessions everywhere there are only so many.
type Counted struct {
	Who string `json:"who"`
	MAC string `json:"mac,omitempty"`
	// Client, NAS and Session are what it is told apart by; an admission has no Session.
	Client  string    `json:"client,omitempty"`
	NAS     string    `json:"nas,omitempty"`
	Session string    `json:"session,omitempty"`
	Pass    string    `json:"pass,omitempty"`
	Lane    string    `json:"lane,omitempty"`
	Began   time.Time `json:"began"`
	// Silence is how long it counts while its node is silent; zero is for ever.
	Silence time.Duration `json:"silence,omitempty"`
	Over    bool          `json:"over,omitempty"`
}

func countedOf(s *Session) Counted {
	return Counted{Who: s.Who, MAC: s.MAC, Client: s.Client, NAS: s.NAS, Session: s.Session, Pass: s.Pass, Lane: s.Lane,
		Began: s.Began, Silence: s.Silence}
}

// maxUntold bounds what waits to be told: beyond that all is told anew.
const maxUntold = 50_000

// untold is what changed of what is counted since others were told last.
type untold struct {
	mu   sync.Mutex
	on   bool // sessions are counted
	all  bool // all has to be told anew
	list []Counted
}

func (u *untold) add(c Counted) {
	u.mu.Lock()
	defer u.mu.Unlock()
	switch {
	case !u.on || c.Who == "":
	case len(u.list) >= maxUntold:
		u.all, u.list = true, nil
	case !u.all:
		u.list = append(u.list, c)
	}
}

// TakeCounted is what other nodes are to be told since it was called last, all of it if anew is set: what they were
// told before counts no more then. on tells whether sessions are counted.
func (b *Book) TakeCounted(on bool) (list []Counted, anew bool) {
	b.untold.mu.Lock()
	list, anew = b.untold.list, on && (b.untold.all || !b.untold.on)
	b.untold.on, b.untold.all, b.untold.list = on, false, nil
	b.untold.mu.Unlock()
	if anew {
		list = b.AllCounted()
	}
	return list, anew
}

// TellAnew has all told anew: another node has begun, and knows of nothing.
func (b *Book) TellAnew() {
	b.untold.mu.Lock()
	defer b.untold.mu.Unlock()
	b.untold.all, b.untold.list = true, nil
}

// AllCounted are all open sessions of people.
func (b *Book) AllCounted() (out []Counted) {
	for _, e := range *b.order.Load() {
		if s := e.now.Load(); s != nil && s.Who != "" {
			out = append(out, countedOf(s))
		}
	}
	return out
}

// others are the sessions that other nodes told of.
type others struct {
	mu    sync.RWMutex
	byWho map[string][]elsewhereOne
	count int
	// silent is for how long a node has been silent, and whether it is still one.
	silent func(node int) (time.Duration, bool)
}

type elsewhereOne struct {
	Counted
	node  int
	heard time.Time
}

func (o *elsewhereOne) key() key { return key{o.Client, o.NAS, o.Session} }

// maxElsewhere bounds the sessions that other nodes told of.
const maxElsewhere = maxOpen

// Silent sets how it is found out for how long another node has been silent.
func (b *Book) Silent(of func(node int) (silent time.Duration, there bool)) {
	b.others.mu.Lock()
	defer b.others.mu.Unlock()
	b.others.silent = of
}

// Counts takes what another node tells; with anew, what it told before counts no more.
func (b *Book) Counts(node int, list []Counted, anew bool) {
	o := &b.others
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.byWho == nil {
		o.byWho = map[string][]elsewhereOne{}
	}
	if anew {
		for who := range o.byWho {
			o.drop(who, func(one *elsewhereOne) bool { return one.node == node })
		}
	}
	now := time.Now()
	for _, c := range list {
		one := elsewhereOne{c, node, now}
		o.drop(c.Who, func(old *elsewhereOne) bool {
			same := old.node == node && old.key() == one.key() && (c.Session != "" || old.MAC == c.MAC)
			begun := c.Session != "" && old.node == node && old.Session == "" && old.MAC == c.MAC // of that admission
			return same || begun || old.over(now)
		})
		if !c.Over && c.Who != "" && o.count < maxElsewhere && len(o.byWho[c.Who]) < maxRecent {
			o.byWho[c.Who] = append(o.byWho[c.Who], one)
			o.count++
		}
	}
}

// over tells that an admission did not become a session.
func (o *elsewhereOne) over(now time.Time) bool {
	return o.Session == "" && now.Sub(o.heard) > beginsWithin
}

func (o *others) drop(who string, gone func(*elsewhereOne) bool) {
	list := o.byWho[who]
	kept := list[:0]
	for i := range list {
		if gone(&list[i]) {
			o.count--
		} else {
			kept = append(kept, list[i])
		}
	}
	if clear(list[len(kept):]); len(kept) == 0 {
		delete(o.byWho, who)
	} else {
		o.byWho[who] = kept
	}
}

// of goes through what other nodes have open of a person.
func (o *others) of(who string, each func(*elsewhereOne)) {
	o.mu.RLock()
	list := append([]elsewhereOne(nil), o.byWho[who]...)
	silent := o.silent
	o.mu.RUnlock()
	now := time.Now()
	for i := range list {
		one := &list[i]
		if one.over(now) {
			continue
		}
		if silent != nil {
			if long, there := silent(one.node); !there || one.Silence > 0 && long > one.Silence {
				continue
			}
		}
		each(one)
	}
}

// FindBy returns an open session by what its client tells it apart by; nil if it is not open.
func (b *Book) FindBy(client, nas, session string) *Session {
	b.mu.RLock()
	defer b.mu.RUnlock()
	if e := b.open[key{client, nas, session}]; e != nil {
		return e.now.Load()
	}
	return nil
}

// away is a session that another node has open.
func (o *elsewhereOne) away() *Session {
	return &Session{Node: o.node, Accounted: store.Accounted{Who: o.Who, MAC: o.MAC, Client: o.Client, NAS: o.NAS,
		Session: o.Session, Pass: o.Pass, Lane: o.Lane, Began: o.Began}}
}

// elsewhereOf goes through what other nodes have open of a person, and is not open here.
func (b *Book) elsewhereOf(who string, each func(*elsewhereOne)) {
	b.others.of(strings.ToLower(who), func(o *elsewhereOne) {
		if o.Session == "" || b.FindBy(o.Client, o.NAS, o.Session) == nil {
			each(o)
		}
	})
}
