package factor

import (
	"strings"
	"sync"
	"time"
)

// maxRests bounds who is remembered to have given a code; beyond, people are asked again.
const maxRests = 50_000

// longest is for how long anybody is remembered.
const longest = 24 * time.Hour

// place is a person on a client, from somewhere.
type place struct{ person, client, from string }

// recent remembers when codes were given.
type recent struct {
	mu    sync.Mutex
	given map[place]time.Time
}

func (r *recent) forget(person string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for p := range r.given {
		if p.person == person {
			delete(r.given, p)
		}
	}
}

// Given notes that a person gave a code on a client, from an address.
func (k *Keeper) Given(store, name, client, from string, now time.Time) {
	r := &k.recent
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.given) >= maxRests {
		for p, at := range r.given {
			if now.Sub(at) > longest {
				delete(r.given, p)
			}
		}
	}
	if len(r.given) < maxRests {
		r.given[place{key(store, name), strings.ToLower(client), from}] = now
	}
}

// GivenLately tells when a person last gave a code on a client from an address, if that is no longer ago than a time
// and the person still has a second factor.
func (k *Keeper) GivenLately(store, name, client, from string, within time.Duration, now time.Time) (time.Time, bool) {
	if within <= 0 || from == "" || !k.Enrolled(store, name, now) {
		return time.Time{}, false
	}
	r := &k.recent
	r.mu.Lock()
	defer r.mu.Unlock()
	at, ok := r.given[place{key(store, name), strings.ToLower(client), from}]
	return at, ok && now.Sub(at) < within
}
