package session

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/store"
)

// sentAgain is how far apart the same event may seem to be when a client sends it again, with another delay or none.
const sentAgain = time.Minute

// Causes of ends that we note ourselves.
const (
	causeRestart = "client restarted"
	causeSilent  = "nothing heard"
	causeAnew    = "begun anew without an end"
	causeTooMany = "too many sessions of its client"
	// CauseElsewhere is that of one that goes on at another node: the person is still there.
	CauseElsewhere = "goes on at another node"
)

// Report is what a client reports, as it was read.
type Report struct {
	store.Accounted
	// Classes are the values of Class.
	Classes [][]byte
	// Forwards names the remote servers that records of a lane are forwarded to, "" for none; nil forwards nothing. Raw
	// are the attributes as they came.
	Forwards func(lane string) string
	Raw      []byte
}

// OfDevice reports whether it is about a whole device: an Accounting-On or -Off.
func (r *Report) OfDevice() bool {
	return r.Kind == store.AccountingOn || r.Kind == store.AccountingOff
}

// forward notes where a record is forwarded to, now that its lane is known.
func (r *Report) forward() {
	if r.Forwards == nil {
		return
	}
	if r.To = r.Forwards(r.Lane); r.To != "" {
		r.Accounted.Raw = r.Raw
	}
}

// Attributes reads what the client sent; nil if it is not there.
func Attributes(a *store.Accounted) (out []facts.Attribute) {
	if json.Unmarshal(a.Attributes, &out) != nil {
		return nil
	}
	return out
}

// Report records what a client reports, and returns when it is on the disk. What was sent again is recorded once.
func (k *Sessions) Report(ctx context.Context, r *Report) error {
	a := &r.Accounted
	for _, value := range r.Classes {
		if class := readClass(value); class != "" {
			a.Class = class
		}
	}
	if r.OfDevice() {
		done, err := k.turn(ctx, key{client: a.Client}) // one at a time: all sessions are gone through
		if err != nil {
			return err
		}
		defer done()
		replayed := k.replayed(a)
		if replayed {
			a.Note = ErrReplayed.Error()
		} else {
			r.forward()
		}
		if err := k.records.Record(ctx, a); err != nil {
			return err
		}
		if replayed {
			return ErrReplayed
		}
		k.restarted(a)
		return nil
	}
	done, err := k.turn(ctx, keyOf(a))
	if err != nil {
		return err
	}
	defer done()
	before, again := k.state(a)
	if again {
		return nil
	}
	if before != nil && a.Kind == store.AccountingStart { // a new one under the identifier of an old one
		if err := k.records.Record(ctx, lost(before, a.At, causeAnew)); err != nil {
			return err
		}
		before = nil
	}
	k.complete(a, before)
	r.forward()
	if before == nil && !a.Ends() {
		k.makeRoom(a.Client)
	}
	if err := k.records.Record(ctx, a); err != nil {
		return err
	}
	if elsewhere(a) {
		k.moved.add(a)
	}
	return nil
}

// ErrReplayed is returned for an Accounting-On or -Off that is older than what its device sent before: somebody who
// captured it could end all sessions with it, at any time. It is recorded, and ends none.
var ErrReplayed = errors.New("its Event-Timestamp is older than that of an earlier record of the same device")

// stampSlack is how far the Event-Timestamps of a device may be out of order.
const stampSlack = time.Minute

// replayed reports whether what ends all sessions of a device is older than what the device sent before. Without
// Event-Timestamp nobody can tell.
func (b *Book) replayed(a *store.Accounted) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	last := b.stamps[deviceOf(a)]
	return !last.IsZero() && (a.Stamp.IsZero() || a.Stamp.Before(last.Add(-stampSlack)))
}

