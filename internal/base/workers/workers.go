// Package workers runs jobs on goroutines that are kept for a while, since the stack of a new goroutine would have to
// grow in each job. How many jobs are taken at once is up to the caller.
package workers

import (
	"sync"
	"time"
)

// Pool runs jobs of one kind. It is safe for concurrent use.
type Pool[Job any] struct {
	run     func(Job)
	idle    time.Duration
	jobs    chan Job // to an idle worker
	closing chan struct{}
	working sync.WaitGroup
}

// New makes a pool that hands each job to run. A worker without a job ends after the idle time.
func New[Job any](idle time.Duration, run func(Job)) *Pool[Job] {
	return &Pool[Job]{run: run, idle: idle, jobs: make(chan Job), closing: make(chan struct{})}
}

// Go hands a job to an idle worker, or to a new one. It does not wait for the job, and must not be called after Close.
func (p *Pool[Job]) Go(job Job) {
	select {
	case p.jobs <- job:
	default: // no worker is idle
		p.working.Go(func() { p.work(job) })
	}
}

func (p *Pool[Job]) work(job Job) {
	idle := time.NewTimer(p.idle)
	defer idle.Stop()
	for {
		p.run(job)
		idle.Reset(p.idle)
		select {
		case job = <-p.jobs:
		case <-idle.C:
			return
		case <-p.closing:
			return
		}
	}
}

// Close waits for the jobs under way.
func (p *Pool[Job]) Close() {
	close(p.closing)
	p.working.Wait()
}
