package gate

import (
	"context"
	"crypto/rand"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/approval"
)

const (
	// maxAsked bounds the questions that wait for an answer, askedPerClient those of one client to people whose
	// password is right. Of those to people who got it wrong, and of one person beyond askedPerPerson, so many wait as
	// wrongPerClient says; the oldest of them gives way to the next one, so that neither guessing nor a password that
	// is known keeps others from signing in.
	maxAsked       = 20_000
	askedPerClient = 5_000
	wrongPerClient = 1_000
	askedPerPerson = 8
	// answerWithin is how long a person may take to answer.
	answerWithin = 2 * time.Minute
	// sweepEvery is how often it is looked for questions that nobody answered.
	sweepEvery = time.Second
	// usualQuestion is what the person reads where the lane says nothing.
	usualQuestion = "One-time code:"
)

// question is an Access-Challenge that waits for its answer (RFC 2865 section 4.4), with the visit it belongs to. It
// is of one person, client, device and try.
type question struct {
	visit *Visit
	// right tells that the password was right; whoever got it wrong is asked as well, so that nobody learns which.
	right bool
	// yields tells that it gives way to others of its client.
	yields bool
	client string
	sent   string
	mac    string
	from   netip.Addr
	source netip.Addr
	tried  string
	until  time.Time
	// spent is the time of ours until the question.
	spent time.Duration
	// number is what the phone asks for, 0 where the lane takes no approvals; ticket is nil where the phone is not
	// asked, for what is in none.
	number int
	ticket *approval.Ticket
	none   *facts.Factor
}

// matches says what of an answer is not of the question, "" if all is.
func (q *question) matches(f *facts.Facts) string {
	switch {
	case q.client != f.Client:
		return "it was asked through " + q.client
	case q.source != f.Address:
		return "it was asked by a request from " + q.source.String()
	case q.sent != f.Sent:
		return "it was asked of " + q.sent
	case q.mac != f.MAC || q.from != f.From:
		return "it was asked of another device"
	case q.tried != f.Tried:
		return "it was asked in a trial"
	}
	return ""
}

// state names a question; it is what the client sends back.
type state [16]byte

// questions are those that wait. Each takes the place that it was given in time, so that the oldest are first.
type questions struct {
	mu       sync.Mutex
	waiting  map[state]*question
	order    []state // the oldest first, those too that were answered
	byClient map[string]*ofClient
	sweeping bool
	closed   bool
}

// ofClient are the questions of one client: how many of them stay, altogether and by the name that was sent, and those
// that give way, the oldest first, those too that were answered.
type ofClient struct {
	stay, yield int
	byName      map[string]int
	order       []state
}

// errFull is returned while too many questions wait.
var errFull = errors.New("too many questions wait for an answer")

// add keeps a question, and begins to look for those that nobody answers. It returns one that gave way to it, nil for
// none.
func (t *questions) add(q *question, sweep func()) (s state, gone *question, err error) {
	rand.Read(s[:])
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.waiting == nil {
		t.waiting, t.byClient = map[state]*question{}, map[string]*ofClient{}
	}
	of := t.byClient[q.client]
	if of == nil {
		of = &ofClient{byName: map[string]int{}}
	}
	q.yields = !q.right || of.byName[q.sent] >= askedPerPerson
	if q.yields && of.yield >= wrongPerClient {
		gone = t.oldestYielding(of)
	}
	if t.closed || len(t.waiting) >= maxAsked || !q.yields && of.stay >= askedPerClient {
		return s, gone, errFull
	}
	t.waiting[s] = q
	t.order = append(t.order, s)
	t.byClient[q.client] = of
	if q.yields {
		of.yield++
		of.order = append(of.order, s)
	} else {
		of.stay++
		of.byName[q.sent]++
	}
	if !t.sweeping {
		t.sweeping = true
		time.AfterFunc(sweepEvery, sweep)
	}
	return s, gone, nil
}

// oldestYielding takes away the oldest question of a client that gives way.
func (t *questions) oldestYielding(of *ofClient) *question {
	for len(of.order) > 0 {
		s := of.order[0]
		of.order = of.order[1:]
		if q := t.waiting[s]; q != nil {
			t.drop(s, q)
			return q
		}
	}
	return nil
}

