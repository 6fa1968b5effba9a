package session

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

func open(t testing.TB, dir string) (*Keeper, *store.Store) {
	t.Helper()
	s, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	k, err := Open(context.Background(), s, time.Time{})
	if err != nil {
		t.Fatal(err)
	}
	return k, s
}

func TestOneAddressToOneSession(t *testing.T) {
	dir := t.TempDir()
	k, s := open(t, dir)
	// .9, .10 and .20
	pool := NewPool(&config.Pool{Name: "vpn", Ranges: []string{"192.0.2.8/30", "192.0.2.20-192.0.2.20"}})
	now := time.Now()
	take := func(holder string, length time.Duration) string {
		return k.Take(pool, holder, "who", "hh-vpn-1", now, length).String()
	}
	a, b, c := take("a", time.Hour), take("b", time.Minute), take("", time.Hour)
	if a == b || b == c || a == c {
		t.Fatalf("given %s, %s and %s", a, b, c)
	}
	if again := take("a", time.Hour); again != a {
		t.Errorf("who asks again gets %s, not %s", again, a)
	}
	if d := take("d", time.Hour); d != "invalid IP" {
		t.Errorf("of a full pool came %s", d)
	}
	now = now.Add(time.Minute + grace - time.Second)
	if d := take("d", time.Hour); d != "invalid IP" {
		t.Errorf("within the time of grace came %s", d)
	}
	now = now.Add(2 * time.Second)
	if d := take("d", 2*time.Minute); d != b {
		t.Errorf("after b had to end came %s, not %s", d, b)
	}
	if e := take("b", time.Hour); e != "invalid IP" {
		t.Errorf("b got its address back although d has it: %s", e)
	}
	if !k.Release(netip.MustParseAddr(c)) || k.Release(netip.MustParseAddr(c)) {
		t.Error("releasing once works, twice not")
	}
	if e := take("b", time.Hour); e != c {
		t.Errorf("what was released comes as %s", e)
	}
	if list := k.List("VPN", now); len(list) != 3 {
		t.Errorf("taken: %+v", list)
	}
	k.Close()
	s.Close()
	k, s = open(t, dir)
	defer s.Close()
	defer k.Close()
	if again := take("a", time.Hour); again != a {
		t.Errorf("after a restart a has %s", again)
	}
	if list := k.List("", time.Now()); len(list) != 3 {
		t.Errorf("after a restart: %+v", list)
	}
}

// TestNeverTwice plays sessions at random, and looks whether two that are open ever have one address.
func TestNeverTwice(t *testing.T) {
	k, s := open(t, t.TempDir())
	defer s.Close()
	defer k.Close()
	pool := NewPool(&config.Pool{Name: "p", Ranges: []string{"2001:db8::/122", "192.0.2.0/27"}})
	r := rand.New(rand.NewPCG(11, 12))
	now := time.Now()
	type session struct {
		holder string
		until  time.Time
	}
	open, full := map[netip.Addr]session{}, 0
	for range 20_000 {
		now = now.Add(time.Duration(r.IntN(8)) * time.Second)
		holder, length := fmt.Sprint(r.IntN(500)), time.Duration(1+r.IntN(1800))*time.Second
		addr := k.Take(pool, holder, "", "", now, length)
		if !addr.IsValid() {
			full++
			continue
		}
		if have, taken := open[addr]; taken && have.until.After(now) && have.holder != holder {
			t.Fatalf("%s goes to %s while %s has it for %s yet", addr, holder, have.holder, have.until.Sub(now))
		}
		open[addr] = session{holder, now.Add(length)}
	}
	if full == 0 || full > 15_000 {
		t.Errorf("the pool was full %d times", full)
	}
}
