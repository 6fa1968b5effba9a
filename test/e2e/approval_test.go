package e2e

import (
	"context"
	"errors"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/phone"
)

const wadePassword = "gangplank-and-tide"

// phoneOf invites somebody, who pairs a phone.
func (w *world) phoneOf(person, password, label string) *phone.Phone {
	w.t.Helper()
	p, err := phone.Enrol(w.context(), nil, w.enrolLink(person), password, label)
	if err != nil {
		w.t.Fatal(err)
	}
	return p
}

func (w *world) context() context.Context { return w.t.(*testing.T).Context() }

var shownNumber = regexp.MustCompile(`[1-9][0-9]`)

// signing is a sign-in that goes on while the phone is asked.
type signing struct {
	w    *world
	told chan string
	came chan results.Reply
}

// begins begins a sign-in of somebody who presses Enter when asked.
func (w *world) begins(user, password string, how ...func(q *trial.Request)) *signing {
	w.t.Helper()
	s := &signing{w: w, told: make(chan string, 100), came: make(chan results.Reply, 1)}
	var mu sync.Mutex
	over := false
	w.t.Cleanup(func() { // some are left as they are
		mu.Lock()
		defer mu.Unlock()
		over = true
	})
	go func() {
		reply, err := w.ask(func(q *trial.Request) {
			q.User, q.Password, q.Phone, q.Timeout, q.Tries = user, password, true, time.Minute, 1
			q.Told = func(message string) { s.told <- message }
			for _, f := range how {
				f(q)
			}
		})
		mu.Lock()
		defer mu.Unlock()
		if err != nil && !over {
			w.t.Errorf("the sign-in of %s: %v", user, err)
		}
		s.came <- reply
	}()
	return s
}

// shown waits until the person reads a number.
func (s *signing) shown() int {
	s.w.t.Helper()
	select {
	case text := <-s.told:
		n, err := strconv.Atoi(shownNumber.FindString(text))
		if err != nil {
			s.w.t.Fatalf("it shows no number: %q", text)
		}
		return n
	case <-time.After(10 * time.Second):
		s.w.t.Fatal("nobody is asked")
		return 0
	}
}

func (s *signing) ends(code, reason string) results.Reply {
	s.w.t.Helper()
	select {
	case reply := <-s.came:
		if reply.Code != code {
			s.w.t.Errorf("it ends with %s, wanted %s", reply.Code, code)
		}
		s.w.cameTo(reason)
		return reply
	case <-time.After(20 * time.Second):
		s.w.t.Fatalf("it does not end with %s", code)
		return results.Reply{}
	}
}

// waits is the one sign-in that waits for a phone.
func waits(t *testing.T, p *phone.Phone, known ...string) approval.Ask {
	t.Helper()
	list, err := p.Asks(t.Context(), known...)
	if err != nil || len(list) != 1 {
		t.Fatalf("the phone shows %+v, %v", list, err)
	}
	return list[0]
}

// One phone that asks over and over takes no place from others.
func TestPhonesWaitTwiceAtMost(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	w.account("l.orme", wadePassword, "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-publish"}, "revision")
	wade, orme := w.phoneOf("m.wade", wadePassword, "Wade's phone"), w.phoneOf("l.orme", wadePassword, "Orme's phone")
	ctx, cancel := context.WithCancel(t.Context())
	var asking sync.WaitGroup
	var quick atomic.Int64
	for range 3 {
		asking.Go(func() {
			for ctx.Err() == nil {
				begun := time.Now()
				if _, err := wade.Asks(ctx); err == nil && time.Since(begun) < 4*time.Second {
					quick.Add(1)
					time.Sleep(20 * time.Millisecond)
				}
			}
		})
	}
	begun := time.Now()
	if _, err := orme.Asks(t.Context()); err != nil || time.Since(begun) < 6*time.Second {
		t.Errorf("another phone waited %s, %v", time.Since(begun), err)
	}
	cancel()
	asking.Wait()
	if quick.Load() < 10 {
		t.Errorf("%d did not wait", quick.Load())
	}
}

