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

func TestEarlierProblemsAreKept(t *testing.T) {
	b, s := book(t)
	addr, now := netip.MustParseAddr("192.0.2.11"), time.Unix(100_000, 0)
	at := func(minutes int) time.Time { return now.Add(time.Duration(minutes) * time.Minute) }
	b.Discard(addr, "c1", WrongSecret, "x", at(0))
	b.Discard(addr, "c1", Malformed, "y", at(1))
	for i := range 100 { // two faults in turn share two entries
		b.Discard(addr, "c1", []Fault{WrongSecret, Malformed}[i%2], "z", at(2))
	}
	c := b.All()[0]
	if len(c.Earlier) != 1 || c.Earlier[0].Count+c.Problem.Count != 102 {
		t.Errorf("%+v, then %+v", c.Earlier, c.Problem)
	}
	for i := range 50 { // one that comes and goes shares one
		b.Good(addr, "c1", false, at(10+2*i))
		b.Discard(addr, "c1", NoAuthenticator, "", at(11+2*i))
	}
	for i := range 20 {
		b.Good(addr, "c1", false, at(1000+200*i))
		b.Discard(addr, "c1", Malformed, "", at(1001+200*i))
	}
	b.save(s)
	again, err := Open(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	if c = again.All()[0]; len(c.Earlier) != maxEarlier || c.Earlier[maxEarlier-1].Fault != Malformed {
		t.Errorf("%d earlier: %+v", len(c.Earlier), c.Earlier)
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
