package record

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/live"
	"tollgate.example/key/internal/store/sqlite"
)

//go:embed schema/*.sql
var schema embed.FS

const (
	queueSize = 1 << 16
	batchSize = 2048
	// maxHold is how long Add waits at most, with the queue full.
	maxHold = 10 * time.Millisecond
	// linger is how long a batch that need not be durable waits for more.
	linger = 20 * time.Millisecond
	// yields is how often others may run before a durable batch is closed: a commit costs as much as many records, and
	// whoever is about to record something may come along. A timer would be too coarse for this.
	yields = 4
	// tidyEvery is how often the keeper looks for work that waits until nothing is queued.
	tidyEvery = 100 * time.Millisecond
	// retryEvery is how long it waits after a commit that failed: a full disk must not make a busy loop.
	retryEvery = 100 * time.Millisecond
	// logEvery bounds what is logged of failures that come again and again.
	logEvery = 30 * time.Second
)

// ErrClosed is returned for records that come while the service stops.
var ErrClosed = errors.New("no records are taken any more, since the service stops")

// Keeper keeps records of one kind. It is safe for concurrent use.
type Keeper[T any] struct {
	kind    Kind[T]
	file    *sqlite.File
	ids     *ident.Source
	queue   chan pending[T]
	jobs    chan func()
	closing chan struct{}
	closed  sync.Once
	ended   chan struct{}

	// Live hands on what is recorded.
	Live live.Hub[*T]

	lost, added, total atomic.Int64
	trouble            atomic.Pointer[Trouble]
	// setAside is where a damaged file was put.
	setAside string
	searches chan struct{}
	// copier makes copies elsewhere, if somebody does; telling counts batches whose copies are under way.
	copier  atomic.Pointer[func(blocks []Block, then func())]
	telling sync.WaitGroup

	w       *writer[T]
	removal removal
}

type pending[T any] struct {
	r    *T
	done chan error // nil for whoever does not wait
}

var waiting = sync.Pool{New: func() any { return make(chan error, 1) }}

// Open opens or creates the file of a kind in a directory. Identifiers will be above all that are in it. A damaged file
// is set aside, and a new one begun.
func Open[T any](ctx context.Context, dir string, ids *ident.Source, kind Kind[T], keep Retention) (*Keeper[T], error) {
	k := &Keeper[T]{kind: kind, ids: ids, queue: make(chan pending[T], queueSize), jobs: make(chan func()),
		closing: make(chan struct{}), ended: make(chan struct{}), searches: make(chan struct{}, searchesAtOnce)}
	k.removal.keep = keep
	path := filepath.Join(dir, kind.Name+".db")
	err := k.open(ctx, path)
	if sqlite.Damaged(err) {
		aside := fmt.Sprintf("%s.damaged-%s", path, time.Now().UTC().Format("20060102-150405"))
		slog.Error("the file is damaged; it is set aside and a new one begun", "file", path, "aside", aside, "error",
			err)
		if err := rename(path, aside); err != nil {
			return nil, fmt.Errorf("setting the damaged file %s aside: %w", path, err)
		}
		k.setAside = aside
		err = k.open(ctx, path)
	}
	if err != nil {
		return nil, err
	}
	go k.run()
	return k, nil
}

