package gate

import (
	"strconv"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/approval"
)

// Later takes an answer that was not there yet. Answered is called once, from elsewhere, after an answer that is held.
type Later interface{ Answered(Answer) }

// soon waits for an answer where it is needed.
type soon chan Answer

func (s soon) Answered(a Answer) { s <- a }

// hold is a request that waits for an approval. It takes a timer and no goroutine.
type hold struct {
	gate  *Gate
	timer *time.Timer
	later Later
	who   string
	// client is whose request it is; idle tells that nobody was asked, such as after a wrong password.
	client string
	idle   bool
	// still is what is answered when the time is over.
	still func() Answer
}

// holds are those that wait. Those for whom somebody was asked are bounded by the desk; of the others so many of a
// client wait as wrongPerClient says, and the oldest gives way.
type holds struct {
	mu      sync.Mutex
	open    map[*hold]bool
	idle    map[string][]*hold // by client, the oldest first, those too that were answered
	closed  bool
	running sync.WaitGroup
}

// add keeps one until a time is over, and returns one that gives way to it, nil for none; it reports false if none is
// taken any more.
func (t *holds) add(h *hold, long time.Duration) (gone *hold, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return nil, false
	}
	if t.open == nil {
		t.open, t.idle = map[*hold]bool{}, map[string][]*hold{}
	}
	t.open[h] = true
	if h.idle {
		t.idle[h.client] = append(t.idle[h.client], h)
		if list := t.trim(h.client); len(list) > wrongPerClient {
			gone = list[0]
		}
	}
	h.timer = time.AfterFunc(long, func() { h.finish(h.still) })
	return gone, true
}

// trim forgets the oldest of a client as far as they were answered. The caller holds the lock.
func (t *holds) trim(client string) []*hold {
	list := t.idle[client]
	for len(list) > 0 && !t.open[list[0]] {
		list = list[1:]
	}
	if t.idle[client] = list; len(list) == 0 {
		delete(t.idle, client)
	}
	return list
}

// take takes one away, and reports false if it was answered already. Whoever takes one away calls running.Done.
func (t *holds) take(h *hold) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.open[h] {
		return false
	}
	delete(t.open, h)
	if h.idle {
		t.trim(h.client)
	}
	h.timer.Stop()
	t.running.Add(1)
	return true
}

// close ends all of them, and waits for those that are being answered.
func (t *holds) close() {
	t.mu.Lock()
	t.closed = true
	list := make([]*hold, 0, len(t.open))
	for h := range t.open {
		list = append(list, h)
	}
	t.mu.Unlock()
	for _, h := range list {
		h.finish(h.still)
	}
	t.running.Wait()
}

// Held counts the requests that wait for an approval.
func (g *Gate) Held() int {
	g.holding.mu.Lock()
	defer g.holding.mu.Unlock()
	return len(g.holding.open)
}

// finish answers a request that waits, unless it was.
func (h *hold) finish(answer func() Answer) {
	if !h.gate.holding.take(h) {
		return
	}
	defer h.gate.holding.running.Done()
	defer h.gate.Panics.Catch(func() string { return "answering " + h.who + " after an approval" }, nil)
	h.later.Answered(answer())
}

// wait keeps a request until somebody answers a ticket, or a time is over. Nobody answers a nil ticket. Whoever gives
// no later waits here.
func (v *Visit) wait(t *approval.Ticket, long time.Duration, later Later,
	answered func(approval.Verdict, string) Answer, still func() Answer) Answer {
	if t != nil {
		if verdict, by := t.Verdict(); verdict != approval.Waiting {
			return answered(verdict, by)
		}
	}
	if later == nil {
		done := make(soon, 1)
		if out := v.wait(t, long, done, answered, still); !out.Held {
			return out
		}
		return <-done
	}
	h := &hold{gate: v.gate, later: later, who: v.Facts.Sent, client: v.Facts.Client, idle: t == nil, still: still}
	gone, ok := v.gate.holding.add(h, long)
	if !ok {
		return still()
	}
	if gone != nil {
		gone.finish(gone.still)
	}
	if t != nil {
		tell := func(verdict approval.Verdict, by string) {
			h.finish(func() Answer { return answered(verdict, by) })
		}
		if verdict, by := t.Then(tell); verdict != approval.Waiting {
			tell(verdict, by)
		}
	}
	return Answer{Held: true}
}

