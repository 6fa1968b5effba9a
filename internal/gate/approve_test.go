package gate

import (
	"fmt"
	"runtime"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/approval"
)

// waiting is a gate with nothing but a desk, and a visit of it.
type told func(Answer)

func (t told) Answered(a Answer) { t(a) }

func waiting() *Visit {
	g := &Gate{Parts: Parts{Approvals: approval.NewDesk(func(*approval.Ask, string) {},
		func(*approval.Ask) {}), Panics: &panics.Log{}}}
	return &Visit{gate: g}
}

func (v *Visit) ticket(t testing.TB, name string) *approval.Ticket {
	t.Helper()
	ticket, err := v.gate.Approvals.Open(
		approval.Ask{Store: "LANTERN", Name: name, Until: time.Now().Add(time.Minute)},
		47,
		time.Now(),
	)
	if err != nil {
		t.Fatal(err)
	}
	return ticket
}

// Ten thousand sign-ins wait for approval without a goroutine each, and each is answered at once when it is approved.
func TestManyWaitForApproval(t *testing.T) {
	const many = 10_000
	v := waiting()
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	goroutines := runtime.NumGoroutine()
	tickets, came := make([]*approval.Ticket, many), make([]time.Time, many)
	for i := range tickets {
		tickets[i] = v.ticket(t, fmt.Sprint("p", i))
		out := v.wait(tickets[i], time.Minute, told(func(Answer) { came[i] = time.Now() }),
			func(approval.Verdict, string) Answer { return Answer{Verdict: results.Admitted} },
			func() Answer { return Answer{} })
		if !out.Held {
			t.Fatalf("number %d does not wait: %+v", i, out)
		}
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	each := (int64(after.HeapAlloc) - int64(before.HeapAlloc)) / many
	if more := runtime.NumGoroutine() - goroutines; more > 10 || v.gate.Held() != many || each > 4<<10 {
		t.Errorf("%d wait with %d goroutines more and %d octets each", v.gate.Held(), more, each)
	}
	slowest := time.Duration(0)
	for i, ticket := range tickets {
		begun := time.Now()
		if _, err := v.gate.Approvals.Answer("LANTERN", fmt.Sprint("p", i), ticket.ID, approval.Approved, 47, "phone",
			begun); err != nil {
			t.Fatal(err)
		}
		slowest = max(slowest, came[i].Sub(begun))
		ticket.Close(true, time.Now())
	}
	if slowest > 100*time.Millisecond || v.gate.Held() != 0 || v.gate.Approvals.Len() != 0 {
		t.Errorf("the slowest answer came %s after its approval; %d wait still", slowest, v.gate.Held())
	}
	t.Logf("%d octets each, the slowest answer %s after its approval", each, slowest)
}

// Whoever got the password wrong presses Enter as often as they like: of one client so many wait as may be asked, the
// oldest is answered before its time, and nobody whose phone was asked gives way.
func TestWrongPasswordsHoldNoMoreThanTheirShare(t *testing.T) {
	v := waiting()
	answered := make([]int, 3*wrongPerClient)
	asked := v.ticket(t, "k.nance")
	hold := func(client string, ticket *approval.Ticket, tell func()) {
		t.Helper()
		visit := &Visit{gate: v.gate}
		visit.Facts.Client = client
		if out := visit.wait(ticket, time.Minute, told(func(Answer) { tell() }), nil, func() Answer {
			return Answer{Challenge: true}
		}); !out.Held {
			t.Fatalf("a request of %s does not wait: %+v", client, out)
		}
	}
	hold("vpn", asked, func() { t.Error("whoever was asked gave way") })
	hold("switch", nil, func() { t.Error("another client gave way") })
	for i := range answered {
		hold("vpn", nil, func() { answered[i]++ })
	}
	for i, n := range answered {
		if early := i < 2*wrongPerClient; early != (n == 1) {
			t.Fatalf("number %d was answered %d times", i, n)
		}
	}
	if n := v.gate.Held(); n != wrongPerClient+2 {
		t.Errorf("%d wait", n)
	}
	v.gate.holding.mu.Lock()
	kept := len(v.gate.holding.idle["vpn"])
	v.gate.holding.mu.Unlock()
	if kept > wrongPerClient+1 {
		t.Errorf("%d are remembered", kept)
	}
}

// Each request that waits gets one answer, whichever of an approval, the end of its time and the end of the service
// comes first.
func TestAnApprovalAndTheEndAtOnce(t *testing.T) {
	v := waiting()
	var mu sync.Mutex
	answers := map[int]int{}
	var all sync.WaitGroup
	for i := range 500 {
		name := fmt.Sprint("p", i)
		ticket := v.ticket(t, name)
		v.wait(ticket, time.Duration(i%20)*time.Millisecond, told(func(Answer) {
			mu.Lock()
			defer mu.Unlock()
			answers[i]++
		}), func(approval.Verdict, string) Answer { return Answer{Verdict: results.Admitted} }, func() Answer {
			return Answer{}
		})
		all.Go(func() {
			time.Sleep(time.Duration(i%17) * time.Millisecond)
			v.gate.Approvals.Answer("LANTERN", name, ticket.ID, approval.Approved, 47, "phone", time.Now())
			ticket.Close(true, time.Now())
		})
	}
	time.Sleep(8 * time.Millisecond)
	v.gate.holding.close()
	all.Wait()
	if v.gate.Held() != 0 || len(answers) != 500 {
		t.Errorf("%d wait still, %d were answered", v.gate.Held(), len(answers))
	}
	for i, n := range answers {
		if n != 1 {
			t.Errorf("number %d was answered %d times", i, n)
		}
	}
	later := told(func(Answer) { t.Error("told later") })
	if out := v.wait(v.ticket(t, "late"), time.Minute, later, nil, func() Answer {
		return Answer{Discard: true}
	}); !out.Discard {
		t.Errorf("after the end somebody waits: %+v", out)
	}
}
