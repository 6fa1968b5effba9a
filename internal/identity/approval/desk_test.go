package approval

import (
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"
)

// world is a desk with its alarms.
type world struct {
	*testing.T
	*Desk
	alarms []string
	now    time.Time
}

func newWorld(t *testing.T) *world {
	w := &world{T: t, now: time.Unix(1_800_000_000, 0)}
	w.Desk = NewDesk(func(a *Ask, by string) { w.alarms = append(w.alarms, a.Name+" "+a.Client+" "+by) },
		func(*Ask) {})
	return w
}

func (w *world) open(name string, number int) *Ticket {
	w.Helper()
	t, err := w.Open(
		Ask{Store: "LANTERN", Name: name, Client: "hh-desk-1", Until: w.now.Add(time.Minute)},
		number,
		w.now,
	)
	if err != nil {
		w.Fatal(err)
	}
	return t
}

func (w *world) answer(t *Ticket, verdict Verdict, number int, want Verdict, wantErr error) {
	w.Helper()
	got, err := w.Answer("lantern", "S.Lodge", t.ID, verdict, number, "phone", w.now)
	if got != want || !errors.Is(err, wantErr) {
		w.Errorf("%s with %d came to %q, %v", verdict, number, got, err)
	}
}

func (w *world) pending(want int) <-chan struct{} {
	w.Helper()
	list, changed, done := w.Pending("LANTERN", "s.lodge", w.now)
	done()
	if len(list) != want {
		w.Errorf("%d wait, wanted %d", len(list), want)
	}
	return changed
}

func TestAnAskIsAnsweredOnceByItsPerson(t *testing.T) {
	w := newWorld(t)
	changed := w.pending(0)
	one := w.open("s.lodge", 47)
	other := w.open("k.nance", 48)
	select {
	case <-changed: // of somebody who was not remembered any more
		t.Error("whoever does not wait any more is told")
	default:
	}
	_, changed, done := w.Pending("LANTERN", "s.lodge", w.now)
	defer done()
	w.answer(other, Approved, 48, "", ErrOver) // of somebody else
	w.answer(one, "perhaps", 47, "", ErrVerdict)
	called := 0
	if v, _ := one.Then(func(Verdict, string) { called += 10 }); v != Waiting {
		t.Error(v)
	}
	one.Then(func(v Verdict, by string) {
		if called++; v != Approved || by != "phone" {
			t.Errorf("told %s by %s", v, by)
		}
	})
	w.answer(one, Approved, 47, Approved, nil)
	w.answer(one, Refused, 0, "", ErrOver)
	select {
	case <-changed:
	default:
		t.Error("the phone is not told")
	}
	if v, by := one.Then(func(Verdict, string) { called++ }); called != 1 || v != Approved || by != "phone" {
		t.Errorf("called %d times, %s", called, v)
	}
	w.pending(0)
	one.Close(true, w.now)
	one.Close(true, w.now)
	if w.Len() != 1 {
		t.Errorf("%d wait", w.Len())
	}
	late := w.open("s.lodge", 0)
	w.now = w.now.Add(time.Minute)
	w.answer(late, Approved, 0, "", ErrOver)
	late.Close(true, w.now)
	w.answer(late, Approved, 0, "", ErrOver)
	other.Close(false, w.now)
	if len(w.asks) != 0 || len(w.people) != 1 { // s.lodge did not answer one
		t.Errorf("left: %v %v", w.asks, w.people)
	}
}

func TestNobodyIsAskedTooOften(t *testing.T) {
	w := newWorld(t)
	for range tiredAfter {
		one := w.open("s.lodge", 47)
		w.answer(one, Approved, 48, Mismatched, nil)
		one.Close(true, w.now)
	}
	tired := func(want bool) {
		t.Helper()
		one, err := w.Open(Ask{Store: "LANTERN", Name: "S.LODGE", Until: w.now.Add(time.Minute)}, 0, w.now)
		if errors.Is(err, ErrTired) != want {
			t.Errorf("asked again: %v", err)
		}
		if err == nil {
			one.Close(false, w.now)
		}
	}
	tired(true)
	w.open("k.nance", 1).Close(false, w.now)
	w.now = w.now.Add(tiredFor)
	tired(false)
	one := w.open("s.lodge", 0)
	w.answer(one, Alarm, 0, Alarm, nil)
	if len(w.alarms) != 1 || w.alarms[0] != "s.lodge hh-desk-1 phone" {
		t.Errorf("alarms: %v", w.alarms)
	}
	tired(true)
	if until := w.Paused("lantern", "S.Lodge", w.now); !until.Equal(w.now.Add(tiredFor)) {
		t.Errorf("paused until %s", until)
	}
	w.Release("lantern", "s.lodge")
	one.Close(true, w.now)
	tired(false)
	w.Pause("lantern", "s.lodge", w.now) // as another node says
	tired(true)
	w.Release("lantern", "s.lodge")
	if until := w.Paused("lantern", "s.lodge", w.now); !until.IsZero() {
		t.Errorf("paused until %s", until)
	}
	w.now = w.now.AddDate(1, 0, 0) // tired while the clock was a year ahead
	for range tiredAfter {
		w.open("s.lodge", 0).Close(true, w.now)
	}
	tired(true)
	w.now = w.now.AddDate(-1, 0, 0)
	tired(false)
	for range maxOfPerson {
		w.open("s.lodge", 0)
	}
	tired(true)
	w.pending(maxOfPerson)
}

// However phones, sign-ins and the clock get in each other's way, an ask is told of once.
func TestAsksAtOnce(t *testing.T) {
	w := newWorld(t)
	var all sync.WaitGroup
	for n := range 64 {
		name := fmt.Sprintf("p%d", n)
		for range 20 {
			all.Go(func() {
				one, err := w.Open(Ask{Store: "LANTERN", Name: name, Until: w.now.Add(time.Minute)}, 47, w.now)
				if err != nil {
					return
				}
				told := make(chan Verdict, 2)
				first, _ := one.Then(func(v Verdict, _ string) { told <- v })
				var answers sync.WaitGroup
				for range 2 {
					answers.Go(func() { w.Answer("LANTERN", name, one.ID, Approved, 47, "phone", w.now) })
				}
				answers.Wait()
				one.Close(true, w.now)
				if got, _ := one.Verdict(); got != Approved || first != Waiting || len(told) != 1 {
					t.Errorf("%s, told %d times", got, len(told))
				}
			})
		}
	}
	all.Wait()
	if w.Len() != 0 || len(w.people) != 0 {
		t.Errorf("left: %d of %d", w.Len(), len(w.people))
	}
	for range 1000 {
		if n := Number(); n < 10 || n > 99 {
			t.Fatal(n)
		}
	}
}