// depart leaves once the person has approved on the phone, for whoever needs that. The caller looks, since most do not.
func (v *Visit) depart(later Later, leave func() Answer) Answer {
	now := time.Now()
	long, spent := v.before.Lane.ApprovalWait(false), now.Sub(v.begun)
	t, none := v.askPhone(0, now.Add(long))
	if t == nil {
		v.Facts.Factor = none
		return leave()
	}
	return v.wait(t, long, later, func(verdict approval.Verdict, by string) Answer {
		v.begun = time.Now().Add(-spent)
		v.approved(t, verdict, by)
		return leave()
	}, func() Answer {
		v.begun = time.Now().Add(-spent)
		v.approved(t, approval.Waiting, long.String())
		return leave()
	})
}

// needsApproval reports whether somebody whose credential is right has to approve on the phone. Conversations of EAP
// come here only with one that is right.
func (v *Visit) needsApproval() bool {
	lane := v.before.Lane
	return lane != nil && lane.TakesApproval() && v.Facts.Subject() != nil && v.Facts.Factor == nil &&
		(v.Facts.Credential == reason.OK || v.Facts.EAP != nil) && v.asked() && !v.codeGivenLately() && !v.spared()
}

// supposesApproval reports whether the person is asked on the phone once a conversation has ended well: what is said
// before goes by the rest.
func (v *Visit) supposesApproval() bool { return v.needsApproval() && v.hasPhone() }

// hasPhone tells whether the lane takes approvals, and the person has a phone for that.
func (v *Visit) hasPhone() bool {
	p := v.Facts.Subject()
	if p == nil || !v.before.Lane.TakesApproval() {
		return false
	}
	_, phones := v.gate.Factors.Ways(p.Store, p.Name, v.Facts.At)
	return phones
}

// askPhone has the person asked on the phone; without a ticket, why not. number is shown at the sign-in, 0 for none.
func (v *Visit) askPhone(number int, until time.Time) (*approval.Ticket, *facts.Factor) {
	p, lane := v.Facts.Subject(), v.before.Lane
	switch {
	case v.hasPhone():
	case lane.TakesCode():
		return nil, &facts.Factor{Outcome: reason.FactorMissing}
	default:
		return nil, &facts.Factor{Outcome: reason.FactorNoPhone}
	}
	t, err := v.gate.Approvals.Open(
		approval.Ask{Store: p.Store, Name: p.Name, Client: v.Facts.Client, From: v.place(),
			Lane: lane.Name, Until: until, Trial: v.Facts.Tried},
		number,
		time.Now(),
	)
	if err != nil {
		return nil, &facts.Factor{Outcome: reason.FactorTired, Detail: err.Error()}
	}
	return t, nil
}

// approved notes what an ask came to. by is the phone that answered, or how long nobody did.
func (v *Visit) approved(t *approval.Ticket, verdict approval.Verdict, by string) {
	out := &facts.Factor{Detail: by}
	switch verdict {
	case approval.Approved:
		out.Outcome, out.By = reason.OK, facts.ByApproval
		if p, place := v.Facts.Subject(), v.place(); place != "" && v.Facts.Tried == "" {
			v.gate.Factors.Given(p.Store, p.Name, v.Facts.Client, place, time.Now())
		}
	case approval.Refused:
		out.Outcome = reason.FactorRefused
	case approval.Alarm:
		out.Outcome = reason.FactorAlarm
	case approval.Mismatched:
		out.Outcome = reason.FactorNumber
	default:
		out.Outcome = reason.FactorUnanswered
	}
	t.Close(true, time.Now())
	v.Facts.Factor = out
}

// numbered is a text with the number that the phone asks for in its place.
func numbered(text string, number int) string {
	return strings.ReplaceAll(text, config.NumberPlace, strconv.Itoa(number))
}

// leastCode is how many letters and digits a code has at least; less is whoever pressed Enter, or a key before.
const leastCode = 6

func isCode(typed string) bool {
	return len(strings.TrimSpace(typed)) >= leastCode
}
