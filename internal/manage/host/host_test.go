package host

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"
)

type seen struct{ at time.Time }

func (s *seen) Seen(context.Context) (time.Time, error)        { return s.at, nil }
func (s *seen) SaveSeen(_ context.Context, at time.Time) error { s.at = at; return nil }

func TestTheClockIsWatched(t *testing.T) {
	at := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	s := &seen{}
	open := func() *Clock {
		t.Helper()
		c, err := OpenClock(t.Context(), s, func() time.Time { return at })
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	if c := open(); !c.Seen().IsZero() || len(c.Jumps()) != 0 || !s.at.Equal(at) {
		t.Errorf("a first start: %v, %v", c.Seen(), c.Jumps())
	}
	at = at.Add(72 * time.Hour) // the service was stopped for a long time, which is no jump
	c := open()
	if len(c.Jumps()) != 0 {
		t.Errorf("a long stop: %v", c.Jumps())
	}
	before, mono := at, time.Now()
	at = at.Add(time.Second)
	if before, mono = c.look(before, mono); len(c.Jumps()) != 0 {
		t.Errorf("a second: %v", c.Jumps())
	}
	at = at.Add(time.Hour)
	before, mono = c.look(before, mono)
	at = at.Add(-2 * time.Hour)
	c.look(before, mono)
	if j := c.Jumps(); len(j) != 2 || j[0].By.Round(time.Minute) != time.Hour ||
		j[1].By.Round(time.Minute) != -2*time.Hour {
		t.Errorf("an hour ahead and two back: %v", j)
	}
	at = at.Add(-time.Hour)
	if c = open(); len(c.Jumps()) != 1 || !c.Jumps()[0].Stopped || c.Jumps()[0].By > -time.Hour {
		t.Errorf("an hour back while stopped: %v", c.Jumps())
	}
	for i := range 3 * keptJumps {
		before, mono = c.look(at, time.Now())
		at = at.Add(time.Duration(i+1) * time.Hour)
		c.look(before, mono)
	}
	if n := len(c.Jumps()); n != keptJumps {
		t.Errorf("%d jumps are kept", n)
	}
}

// shelf has blocks of a megabyte that can be thrown away.
type shelf struct {
	blocks int64
	free   *int64
}

func (s *shelf) RemoveOldest(_ context.Context, n int) (int64, error) {
	gone := min(int64(n), s.blocks)
	s.blocks -= gone
	*s.free += gone << 20
	return gone * 100, nil
}

func (s *shelf) Shrink(context.Context) error { return nil }

func TestTheDiskIsWatched(t *testing.T) {
	dir, free, total := t.TempDir(), int64(50<<30), int64(100<<30)
	s := &shelf{blocks: 10_000, free: &free}
	d := OpenDisk(dir, s, func(string) (int64, int64, error) { return free, total, nil })
	held := filepath.Join(dir, "reserve")
	if info, err := os.Stat(held); err != nil || info.Size() != maxHeld {
		t.Fatalf("no room is held: %v", err)
	}
	at := func(f int64) Space {
		free = f
		d.look(t.Context())
		return d.Space()
	}
	if got := at(50 << 30); got.Low() || got.Short() || got.Shedding || got.Spent {
		t.Errorf("half full: %+v", got)
	}
	if got := at(19 << 30); !got.Low() || got.Short() || got.Shedding {
		t.Errorf("19 %% left: %+v", got)
	}
	if got := at(4 << 30); !got.Short() || got.Shedding || s.blocks != 10_000 {
		t.Errorf("4 %% left: %+v", got)
	}
	if got := at(500 << 20); !got.Shedding || got.Shed != 6400 || s.blocks != 10_000-64 || free < maxReserve {
		t.Errorf("below the reserve: %+v, %d blocks, %d free", got, s.blocks, free)
	}
	if got := at(1 << 20); !got.Spent || s.blocks > 10_000-512 {
		t.Errorf("full: %+v, %d blocks", got, s.blocks)
	}
	if _, err := os.Stat(held); err == nil {
		t.Error("the room that was held is not given up")
	}
	if got := at(60 << 30); got.Shed != 0 || got.Spent || got.Low() {
		t.Errorf("when it is over: %+v", got)
	}
	if _, err := os.Stat(held); err != nil {
		t.Error("no room is held again")
	}
	d.uses = []use{{time.Now().Add(-10 * time.Minute), 62 << 30}}
	if got := at(60 << 30); got.Lasts < 299*time.Minute || got.Lasts > 301*time.Minute {
		t.Errorf("2 GB in ten minutes, 60 left: %v", got.Lasts)
	}
	s.blocks = 0
	if got := at(100 << 20); !got.Shedding { // nothing is left that could be removed, and nobody waits for it
		t.Errorf("without attempts: %+v", got)
	}
}

func TestGarbageIsBounded(t *testing.T) {
	for live, want := range map[uint64]int{0: 400, 10 << 20: 400, 40 << 20: 400, 80 << 20: 200, 160 << 20: 100,
		400 << 20: 50, 1 << 40: 50} {
		if got := percentOf(live, 400); got != want {
			t.Errorf("with %d MB in use %d %%, wanted %d", live>>20, got, want)
		}
	}
}

func TestTheClockIsDoubted(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	for after, want := range map[time.Duration]bool{-time.Hour: false, 0: false, 40 * time.Hour: false,
		50 * time.Hour: true, 365 * 24 * time.Hour: true} {
		c, err := OpenClock(context.Background(), &seen{now}, func() time.Time { return now.Add(after) })
		if err != nil || c.Doubtful() != want {
			t.Errorf("started %v after it was seen: %v, %v", after, c.Doubtful(), err)
		}
	}
	c, err := OpenClock(context.Background(), &seen{}, func() time.Time { return now })
	if err != nil || c.Doubtful() {
		t.Errorf("a first start is doubted, %v", err)
	}
	c.jumped(Jump{At: now, By: 72 * time.Hour})
	if !c.Doubtful() {
		t.Error("a jump of three days is not doubted")
	}
}
