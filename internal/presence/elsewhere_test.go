package presence

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
)

// A round of lookups is over in its time, as long as that is no more than directories bear.
func TestARoundOfLookupsIsOverInItsTime(t *testing.T) {
	rounds := int(regroupWithin / paceEvery)
	for _, people := range []int{0, 1, 7_999, 8_000, 8_001, 20_000, 48_000, 1_000_000} {
		some := paceOf(people)
		if some*rounds < people && some != mostAtOnce || some > mostAtOnce || some < 1 {
			t.Errorf("%d people: %d at once", people, some)
		}
	}
}

// How sources and subscribers do is known of all nodes: the one that heard of each last tells, what was counted is
// brought together, and a node that went silent counts no more.
func TestHowSourcesDoElsewhere(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	c := &config.Config{Sources: []*config.Source{{ID: "s1", Name: "relays", Way: config.SourceDHCP, Enabled: true,
		Minutes: 10}}, Subscribers: []*config.Subscriber{{ID: "f1", Name: "wall", Enabled: true}}}
	node := func(tell func(*Doing)) *Keeper {
		return Open(Options{Config: func() *config.Config { return c }, Log: slog.New(slog.DiscardHandler),
			Now: func() time.Time { return now }, TellDoing: tell})
	}
	b := node(nil)
	a := node(func(d *Doing) { // over the wire
		d.Node = "first"
		text, err := json.Marshal(d)
		var heard Doing
		if err != nil || json.Unmarshal(text, &heard) != nil {
			t.Fatal(err)
		}
		b.HeardDoing(&heard)
	})
	source := &Source{Source: *c.Sources[0]}
	of := func(k *Keeper) State {
		for _, s := range k.SourcesEverywhere() {
			if s.Name == "relays" {
				return s
			}
		}
		return State{}
	}
	b.Refuse(source, "long ago")
	now = now.Add(time.Hour)
	a.Refuse(source, "it is no DHCP message")
	a.Note(c.Subscribers[0], func(f *Follower, _ time.Time) { f.Told = 7 })
	b.Note(c.Subscribers[0], func(f *Follower, _ time.Time) { f.Told, f.Contact = 3, now.Add(-time.Hour) })
	a.tellDoing(now)
	if s := of(b); s.Node != "first" || s.Refused != 2 || s.Fault != "it is no DHCP message" {
		t.Errorf("%+v", s)
	}
	if f := b.FollowersEverywhere()[0]; f.Node != "first" || f.Told != 10 || f.Name != "wall" || !f.Enabled {
		t.Errorf("%+v", f)
	}
	now = now.Add(time.Second)
	b.Refuse(source, "here now")
	if s := of(b); s.Node != "" || s.Fault != "here now" {
		t.Errorf("%+v", s)
	}
	now = now.Add(2 * toldLife)
	if s := of(b); s.Refused != 2 || len(b.others()) != 0 {
		t.Errorf("of a node that went silent %+v", s)
	}
	for i := range 3 * maxNodes {
		b.HeardDoing(&Doing{Node: fmt.Sprint("node ", i), Strangers: []Strange{{Count: 1}}})
	}
	b.HeardDoing(&Doing{Node: "large", Followers: make([]Follower, maxDoing+1)})
	if n := len(b.StrangersEverywhere()); n != maxNodes {
		t.Errorf("%d nodes are remembered", n)
	}
}
