package radius

import (
	"container/heap"
	"sync"
	"time"

	"tollgate.example/key/internal/base/panics"
)

// maxDelayed bounds the replies held back; beyond it they are sent at once.
const maxDelayed = 100_000

// delayer sends replies later. It holds one goroutine, not one for each reply.
type delayer struct {
	panicked *panics.Log
	mu       sync.Mutex
	queue    delayQueue
	wake     chan struct{}
	closed   chan struct{}
	done     sync.WaitGroup
}

type delayed struct {
	at   time.Time
	send func()
}

type delayQueue []delayed

func (q delayQueue) Len() int           { return len(q) }
func (q delayQueue) Less(i, j int) bool { return q[i].at.Before(q[j].at) }
func (q delayQueue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *delayQueue) Push(x any)        { *q = append(*q, x.(delayed)) }
func (q *delayQueue) Pop() any {
	old := *q
	last := old[len(old)-1]
	old[len(old)-1] = delayed{}
	*q = old[:len(old)-1]
	return last
}

func newDelayer(panicked *panics.Log) *delayer {
	d := &delayer{panicked: panicked, wake: make(chan struct{}, 1), closed: make(chan struct{})}
	d.done.Go(d.run)
	return d
}

// after sends when the delay has passed.
func (d *delayer) after(delay time.Duration, send func()) {
	d.mu.Lock()
	if delay <= 0 || len(d.queue) >= maxDelayed {
		d.mu.Unlock()
		send()
		return
	}
	at := time.Now().Add(delay)
	first := len(d.queue) == 0 || at.Before(d.queue[0].at)
	heap.Push(&d.queue, delayed{at, send})
	d.mu.Unlock()
	if first {
		select {
		case d.wake <- struct{}{}:
		default:
		}
	}
}

func (d *delayer) close() {
	close(d.closed)
	d.done.Wait()
}

func (d *delayer) run() {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		timer.Reset(d.sendDue(time.Now()))
		select {
		case <-timer.C:
		case <-d.wake:
		case <-d.closed:
			return
		}
	}
}

// sendDue sends what is due and returns the time until the next.
func (d *delayer) sendDue(now time.Time) time.Duration {
	for {
		d.mu.Lock()
		if len(d.queue) == 0 {
			d.mu.Unlock()
			return time.Hour
		}
		if wait := d.queue[0].at.Sub(now); wait > 0 {
			d.mu.Unlock()
			return wait
		}
		next := heap.Pop(&d.queue).(delayed)
		d.mu.Unlock()
		d.now(next.send)
	}
}

func (d *delayer) now(send func()) {
	defer d.panicked.Catch(func() string { return "sending a refusal that was held back" }, nil)
	send()
}
