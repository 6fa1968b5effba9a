package session

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

const (
	// saveEvery is how often open sessions are saved: what is newer is read from accounting at the start. lookEvery is
	// how often those are looked for that went silent.
	saveEvery = 15 * time.Second
	lookEvery = 10 * time.Second
	// replayed is how far back accounting is read where nothing else is known.
	replayed = 48 * time.Hour
	// rememberedEnds is how far back ends are known after a restart, so that one that is sent again counts once.
	rememberedEnds = 10 * time.Minute
	// maxLater bounds the ends that wait to be recorded.
	maxLater = 1 << 16
)

// Sessions are the open sessions with where they are kept. It is safe for concurrent use.
type Sessions struct {
	*Book
	records *store.Accounting
	file    *store.OpenSessions
	ends    chan *store.Accounted
	moved   moved
	stop    chan struct{}
	done    sync.WaitGroup
}

// OpenSessions reads the sessions that are open: as they were saved, then what accounting recorded since. open opens
// the records, with the function that is to be told of each batch.
func OpenSessions(ctx context.Context, file *store.OpenSessions, leases *Keeper,
	open func(written func([]*store.Accounted)) (*store.Accounting, error)) (*Sessions, error) {
	k := &Sessions{Book: newBook(leases), file: file, ends: make(chan *store.Accounted, maxLater),
		stop: make(chan struct{})}
	applied, err := file.Load(ctx, func(id ident.ID, data []byte) error {
		var s Session
		if err := json.Unmarshal(data, &s); err != nil {
			slog.Warn("an open session cannot be read", "id", id, "error", err)
			return nil
		}
		s.ID = id
		k.begin(keyOf(&s.Accounted), &s, time.Now())
		k.stamped(&s.Accounted)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading the open sessions: %w", err)
	}
	clear(k.dirty)
	k.applied = applied
	if k.records, err = open(k.written); err != nil {
		return nil, err
	}
	k.done.Go(k.recordEnds)
	if err := k.replay(ctx, applied); err != nil {
		close(k.stop)
		k.done.Wait()
		return nil, errors.Join(fmt.Errorf("bringing the open sessions up to accounting: %w", err), k.records.Close())
	}
	k.done.Go(k.run)
	return k, nil
}

// replay applies what was recorded after the open sessions were saved.
func (k *Sessions) replay(ctx context.Context, applied ident.ID) error {
	var restarts []store.Accounted
	span := store.Span{After: applied}
	if applied == 0 {
		span.After = ident.At(time.Now().Add(-replayed))
	}
	for {
		page, err := k.records.Find(ctx, store.AccountingFilter{Span: span, Limit: 10_000})
		if err != nil {
			return err
		}
		list := make([]*store.Accounted, len(page.Items))
		for i := range page.Items {
			a := &page.Items[i]
			a.Silence = (&config.ClientSessions{}).Silence()
			if s := k.open[keyOf(a)]; s != nil {
				a.Silence = s.now.Load().Silence
			}
			list[i] = a
			if (a.Kind == store.AccountingOn || a.Kind == store.AccountingOff) && a.Note == "" {
				restarts = append(restarts, *a)
			}
		}
		k.written(list)
		if page.Next == 0 {
			break
		}
		span.After = page.Next
	}
	for i := range restarts {
		k.restarted(&restarts[i])
	}
	ended, err := k.records.Find(ctx, store.AccountingFilter{Ended: true, Limit: maxEnded,
		Span: store.Span{Since: time.Now().Add(-rememberedEnds)}})
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := len(ended.Items) - 1; i >= 0; i-- {
		k.remember(keyOf(&ended.Items[i]), &ended.Items[i])
	}
	return err
}

// Records are the records of accounting.
func (k *Sessions) Records() *store.Accounting { return k.records }

// File is where open sessions are saved.
func (k *Sessions) File() *store.OpenSessions { return k.file }

// later has an end recorded by itself; it waits if very many are.
func (k *Sessions) later(a *store.Accounted) {
	select {
	case k.ends <- a:
	case <-k.stop: // what is not recorded now is when it is looked at after the next start
	}
}

func (k *Sessions) recordEnds() {
	record := func(a *store.Accounted) {
		if k.Find(a.Of) != nil { // it may have ended by itself meanwhile
			k.records.Add(a)
		}
	}
	for {
		select {
		case a := <-k.ends:
			record(a)
			continue
		case <-k.stop:
		}
		for { // what waits is recorded before the end
			select {
			case a := <-k.ends:
				record(a)
			default:
				return
			}
		}
	}
}

func (k *Sessions) run() {
	save, look := time.NewTicker(saveEvery), time.NewTicker(lookEvery)
	defer save.Stop()
	defer look.Stop()
	for {
		select {
		case <-k.stop:
			k.save()
			return
		case <-save.C:
			k.save()
		case <-look.C:
			k.silent(time.Now())
		}
	}
}

// silent ends sessions of which nothing was heard for longer than their clients may be silent.
func (k *Sessions) silent(now time.Time) {
	for _, e := range *k.order.Load() {
		s := e.now.Load()
		if s == nil || s.Silence <= 0 {
			continue
		}
		k.mu.RLock()
		over := now.Sub(e.heard) > s.Silence
		k.mu.RUnlock()
		if over {
			k.end(s, now, causeSilent)
		}
	}
}

// save writes what changed.
func (k *Sessions) save() {
	k.mu.Lock()
	dirty, applied := k.dirty, k.applied
	k.dirty = map[ident.ID]*entry{}
	k.mu.Unlock()
	if len(dirty) == 0 {
		return
	}
	list := make([]store.Changed, 0, len(dirty))
	for id, e := range dirty {
		c := store.Changed{ID: id}
		if s := e.now.Load(); s != nil {
			c.Data, _ = json.Marshal(s)
		}
		list = append(list, c)
	}
	if err := k.file.Save(context.Background(), applied, list); err != nil {
		slog.Error("saving the open sessions", "error", err)
		k.mu.Lock()
		for id, e := range dirty {
			if _, newer := k.dirty[id]; !newer {
				k.dirty[id] = e
			}
		}
		k.mu.Unlock()
	}
}

// Close saves what is left, and closes the files.
func (k *Sessions) Close() {
	close(k.stop)
	k.done.Wait()
	if err := k.records.Close(); err != nil {
		slog.Error("closing accounting", "error", err)
	}
	if err := k.file.Close(); err != nil {
		slog.Error("closing the open sessions", "error", err)
	}
}