func says(t *testing.T, p *phone.Phone, ask approval.Ask, verdict approval.Verdict, number int, want approval.Verdict) {
	t.Helper()
	if came, err := p.Answer(t.Context(), ask.ID, verdict, number); err != nil || came != want {
		t.Errorf("%s with %d came to %q, %v", verdict, number, came, err)
	}
}

// A person approves a sign-in on the phone, with the number that is shown there; whoever has the password wrong sees
// the same, and nobody is asked.
func TestApprovalByChallenge(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	w.wants(1, []string{"lane", "change", "Wired", "-second-factor", "any", "-factor-text", "Code:"}, "factor.text",
		"{number}")
	w.wants(1, []string{"lane", "change", "Wired", "-second-factor", "any", "-factor-wait", "101"}, "factor.wait")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "any", "-reject-delay", "0", "-factor-wait", "2",
		"-publish"}, "revision")
	w.wants(0, []string{"lane", "show", "Wired"}, "approval on the phone, or one-time code")
	wade := w.phoneOf("m.wade", wadePassword, "Wade's phone")
	if len(wade.Codes) != 8 {
		t.Errorf("recovery codes: %v", wade.Codes)
	}
	w.wants(0, []string{"factor", "list"}, "Wade's phone", "phone")

	s := w.begins("m.wade", wadePassword)
	number, ask := s.shown(), waits(t, wade)
	if ask.Client != "np-switch-1" || !ask.Numbered || ask.Lane != "Wired" {
		t.Errorf("the phone shows %+v", ask)
	}
	begun := time.Now()
	says(t, wade, ask, approval.Approved, number, approval.Approved)
	s.ends("Access-Accept", "ok")
	if took := time.Since(begun); took > 2*time.Second {
		t.Errorf("answered %s after the approval", took)
	}
	a := w.cameTo("ok")
	if f := a.Facts.Factor; f.By != "approval" || f.Detail != "Wade's phone" {
		t.Errorf("recorded: %+v", f)
	}
	if _, err := wade.Answer(t.Context(), ask.ID, approval.Approved, number); why(err) != "over-ask" {
		t.Errorf("approved twice: %v", err)
	}
	w.wants(0, []string{"factor", "show", "m.wade"}, "approves sign-ins", "on np-switch-1")

	s = w.begins("m.wade", wadePassword) // nobody approves at once, and the question comes again with the same number
	number, ask = s.shown(), waits(t, wade)
	if again := s.shown(); again != number {
		t.Errorf("asked for %d, then for %d", number, again)
	}
	says(t, wade, ask, approval.Approved, number%89+10, approval.Mismatched)
	s.ends("Access-Reject", "factor.number-wrong")
	s = w.begins("m.wade", wadePassword)
	s.shown()
	says(t, wade, waits(t, wade), approval.Refused, 0, approval.Refused)
	s.ends("Access-Reject", "factor.refused")

	s = w.begins("m.wade", "wrong")
	s.shown()
	s.shown() // for as long as others are waited for
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	if list, err := wade.Asks(ctx); len(list) != 0 || err != nil && !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("whoever has the password wrong has the phone asked: %+v, %v", list, err)
	}
	cancel()

	other, _ := w.ask(func(q *trial.Request) { // a recovery code in place of the phone
		q.User, q.Password, q.Code = "m.wade", wadePassword, wade.Codes[0]
	})
	if !other.Accepted {
		t.Errorf("a recovery code: %s", other.Code)
	}
	w.wants(0, []string{"factor", "remove", "Wade's phone"}, "removed")
	if _, err := wade.Asks(t.Context()); why(err) != "unpaired" {
		t.Errorf("a phone that was removed: %v", err)
	}
	s = w.begins("m.wade", wadePassword)
	s.shown() // and nobody learns that there is no phone
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-factor-ask", "append", "-publish"},
		"revision")
	reply, err := w.ask(func(q *trial.Request) { q.User, q.Password = "m.wade", wadePassword })
	if err != nil || reply.Code != "Access-Reject" {
		t.Errorf("without a phone: %s, %v", reply.Code, err)
	}
	w.cameTo("factor.no-phone")
}