func rename(path, to string) error {
	for _, more := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(path+more, to+more); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

func (k *Keeper[T]) open(ctx context.Context, path string) (err error) {
	level := "synchronous(NORMAL)"
	if k.kind.Durable {
		level = "synchronous(FULL)"
	}
	if k.file, err = sqlite.Open(ctx, path, schema, "schema", level, "cache_size(-16000)"); err != nil {
		return err
	}
	if k.w, err = newWriter(ctx, k); err != nil {
		return errors.Join(err, k.file.Close())
	}
	return nil
}

// Add hands a record over, which belongs to the keeper from then on, without waiting for the disk. With more than half
// of the queue taken it holds up whoever adds, the longer the fuller it is, so that a flood slows down to what can be
// recorded before anything is lost. With the queue full, the record is counted as lost.
func (k *Keeper[T]) Add(r *T) {
	k.added.Add(1)
	if over := len(k.queue) - queueSize/2; over > 0 {
		time.Sleep(maxHold * time.Duration(over) / (queueSize / 2))
	}
	select {
	case k.queue <- pending[T]{r: r}:
	default:
		k.lost.Add(1)
	}
}

// Record returns when a record is committed, or could not be. Records that wait together share a commit.
func (k *Keeper[T]) Record(ctx context.Context, r *T) error {
	k.added.Add(1)
	p := pending[T]{r, waiting.Get().(chan error)}
	select {
	case k.queue <- p:
	case <-k.ended:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-p.done:
		waiting.Put(p.done)
		return err
	case <-k.ended:
		select {
		case err := <-p.done: // with the last batch
			return err
		default:
			return ErrClosed
		}
	case <-ctx.Done(): // it may still be recorded; nobody is told that it was
		return ctx.Err()
	}
}

// Added counts records that were handed over, recorded yet or not.
func (k *Keeper[T]) Added() int64 { return k.added.Load() }

// Lost counts records that could not be kept.
func (k *Keeper[T]) Lost() int64 { return k.lost.Load() }

// Len counts the records that are kept.
func (k *Keeper[T]) Len() int64 { return k.total.Load() }

// SetAside is where a damaged file was put when the service started; "" if there was none.
func (k *Keeper[T]) SetAside() string { return k.setAside }

// Size is what the records take on the disk, in octets.
func (k *Keeper[T]) Size() int64 { return k.file.Size() }

// Flush waits until everything added before is committed, and what can go into segments is there.
func (k *Keeper[T]) Flush(ctx context.Context) {
	_ = k.do(ctx, func() error {
		k.drain()
		for k.w.tidy(ctx) {
		}
		return nil
	})
}

// Close commits what is queued and closes the file.
func (k *Keeper[T]) Close() error {
	k.closed.Do(func() { close(k.closing) })
	<-k.ended
	return errors.Join(k.w.close(), k.file.Close())
}

// do has something done by the goroutine that writes.
func (k *Keeper[T]) do(ctx context.Context, job func() error) error {
	done := make(chan error, 1)
	select {
	case k.jobs <- func() { done <- job() }:
		return <-done
	case <-k.ended:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (k *Keeper[T]) run() {
	defer close(k.ended)
	defer k.telling.Wait()
	batch := make([]pending[T], 0, batchSize)
	tick := time.NewTicker(tidyEvery)
	defer tick.Stop()
	for {
		select {
		case p := <-k.queue:
			batch = append(batch[:0], p)
			if k.kind.Durable {
				for range yields {
					runtime.Gosched()
				}
				batch = k.gather(batch)
				if k.kind.Gather > 0 && len(batch) < batchSize {
					time.Sleep(k.kind.Gather)
					batch = k.gather(batch)
				}
			} else if batch = k.gather(batch); len(batch) < batchSize {
				time.Sleep(linger)
				batch = k.gather(batch)
			}
			k.commit(batch)
			if k.w.behind() {
				k.w.tidy(context.Background())
			}
		case job := <-k.jobs:
			job()
		case <-tick.C:
			for len(k.queue) == 0 && k.w.tidy(context.Background()) {
				runtime.Gosched()
			}
			for len(k.queue) == 0 && k.clean(context.Background()) {
				runtime.Gosched()
			}
		case <-k.closing:
			k.drain()
			return
		}
	}
}

// drain commits what is queued.
func (k *Keeper[T]) drain() {
	for batch := k.gather(nil); len(batch) > 0; batch = k.gather(batch[:0]) {
		k.commit(batch)
	}
}

// gather takes what is queued, up to a whole batch, without waiting.
func (k *Keeper[T]) gather(batch []pending[T]) []pending[T] {
	for len(batch) < batchSize {
		select {
		case p := <-k.queue:
			batch = append(batch, p)
		default:
			return batch
		}
	}
	return batch
}

// commit records a batch. One that nobody waits for is tried again until it succeeds or the service ends: meanwhile the
// queue takes what comes.
func (k *Keeper[T]) commit(batch []pending[T]) {
	list := make([]*T, len(batch))
	for i, p := range batch {
		list[i] = p.r
	}
	kept, blocks, err := k.w.insert(list)
	defer func() { k.judge(err, len(list)-len(kept)) }()
	for err != nil && !k.kind.Durable && !k.isClosing() {
		k.judge(err, 0)
		k.w.log.Error("records could not be kept; trying again", err, "file", k.file.Name(), "count",
			len(list)-len(kept))
		time.Sleep(retryEvery)
		k.serve()
		var more []*T
		more, blocks, err = k.w.insert(list[len(kept):])
		kept = append(kept, more...)
	}
	if missing := len(list) - len(kept); missing > 0 {
		k.lost.Add(int64(missing))
		k.w.log.Error("records are lost", err, "file", k.file.Name(), "count", missing)
	}
	k.total.Add(int64(len(kept)))
	if len(kept) > 0 && k.kind.Written != nil {
		k.kind.Written(kept)
	}
	var waiters []chan error
	for i, p := range batch {
		switch {
		case p.done == nil:
		case i < len(kept):
			waiters = append(waiters, p.done)
		default:
			p.done <- fmt.Errorf("recording in %s: %w", k.file.Name(), err)
		}
	}
	k.copied(blocks, waiters)
	if k.Live.Active() {
		for _, r := range kept {
			k.Live.Send(r)
		}
	}
}

// Trouble is that records cannot be written.
type Trouble struct {
	Since time.Time
	// Refused counts records whose senders were told that they could not be recorded, or that are lost.
	Refused int
	Err     error
}

// Trouble returns what keeps records from being written now; nil if nothing does.
func (k *Keeper[T]) Trouble() *Trouble { return k.trouble.Load() }

// judge notes how a commit went.
func (k *Keeper[T]) judge(err error, refused int) {
	before := k.trouble.Load()
	switch {
	case err == nil && before != nil:
		slog.Info("records are written again", "file", k.file.Name(), "since", before.Since, "refused", before.Refused)
		k.trouble.Store(nil)
	case err != nil && before == nil:
		k.trouble.Store(&Trouble{time.Now(), refused, err})
	case err != nil:
		k.trouble.Store(&Trouble{before.Since, before.Refused + refused, err})
	}
}

// serve does what others ask of the goroutine that writes, while it waits.
func (k *Keeper[T]) serve() {
	select {
	case job := <-k.jobs:
		job()
	default:
	}
}

func (k *Keeper[T]) isClosing() bool {
	select {
	case <-k.closing:
		return true
	default:
		return false
	}
}

// Import keeps records of an earlier version under the identifiers that they have: in order, and above all that are
// there.
func (k *Keeper[T]) Import(ctx context.Context, list []*T) error {
	return k.do(ctx, func() error {
		kept, _, err := k.w.insert(list)
		k.total.Add(int64(len(kept)))
		for k.w.tidy(ctx) {
		}
		return err
	})
}

// Last is the highest identifier.
func (k *Keeper[T]) Last() (last ident.ID) {
	_ = k.do(context.Background(), func() error { last = k.w.last; return nil })
	return last
}

// Sync returns when everything that is committed is on the disk.
func (k *Keeper[T]) Sync(ctx context.Context) error {
	return k.file.Checkpoint(ctx)
}

// File is the open file.
func (k *Keeper[T]) File() *sqlite.File { return k.file }
