package app

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/base/push"
	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/portal"
)

const (
	// approvalsPath is where nodes ask each other for sign-ins that wait.
	approvalsPath = "/approvals"
	// peerPatience is how long another node may take for that, askAgain how often it is asked while a phone waits.
	peerPatience = time.Second
	askAgain     = time.Second
	maxAlarms    = 20
	alarmLife    = 24 * time.Hour
	maxAnswer    = 1 << 20
)

// approvals are the sign-ins that wait for phones, of this node and of others, and the alarms.
type approvals struct {
	app  *App
	desk *approval.Desk

	mu     sync.Mutex
	alarms []attention.NotMe
	// released are the latest ends of alarms, for nodes that did not hear of them.
	released []attention.NotMe
}

func newApprovals(a *App) *approvals {
	out := &approvals{app: a}
	out.desk = approval.NewDesk(out.raised, out.opened)
	return out
}

// opened tells phones whose page is closed that a sign-in waits.
func (p *approvals) opened(ask *approval.Ask) {
	if p.app.push == nil {
		return
	}
	for phone, to := range p.app.factors.Pushes(ask.Store, ask.Name) {
		p.app.push.Send(phone, push.Subscription{Endpoint: to.Endpoint, P256DH: to.P256DH, Auth: to.Auth},
			portal.PushText(to.Language, ask.Client), ask.Until)
	}
}

// raised notes that somebody says of a sign-in: this is not me.
func (p *approvals) raised(ask *approval.Ask, by string) {
	alarm := attention.NotMe{Store: ask.Store, Name: ask.Name, Client: ask.Client, From: ask.From, At: time.Now()}
	p.note(alarm)
	p.app.cluster.Say(saidNotMe, alarm)
	from := ""
	if ask.From != "" {
		from = " from " + ask.From
	}
	err := p.app.trail.Put(context.Background(), audit.Line{Actor: audit.Actor{Who: ask.Name, How: "portal"},
		Call: "not-me", Kind: "factor", Object: ask.Store + "/" + ask.Name, Name: ask.Name, Result: audit.Done,
		What: fmt.Sprintf("said on %s of a sign-in at %s%s: this is not me", by, ask.Client, from)})
	if err != nil {
		p.app.log.Error(
			"an alarm waits for the audit",
			"who",
			ask.Name,
			"client",
			ask.Client,
			"from",
			ask.From,
			"error",
			err,
		)
	}
}

// note keeps an alarm for Now, over a restart too.
func (p *approvals) note(alarm attention.NotMe) {
	p.mu.Lock()
	p.alarms = append(p.alarms, alarm)
	p.alarms = p.alarms[max(0, len(p.alarms)-maxAlarms):]
	p.mu.Unlock()
	if err := p.app.store.AddAlarm(context.Background(), store.Alarm{Store: alarm.Store, Name: alarm.Name,
		Client: alarm.Client, Source: alarm.From, At: alarm.At.UnixMilli()}, time.Now().Add(-alarmLife)); err != nil {
		p.app.log.Error("an alarm from a phone is not kept over a restart", "who", alarm.Name, "error", err)
	}
}

// load takes the alarms of before the start; whoever raised one lately is not asked yet.
func (p *approvals) load(ctx context.Context) error {
	now := time.Now()
	list, err := p.app.store.Alarms(ctx, now.Add(-alarmLife))
	if err != nil {
		return fmt.Errorf("reading the alarms from phones: %w", err)
	}
	for _, a := range list[max(0, len(list)-maxAlarms):] {
		at := time.UnixMilli(a.At)
		p.alarms = append(p.alarms, attention.NotMe{Store: a.Store, Name: a.Name, Client: a.Client, From: a.Source,
			At: at})
		p.desk.Pause(a.Store, a.Name, at)
	}
	return nil
}

// heard takes an alarm that was raised at another node, or its end.
func (p *approvals) heard(kind string, data []byte) {
	var alarm attention.NotMe
	if json.Unmarshal(data, &alarm) != nil || alarm.Name == "" {
		return
	}
	if kind == saidReleased {
		p.end(alarm)
		return
	}
	if slices.ContainsFunc(p.attention(), func(n attention.NotMe) bool { return n.Same(&alarm) }) {
		return
	}
	p.note(alarm)
	p.desk.Pause(alarm.Store, alarm.Name, time.Now())
}

