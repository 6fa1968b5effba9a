package presence

// wheel remembers when something is due, to the second.
type wheel struct {
	slots map[second][]item
	done  second
}

type item struct {
	claim *claim
	place *place
}

func newWheel() wheel { return wheel{slots: map[second][]item{}} }

// put has a claim, or the lease of an address, looked at at a moment. One that is looked at earlier anyway is not put
// again.
func (w *wheel) put(at int64, c *claim, p *place) {
	slot := max(secondOf(at+999), w.done+1)
	due := dueOf(c, p)
	if *due > w.done && *due <= slot {
		return
	}
	*due = slot
	w.slots[slot] = append(w.slots[slot], item{c, p})
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
		for s := range w.slots {
			w.done = min(w.done, s-1)
		}
	}
	for ; w.done < slot; w.done++ {
		list := w.slots[w.done+1]
		if list == nil {
			continue
		}
		delete(w.slots, w.done+1)
		for _, one := range list {
			switch {
			case one.claim != nil && one.claim.due == w.done+1:
				one.claim.due = 0
			case one.place != nil && one.place.lease != nil && one.place.lease.due == w.done+1:
				one.place.lease.due = 0
			default: // it was put elsewhere since
				continue
			}
			each(one.claim, one.place)
		}
	}
}
