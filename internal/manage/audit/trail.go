package audit

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"time"

	"tollgate.example/key/internal/base/live"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/chain"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// place is that of the key that heads are signed with.
var place = config.Place{Purpose: "audit", Object: "head"}

// maxPending bounds the lines that wait in memory while nothing can be written.
const maxPending = 1000

// Options of a trail.
type Options struct {
	// Keep is how long lines are kept, 0 for ever.
	Keep time.Duration
	// Doubtful reports that the clock cannot be trusted now: nothing is removed then.
	Doubtful func() bool
	Now      func() time.Time
	Log      *slog.Logger
}

// Trail is the audit. It is safe for concurrent use.
type Trail struct {
	store *store.Store
	o     Options
	key   ed25519.PrivateKey
	// Live hands on what is recorded.
	Live live.Hub[*Line]

	flood flood
	// verifying is held while the chain is checked, which takes all cores.
	verifying sync.Mutex

	mu       sync.Mutex
	pending  []*Line
	lost     int
	last     int64 // as this process has recorded it
	lastHash chain.Sum
}

// Open opens the audit.
func Open(ctx context.Context, s *store.Store, box *seal.Box, o Options) (*Trail, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	t := &Trail{store: s, o: o}
	sealed, err := s.AuditKey(ctx, func() string {
		_, key, _ := ed25519.GenerateKey(nil)
		return string(box.Seal(place, base64.StdEncoding.EncodeToString(key.Seed())))
	})
	if err != nil {
		return nil, fmt.Errorf("reading the key of the audit: %w", err)
	}
	clear, err := box.Open(place, config.Secret(sealed))
	if err != nil {
		return nil, fmt.Errorf("opening the key of the audit: %w", err)
	}
	seed, err := base64.StdEncoding.DecodeString(clear)
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("the key of the audit is damaged")
	}
	t.key = ed25519.NewKeyFromSeed(seed)
	if t.last, t.lastHash, err = s.AuditHead(ctx); err != nil {
		return nil, fmt.Errorf("reading the audit: %w", err)
	}
	return t, nil
}

func (t *Trail) now() time.Time { return t.o.Now() }

// keep keeps a line that could not be recorded until it can.
func (t *Trail) keep(line *Line) {
	if line.At == "" {
		line.At = Moment(t.now())
	}
	t.giveBack([]*Line{line})
}

// take takes what waits.
func (t *Trail) take() []*Line {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := t.pending
	t.pending = nil
	return out
}

func (t *Trail) giveBack(lines []*Line) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range lines {
		if len(t.pending) < maxPending {
			t.pending = append(t.pending, l)
		} else {
			t.lost++
		}
	}
}

func (t *Trail) recorded(lines []*Line, last chain.Sum) {
	if len(lines) == 0 {
		return
	}
	t.mu.Lock()
	if number := lines[len(lines)-1].Number; number > t.last {
		t.last, t.lastHash = number, last
	}
	t.mu.Unlock()
	if t.Live.Active() {
		for _, l := range lines {
			t.Live.Send(l)
		}
	}
}

// Waiting counts the lines that wait in memory because they cannot be written, and those that are lost.
func (t *Trail) Waiting() (waiting, lost int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.pending), t.lost
}

// Put records a line that no call stands for. If it cannot be recorded it waits in memory, and the error says why.
func (t *Trail) Put(ctx context.Context, line Line) error {
	_, e := t.Begin(context.WithoutCancel(ctx), line, true)
	return e.Close(ctx)
}

// Line reads a row.
func read(row store.AuditRow) (Line, error) {
	var l Line
	if err := json.Unmarshal(row.Line, &l); err != nil {
		return l, fmt.Errorf("line %d of the audit is no JSON: %w", row.Number, err)
	}
	l.Number = row.Number
	return l, nil
}

// Find lists lines, and where it stopped looking; lines that cannot be read are counted.
func (t *Trail) Find(
	ctx context.Context,
	f store.AuditFilter,
	patience time.Duration,
) (lines []Line, stopped int64,
	unreadable int, err error) {
	until := time.Now().Add(patience)
	rows, stopped, err := t.store.Audit(
		ctx,
		f,
		func() bool { return patience == 0 || time.Now().Before(until) },
	)
	for _, row := range rows {
		if l, err := read(row); err == nil {
			lines = append(lines, l)
		} else {
			unreadable++
		}
	}
	return lines, stopped, unreadable, err
}

// Get returns one line, and its hash.
func (t *Trail) Get(ctx context.Context, number int64) (Line, string, error) {
	row, err := t.store.AuditLine(ctx, number)
	if err != nil {
		return Line{}, "", err
	}
	l, err := read(row)
	return l, chain.SumOf(row.Hash).String(), err
}