// missed are the alarms, and the ends of alarms, since a moment, in their order: for a node that did not hear them.
func (p *approvals) missed(since time.Time) (out []cluster.Saying) {
	p.mu.Lock()
	defer p.mu.Unlock()
	type one struct {
		kind string
		attention.NotMe
	}
	var list []one
	for _, n := range p.alarms {
		list = append(list, one{saidNotMe, n})
	}
	for _, n := range p.released {
		list = append(list, one{saidReleased, n})
	}
	slices.SortStableFunc(list, func(a, b one) int { return a.At.Compare(b.At) })
	for _, n := range list {
		if data, err := json.Marshal(n.NotMe); err == nil && !n.At.Before(since) {
			out = append(out, cluster.Saying{Kind: n.kind, Data: data})
		}
	}
	return out
}

// state is until when a person is not asked, zero for somebody who is, and whether there is an alarm.
func (p *approvals) state(store, name string) (until time.Time, alarm bool) {
	alarm = slices.ContainsFunc(p.attention(), func(n attention.NotMe) bool {
		return n.Store == store && n.Name == name
	})
	return p.desk.Paused(store, name, time.Now()), alarm
}

// attention are the alarms of the last day.
func (p *approvals) attention() []attention.NotMe {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	p.alarms = slices.DeleteFunc(p.alarms, func(n attention.NotMe) bool { return now.Sub(n.At) > alarmLife })
	return slices.Clone(p.alarms)
}

// release has somebody asked again, and ends the alarms about the sign-ins of that person, on all nodes.
func (p *approvals) release(store, name string) {
	over := attention.NotMe{Store: store, Name: name, At: time.Now()}
	p.end(over)
	p.app.cluster.Say(saidReleased, over)
}

