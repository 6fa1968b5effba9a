// Package copies keeps copies of the people of directories, so that lists and enrolment can be prepared without asking
// for everybody each time. A copy decides nothing: whoever signs in is looked up in the directory.
package copies

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/store"
)

// limit bounds one run.
const limit = 30 * time.Minute

// ErrRunning tells that the copy of a directory is being made already.
var ErrRunning = errors.New("the copy of this directory is being made already")

// ErrNothing tells that a directory has nothing to copy.
var ErrNothing = errors.New("this directory has no subtree to copy: say below which entries people are to be copied")

// Source finds the directories in use.
type Source interface {
	Directories() []*config.Directory
	Directory(name string) *directory.Directory
}

// Keeper makes and keeps copies. It is safe for concurrent use.
type Keeper struct {
	store  *store.Store
	source Source
	log    *slog.Logger

	mu      sync.Mutex
	running map[string]bool
}

// New makes a keeper.
func New(s *store.Store, source Source, log *slog.Logger) *Keeper {
	return &Keeper{store: s, source: source, log: log, running: map[string]bool{}}
}

// Last returns the last run of a directory, nil if there was none.
func (k *Keeper) Last(ctx context.Context, id string) (*results.Copy, error) {
	text, err := k.store.CopyRun(ctx, id)
	if err != nil || text == nil {
		return nil, err
	}
	var run results.Copy
	if err := json.Unmarshal(text, &run); err != nil {
		return nil, fmt.Errorf("reading the last run: %w", err)
	}
	return &run, nil
}

// Copy makes the copy of a directory anew, and reports how far it is. Somebody who lacks an attribute does not stop it.
func (k *Keeper) Copy(ctx context.Context, d *config.Directory, report func(results.Copy)) (results.Copy, error) {
	run := results.Copy{Directory: d.Name, Started: time.Now()}
	if len(d.CopyBelow) == 0 {
		return run, ErrNothing
	}
	if !k.begin(d.ID) {
		return run, ErrRunning
	}
	defer k.end(d.ID)
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	err := k.copy(ctx, d, &run, report)
	if err == nil {
		run.Gone, err = k.store.MarkGone(ctx, d.ID, run.Started.UnixMilli(), time.Now().UnixMilli())
	}
	if err != nil {
		run.Problem = err.Error()
	}
	now := time.Now()
	run.Ended, run.Below = &now, ""
	text, _ := json.Marshal(run)
	kept := k.store.SaveCopyRun(context.WithoutCancel(ctx), d.ID, text)
	report(run)
	return run, errors.Join(err, kept)
}

func (k *Keeper) begin(id string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.running[id] {
		return false
	}
	k.running[id] = true
	return true
}

func (k *Keeper) end(id string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.running, id)
}

func (k *Keeper) copy(ctx context.Context, d *config.Directory, run *results.Copy, report func(results.Copy)) error {
	open := k.source.Directory(d.Name)
	if open == nil {
		return errors.New("the directory is no longer in use")
	}
	for _, below := range d.CopyBelow {
		run.Below = below
		report(*run)
		err := open.People(ctx, below, d.CopyWanted, func(page []directory.Copied) error {
			rows := make([]store.Copied, 0, len(page))
			for _, p := range page {
				attributes, _ := json.Marshal(p.Person.Attributes)
				rows = append(rows, store.Copied{Directory: d.ID, ID: p.ID, Name: p.Person.Name,
					Display: p.Person.Display, DN: p.Person.ID, State: string(p.Person.State),
					Attributes: attributes, Missing: p.MissingText(), SeenAt: time.Now().UnixMilli()})
				if run.Read++; len(p.Missing) > 0 {
					run.Missing++
				}
			}
			if err := k.store.SaveCopied(ctx, rows); err != nil {
				return fmt.Errorf("keeping the copies: %w", err)
			}
			report(*run)
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Schedule makes the copies that are due, until the context ends, and drops those of directories that were removed.
func (k *Keeper) Schedule(ctx context.Context, every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		k.due(ctx, time.Now())
	}
}

func (k *Keeper) due(ctx context.Context, now time.Time) {
	var kept []string
	for _, d := range k.source.Directories() {
		if kept = append(kept, d.ID); d.CopyMinutes == 0 || len(d.CopyBelow) == 0 {
			continue
		}
		last, err := k.Last(ctx, d.ID)
		if err == nil && last != nil && now.Sub(last.Started) < time.Duration(d.CopyMinutes)*time.Minute {
			continue
		}
		if _, err := k.Copy(ctx, d, func(results.Copy) {}); err != nil && ctx.Err() == nil && !errors.Is(err,
			ErrRunning) {
			k.log.Warn("copying people", "directory", d.Name, "error", err)
		}
	}
	if err := k.store.ForgetCopied(ctx, kept); err != nil && ctx.Err() == nil {
		k.log.Warn("forgetting the people of directories that were removed", "error", err)
	}
}
