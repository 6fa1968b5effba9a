// Package approval holds the sign-ins that wait for the phone of a person. They are in memory alone, of the node that
// the device asked: whoever is not answered signs in again.
package approval

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"math/big"
	"slices"
	"strings"
	"sync"
	"time"
)

// Verdict is what became of an ask.
type Verdict string

const (
	// Waiting is one that nobody answered yet.
	Waiting Verdict = ""
	// Approved is one that the person approved, with the number that was shown if there was one.
	Approved Verdict = "approve"
	// Refused is one that the person refused, and Alarm one that the person did not begin.
	Refused Verdict = "refuse"
	Alarm   Verdict = "alarm"
	// Mismatched is one that was approved with another number than the one shown.
	Mismatched Verdict = "mismatch"
)

const (
	// maxAsks bounds the asks that wait, maxOfPerson those of one person.
	maxAsks     = 20_000
	maxOfPerson = 3
	// tiredAfter asks of a person within tiredWithin that were not approved, none is sent for tiredFor.
	tiredAfter  = 5
	tiredWithin = 10 * time.Minute
	tiredFor    = 15 * time.Minute
	// maxTired bounds the people who are remembered for that.
	maxTired = 50_000
)

// Errors of Open.
var (
	ErrFull  = errors.New("too many sign-ins wait for approval")
	ErrTired = errors.New("too many sign-ins of this person were not approved lately")
)

// Errors of Answer.
var (
	// ErrOver is returned for an ask that is over, or was never one of the person.
	ErrOver = errors.New("this sign-in does not wait for approval any more")
	// ErrVerdict is returned for a verdict that is none.
	ErrVerdict = errors.New("this is no answer to a sign-in")
)

// Ask is a sign-in as the person is told of it.
type Ask struct {
	ID          string    `json:"id"`
	Store, Name string    `json:"-"`
	Client      string    `json:"client"`
	From        string    `json:"from"`
	Lane        string    `json:"lane"`
	At          time.Time `json:"at"`
	Until       time.Time `json:"until"`
	// Numbered tells that a number was shown at the sign-in, which the person has to give.
	Numbered bool `json:"numbered"`
	// Trial is the operator who tries it out, "" for a real one.
	Trial string `json:"trial,omitempty"`
}

// Ticket is an ask as whoever waits for it holds it.
type Ticket struct {
	Ask
	desk    *Desk
	number  int
	verdict Verdict
	by      string
	then    func(Verdict, string)
}

// Desk holds the asks that wait.
type Desk struct {
	mu     sync.Mutex
	asks   map[string]*Ticket
	people map[string]*person
	raised func(a *Ask, by string)
	opened func(a *Ask)
}

// person is what is remembered of somebody: the asks that wait, those that were not approved lately, until when none is
// sent, and who waits for a new one.
type person struct {
	asks    []*Ticket
	missed  []time.Time
	tired   time.Time
	changed chan struct{}
	watched int
}

// NewDesk makes an empty one. raised is called for each alarm, with the device that raised it; opened for each ask, and
// must not wait.
func NewDesk(raised func(a *Ask, by string), opened func(a *Ask)) *Desk {
	return &Desk{asks: map[string]*Ticket{}, people: map[string]*person{}, raised: raised, opened: opened}
}

func key(store, name string) string { return strings.ToLower(store) + "\x00" + strings.ToLower(name) }

// Number makes a number to show at a sign-in: two digits, of which the first is not 0.
func Number() int {
	n, err := rand.Int(rand.Reader, big.NewInt(90))
	if err != nil { // the source of the system does not fail
		return 10
	}
	return 10 + int(n.Int64())
}

// Open has a person asked. number is what is shown at the sign-in, 0 for nothing. Close has to be called.
func (d *Desk) Open(a Ask, number int, now time.Time) (*Ticket, error) {
	var id [16]byte
	rand.Read(id[:])
	a.ID, a.At, a.Numbered = hex.EncodeToString(id[:]), now, number != 0
	t := &Ticket{Ask: a, desk: d, number: number}
	if err := d.open(t, now); err != nil {
		return nil, err
	}
	d.opened(&a)
	return t, nil
}

func (d *Desk) open(t *Ticket, now time.Time) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	p := d.of(key(t.Store, t.Name), now)
	switch {
	case len(d.asks) >= maxAsks || p == nil:
		return ErrFull
	case p.pausedAt(now) || len(p.asks) >= maxOfPerson:
		return ErrTired
	}
	d.asks[t.ID] = t
	p.asks = append(p.asks, t)
	p.wake()
	return nil
}

// of is what is remembered of a person; nil if there is no room for another one. The caller holds the lock.
func (d *Desk) of(at string, now time.Time) *person {
	p := d.people[at]
	if p != nil {
		return p
	}
	if len(d.people) >= maxTired {
		for k, p := range d.people {
			if len(p.asks) == 0 && p.watched == 0 && !now.Before(p.tired) {
				delete(d.people, k)
			}
		}
		if len(d.people) >= maxTired {
			return nil
		}
	}
	p = &person{changed: make(chan struct{})}
	d.people[at] = p
	return p
}

// wake tells those who wait that the asks are other ones.
func (p *person) wake() {
	close(p.changed)
	p.changed = make(chan struct{})
}