func why(err error) string {
	var refused *phone.Refused
	if errors.As(err, &refused) {
		return refused.Why
	}
	return ""
}

// Where a device cannot be asked again, its request waits: in PAP, MS-CHAPv2, and at the end of EAP; retransmissions
// are of the same sign-in.
func TestApprovalWhereNothingIsShown(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: wadePassword,
		AccountFields: apitype.AccountFields{Name: "m.wade", Groups: []string{"Crew"}, Enabled: true,
			Keeps: "nt-hash"}}, nil)
	w.wants(1, []string{"lane", "change", "Wired", "-second-factor", "approval", "-method", "mac"}, "nobody to ask")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-factor-ask", "append",
		"-reject-delay", "0", "-method", "pap", "-method", "mschapv2", "-method", "peap-mschapv2", "-method",
		"eap-mschapv2", "-method", "ttls-pap", "-resume", "60", "-factor-wait", "5", "-publish"}, "revision")
	wade := w.phoneOf("m.wade", wadePassword, "")
	for _, method := range []string{"pap", "mschapv2", "peap-mschapv2", "eap-mschapv2", "ttls-pap"} {
		for _, verdict := range []approval.Verdict{approval.Approved, approval.Refused} {
			s := w.begins("m.wade", wadePassword, func(q *trial.Request) {
				q.Method, q.Phone, q.Timeout, q.Tries = method, false, 700*time.Millisecond, 20
			})
			ask := waits(t, wade)
			if ask.Numbered {
				t.Errorf("%s: the phone asks for a number that nobody is shown", method)
			}
			time.Sleep(time.Second) // the device sends again meanwhile
			if n := w.app.Gate.Held(); n != 1 {
				t.Errorf("%s: %d requests wait", method, n)
			}
			says(t, wade, ask, verdict, 0, verdict)
			if verdict == approval.Approved {
				s.ends("Access-Accept", "ok")
			} else {
				s.ends("Access-Reject", "factor.refused")
			}
		}
		w.do(http.MethodPost, "/factors/"+wade.Device+"/release", nil, nil)
	}
	s := w.begins("m.wade", wadePassword, func(q *trial.Request) { q.Phone, q.Timeout = false, 20*time.Second })
	waits(t, wade)
	s.ends("Access-Reject", "factor.unanswered") // after five seconds
	s = w.begins("m.wade", "wrong", func(q *trial.Request) { q.Phone = false })
	s.ends("Access-Reject", "password.wrong")
	// The service stops while somebody waits: the sign-in is recorded, and nothing hangs.
	over := make(chan bool)
	go func() {
		defer close(over)
		w.ask(func(q *trial.Request) { q.User, q.Password, q.Timeout = "m.wade", wadePassword, 2*time.Second })
	}()
	waits(t, wade)
	w.app.Stop()
	w.boot()
	<-over
	w.cameTo("factor.unanswered")
}

// A dialogue of TACACS+ shows the number, and takes a code as well.
func TestApprovalOnGear(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.wants(0, []string{"lane", "change", "Gear", "-second-factor", "any", "-factor-wait", "3",
		"-publish"}, "revision")
	ann := w.phoneOf("ann", "rope-and-anchor", "Ann's phone")
	g := w.device(true)
	ask := func(password, code, status string) results.GearReply {
		t.Helper()
		return w.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: password, Code: code,
			Remote: "192.0.2.7"}, status)
	}
	if r := ask("rope-and-anchor", ann.Codes[0], "PASS"); !strings.Contains(asked(r), "on your phone") {
		t.Errorf("with a recovery code: %+v", r)
	}
	came := make(chan results.GearReply, 1)
	go func() { came <- ask("rope-and-anchor", "", "FAIL") }()
	one := waits(t, ann)
	if !one.Numbered {
		t.Error("a dialogue shows no number")
	}
	says(t, ann, one, approval.Refused, 0, approval.Refused)
	<-came
	w.cameTo("factor.refused")
	begun := time.Now()
	ask("wrong", "", "FAIL")
	if took := time.Since(begun); took < 3*time.Second {
		t.Errorf("a wrong password is told after %s", took)
	}
	w.cameTo("password.wrong")
}

