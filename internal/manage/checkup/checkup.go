// Package checkup tests every link between this service and the directories it asks, on demand and by itself, keeps the
// last outcome of each line, and tells what changed.
package checkup

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/store"
)

const (
	// Every is how often the checkup runs by itself.
	Every = 15 * time.Minute
	// afterPublish is how often it looks whether another revision runs, which it checks then.
	afterPublish = 30 * time.Second
	// patience bounds the checks of one directory.
	patience = 2 * time.Minute
	// kept is how many changes are kept.
	kept = 1000
)

// key tells lines apart.
func key(l *results.Line) string { return "directory/" + l.ID + "/" + l.Key + "/" + l.Server }

// Source gives what is checked: the configuration in use, and what belongs to it.
type Source interface {
	Directories() []*config.Directory
	Password(d *config.Directory) (string, error)
	Member(d *config.Directory) directory.MemberTester
	// Panics are faults of the program that were caught since the start.
	Panics() []panics.Panic
}

// Service is the identifier of the lines about the service itself.
const Service = "service"

// Checkup runs the checks. It is safe for concurrent use; one run waits for another.
type Checkup struct {
	store  *store.Store
	source Source
	log    *slog.Logger
	turn   chan struct{}

	mu    sync.Mutex
	lines map[string]results.Line
	ran   time.Time
}

// Open reads the last outcome.
func Open(ctx context.Context, s *store.Store, source Source, log *slog.Logger) (*Checkup, error) {
	c := &Checkup{store: s, source: source, log: log, turn: make(chan struct{}, 1), lines: map[string]results.Line{}}
	rows, err := s.CheckupLines(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the last checkup: %w", err)
	}
	for _, row := range rows {
		var l results.Line
		if json.Unmarshal(row.Line, &l) == nil {
			c.lines[row.Key] = l
			if l.At.After(c.ran) {
				c.ran = l.At
			}
		}
	}
	return c, nil
}

// Last returns the last outcome, the worst first, and when the last run ended.
func (c *Checkup) Last() ([]results.Line, time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]results.Line, 0, len(c.lines))
	for _, l := range c.lines {
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b results.Line) int {
		if d := rank(a.State) - rank(b.State); d != 0 {
			return d
		}
		if d := strings.Compare(a.Subject, b.Subject); d != 0 {
			return d
		}
		return a.At.Compare(b.At) // in the order in which they were checked
	})
	return out, c.ran
}

func rank(s results.StepState) int {
	return slices.Index([]results.StepState{results.Fail, results.Warn, results.Pass}, s)
}

// Changes returns the newest changes.
func (c *Checkup) Changes(ctx context.Context, limit int) ([]results.Change, error) {
	rows, err := c.store.CheckupChanges(ctx, limit)
	if err != nil {
		return nil, fmt.Errorf("reading the changes of the checkup: %w", err)
	}
	out := []results.Change{}
	for _, row := range rows {
		change := results.Change{ID: row.ID, Was: row.Was, At: time.UnixMilli(row.At)}
		if json.Unmarshal(row.Line, &change.Line) == nil {
			out = append(out, change)
		}
	}
	return out, nil
}

