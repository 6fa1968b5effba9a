package lockout

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

var three = Limits{After: 3, Window: time.Hour}

// try passes a password on if it may be, and tells whether it was.
func try(t *testing.T, g *Guard, device string, limits Limits, outcome Outcome) bool {
	t.Helper()
	held, err := g.Ask(context.Background(), "LANTERN", "s.lodge", device, limits)
	if err != nil {
		t.Fatal(err)
	}
	if held == nil {
		g.Done("LANTERN", "S.Lodge", device, limits, outcome)
	}
	return held == nil
}

func TestADeviceIsHeldBackBeforeThePerson(t *testing.T) {
	g := New()
	for i, c := range []struct {
		device  string
		outcome Outcome
		passes  bool
	}{
		// which forgets all
		{"phone", Wrong, true}, {"phone", Unsaid, true}, {"phone", Wrong, true}, {"phone", Wrong, false},
		{"laptop", Right, true},
		{"phone", Wrong, true}, {"phone", Wrong, true}, {"phone", Wrong, false}, {"laptop", Wrong, true},
		{"laptop", Right, false}, {"", Right, false},
	} {
		if got := try(t, g, c.device, three, c.outcome); got != c.passes {
			t.Errorf("attempt %d from %s: passed on %v, wanted %v", i, c.device, got, c.passes)
		}
	}
	list := g.List("lantern", time.Now())
	if len(list) != 1 || list[0].Wrong != 3 || list[0].Device != "" {
		t.Errorf("held back: %+v", list)
	}
	if g.Release("LANTERN", "nobody") != 0 || g.Release("LANTERN", "s.lodge") != 1 || !try(t, g, "phone", three,
		Right) {
		t.Error("after the release")
	}
	if len(g.people) != 0 {
		t.Errorf("%d people are kept though nothing is counted", len(g.people))
	}
}

func TestTheWindowEnds(t *testing.T) {
	g := New()
	short := Limits{After: 1, Window: 200 * time.Millisecond}
	if !try(t, g, "", short, Wrong) || try(t, g, "", short, Wrong) {
		t.Error("one wrong password is passed on, and no more")
	}
	time.Sleep(250 * time.Millisecond)
	if !try(t, g, "", short, Wrong) {
		t.Error("held back after the window")
	}
	g.Counted("LANTERN", "s.lodge", 9)
	if list := g.List("LANTERN", time.Now()); len(list) != 1 || list[0].Wrong != 9 {
		t.Errorf("what the directory counts: %+v", list)
	}
	if g.Counted("LANTERN", "s.lodge", 0); try(t, g, "", short, Right) {
		t.Error("a controller that counted none took the count back")
	}
}

// However many come at once, no more wrong ones are passed on than allowed, and right ones all are.
func TestAtOnce(t *testing.T) {
	g := New()
	var passed atomic.Int32
	var wait sync.WaitGroup
	for range 50 {
		wait.Go(func() {
			held, err := g.Ask(context.Background(), "L", "s.lodge", "", three)
			if err != nil {
				t.Error(err)
			}
			if held == nil {
				passed.Add(1)
				time.Sleep(time.Millisecond)
				g.Done("L", "s.lodge", "", three, Wrong)
			}
		})
	}
	for range 50 {
		wait.Go(func() {
			held, err := g.Ask(context.Background(), "L", "k.nance", "", three)
			if err != nil || held != nil {
				t.Errorf("a right one is held back: %v, %v", held, err)
				return
			}
			time.Sleep(time.Millisecond)
			g.Done("L", "k.nance", "", three, Right)
		})
	}
	wait.Wait()
	if passed.Load() != 3 {
		t.Errorf("%d wrong ones were passed on", passed.Load())
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Millisecond)
	defer cancel()
	one := Limits{After: 1, Window: time.Hour}
	if held, err := g.Ask(ctx, "L", "slow", "", one); held != nil || err != nil {
		t.Error("the first is held back")
	}
	if _, err := g.Ask(ctx, "L", "slow", "", one); err == nil {
		t.Error("waited beyond the limit")
	}
}

func TestRoom(t *testing.T) {
	g := New()
	for i := range maxHeld + 10 {
		name := fmt.Sprint(i)
		if held, _ := g.Ask(context.Background(), "L", name, "", three); held == nil {
			g.Done("L", name, "", three, Wrong)
		}
	}
	if len(g.people) > maxHeld {
		t.Errorf("%d people are kept", len(g.people))
	}
}

// Wrong passwords that other nodes passed on count, and a right one there ends the count here.
func TestWhatOtherNodesSayCounts(t *testing.T) {
	a, b := New(), New()
	a.Tell(b.Heard)
	limits := Limits{After: 3, Window: time.Minute}
	for range 3 {
		if held, err := a.Ask(t.Context(), "LANTERN", "k.nance", "", limits); held != nil || err != nil {
			t.Fatal(held, err)
		}
		a.Done("LANTERN", "k.nance", "", limits, Wrong)
	}
	if held, err := b.Ask(t.Context(), "lantern", "K.Nance", "", limits); held == nil || err != nil {
		t.Errorf("three wrong passwords elsewhere hold nothing back: %v, %v", held, err)
	}
	if list := b.List("LANTERN", time.Now()); len(list) != 1 || list[0].Wrong != 3 {
		t.Errorf("held back are %+v", list)
	}
	a.Right("LANTERN", "k.nance")
	if held, err := b.Ask(t.Context(), "LANTERN", "k.nance", "", limits); held != nil || err != nil {
		t.Errorf("a right password elsewhere changes nothing: %v, %v", held, err)
	}
	b.Heard(Said{Store: "LANTERN", Name: "s.lodge", Outcome: Right}) // of whom nothing was counted
}