// Pending are the asks of a person that wait, the oldest first. changed is closed when there are other ones; done is to
// be called by whoever waits for that.
func (d *Desk) Pending(store, name string, now time.Time) (list []Ask, changed <-chan struct{}, done func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	at := key(store, name)
	p := d.of(at, now)
	if p == nil {
		return nil, nil, func() {}
	}
	for _, t := range p.asks {
		if t.verdict == Waiting && now.Before(t.Until) {
			list = append(list, t.Ask)
		}
	}
	p.watched++
	return list, p.changed, sync.OnceFunc(func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		p.watched--
		d.forget(at, p)
	})
}

// forget drops what is remembered of somebody for nothing. The caller holds the lock.
func (d *Desk) forget(at string, p *person) {
	if len(p.asks) == 0 && p.watched == 0 && len(p.missed) == 0 && p.tired.IsZero() && d.people[at] == p {
		delete(d.people, at)
	}
}

// Answer answers an ask of a person, by one of the person's devices. It returns what the answer came to: Mismatched if
// another number was shown.
func (d *Desk) Answer(
	store, name, id string,
	verdict Verdict,
	number int,
	by string,
	now time.Time,
) (Verdict, error) {
	if !slices.Contains([]Verdict{Approved, Refused, Alarm}, verdict) {
		return "", ErrVerdict
	}
	d.mu.Lock()
	t := d.asks[id]
	if t == nil || t.verdict != Waiting || key(store, name) != key(t.Store, t.Name) || !now.Before(t.Until) {
		d.mu.Unlock()
		return "", ErrOver
	}
	if verdict == Approved && t.number != 0 && number != t.number {
		verdict = Mismatched
	}
	t.verdict, t.by = verdict, by
	then := t.then
	t.then = nil
	p := d.people[key(t.Store, t.Name)]
	switch verdict {
	case Approved:
		p.missed, p.tired = nil, time.Time{}
	case Alarm:
		p.missed, p.tired = nil, now.Add(tiredFor)
	default:
		p.miss(now)
	}
	p.wake()
	d.mu.Unlock()
	if verdict == Alarm {
		d.raised(&t.Ask, by)
	}
	if then != nil {
		then(verdict, by)
	}
	return verdict, nil
}

// miss notes an ask that was not approved.
func (p *person) miss(now time.Time) {
	p.missed = slices.DeleteFunc(
		p.missed,
		func(at time.Time) bool { return now.Sub(at) > tiredWithin || at.After(now) },
	)
	if p.missed = append(p.missed, now); len(p.missed) >= tiredAfter {
		p.missed, p.tired = nil, now.Add(tiredFor)
	}
}

// Then has a function called once, when the ask is answered; one from before is not called any more. If it was answered
// already, it is not called, and the verdict is returned with the device that gave it.
func (t *Ticket) Then(f func(Verdict, string)) (Verdict, string) {
	t.desk.mu.Lock()
	defer t.desk.mu.Unlock()
	if t.verdict == Waiting {
		t.then = f
	}
	return t.verdict, t.by
}

// Verdict is what became of it so far, and by which device.
func (t *Ticket) Verdict() (Verdict, string) {
	t.desk.mu.Lock()
	defer t.desk.mu.Unlock()
	return t.verdict, t.by
}

// Close ends it. If nobody answered, that counts as one that was not approved, unless it was needed no longer.
func (t *Ticket) Close(missed bool, now time.Time) {
	d := t.desk
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.asks[t.ID] != t {
		return
	}
	delete(d.asks, t.ID)
	at := key(t.Store, t.Name)
	p := d.people[at]
	p.asks = slices.DeleteFunc(p.asks, func(other *Ticket) bool { return other == t })
	if t.then = nil; t.verdict == Waiting && missed {
		p.miss(now)
	}
	p.wake()
	d.forget(at, p)
}

// Pause has a person not asked for a while, since an alarm was raised elsewhere.
func (d *Desk) Pause(store, name string, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if p := d.of(key(store, name), now); p != nil {
		p.missed, p.tired = nil, now.Add(tiredFor)
	}
}

// Paused is until when a person is not asked, zero for somebody who is.
func (d *Desk) Paused(store, name string, now time.Time) time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	p := d.people[key(store, name)]
	if p == nil || !p.pausedAt(now) {
		return time.Time{}
	}
	return p.tired
}

// pausedAt tells that none is sent now; a pause from when the clock was ahead is over.
func (p *person) pausedAt(now time.Time) bool {
	return now.Before(p.tired) && p.tired.Sub(now) <= tiredFor
}

// Release has a person asked again who was not, since too many were not approved.
func (d *Desk) Release(store, name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	at := key(store, name)
	if p := d.people[at]; p != nil {
		p.missed, p.tired = nil, time.Time{}
		d.forget(at, p)
	}
}

// Len counts the asks that wait.
func (d *Desk) Len() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.asks)
}

// Sort puts asks of several nodes in order.
func Sort(list []Ask) {
	slices.SortFunc(list, func(a, b Ask) int { return cmp.Or(a.At.Compare(b.At), strings.Compare(a.ID, b.ID)) })
}