// Last is the number of the last line, 0 if there is none.
func (t *Trail) Last(ctx context.Context) (int64, error) {
	number, _, err := t.store.AuditHead(ctx)
	return number, err
}

// Head signs where the audit stands now.
func (t *Trail) Head(ctx context.Context) (chain.Head, error) {
	number, hash, err := t.store.AuditHead(ctx)
	return chain.Sign(t.key, number, hash, t.now()), err
}

// span is how many lines one goroutine checks at a time.
const span = 50_000

// ErrBusy is returned while somebody else has the chain checked.
var ErrBusy = errors.New("the audit is being verified already")

// Verify checks every line, and that what was noted of the chain is still there; head may be nil.
func (t *Trail) Verify(ctx context.Context, head *chain.Head) (chain.Report, error) {
	if !t.verifying.TryLock() {
		return chain.Report{}, ErrBusy
	}
	defer t.verifying.Unlock()
	t.mu.Lock()
	own := chain.Head{Number: t.last, Hash: t.lastHash.String()} // before what may be recorded meanwhile
	t.mu.Unlock()
	first, last, err := t.store.AuditBounds(ctx)
	if err != nil {
		return chain.Report{}, err
	}
	var whole chain.Checker
	if first > 0 {
		if whole, err = t.walk(ctx, first, last); err != nil {
			return chain.Report{}, err
		}
	}
	for _, h := range []*chain.Head{&own, head} { // what this process has written itself, and what was noted
		if h == nil || h.Number == 0 {
			continue
		}
		row, err := t.store.AuditLine(ctx, h.Number)
		whole.Noted(h, chain.SumOf(row.Hash), err == nil)
	}
	return whole.Report(first), nil
}

// walk checks the lines that are there, on all cores.
func (t *Trail) walk(ctx context.Context, first, last int64) (whole chain.Checker, err error) {
	before, begin, err := t.begin(ctx, first)
	if err != nil {
		return whole, err
	}
	parts := make([]chain.Checker, (last-first)/span+1)
	errs := make([]error, len(parts))
	turns := make(chan struct{}, runtime.GOMAXPROCS(0))
	var group sync.WaitGroup
	for i := range parts {
		turns <- struct{}{}
		group.Go(func() {
			defer func() { <-turns }()
			from := first + int64(i)*span
			parts[i], errs[i] = t.part(ctx, from, min(from+span-1, last), before)
		})
	}
	group.Wait()
	whole.Last = first - 1
	if begin != "" {
		whole.Breaks, whole.Broken = append(whole.Breaks, chain.Break{Number: first, What: begin}), 1
	}
	for i := range parts {
		if errs[i] != nil {
			return whole, errs[i]
		}
		whole.Join(&parts[i])
	}
	return whole, nil
}

// Origin is the hash before the first line that is kept; zeros if nothing tells of it.
func (t *Trail) Origin(ctx context.Context, first int64) chain.Sum {
	before, _, _ := t.begin(ctx, first)
	return before
}

// begin is the hash before the first line, and what is wrong with where it begins: lines before it were removed after
// their time only if the audit itself says so.
func (t *Trail) begin(ctx context.Context, first int64) (before chain.Sum, wrong string, err error) {
	if first == 1 {
		return before, "", nil
	}
	lines, _, _, err := t.Find(ctx, store.AuditFilter{Kind: "audit", Limit: 1, Text: `"call":"trim-audit"`}, 0)
	if err != nil {
		return before, "", err
	}
	if len(lines) == 0 || lines[0].First != first {
		return before, fmt.Sprintf(
			"lines 1 to %d are missing, and no line says that they were removed after their time",
			first-1,
		), nil
	}
	before, err = chain.ParseSum(lines[0].Chain)
	return before, "", err
}

// part checks some of the lines, from the hash that stands before them.
func (t *Trail) part(ctx context.Context, from, to int64, before chain.Sum) (chain.Checker, error) {
	c := chain.Checker{Last: from - 1, Hash: before, Unknown: from > 1 && before == chain.Sum{}}
	row, err := t.store.AuditBefore(ctx, from)
	if err == nil {
		c.Last, c.Hash, c.Unknown = row.Number, chain.SumOf(row.Hash), false
	} else if !errors.Is(err, store.ErrNotFound) {
		return c, err
	}
	err = t.store.WalkAudit(ctx, from, to, func(number int64, line, hash []byte) {
		c.Add(number, line, chain.SumOf(hash))
	})
	return c, err
}