// turn waits until nobody else reports about the same session.
func (b *Book) turn(ctx context.Context, k key) (done func(), err error) {
	for {
		b.mu.Lock()
		other, busy := b.busy[k]
		if !busy {
			b.busy[k] = nil
			b.mu.Unlock()
			return func() {
				b.mu.Lock()
				waited := b.busy[k]
				delete(b.busy, k)
				b.mu.Unlock()
				if waited != nil {
					close(waited)
				}
			}, nil
		}
		if other == nil { // the first who waits
			other = make(chan struct{})
			b.busy[k] = other
		}
		b.mu.Unlock()
		select {
		case <-other:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// state is the session that a record is about, nil if none is open; again tells that the record is there already.
func (b *Book) state(a *store.Accounted) (s *Session, again bool) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	k := keyOf(a)
	if e := b.open[k]; e != nil {
		s = e.now.Load()
	}
	near := func(at time.Time) bool { return a.At.Sub(at).Abs() <= sentAgain }
	switch a.Kind {
	case store.AccountingStart:
		return s, s != nil && s.MAC == a.MAC && near(s.Began)
	case store.AccountingInterim:
		return s, s != nil && s.Kind == a.Kind && s.Seconds == a.Seconds && s.In == a.In && s.Out == a.Out &&
			near(s.At)
	case store.AccountingStop:
		end, known := b.ended[k]
		return s, s == nil && known && end.seconds == a.Seconds && end.in == a.In && end.out_ == a.Out &&
			near(end.at)
	}
	return s, false
}

// complete adds what is known of the session, and says what is odd.
func (b *Book) complete(a *store.Accounted, before *Session) {
	sent := a.Who
	a.Who = strings.ToLower(sent)
	if before == nil {
		a.Began = a.At.Add(-time.Duration(a.Seconds) * time.Second)
		v, foreign := b.given.find(a.Class, a.Client, a.MAC, a.Who, time.Now())
		switch {
		case v != nil && v.MAC != "" && a.MAC != "" && v.MAC != a.MAC:
			a.Note, a.Class = join(a.Note, "its Class was given to the device "+v.MAC), ""
		case v != nil:
			a.Class, a.Lane, a.Pass, a.VLAN, a.Display = v.Class, v.Lane, v.Pass, v.VLAN, v.Display
			a.Who = v.Who
			if a.MAC == "" {
				a.MAC = v.MAC
			}
		case foreign:
			a.Note = join(a.Note, "its Class was given to another client")
			a.Class = ""
		}
		switch a.Kind {
		case store.AccountingInterim:
			a.Note = join(a.Note, "no start was received")
		case store.AccountingStop:
			a.Note = join(a.Note, "no open session has this identifier")
		}
		return
	}
	v := b.given.again(a, before)
	a.Of, a.Began, a.Class, a.Lane, a.Pass, a.VLAN = before.ID, before.Began, before.Class, before.Lane, before.Pass,
		before.VLAN
	if v != nil { // it was authenticated again, and goes on with what that gave
		a.Class, a.Lane, a.Pass, a.VLAN = v.Class, v.Lane, v.Pass, v.VLAN
	}
	if sent != "" && !sameName(a.Who, before.Who) {
		a.Note = join(a.Note, "the name was "+before.Who+" before")
	}
	a.Who, a.Display = before.Who, before.Display
	for to, from := range map[*string]string{&a.MAC: before.MAC, &a.Address: before.Address, &a.Place: before.Place,
		&a.Applied: before.Applied} {
		if *to == "" {
			*to = from
		}
	}
	if a.Seconds < before.Seconds || a.In < before.In || a.Out < before.Out {
		a.Note = join(a.Note, "counters went back")
	}
	if a.At.Before(before.Began.Add(-sentAgain)) {
		a.Note = join(a.Note, "it happened before the session began")
	}
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// sameName reports whether two names are the same, with or without a realm.
func sameName(a, b string) bool {
	_, a, _ = facts.SplitName(a)
	_, b, _ = facts.SplitName(b)
	return a == b
}

// lost is the end of a session that its client did not report.
func lost(s *Session, at time.Time, cause string) *store.Accounted {
	a := s.Accounted
	a.ID, a.Of, a.Kind, a.Cause, a.Attributes, a.Note = 0, s.ID, store.AccountingLost, cause, nil, ""
	a.To, a.Raw = "", nil
	// of a silent one nobody knows, and of one that went elsewhere others do: the last word is what is certain
	if at.After(a.At) && cause != causeSilent && cause != CauseElsewhere {
		a.At = at
	}
	return &a
}

// restarted ends all sessions of a device that begins anew or ends (RFC 2866 section 5.1). One that began after that is
// left alone: what tells of it may be sent again, and come late.
func (k *Sessions) restarted(on *store.Accounted) {
	for _, e := range *k.order.Load() {
		s := e.now.Load()
		if s != nil && s.Client == on.Client && s.NAS == on.NAS && s.ID < on.ID && !s.Began.After(on.At) {
			k.end(s, on.At, causeRestart)
		}
	}
}

// end records that a session is over, without waiting.
func (k *Sessions) end(s *Session, at time.Time, cause string) { k.later(lost(s, at, cause)) }

// makeRoom gives up the oldest hundredth of the sessions of a client that has too many, or of all.
func (k *Sessions) makeRoom(client string) {
	for _, s := range k.surplus(client) {
		k.end(s, time.Now(), causeTooMany)
	}
}

// surplus are the sessions to give up, each once; none while there is room.
func (b *Book) surplus(client string) (out []*Session) {
	b.mu.Lock()
	defer b.mu.Unlock()
	all := len(b.open)-b.leaving >= maxOpen
	if !all && b.clients[client] < maxOfClient {
		return nil
	}
	for _, e := range *b.order.Load() {
		if s := e.now.Load(); s != nil && !e.leaving && (all || s.Client == client) {
			e.leaving, b.leaving = true, b.leaving+1
			b.fewer(s.Client)
			if out = append(out, s); len(out) >= maxOfClient/100 {
				break
			}
		}
	}
	return out
}

// Asked is what a client was asked to do with a session.
type Asked struct {
	// What says what was asked, and what came of it; By is the operator or the rule that asked.
	What, By string
	Done     bool
	// Pass and VLAN are what the session was to be changed to; "" for other requests.
	Pass, VLAN string
}

// Asked records what a client answered when it was asked to change a session.
func (k *Sessions) Asked(ctx context.Context, s *Session, asked Asked) error {
	a := s.Accounted
	a.ID, a.Of, a.Kind, a.At, a.Attributes = 0, s.ID, store.AccountingAsked, time.Now(), nil
	a.Note, a.Cause = asked.What, asked.By
	if asked.Done && asked.Pass != "" {
		a.Pass, a.VLAN = asked.Pass, asked.VLAN
	}
	return k.records.Record(ctx, &a)
}

// Find returns an open session; nil if it is not open.
func (b *Book) Find(id ident.ID) *Session {
	list := *b.order.Load()
	low, high := 0, len(list)
	for low < high { // entries keep no identifier of their own once they are over, so the neighbours are looked at
		mid := (low + high) / 2
		at := mid
		for at < high && list[at].now.Load() == nil {
			at++
		}
		if at == high {
			high = mid
			continue
		}
		switch s := list[at].now.Load(); {
		case s == nil: // it ended just now
			high = mid
		case s.ID == id:
			return s
		case s.ID < id:
			low = at + 1
		default:
			high = mid
		}
	}
	return nil
}