// find returns the question of a State, and takes it away if the answer is of it: there is one try. why says what does
// not fit; the question goes on waiting for its own answer then.
func (t *questions) find(given []byte, f *facts.Facts, now time.Time) (q *question, why string) {
	if len(given) != len(state{}) {
		return nil, ""
	}
	s := state(given)
	t.mu.Lock()
	defer t.mu.Unlock()
	if q = t.waiting[s]; q == nil || now.After(q.until) {
		return nil, ""
	}
	if why = q.matches(f); why == "" {
		t.drop(s, q)
	}
	return q, why
}

func (t *questions) drop(s state, q *question) {
	delete(t.waiting, s)
	of := t.byClient[q.client]
	if !q.yields {
		of.stay--
		if of.byName[q.sent]--; of.byName[q.sent] == 0 {
			delete(of.byName, q.sent)
		}
	} else if of.yield--; len(of.order) > 2*wrongPerClient { // many were answered
		of.order = slices.DeleteFunc(of.order, func(s state) bool { return t.waiting[s] == nil })
	}
	if of.stay+of.yield == 0 {
		delete(t.byClient, q.client)
	}
}

// over takes away the questions that nobody answered in time. again tells that others wait.
func (t *questions) over(now time.Time) (list []*question, again bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := 0
	for _, s := range t.order {
		q := t.waiting[s]
		if q != nil && now.Before(q.until) {
			break
		}
		if n++; q != nil {
			t.drop(s, q)
			list = append(list, q)
		}
	}
	t.order = t.order[n:]
	t.sweeping = !t.closed && len(t.order) > 0
	return list, t.sweeping
}

func (t *questions) close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closed = true
}

// sweep records the sign-ins of those who were asked and did not answer.
func (g *Gate) sweep() {
	defer g.Panics.Catch(func() string { return "recording questions that were not answered" }, nil)
	list, again := g.asking.over(time.Now())
	if again {
		time.AfterFunc(sweepEvery, g.sweep)
	}
	for _, q := range list {
		q.unanswered()
	}
}

// unanswered records a sign-in whose question got no answer.
func (q *question) unanswered() {
	q.visit.begun = time.Now().Add(-q.spent)
	q.leave(approval.Waiting, answerWithin.String())
}

// leave ends the visit of a question that no code answered: by what the phone said, or since nobody did.
func (q *question) leave(verdict approval.Verdict, by string) Answer {
	v := q.visit
	switch {
	case !q.right:
	case q.ticket != nil:
		if said, phone := q.ticket.Verdict(); verdict == approval.Waiting && said != approval.Waiting &&
			said != approval.Approved { // whoever refused there is not one who did not answer
			verdict, by = said, phone
		}
		v.approved(q.ticket, verdict, by)
	case q.none != nil && q.none.Outcome != reason.FactorMissing:
		v.Facts.Factor = q.none
	default:
		v.Facts.Factor = &facts.Factor{Outcome: reason.FactorUnanswered, Detail: by}
	}
	return v.Leave(v.finish())
}

// checkPAP checks a clear password, and asks for the one-time code by challenge if the lane wants one that way.
func (v *Visit) checkPAP(ctx context.Context, c *Credential, later Later) Answer {
	lane := v.before.Lane
	asks := lane.SecondFactor != "" && lane.Factor.Ask != config.AskAppend
	switch {
	case asks && c.State != nil:
		return v.answered(ctx, c, later)
	case len(c.Password) == 0: // whatever State comes with it: many directories take that for an anonymous bind
		v.Facts.Credential = reason.PasswordEmpty
		return v.Leave()
	case !asks:
		if v.Find(ctx) == reason.OK {
			v.CheckTyped(ctx, string(c.Password))
		}
		return v.done(later)
	}
	typed := string(c.Password)
	why := v.Find(ctx)
	if p := v.Facts.Subject(); lane.Factor.Ask != config.AskChallenge && lane.TakesCode() && why == reason.OK &&
		p != nil {
		if _, code := v.gate.Factors.Split(p.Store, p.Name, typed, v.Facts.At); code != "" {
			v.CheckTyped(ctx, typed)
			return v.Leave(v.finish())
		}
	}
	if why == reason.OK {
		why = v.CheckPassword(ctx, typed)
	}
	switch {
	case unreachable(why), !v.asked():
		return v.conclude()
	case why == reason.OK && !v.NeedsFactor():
		return v.conclude()
	}
	return v.question(why == reason.OK)
}

