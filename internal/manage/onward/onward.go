package onward

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"math"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

const (
	// lookEvery is how often new records are looked for, and what is in effect; saveEvery how often positions are kept.
	lookEvery = 250 * time.Millisecond
	saveEvery = time.Second
	// batch is how many records are read at a time.
	batch = 500
	// firstPause and lastPause are how long nothing is tried again after a failure: longer each time.
	firstPause = 500 * time.Millisecond
	lastPause  = 30 * time.Second
)

// sink takes events.
type sink interface {
	// send takes all of them, or returns an error; then all are sent again.
	send(ctx context.Context, list []event) error
	// certain tells that what send took has arrived, as far as anybody can know. Otherwise the last of it is sent again
	// after a failure.
	certain() bool
	// alive reports that the other side went away while there was nothing to send.
	alive() error
	close()
}

// Records are where events come from.
type Records struct {
	Attempts   *store.Attempts
	Accounting *store.Accounting
	Journal    *store.Journal
	Audit      *audit.Trail
}

// Keeper sends records on, as the configuration in effect says. It is safe for concurrent use.
type Keeper struct {
	records Records
	store   *store.Store
	current func() *snapshot.Snapshot
	dir     string

	mu      sync.Mutex
	running map[string]*worker
	saved   map[key]store.Position
	unsaved map[key]bool // whose positions cannot be kept now
}

// key is what a position belongs to.
type key struct{ name, kind string }

// State is how far something is sent on.
type State struct {
	// Kind is what is sent.
	Kind string
	// Sent counts what was sent since the service started, Passed what was not selected, Given what was given up.
	Sent, Passed, Given int64
	// At is the time of the last record that was looked at; Behind tells that there are more.
	At     time.Time
	Behind bool
	// Fault says why nothing is sent, since Since; "" if all is well.
	Fault string
	Since time.Time
}

// New makes a keeper, with the positions that were kept. Files are written into a directory of the data directory.
func New(ctx context.Context, s *store.Store, records Records, current func() *snapshot.Snapshot, data string) (*Keeper,
	error) {
	k := &Keeper{records: records, store: s, current: current, dir: filepath.Join(data, "feeds"),
		running: map[string]*worker{}, saved: map[key]store.Position{}, unsaved: map[key]bool{}}
	list, err := s.Positions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading how far records were sent on: %w", err)
	}
	for _, p := range list {
		k.saved[key{p.Name, p.Kind}] = p
	}
	return k, nil
}