// end ends the alarms about a person up to a moment; those that came after it stand.
func (p *approvals) end(over attention.NotMe) {
	if over.At.IsZero() { // an older node says no time
		over.At = time.Now()
	}
	if err := p.app.store.RemoveAlarms(context.Background(), over.Store, over.Name, over.At); err != nil {
		p.app.log.Error("an alarm from a phone may come back after a restart", "who", over.Name, "error", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if !slices.ContainsFunc(p.released, func(n attention.NotMe) bool { return n.Same(&over) }) {
		p.released = append(p.released, over)
		p.released = p.released[max(0, len(p.released)-maxAlarms):]
	}
	stands := false
	p.alarms = slices.DeleteFunc(p.alarms, func(n attention.NotMe) bool {
		theirs := n.Store == over.Store && n.Name == over.Name
		stands = stands || theirs && n.At.After(over.At)
		return theirs && !n.At.After(over.At)
	})
	if !stands {
		p.desk.Release(over.Store, over.Name)
	}
}

// asks are the sign-ins of a person that wait, on any node. It waits until there are others than those that are known.
func (p *approvals) asks(ctx context.Context, store, name string, known []string) []approval.Ask {
	for {
		list, changed, done := p.desk.Pending(store, name, time.Now())
		others := len(p.app.cluster.Others()) > 0
		if others {
			list = append(list, p.elsewhere(ctx, store, name)...)
			approval.Sort(list)
		}
		if list == nil {
			list = []approval.Ask{}
		}
		if !same(list, known) || ctx.Err() != nil {
			done()
			return list
		}
		var again <-chan time.Time
		if others {
			again = time.After(askAgain)
		}
		select {
		case <-changed:
		case <-again:
		case <-ctx.Done():
		}
		done()
	}
}

func same(list []approval.Ask, known []string) bool {
	return len(list) == len(known) && !slices.ContainsFunc(list, func(a approval.Ask) bool {
		return !slices.Contains(known, a.ID)
	})
}

// elsewhere are the sign-ins of a person that wait on other nodes.
func (p *approvals) elsewhere(ctx context.Context, store, name string) (out []approval.Ask) {
	var mu sync.Mutex
	var all sync.WaitGroup
	ctx, cancel := context.WithTimeout(ctx, peerPatience)
	defer cancel()
	for _, n := range p.app.cluster.Others() {
		all.Go(func() {
			defer p.app.panicked.Catch(func() string { return "asking a node for approvals" }, nil)
			answer, err := p.app.cluster.Ask(ctx, n, http.MethodGet, "/inside"+approvalsPath+"?"+
				url.Values{"store": {store}, "name": {name}}.Encode(), http.Header{}, nil)
			if err != nil {
				return // one that is silent answers no device either
			}
			defer answer.Body.Close()
			var list []approval.Ask
			if answer.StatusCode == http.StatusOK && json.NewDecoder(io.LimitReader(answer.Body,
				maxAnswer)).Decode(&list) == nil {
				mu.Lock()
				defer mu.Unlock()
				out = append(out, list...)
			}
		})
	}
	all.Wait()
	return out
}

// answer answers a sign-in that waits, on whichever node it does.
func (p *approvals) answer(
	ctx context.Context,
	phone *factor.Token,
	id string,
	verdict approval.Verdict,
	number int,
) (
	approval.Verdict, error) {
	by := phone.Label
	list, _, done := p.desk.Pending(phone.Store, phone.Name, time.Now())
	done()
	client := ""
	if at := slices.IndexFunc(list, func(a approval.Ask) bool { return a.ID == id }); at >= 0 {
		client = list[at].Client
	}
	came, err := p.desk.Answer(phone.Store, phone.Name, id, verdict, number, by, time.Now())
	if err == approval.ErrOver {
		for _, n := range p.app.cluster.Others() {
			if came, client = p.answerAt(ctx, n, phone, id, verdict, number); came != "" {
				err = nil
				break
			}
		}
	}
	if err != nil || came != approval.Approved {
		return came, err
	}
	if err := p.app.factors.Used(ctx, phone.ID, client, time.Now()); err != nil {
		p.app.log.Warn("when a phone was used last could not be stored", "who", phone.Name, "error", err)
	}
	return came, nil
}

// answered is what another node made of an answer.
type answered struct {
	Came   approval.Verdict `json:"came"`
	Client string           `json:"client"`
}

// answerAt has another node answer one; came is empty if it does not wait there.
func (p *approvals) answerAt(ctx context.Context, n cluster.Peer, phone *factor.Token, id string,
	verdict approval.Verdict, number int) (came approval.Verdict, client string) {
	ctx, cancel := context.WithTimeout(ctx, peerPatience)
	defer cancel()
	answer, err := p.app.cluster.Ask(ctx, n, http.MethodPost, "/inside"+approvalsPath+"?"+url.Values{
		"store": {phone.Store}, "name": {phone.Name}, "id": {id}, "verdict": {string(verdict)},
		"number": {strconv.Itoa(number)}, "by": {phone.Label}}.Encode(), http.Header{}, nil)
	if err != nil {
		return "", ""
	}
	defer answer.Body.Close()
	var out answered
	if answer.StatusCode != http.StatusOK || json.NewDecoder(io.LimitReader(answer.Body,
		maxAnswer)).Decode(&out) != nil {
		return "", ""
	}
	return out.Came, out.Client
}

// ServeHTTP answers other nodes.
func (p *approvals) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	store, name := q.Get("store"), q.Get("name")
	list, _, done := p.desk.Pending(store, name, time.Now())
	done()
	w.Header().Set("Content-Type", "application/json")
	if r.Method == http.MethodGet {
		_ = json.NewEncoder(w).Encode(list) // whoever went away needs it no longer
		return
	}
	number, _ := strconv.Atoi(q.Get("number")) // none is no number
	came, err := p.desk.Answer(store, name, q.Get("id"), approval.Verdict(q.Get("verdict")), number, q.Get("by"),
		time.Now())
	if err != nil {
		http.Error(w, err.Error(), http.StatusGone)
		return
	}
	out := answered{Came: came}
	if at := slices.IndexFunc(list, func(a approval.Ask) bool { return a.ID == q.Get("id") }); at >= 0 {
		out.Client = list[at].Client
	}
	_ = json.NewEncoder(w).Encode(out) // whoever went away needs it no longer
}

// inside is what other nodes ask of this one: sign-ins that wait, and the API.
func (p *approvals) inside(rest http.Handler, panicked *panics.Log) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer panicked.Catch(func() string { return "a call of another node" }, nil)
		if r.URL.Path == approvalsPath {
			p.ServeHTTP(w, r)
			return
		}
		rest.ServeHTTP(w, r)
	})
}

// approves tells whether some lane in effect takes approvals.
func (a *App) approves() bool {
	for _, l := range a.Gate.Current().Plan.Lanes {
		if l.TakesApproval() {
			return true
		}
	}
	return false
}