// unreachable tells that it could not be told whether a password is right.
func unreachable(why reason.Code) bool {
	switch why {
	case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed, reason.DomainUnreachable,
		reason.DomainRefuses, reason.Busy, reason.PersonUnreadable:
		return true
	}
	return false
}

// question asks for the code, or for the approval on the phone. What is asked does not tell who has a phone, and
// whether the password is right.
func (v *Visit) question(right bool) Answer {
	f, lane := &v.Facts, v.before.Lane
	now := time.Now()
	q := &question{
		visit:  v,
		right:  right,
		client: f.Client,
		sent:   f.Sent,
		mac:    f.MAC,
		from:   f.From,
		source: f.Address,
		tried:  f.Tried,
		until:  now.Add(answerWithin),
		spent:  now.Sub(v.begun),
	}
	if lane.TakesApproval() {
		if q.number = approval.Number(); right {
			q.ticket, q.none = v.askPhone(q.number, q.until)
		}
	}
	return q.put()
}

// put has a question wait for its answer.
func (q *question) put() Answer {
	v := q.visit
	s, gone, err := v.gate.asking.add(q, v.gate.sweep)
	if gone != nil {
		gone.unanswered()
	}
	if err != nil {
		if q.ticket != nil {
			q.ticket.Close(false, time.Now())
		}
		v.judged(reason.Busy, err.Error())
		return v.Leave()
	}
	return Answer{Challenge: true, State: s[:], Message: numbered(questionOf(v.before.Lane), q.number)}
}

// questionOf is what the person reads.
func questionOf(lane *decide.Lane) string {
	switch {
	case lane.Factor.Text != "":
		return lane.Factor.Text
	case lane.SecondFactor == config.Approval:
		return "Enter " + config.NumberPlace + " on your phone, then press Enter here:"
	case lane.SecondFactor == config.AnyFactor:
		return "One-time code, or enter " + config.NumberPlace + " on your phone and press Enter here:"
	}
	return usualQuestion
}

// answered goes on with the visit whose question this answers. Whoever had the password wrong is refused for that, and
// the code is not looked at.
func (v *Visit) answered(ctx context.Context, c *Credential, later Later) Answer {
	q, why := v.gate.asking.find(c.State, &v.Facts, time.Now())
	switch {
	case q == nil:
		v.judged(reason.FactorLost, "")
		return v.Leave()
	case why != "":
		v.judged(reason.FactorMixed, why)
		return v.Leave()
	}
	first, spent := q.visit, q.spent+time.Since(v.begun)
	first.begun = v.begun.Add(-q.spent)
	if q.number != 0 && (!first.before.Lane.TakesCode() || !isCode(string(c.Password))) {
		return q.await(later, spent)
	}
	if q.ticket != nil {
		q.ticket.Close(false, time.Now())
	}
	if q.right {
		first.CheckCode(ctx, string(c.Password))
	}
	return first.Leave(first.finish())
}

// await waits for the approval of somebody who pressed Enter, and asks again if it does not come. Where nobody is
// asked, it looks the same.
func (q *question) await(later Later, spent time.Duration) Answer {
	v, now := q.visit, time.Now()
	q.spent = spent
	left := q.until.Sub(now)
	return v.wait(q.ticket, min(v.before.Lane.ApprovalWait(true), left), later,
		func(verdict approval.Verdict, by string) Answer {
			v.begun = time.Now().Add(-q.spent)
			return q.leave(verdict, by)
		}, func() Answer {
			v.begun = time.Now().Add(-q.spent)
			if time.Until(q.until) < leastLeft {
				return q.leave(approval.Waiting, answerWithin.String())
			}
			return q.put()
		})
}

// leastLeft is how much time is left at least where a question is put again.
const leastLeft = time.Second
