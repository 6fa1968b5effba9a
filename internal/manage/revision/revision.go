// Package revision keeps the one draft and the numbered revisions. Edits change the draft; publishing checks the
// whole configuration, stores an immutable revision and puts it into effect at once; any revision can be taken back
// to, which makes a new one.
package revision

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/store"
)

// Author is who changed an object of the draft last.
type Author struct {
	Operator string    `json:"operator"`
	At       time.Time `json:"at"`
}

// Keeper holds the draft and the running revision. Configurations it hands out are never changed afterwards.
type Keeper struct {
	store *store.Store
	box   *seal.Box
	gate  *gate.Gate

	mu      sync.Mutex
	running *config.Config
	number  int
	draft   *config.Config
	authors map[string]Author
	plans   map[int]*decide.Plan // compiled revisions, for traces
	changes []config.Change      // of the draft; nil until asked for

	checked  *config.Config // the configuration that problems belongs to
	problems []config.Problem
}

// maxPlans bounds the compiled revisions kept for traces.
const maxPlans = 8

// Open reads the newest revision and the draft and puts the revision into effect.
func Open(ctx context.Context, s *store.Store, box *seal.Box, g *gate.Gate) (*Keeper, error) {
	k := &Keeper{store: s, box: box, gate: g, running: &config.Config{}, authors: map[string]Author{}, plans: map[int]*decide.Plan{}}
	k.running.Normalise()
	row, err := s.Revision(ctx, 0)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return nil, fmt.Errorf("reading the newest revision: %w", err)
	default:
		if k.running, err = decode(row.Config); err != nil {
			return nil, fmt.Errorf("revision %d: %w", row.Number, err)
		}
		k.number = row.Number
	}
	if err := k.apply(k.running, k.number); err != nil {
		return nil, fmt.Errorf("putting revision %d into effect: %w", k.number, err)
	}
	d, err := s.Draft(ctx)
	if errors.Is(err, store.ErrNotFound) {
		k.draft = k.running
		return k, nil
	} else if err != nil {
		return nil, fmt.Errorf("reading the draft: %w", err)
	}
	if k.draft, err = decode(d.Config); err != nil {
		return nil, fmt.Errorf("the draft: %w", err)
	}
	return k, json.Unmarshal(d.Authors, &k.authors)
}

func decode(text []byte) (*config.Config, error) {
	c := &config.Config{}
	if err := json.Unmarshal(text, c); err != nil {
		return nil, fmt.Errorf("the stored configuration cannot be read: %w", err)
	}
	c.Normalise()
	return c, nil
}

// Invalid is the error of a configuration with faults.
type Invalid struct{ Problems []config.Problem }

func (e *Invalid) Error() string {
	for _, p := range e.Problems {
		if !p.Warning {
			return p.Error()
		}
	}
	return "the configuration is not valid"
}

// apply compiles and swaps. The running configuration stays as it is on any error.
func (k *Keeper) apply(c *config.Config, number int) error {
	plan, problems := decide.Compile(c)
	if plan == nil {
		return &Invalid{problems}
	}
	next, err := k.gate.Prepare(plan, number, k.box)
	if err != nil {
		return err
	}
	k.gate.Swap(next)
	k.remember(number, plan)
	return nil
}

func (k *Keeper) remember(number int, plan *decide.Plan) {
	for old := range k.plans {
		if len(k.plans) < maxPlans {
			break
		}
		delete(k.plans, old)
	}
	k.plans[number] = plan
}

// Draft returns the draft. It must not be changed.
func (k *Keeper) Draft() *config.Config {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.draft
}

// Running returns the configuration in effect and its number; 0 if nothing was ever published.
func (k *Keeper) Running() (*config.Config, int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.running, k.number
}

// Changes lists how the draft differs from what is running.
func (k *Keeper) Changes() []config.Change {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.changesLocked()
}

func (k *Keeper) changesLocked() []config.Change {
	if k.changes == nil {
		k.changes = config.Diff(k.running, k.draft)
	}
	return k.changes
}

// Author tells who changed an object of the draft last.
func (k *Keeper) Author(id string) (Author, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	a, ok := k.authors[id]
	return a, ok
}

// Authors tells who changed an object of the draft last.
type Authors func(id string) (Author, bool)

// Edit changes one object of the draft. The function works on a copy; its error, or a fault in the object with the
// ID that it returns, leaves the draft as it was. It must not call the keeper.
func (k *Keeper) Edit(ctx context.Context, operator string, change func(*config.Config, Authors) (id string, err error)) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	next := k.draft.Clone()
	id, err := change(&next, func(id string) (Author, bool) {
		a, ok := k.authors[id]
		return a, ok
	})
	if err != nil {
		return err
	}
	next.Normalise()
	Canonical(&next)
	_, problems := decide.Compile(&next)
	var own []config.Problem
	for _, p := range problems {
		if p.ID == id && !p.Warning {
			own = append(own, p)
		}
	}
	if len(own) > 0 {
		return &Invalid{own}
	}
	authors := make(map[string]Author, len(k.authors)+1)
	for key, a := range k.authors {
		authors[key] = a
	}
	authors[id] = Author{operator, time.Now()}
	return k.save(ctx, operator, &next, authors)
}

// Replace makes the draft another configuration, which must have no faults. With mark set, it refuses if the draft no longer has
// that tag. The function must not call the keeper.
func (k *Keeper) Replace(ctx context.Context, operator, mark string, next func(draft *config.Config) (*config.Config, error)) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if mark != "" && mark != Tag(k.draft) {
		return ErrChanged
	}
	c, err := next(k.draft)
	if err != nil {
		return err
	}
	Canonical(c)
	if plan, problems := decide.Compile(c); plan == nil {
		return &Invalid{problems}
	}
	authors := make(map[string]Author, len(k.authors))
	for key, a := range k.authors {
		authors[key] = a
	}
	for _, change := range config.Diff(k.draft, c) {
		authors[change.ID] = Author{operator, time.Now()}
	}
	return k.save(ctx, operator, c, authors)
}

