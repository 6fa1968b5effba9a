package presence

import (
	"sync"
	"time"
)

const (
	// tellEvery is how often other nodes are told how sources and subscribers do here, toldLife how long that counts.
	tellEvery = 5 * time.Second
	toldLife  = 30 * time.Second
	// maxNodes bounds the nodes of which that is remembered, maxDoing the lines of each.
	maxNodes = 32
	maxDoing = 2000
)

// Doing is how sources and subscribers do at a node: those of which it has seen anything, and who is no source.
type Doing struct {
	Node      string     `json:"node"`
	Sources   []State    `json:"sources"`
	Followers []Follower `json:"followers"`
	Strangers []Strange  `json:"strangers"`
}

// elsewhere is how they do at other nodes.
type elsewhere struct {
	mu   sync.Mutex
	of   map[string]heardDoing
	told time.Time
}

type heardDoing struct {
	Doing
	at time.Time
}

// tellDoing tells other nodes how sources and subscribers do here.
func (k *Keeper) tellDoing(now time.Time) {
	k.elsewhere.mu.Lock()
	due := k.o.TellDoing != nil && (now.Sub(k.elsewhere.told) >= tellEvery || now.Before(k.elsewhere.told))
	if due {
		k.elsewhere.told = now
	}
	k.elsewhere.mu.Unlock()
	if !due {
		return
	}
	var d Doing
	for _, s := range k.Sources() {
		if !s.Seen.IsZero() || s.Fault != "" || s.Unread > 0 {
			d.Sources = append(d.Sources, s)
		}
	}
	for _, f := range k.Followers() {
		if !f.Contact.IsZero() || f.Fault != "" {
			d.Followers = append(d.Followers, f)
		}
	}
	_, d.Strangers = k.Dropped()
	k.o.TellDoing(&d)
}

// HeardDoing takes what another node tells of that.
func (k *Keeper) HeardDoing(d *Doing) {
	if d.Node == "" || len(d.Sources)+len(d.Followers)+len(d.Strangers) > maxDoing {
		return
	}
	now := k.o.Now()
	k.elsewhere.mu.Lock()
	defer k.elsewhere.mu.Unlock()
	if k.elsewhere.of == nil {
		k.elsewhere.of = map[string]heardDoing{}
	}
	for node, other := range k.elsewhere.of {
		if now.Sub(other.at) > toldLife || now.Before(other.at) {
			delete(k.elsewhere.of, node)
		}
	}
	if _, known := k.elsewhere.of[d.Node]; known || len(k.elsewhere.of) < maxNodes {
		k.elsewhere.of[d.Node] = heardDoing{*d, now}
	}
}

// others are what other nodes told lately.
func (k *Keeper) others() (out []Doing) {
	now := k.o.Now()
	k.elsewhere.mu.Lock()
	defer k.elsewhere.mu.Unlock()
	for _, d := range k.elsewhere.of {
		if now.Sub(d.at) <= toldLife && !now.Before(d.at) {
			out = append(out, d.Doing)
		}
	}
	return out
}

// SourcesEverywhere lists how sources do at all nodes: as the node tells that heard of each last, whose name is in Node
// where that is another one. What was counted is brought together.
func (k *Keeper) SourcesEverywhere() []State {
	list, others := k.Sources(), k.others()
	for i := range list {
		s := &list[i]
		for _, d := range others {
			for j := range d.Sources {
				if o := &d.Sources[j]; o.Name == s.Name && o.Way == s.Way {
					s.join(o, d.Node)
				}
			}
		}
	}
	return list
}

// join brings in how the same source does at another node.
func (s *State) join(o *State, node string) {
	s.Taken, s.LeftOut, s.Refused, s.Unread = s.Taken+o.Taken, s.LeftOut+o.LeftOut, s.Refused+o.Refused,
		s.Unread+o.Unread
	s.Hosts += o.Hosts
	s.Lost = append(s.Lost, o.Lost...)
	if last(o.Seen, o.FaultAt).After(last(s.Seen, s.FaultAt)) {
		s.Node, s.Seen, s.Fault, s.FaultAt = node, o.Seen, o.Fault, o.FaultAt
	}
}

func last(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// FollowersEverywhere lists how subscribers do at all nodes: as the node tells that had contact with each last.
func (k *Keeper) FollowersEverywhere() []Follower {
	list, others := k.Followers(), k.others()
	for i := range list {
		f := &list[i]
		for _, d := range others {
			for _, o := range d.Followers {
				if o.ID != f.ID {
					continue
				}
				told := f.Told + o.Told
				if o.Contact.After(f.Contact) || f.Contact.IsZero() && f.Fault == "" {
					o.Name, o.Enabled, o.Node = f.Name, f.Enabled, d.Node
					*f = o
				}
				f.Told = told
			}
		}
	}
	return list
}

// StrangersEverywhere lists who reports without being a source, to any node.
func (k *Keeper) StrangersEverywhere() []Strange {
	_, list := k.Dropped()
	for _, d := range k.others() {
		for _, s := range d.Strangers {
			s.Node = d.Node
			list = append(list, s)
		}
	}
	return list
}
