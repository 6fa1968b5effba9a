package sources

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"tollgate.example/key/internal/store"
)

func book(t *testing.T) (*Registry, *store.Store) {
	t.Helper()
	s, err := store.Open(context.Background(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	b, err := Open(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	return b, s
}

func TestProblemsComeAndGo(t *testing.T) {
	b, s := book(t)
	addr, now := netip.MustParseAddr("192.0.2.11"), time.Unix(100_000, 0)
	for i := range 3 {
		b.Discard(addr, "c1", WrongSecret, "x", now.Add(time.Duration(i)*time.Second))
	}
	c := b.All()[0]
	if !c.Current() || c.Problem.Count != 3 || !c.Problem.Since.Equal(now) || c.Dropped != 3 {
		t.Errorf("got %+v, %+v", c, c.Problem)
	}
	b.Good(addr, "c1", true, now.Add(time.Minute))
	if c := b.All()[0]; c.Current() || c.Problem == nil || !c.Signs || !b.Signs(addr) {
		t.Errorf("after a good request %+v", c)
	}
	b.Discard(addr, "c1", WrongSecret, "x", now.Add(2*time.Minute))
	if c := b.All()[0]; c.Problem.Count != 1 {
		t.Errorf("a new spell of the same problem counts %d", c.Problem.Count)
	}
	b.save(s)
	again, err := Open(context.Background(), s)
	if err != nil || !again.Signs(addr) || len(again.All()) != 1 || again.All()[0].Good != 1 {
		t.Errorf("kept %+v, %v", again.All(), err)
	}
	if f, r := WrongSecret.Words(); f == "" || r == "" {
		t.Error("the fault has no words")
	}
}

func TestAFloodOfStrangersIsBounded(t *testing.T) {
	b, _ := book(t)
	now := time.Unix(100_000, 0)
	known := netip.MustParseAddr("192.0.2.11")
	b.Good(known, "c1", false, now)
	addr := netip.MustParseAddr("198.51.100.0")
	for i := range 3 * maxUnknown {
		addr = addr.Next()
		b.Discard(addr, "", UnknownClient, "", now.Add(time.Duration(i)*time.Second))
	}
	if n := len(b.unknown); n > maxUnknown {
		t.Errorf("%d strangers are kept", n)
	}
	if b.known[known] == nil || len(b.drops) > 140 {
		t.Errorf("the client was forgotten, or %d minutes are kept", len(b.drops))
	}
}