// Run checks every directory in use, or only the one with the identifier, and reports each line when it begins and when
// it ends. It tells whether nothing failed.
func (c *Checkup) Run(ctx context.Context, only string, report func(results.Line)) (bool, error) {
	select {
	case c.turn <- struct{}{}:
		defer func() { <-c.turn }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	passed := true
	all := c.source.Directories()
	there := map[string]bool{}
	for _, d := range all {
		there[d.ID] = true
		if only != "" && d.ID != only {
			continue
		}
		lines := c.directory(ctx, d, report)
		if ctx.Err() != nil { // what was not finished says nothing
			return false, ctx.Err()
		}
		for _, l := range lines {
			passed = passed && l.State != results.Fail
		}
		if err := c.keep(ctx, lines, func(old *results.Line) bool { return old.ID == d.ID }); err != nil {
			return passed, err
		}
	}
	there[Service] = true
	if only == "" || only == Service {
		lines := c.service(report)
		passed = passed && len(lines) == 0
		if err := c.keep(ctx, lines, func(old *results.Line) bool { return old.ID == Service }); err != nil {
			return passed, err
		}
	}
	return passed, c.keep(ctx, nil, func(old *results.Line) bool { return !there[old.ID] })
}

// service looks at the service itself: there is a line for each fault of its own.
func (c *Checkup) service(report func(results.Line)) []results.Line {
	now := time.Now()
	var lines []results.Line
	add := func(s results.Step) {
		l := results.Line{Step: s, Subject: "Tollgate Key", ID: Service, At: now, Since: now}
		lines = append(lines, l)
		report(l)
	}
	for _, m := range c.source.Panics() {
		add(results.Step{Key: "panic " + m.Place, Title: "A fault in the program was caught", State: results.Fail,
			Detail: fmt.Sprintf("%s, in %s; %d times since %s, the last time with %s", m.Message, m.Place, m.Count,
				m.First.UTC().Format("2006-01-02 15:04 UTC"), m.Work),
			Remedy: "Only what was being done then was given up; everything else goes on. Report it with what the " +
				"log says at that time. The line goes with the next start."})
	}
	return lines
}

func (c *Checkup) directory(ctx context.Context, d *config.Directory, report func(results.Line)) []results.Line {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var lines []results.Line
	line := func(s results.Step) {
		l := results.Line{Step: s, Subject: d.Name, ID: d.ID, At: time.Now(), Since: time.Now()}
		l.Person = nil
		if s.State != results.Running {
			lines = append(lines, l)
		}
		report(l)
	}
	password, err := c.source.Password(d)
	if err != nil {
		line(results.Step{Key: "password", Title: "Open the password of the service account", State: results.Fail,
			Detail: err.Error(), Remedy: "Type the password of the service account again."})
		return lines
	}
	directory.Test(ctx, *d, password, "", c.source.Member(d), line)
	return lines
}

// keep replaces the lines that belong to what was checked, and notes what changed.
func (c *Checkup) keep(ctx context.Context, lines []results.Line, belongs func(*results.Line) bool) error {
	var rows []store.CheckupLine
	var changes []store.CheckupChange
	var gone []string
	c.mu.Lock()
	next := map[string]results.Line{}
	for i := range lines {
		l := &lines[i]
		was := results.StepState("")
		if old, known := c.lines[key(l)]; known {
			was = old.State
			if old.State == l.State {
				l.Since = old.Since
			}
		}
		text, _ := json.Marshal(l)
		rows = append(rows, store.CheckupLine{Key: key(l), Line: text, State: string(l.State),
			Since: l.Since.UnixMilli(), At: l.At.UnixMilli()})
		if was != l.State && !(was == "" && l.State == results.Pass) {
			changes = append(changes, store.CheckupChange{Key: key(l), Line: text, Was: string(was),
				At: l.At.UnixMilli()})
			c.tell(l, was)
		}
		next[key(l)] = *l
	}
	for key, old := range c.lines {
		if _, still := next[key]; !still && belongs(&old) {
			delete(c.lines, key)
			gone = append(gone, key)
		}
	}
	for key, l := range next {
		c.lines[key] = l
	}
	if len(lines) > 0 {
		c.ran = time.Now()
	}
	c.mu.Unlock()
	if err := c.store.SaveCheckup(ctx, rows, gone, changes, kept); err != nil {
		return fmt.Errorf("keeping the checkup: %w", err)
	}
	return nil
}

// tell writes a change to the log of the service, where alerts are made of it.
func (c *Checkup) tell(l *results.Line, was results.StepState) {
	level := map[results.StepState]slog.Level{results.Fail: slog.LevelError, results.Warn: slog.LevelWarn}[l.State]
	c.log.Log(context.Background(), level, "checkup: "+l.Title, "directory", l.Subject, "server", l.Server, "was",
		string(was), "is", string(l.State), "detail", l.Detail)
}

// Schedule runs the checks again and again until the context ends, and soon after another revision was published.
func (c *Checkup) Schedule(ctx context.Context, first, every time.Duration, revision func() int) {
	timer, look := time.NewTimer(first), time.NewTicker(afterPublish)
	defer timer.Stop()
	defer look.Stop()
	for checked := revision(); ; {
		select {
		case <-ctx.Done():
			return
		case <-look.C:
			if revision() == checked {
				continue
			}
		case <-timer.C:
		}
		checked = revision()
		if _, err := c.Run(ctx, "", func(results.Line) {}); err != nil && ctx.Err() == nil {
			c.log.Warn("checkup", "error", err)
		}
		timer.Reset(every)
	}
}
