package presence

// wheel remembers when something is due, to the second.
type wheel struct {
	claims map[second][]*claim
	leases map[second][]*place
	done   second
}

func newWheel() wheel { return wheel{claims: map[second][]*claim{}, leases: map[second][]*place{}} }

// put has a claim, or the lease of an address, looked at at a moment. One that is looked at earlier anyway is not put
// again.
func (w *wheel) put(at int64, c *claim, p *place) {
	slot := max(secondOf(at+999), w.done+1)
	due := dueOf(c, p)
	if *due > w.done && *due <= slot {
		return
	}
	*due = slot
	if c != nil {
		w.claims[slot] = append(w.claims[slot], c)
	} else {
		w.leases[slot] = append(w.leases[slot], p)
	}
}

// dueOf is where it is noted when something is due.
func dueOf(c *claim, p *place) *second {
	if c != nil {
		return &c.due
	}
	return &p.lease.due
}

// due hands out what is due.
func (w *wheel) due(now int64, each func(*claim, *place)) {
	slot := secondOf(now)
	if w.done == 0 { // the first time: nothing was put before what is kept
		w.done = slot - 1
		for s := range w.claims {
			w.done = min(w.done, s-1)
		}
		for s := range w.leases {
			w.done = min(w.done, s-1)
		}
	}
	for ; w.done < slot; w.done++ {
		at := w.done + 1
		claims, leases := w.claims[at], w.leases[at]
		delete(w.claims, at)
		delete(w.leases, at)
		for _, c := range claims {
			if c.due == at { // else it was put elsewhere since
				c.due = 0
				each(c, nil)
			}
		}
		for _, p := range leases {
			if p.lease != nil && p.lease.due == at {
				p.lease.due = 0
				each(nil, p)
			}
		}
	}
}
