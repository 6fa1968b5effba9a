package session

import (
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// Count counts the sessions that a person has open on devices other than the one with a MAC address, by pass and by
// lane, here and as other nodes told; nil if there is none. Somebody who was admitted a moment ago counts although the
// session was not heard of yet, so that many devices at once do not slip through.
func (b *Book) Count(who, mac string) *facts.OpenSessions {
	out := facts.OpenSessions{With: map[string]int{}, In: map[string]int{}}
	seen := map[string]bool{}
	b.of(who, func(s *Session) {
		seen[s.MAC] = true
		if s.MAC == "" || s.MAC != mac {
			out.All++
			out.With[strings.ToLower(s.Pass)]++
			out.In[strings.ToLower(s.Lane)]++
		}
	})
	b.given.begin(who, time.Now(), func(v *Given) {
		if v.MAC != "" && v.MAC != mac && !seen[v.MAC] {
			seen[v.MAC] = true
			out.All++
			out.With[strings.ToLower(v.Pass)]++
			out.In[strings.ToLower(v.Lane)]++
		}
	})
	b.elsewhereOf(who, func(o *elsewhereOne) {
		if o.MAC != "" && (o.MAC == mac || o.Session == "" && seen[o.MAC]) {
			return
		}
		if o.Session == "" && o.MAC == "" {
			return
		}
		seen[o.MAC] = true
		out.All++
		out.With[strings.ToLower(o.Pass)]++
		out.In[strings.ToLower(o.Lane)]++
	})
	if out.All == 0 {
		return nil
	}
	return &out
}

// Oldest are the sessions of a person with a pass that began first, on devices other than the one with a MAC address,
// also those that other nodes have open.
func (b *Book) Oldest(who, mac, pass string, n int) []*Session {
	var list []*Session
	b.of(who, func(s *Session) {
		if (s.MAC == "" || s.MAC != mac) && strings.EqualFold(s.Pass, pass) {
			list = append(list, s)
		}
	})
	b.elsewhereOf(who, func(o *elsewhereOne) {
		if o.Session != "" && (o.MAC == "" || o.MAC != mac) && strings.EqualFold(o.Pass, pass) {
			list = append(list, o.away())
		}
	})
	slices.SortFunc(list, func(a, b *Session) int { return a.Began.Compare(b.Began) })
	return list[:min(n, len(list))]
}