// What phones may not do: speak for others, again, later, with another clock than ours or after they were removed. What
// people say there raises an alarm, and nobody is asked again and again.
func TestHostilePhones(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	w.account("v.vane", "weather-and-vane-1", "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-reject-delay", "0", "-publish"},
		"revision")
	link := w.enrolLink("m.wade")
	if _, err := phone.Enrol(t.Context(), nil, link, "wrong", ""); err == nil {
		t.Error("paired with a wrong password")
	}
	wade, err := phone.Enrol(t.Context(), nil, link, wadePassword, "Wade's phone")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := phone.Enrol(t.Context(), nil, link, wadePassword, "another"); err == nil {
		t.Error("an invitation paired two phones")
	}
	vane := w.phoneOf("v.vane", "weather-and-vane-1", "Vane's phone")
	s := w.begins("m.wade", wadePassword)
	number, ask := s.shown(), waits(t, wade)
	if _, err := vane.Answer(t.Context(), ask.ID, approval.Approved, number); why(err) != "over-ask" {
		t.Errorf("somebody else's phone approved: %v", err)
	}
	stolen := *vane
	stolen.Device = wade.Device
	if _, err := stolen.Answer(t.Context(), ask.ID, approval.Approved, number); why(err) != "unpaired" {
		t.Errorf("another key approved: %v", err)
	}
	at := time.Now().UnixMilli()
	signature, _ := wade.Sign("tollgate answer\n" + wade.Device + "\n" + strconv.FormatInt(at, 10) + "\n" + ask.ID +
		"\nrefuse\n0")
	message := map[string]any{"device": wade.Device, "at": at, "signature": signature, "ask": ask.ID,
		"verdict": "approve", "number": number}
	if err := wade.Send(t.Context(), "/phone/answer", message, nil); why(err) != "unpaired" {
		t.Errorf("another verdict than was signed: %v", err)
	}
	old := time.Now().Add(-2 * time.Minute).UnixMilli()
	message["at"] = old
	if err := wade.Send(t.Context(), "/phone/answer", message, nil); why(err) != "clock" {
		t.Errorf("an old message: %v", err)
	}
	for _, body := range []any{"x", map[string]any{"device": 7}, map[string]any{"more": strings.Repeat("x", 20_000)}} {
		if err := wade.Send(t.Context(), "/phone/asks", body, nil); why(err) != "unreadable" {
			t.Errorf("%.40v: %v", body, err)
		}
	}
	wade.Clock = 10 * time.Minute // a phone that is ten minutes off
	says(t, wade, ask, approval.Alarm, 0, approval.Alarm)
	s.ends("Access-Reject", "factor.not-me")
	var now apitype.Now
	w.do(http.MethodGet, "/now", nil, &now)
	if len(now.Attention) == 0 || now.Attention[0].Code != "factor.not-me" ||
		!strings.Contains(now.Attention[0].Title, "m.wade says of a sign-in: this is not me") {
		t.Errorf("Now says %+v", now.Attention)
	}
	w.wants(0, []string{"audit", "list"}, "this is not me", "set up a phone that approves sign-ins")
	w.wants(0, []string{"lane", "change", "Wired", "-factor-ask", "append", "-publish"}, "revision")
	s = w.begins("m.wade", wadePassword)
	s.ends("Access-Reject", "factor.too-many-asks") // whoever knows the password cannot go on asking
	w.wants(0, []string{"factor", "release", "m.wade"}, "accepted again")
	w.do(http.MethodGet, "/now", nil, &now)
	if len(now.Attention) > 0 && now.Attention[0].Code == "factor.not-me" {
		t.Error("the alarm outlives its release")
	}
	for range 5 {
		s = w.begins("m.wade", wadePassword)
		says(t, wade, waits(t, wade), approval.Refused, 0, approval.Refused)
		s.ends("Access-Reject", "factor.refused")
	}
	s = w.begins("m.wade", wadePassword)
	s.ends("Access-Reject", "factor.too-many-asks")
}