// Config returns the configuration of a revision; it must not be changed.
func (k *Keeper) Config(ctx context.Context, number int) (*config.Config, error) {
	plan, err := k.Plan(ctx, number)
	if err != nil {
		return nil, err
	}
	return plan.Config, nil
}

func (k *Keeper) save(ctx context.Context, operator string, next *config.Config, authors map[string]Author) error {
	row, err := draftRow(operator, next, authors)
	if err != nil {
		return err
	}
	if err := k.store.SaveDraft(ctx, row); err != nil {
		return err
	}
	k.draft, k.authors, k.changes = next, authors, nil
	return nil
}

func draftRow(operator string, c *config.Config, authors map[string]Author) (store.Draft, error) {
	text, err := json.Marshal(c)
	if err != nil {
		return store.Draft{}, err
	}
	who, err := json.Marshal(authors)
	return store.Draft{At: time.Now().UnixMilli(), Operator: operator, Config: text, Authors: who}, err
}

// ErrNothing is returned when a publish would change nothing.
var ErrNothing = errors.New("the draft is the same as what is running")

// ErrOthers is returned when one change was to be published alone, but the draft holds others.
var ErrOthers = errors.New("the draft holds other changes")

// ErrChanged is returned when the draft is no longer what the caller has looked at.
var ErrChanged = errors.New("the draft was changed meanwhile")

// Publish makes the draft the next revision. With only set, it refuses if anything but that object differs; with seen set, if
// the draft is another.
func (k *Keeper) Publish(ctx context.Context, operator, note, only string, seen *config.Config) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if seen != nil && seen != k.draft {
		return 0, ErrChanged
	}
	changes := k.changesLocked()
	if len(changes) == 0 {
		return 0, ErrNothing
	}
	if only != "" {
		for _, c := range changes {
			if c.ID != only {
				return 0, fmt.Errorf("%w: %s %q %s by %s", ErrOthers, c.Kind, c.Object, c.What, k.authors[c.ID].Operator)
			}
		}
	}
	return k.publish(ctx, operator, note, k.draft, changes)
}

// publish stores and applies a configuration as the next revision; the draft becomes the same.
func (k *Keeper) publish(ctx context.Context, operator, note string, c *config.Config, changes []config.Change) (int, error) {
	plan, problems := decide.Compile(c)
	if plan == nil {
		return 0, &Invalid{problems}
	}
	number := k.number + 1
	next, err := k.gate.Prepare(plan, number, k.box)
	if err != nil {
		return 0, err
	}
	row, err := draftRow(operator, c, map[string]Author{})
	if err != nil {
		return 0, err
	}
	list, err := json.Marshal(changes)
	if err != nil {
		return 0, err
	}
	r := store.Revision{Number: number, At: row.At, Operator: operator, Note: note, Changes: list, Config: row.Config}
	if err := k.store.Publish(ctx, r, row); err != nil {
		return 0, err
	}
	k.gate.Swap(next)
	k.remember(number, plan)
	k.running, k.draft, k.number, k.authors, k.changes = c, c, number, map[string]Author{}, nil
	return number, nil
}

// Discard makes the draft the same as what is running.
func (k *Keeper) Discard(ctx context.Context, operator string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.save(ctx, operator, k.running, map[string]Author{})
}

// ErrDraft is returned when a revision was to be taken back to while the draft holds changes.
var ErrDraft = errors.New("the draft holds changes that would be lost; publish or discard it first")

// TakeBack publishes the configuration of an earlier revision as a new one.
func (k *Keeper) TakeBack(ctx context.Context, operator string, number int, note string) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.changesLocked()) > 0 {
		return 0, ErrDraft
	}
	row, err := k.store.Revision(ctx, number)
	if err != nil {
		return 0, fmt.Errorf("revision %d: %w", number, err)
	}
	c, err := decode(row.Config)
	if err != nil {
		return 0, fmt.Errorf("revision %d: %w", number, err)
	}
	changes := config.Diff(k.running, c)
	if len(changes) == 0 {
		return 0, ErrNothing
	}
	return k.publish(ctx, operator, note, c, changes)
}

// Plan returns the compiled plan of a revision, for explaining attempts decided under it.
func (k *Keeper) Plan(ctx context.Context, number int) (*decide.Plan, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if plan := k.plans[number]; plan != nil {
		return plan, nil
	}
	row, err := k.store.Revision(ctx, number)
	if err != nil {
		return nil, fmt.Errorf("revision %d: %w", number, err)
	}
	c, err := decode(row.Config)
	if err != nil {
		return nil, err
	}
	plan, problems := decide.Compile(c)
	if plan == nil {
		return nil, &Invalid{problems}
	}
	k.remember(number, plan)
	return plan, nil
}

// Tag is the entity tag of an object (RFC 9110 section 8.8.3): it changes whenever the object does.
func Tag(object any) string {
	text, err := json.Marshal(object)
	if err != nil {
		panic("revision: an object cannot be encoded: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return `"` + hex.EncodeToString(sum[:10]) + `"`
}

// Problems lists what is wrong with the draft or with what is running, and what deserves a warning.
func (k *Keeper) Problems(c *config.Config) []config.Problem {
	k.mu.Lock()
	known, list := k.checked == c, k.problems
	k.mu.Unlock()
	if known {
		return list
	}
	_, list = decide.Compile(c)
	k.mu.Lock()
	k.checked, k.problems = c, list
	k.mu.Unlock()
	return list
}
