package workers

import (
	"runtime"
	"sync/atomic"
	"testing"
	"time"
)

func TestWorkersAreKeptAndEnd(t *testing.T) {
	before := runtime.NumGoroutine()
	var done atomic.Int64
	pool := New(50*time.Millisecond, func(n int64) { done.Add(n) })
	for range 1000 {
		pool.Go(1)
	}
	for deadline := time.Now().Add(5 * time.Second); done.Load() < 1000; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d of 1000 jobs were done", done.Load())
		}
	}
	for deadline := time.Now().Add(5 * time.Second); runtime.NumGoroutine() > before; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d goroutines are left, %d before", runtime.NumGoroutine(), before)
		}
	}
	pool.Go(1) // after all workers have ended
	pool.Close()
	if done.Load() != 1001 {
		t.Errorf("%d jobs were done; Close has to wait for the last one", done.Load())
	}
}

func TestALongJobHoldsUpNobody(t *testing.T) {
	held, done := make(chan struct{}), make(chan struct{}, 1)
	pool := New(time.Second, func(long bool) {
		if long {
			<-held
			return
		}
		done <- struct{}{}
	})
	pool.Go(true)
	pool.Go(false)
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		t.Error("the second job waits for the first")
	}
	close(held)
	pool.Close()
}