// A phone that is paired at one node approves what another one was asked, and a person who is enrolled on one is asked
// on the other.
func TestApprovalsOnAnotherNode(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("require", "127.0.0.1")
	b := a.second("second")
	a.witness("eye")
	a.well(3)
	b.well(3)
	a.account("m.wade", wadePassword, "Crew")
	b.admits("m.wade", wadePassword)
	a.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-reject-delay", "0", "-publish"},
		"revision")
	wade := a.phoneOf("m.wade", wadePassword, "Wade's phone")
	waitFor(t, "the phone at the other node", func() bool {
		var f apitype.Factor
		return b.app.Gate.Current().Revision == a.app.Gate.Current().Revision &&
			b.api.Do(t.Context(), http.MethodGet, "/factors/"+wade.Device, nil, &f) == nil
	})
	s := b.begins("m.wade", wadePassword)
	number, ask := s.shown(), waits(t, wade)
	begun := time.Now()
	says(t, wade, ask, approval.Approved, number, approval.Approved)
	s.ends("Access-Accept", "ok")
	if took := time.Since(begun); took > 2*time.Second {
		t.Errorf("answered %s after the approval at the other node", took)
	}
	wade.URL = b.app.PortalURL // and the other way round
	s = a.begins("m.wade", wadePassword)
	number, ask = s.shown(), waits(t, wade)
	says(t, wade, ask, approval.Approved, number%89+10, approval.Mismatched)
	s.ends("Access-Reject", "factor.number-wrong")
	if _, err := wade.Answer(t.Context(), ask.ID, approval.Approved, number); why(err) != "over-ask" {
		t.Errorf("answered twice: %v", err)
	}
	// An alarm is known at every node, and so is its end.
	s = a.begins("m.wade", wadePassword)
	s.shown()
	ask = waits(t, wade)
	says(t, wade, ask, approval.Alarm, 0, approval.Alarm)
	s.ends("Access-Reject", "factor.not-me")
	for _, w := range []*world{a, b} {
		w.eventually("the alarm is on Now", func() bool { return alarmed(w) })
		w.begins("m.wade", wadePassword).shown()
		if list, err := wade.Asks(t.Context()); err != nil || len(list) != 0 {
			t.Errorf("after the alarm the phone is asked: %+v, %v", list, err)
		}
	}
	var f apitype.Factor
	if b.do(http.MethodGet, "/factors/"+wade.Device, nil, &f); !f.Alarm || f.PausedUntil == nil {
		t.Errorf("the phone at the other node: %+v", f)
	}
	b.wants(0, []string{"factor", "show", "m.wade"}, "this is not me")
	b.wants(0, []string{"factor", "release", "m.wade"}, "")
	for _, w := range []*world{a, b} {
		w.eventually("the alarm is over", func() bool { return !alarmed(w) })
		s = w.begins("m.wade", wadePassword)
		number, ask = s.shown(), waits(t, wade)
		says(t, wade, ask, approval.Approved, number, approval.Approved)
		s.ends("Access-Accept", "ok")
	}
	// One that is down when an alarm ends, and when another begins, is told when it is back.
	wade.URL = a.app.PortalURL
	alarm := func() {
		t.Helper()
		s := a.begins("m.wade", wadePassword)
		s.shown()
		says(t, wade, waits(t, wade), approval.Alarm, 0, approval.Alarm)
		s.ends("Access-Reject", "factor.not-me")
	}
	alarm()
	b.eventually("the alarm is on Now", func() bool { return alarmed(b) })
	b.app.Stop()
	a.wants(0, []string{"factor", "release", "m.wade"}, "")
	b.boot()
	b.eventually("the alarm that ended meanwhile is over", func() bool { return !alarmed(b) })
	b.app.Stop()
	alarm()
	b.boot()
	b.eventually("the alarm that was raised meanwhile is on Now", func() bool { return alarmed(b) })
}

func alarmed(w *world) bool {
	var now apitype.Now
	w.do(http.MethodGet, "/now", nil, &now)
	return slices.ContainsFunc(now.Attention, func(a apitype.Attention) bool { return a.Code == "factor.not-me" })
}
