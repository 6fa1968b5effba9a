package health

import (
	"context"
	"errors"
	"slices"
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
	k.every = 5 * time.Millisecond
	defer k.Close()
	all := []string{"dc1", "dc2", "dc3"}
	k.Failed("dc1")
	k.Failed("dc1") // does not begin a second watch
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
	k.Failed("dc2")
	if k.Down("dc2") {
		t.Error("a closed keeper goes on")
	}
}

func TestShare(t *testing.T) {
	for _, c := range []struct {
		limit time.Duration
		n     int
		want  time.Duration
	}{{3 * time.Second, 1, 3 * time.Second}, {3 * time.Second, 2, time.Second}, {500 * time.Millisecond, 2, 300 * time.Millisecond}, {100 * time.Millisecond, 3, 100 * time.Millisecond}} {
		if got := Share(c.limit, c.n); got != c.want {
			t.Errorf("%v among %d is %v, wanted %v", c.limit, c.n, got, c.want)
		}
	}
}
