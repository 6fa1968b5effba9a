package failover

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

func TestAFailedServerIsAskedLastUntilItAnswers(t *testing.T) {
	var probes atomic.Int32
	var came atomic.Value
	k := New(time.Second, func(_ context.Context, server string) error {
		if server != "dc1" {
			t.Errorf("%s is probed", server)
		}
		if probes.Add(1) < 3 {
			return errors.New("still away")
		}
		return nil
	}, func(server string) { came.Store(server) })
	k.soonest, k.every = time.Millisecond, 5*time.Millisecond
	defer k.Close()
	all := []string{"dc1", "dc2", "dc3"}
	k.Failed("dc1", "silent")
	k.Failed("dc1", "silent") // does not begin a second watch
	if got := k.Order(all); !slices.Equal(got, []string{"dc2", "dc3", "dc1"}) {
		t.Errorf("order %v", got)
	}
	for range 200 {
		if !k.Down("dc1") {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if got := k.Order(all); !slices.Equal(got, all) || probes.Load() != 3 {
		t.Errorf("after %d probes: %v", probes.Load(), got)
	}
	if came.Load() != "dc1" {
		t.Errorf("%v came back", came.Load())
	}
	k.Close()
	k.Failed("dc2", "silent")
	if k.Down("dc2") {
		t.Error("a closed keeper goes on")
	}
}

func TestShare(t *testing.T) {
	for _, c := range []struct {
		limit time.Duration
		n     int
		want  time.Duration
	}{{3 * time.Second, 1, 3 * time.Second}, {3 * time.Second, 2, time.Second}, {500 * time.Millisecond, 2,
		300 * time.Millisecond}, {100 * time.Millisecond, 3, 100 * time.Millisecond}} {
		if got := Share(c.limit, c.n); got != c.want {
			t.Errorf("%v among %d is %v, wanted %v", c.limit, c.n, got, c.want)
		}
	}
}

// A server that takes connections and is silent fails again and again, while others find it answering in between.
func TestAServerHasOneWatcher(t *testing.T) {
	var running, most atomic.Int32
	k := New(time.Second, func(context.Context, string) error {
		if n := running.Add(1); n > most.Load() {
			most.Store(n)
		}
		defer running.Add(-1)
		time.Sleep(time.Millisecond)
		return errors.New("silent")
	}, func(string) {})
	k.soonest, k.every = time.Millisecond, time.Millisecond
	before := runtime.NumGoroutine()
	for range 200 {
		k.Failed("dc1", "silent")
		time.Sleep(200 * time.Microsecond)
		k.Answers("dc1")
	}
	k.Failed("dc1", "silent")
	if n := runtime.NumGoroutine() - before; n > 3 || most.Load() > 1 {
		t.Errorf("%d goroutines more, %d probes at once", n, most.Load())
	}
	if why := k.AllDown([]string{"dc1"}); !strings.HasPrefix(why, "silent; no server has answered since ") {
		t.Errorf("the only server is down: %q", why)
	}
	if k.AllDown([]string{"dc1", "dc2"}) != "" || k.AllDown(nil) != "" {
		t.Error("dc2 is not down, and of no servers all are")
	}
	k.Close()
}