// Run sends until the context ends.
func (k *Keeper) Run(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var last *snapshot.Snapshot
	for {
		if now := k.current(); now != last {
			k.settle(ctx, now, &all)
			last = now
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// wanted is something to send on.
type wanted struct {
	name   string
	kinds  []string
	made   string // what it depends on
	open   func() (sink, error)
	filter func(*event) bool
}

// settle starts what the configuration wants, and stops what it no longer does.
func (k *Keeper) settle(ctx context.Context, s *snapshot.Snapshot, all *sync.WaitGroup) {
	list := map[string]wanted{}
	for _, f := range s.Plan.Config.Feeds {
		if !f.Enabled {
			continue
		}
		filter, made := newFilter(f), s.MadeOfFeed(f)
		w := wanted{name: "feed:" + f.ID, kinds: f.Records, made: made, filter: filter.fits,
			open: func() (sink, error) { return k.open(s, f) }}
		list[w.name] = w
	}
	for _, r := range s.Plan.Config.Remotes {
		if server := s.Remote(r.Name); r.Accounting && server != nil {
			w := wanted{name: "remote:" + r.ID, kinds: []string{config.FeedAccounting}, made: fmt.Sprintf("%p", server),
				filter: func(e *event) bool { return forwards(e, r.ID) },
				open:   func() (sink, error) { return &forwarding{server: server}, nil }}
			list[w.name] = w
		}
	}
	k.mu.Lock()
	var stopped []*worker
	for name, w := range k.running {
		if next, there := list[name]; !there || next.made != w.made {
			w.stop()
			stopped = append(stopped, w)
			delete(k.running, name)
		}
	}
	k.mu.Unlock()
	for _, w := range stopped {
		<-w.ended // it keeps its position before its successor reads it
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.forget(ctx, s.Plan.Config)
	for name, one := range list {
		if k.running[name] != nil {
			continue
		}
		own, stop := context.WithCancel(ctx)
		w := newWorker(k, one, stop)
		k.running[name] = w
		all.Go(func() { w.run(own) })
	}
}

// forget drops the positions of what is no longer configured at all.
func (k *Keeper) forget(ctx context.Context, c *config.Config) {
	for at := range k.saved {
		kind, id, _ := strings.Cut(at.name, ":")
		gone := false
		switch kind {
		case "feed":
			_, found := config.Find(c.Feeds, id)
			gone = found < 0
		case "remote":
			_, found := config.Find(c.Remotes, id)
			gone = found < 0
		}
		if !gone {
			continue
		}
		if err := k.store.RemovePositions(ctx, at.name); err != nil {
			slog.Warn("forgetting how far records were sent on", "name", at.name, "error", err)
			continue
		}
		delete(k.saved, at)
	}
}

// open opens the sink of a feed.
func (k *Keeper) open(s *snapshot.Snapshot, f *config.Feed) (sink, error) {
	switch f.To {
	case config.FeedFile:
		return newFile(k.dir, f.File, f.Megabytes, f.Keep), nil
	case config.FeedUDP:
		return newSyslog("udp", f.Address, nil, f.Facility), nil
	case config.FeedTCP:
		return newSyslog("tcp", f.Address, nil, f.Facility), nil
	}
	cfg := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: f.ServerName}
	if f.CA != "" {
		cfg.RootCAs = x509.NewCertPool()
		cfg.RootCAs.AppendCertsFromPEM([]byte(f.CA))
	}
	if f.Certificate != "" {
		own := s.OwnCertificate(f.Certificate)
		if own == nil {
			return nil, fmt.Errorf("there is no certificate %q", f.Certificate)
		}
		cfg.Certificates = []tls.Certificate{*own}
	}
	return newSyslog("tcp", f.Address, cfg, f.Facility), nil
}

// Test sends one event by way of a feed, in effect or not.
func (k *Keeper) Test(ctx context.Context, f *config.Feed, who string) error {
	to, err := k.open(k.current(), f)
	if err != nil {
		return err
	}
	defer to.close()
	e := event{at: time.Now(), kind: "test", text: "a test of the feed " + f.Name + " by " + who}
	e.add("feed", f.Name)
	e.add("operator", who)
	if err := to.send(ctx, []event{e}); err != nil {
		return err
	}
	time.Sleep(50 * time.Millisecond) // a receiver that takes no TLS certificate, or nothing at all, ends it now
	return to.alive()
}

// States lists how far a feed, or the accounting of a remote server, is sent on, by its identifier.
func (k *Keeper) States(kind, id string) (out []State) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if w := k.running[kind+":"+id]; w != nil {
		for _, l := range w.lines {
			out = append(out, l.state.get())
		}
	}
	return out
}

// Faults lists by name what has been sent nothing for longer than a time, and why.
func (k *Keeper) Faults(longer time.Duration) map[string]State {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := map[string]State{}
	for _, w := range k.running {
		for _, l := range w.lines {
			if s := l.state.get(); s.Fault != "" && time.Since(s.Since) > longer {
				out[w.name] = s
			}
		}
	}
	return out
}

// lookBack is from how long before it was noticed something new is sent: it was published a moment earlier.
const lookBack = 4 * lookEvery

// position is where to go on; what is new begins at the end of what there is.
func (k *Keeper) position(ctx context.Context, at key) (ident.ID, time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if p, known := k.saved[at]; known {
		return p.ID, time.UnixMilli(p.At)
	}
	last := k.last(ctx, at.kind)
	if at.kind != config.FeedAudit { // whose lines are numbered
		last = min(last, ident.At(time.Now().Add(-lookBack)))
	}
	return max(1, last), time.Time{}
}

func (k *Keeper) last(ctx context.Context, kind string) ident.ID {
	switch kind {
	case config.FeedAttempts:
		return k.records.Attempts.Last()
	case config.FeedAccounting:
		return k.records.Accounting.Last()
	case config.FeedAudit:
		last, err := k.records.Audit.Last(ctx)
		if err != nil { // rather none of the lines before than all of them
			return math.MaxInt64
		}
		return ident.ID(last)
	}
	return k.records.Journal.Last()
}

// save keeps a position. While it cannot be, the log says so once.
func (k *Keeper) save(at key, id ident.ID, moment time.Time) {
	p := store.Position{Name: at.name, Kind: at.kind, ID: id, At: moment.UnixMilli()}
	err := k.store.SavePosition(context.Background(), p)
	k.mu.Lock()
	defer k.mu.Unlock()
	if err != nil && !k.unsaved[at] {
		slog.Warn("keeping how far records were sent on", "name", at.name, "error", err)
	}
	if k.unsaved[at] = err != nil; err == nil {
		k.saved[at] = p
	}
}

// read returns the records after a position, the oldest first.
func (k *Keeper) read(ctx context.Context, kind string, after ident.ID) (out []event, err error) {
	span := record.Span{After: after}
	switch kind {
	case config.FeedAttempts:
		page, err := k.records.Attempts.Find(ctx, store.Filter{Span: span, Limit: batch})
		for i := range page.Items {
			out = append(out, ofAttempt(&page.Items[i]))
		}
		return out, err
	case config.FeedAccounting:
		page, err := k.records.Accounting.Find(ctx, store.AccountingFilter{Span: span, Limit: batch, Forwarded: true})
		for i := range page.Items {
			out = append(out, ofAccounted(&page.Items[i]))
		}
		return out, err
	}
	if kind == config.FeedAudit {
		lines, _, damaged, err := k.records.Audit.Find(ctx,
			store.AuditFilter{After: int64(after), Oldest: true, Limit: batch}, 0)
		for i := range lines {
			out = append(out, ofLine(&lines[i]))
		}
		if len(lines) == 0 && damaged > 0 { // or nothing after them would be sent
			out = []event{{id: after + ident.ID(damaged), at: time.Now(), kind: "audit", warning: true,
				text: fmt.Sprintf("%d lines of the audit cannot be read", damaged)}}
		}
		return out, err
	}
	page, err := k.records.Journal.Find(ctx, store.EntryFilter{Span: span, Limit: batch})
	for i := range page.Items {
		out = append(out, ofEntry(&page.Items[i]))
	}
	return out, err
}
