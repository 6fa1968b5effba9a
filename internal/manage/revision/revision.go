// Package revision keeps the one draft and the numbered revisions. Edits change the draft; publishing checks the
// whole configuration, stores an immutable revision and puts it into effect at once; any revision can be returned to,
// which makes a new one.
package revision

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/store"
)

// Store is where revisions and the draft are kept.
type Store interface {
	// AwaitTold waits until what other nodes changed is known here.
	AwaitTold(ctx context.Context)
	Revision(ctx context.Context, number int) (store.Revision, error)
	Objects(ctx context.Context, number int) ([]store.Object, error)
	Draft(ctx context.Context) ([]store.DraftObject, error)
	SaveDraft(ctx context.Context, changed []store.DraftObject) error
	DiscardDraft(ctx context.Context) error
	// Publish stores a revision, by what it changes, and makes the draft the same; both or neither.
	Publish(ctx context.Context, r store.Revision, changed []store.Object) error
	// WholeDraft is a draft that an earlier version left; Divide puts it and the newest revision into rows.
	WholeDraft(ctx context.Context) (store.Whole, error)
	Divide(ctx context.Context, number int, objects []store.Object, draft []store.DraftObject) error
}

// Author is who changed an object of the draft last.
type Author struct {
	Operator string    `json:"operator"`
	At       time.Time `json:"at"`
}

// Keeper holds the draft and the running revision, both compiled. It is safe for concurrent use; readers wait for
// nobody.
type Keeper struct {
	store Store
	box   *seal.Box
	gate  *gate.Gate
	state atomic.Pointer[state]
	// states counts states since it was begun, for their marks.
	states atomic.Int64
	begun  time.Time
	// compiler keeps what the next compilation takes over.
	compiler decide.Compiler
	// commit is held while a change is stored and takes effect, never while compiling.
	commit sync.Mutex

	mu    sync.Mutex
	plans map[int]*decide.Plan // compiled revisions, for traces
}

// state is the draft and the running revision at one moment. It is immutable.
type state struct {
	running *Compiled
	number  int
	draft   *Compiled
	authors map[string]Author
	// changes computes how the draft differs, once.
	changes func() Changes
	// mark tells the state from every other one.
	mark string
}

func (k *Keeper) newState(running *Compiled, number int, draft *Compiled, authors map[string]Author) *state {
	changes := sync.OnceValue(func() Changes { return Differences(running.Config, draft.Config) })
	mark := fmt.Sprintf("%d-%x-%x", number, k.begun.UnixNano(), k.states.Add(1))
	return &state{running: running, number: number, draft: draft, authors: authors, changes: changes, mark: mark}
}

// maxChanges bounds the changes that are listed one by one.
const maxChanges = 1000

// Changes are how one configuration differs from another: up to a thousand changes, and how many more there are.
type Changes struct {
	List []config.Change
	More int
}

// Count is how many changes there are.
func (c Changes) Count() int { return len(c.List) + c.More }

// Differences lists how a configuration differs from another one.
func Differences(from, to *config.Config) Changes {
	list, more := config.DiffUpTo(from, to, maxChanges)
	return Changes{list, more}
}

// maxPlans bounds the compiled revisions kept for traces.
const maxPlans = 8

// Open reads the newest revision and the draft and puts the revision into effect.
func Open(ctx context.Context, s Store, box *seal.Box, g *gate.Gate) (*Keeper, error) {
	k := &Keeper{begun: time.Now(), store: s, box: box, gate: g, plans: map[int]*decide.Plan{}}
	running := &config.Config{}
	running.Normalise()
	compiled := k.Compile(running)
	k.state.Store(k.newState(compiled, 0, compiled, map[string]Author{}))
	return k, k.Reload(ctx)
}

// Reload reads the newest revision and the draft anew, which were changed by somebody else, and puts the revision into
// effect if it is another one.
func (k *Keeper) Reload(ctx context.Context) error {
	k.commit.Lock()
	defer k.commit.Unlock()
	if err := k.divide(ctx); err != nil {
		return err
	}
	before := k.state.Load()
	running, number := before.running, before.number
	row, err := k.store.Revision(ctx, 0)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading the newest revision: %w", err)
	}
	objects, err := k.store.Objects(ctx, row.Number)
	if err != nil {
		return fmt.Errorf("reading revision %d: %w", row.Number, err)
	}
	if row.Number != number {
		c, err := assemble(objects)
		if err != nil {
			return fmt.Errorf("revision %d: %w", row.Number, err)
		}
		c.Share(running.Config)
		running, number = k.Compile(c), row.Number
		if running.Plan == nil {
			return fmt.Errorf("putting revision %d into effect: %w", number, &Invalid{running.Problems})
		}
		next, err := k.gate.Prepare(running.Plan, number, k.box)
		if err != nil {
			return fmt.Errorf("putting revision %d into effect: %w", number, err)
		}
		k.gate.Swap(next)
	}
	draft, authors, err := k.readDraft(ctx, running, objects)
	if err != nil {
		return fmt.Errorf("the draft: %w", err)
	}
	k.state.Store(k.newState(running, number, draft, authors))
	return nil
}

// readDraft reads the draft, which is the running revision if there is none.
func (k *Keeper) readDraft(ctx context.Context, running *Compiled, objects []store.Object) (*Compiled,
	map[string]Author, error) {
	authors := map[string]Author{}
	changed, err := k.store.Draft(ctx)
	if err != nil || len(changed) == 0 {
		return running, authors, err
	}
	c, err := assemble(put(objects, changed))
	if err != nil {
		return nil, nil, err
	}
	c.Share(running.Config)
	if config.Same(running.Config, c) {
		return running, authors, nil
	}
	for _, o := range changed {
		if a := (Author{o.Operator, time.UnixMilli(o.At)}); a.At.After(authors[owner(o.Object)].At) {
			authors[owner(o.Object)] = a
		}
	}
	return k.Compile(c), authors, nil
}

// divide puts the newest revision and the draft into rows if an earlier version left them whole.
func (k *Keeper) divide(ctx context.Context) error {
	row, err := k.store.Revision(ctx, 0)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading the newest revision: %w", err)
	}
	running := &config.Config{}
	if len(row.Config) > 0 {
		if running, err = decode(row.Config); err != nil {
			return fmt.Errorf("revision %d: %w", row.Number, err)
		}
	}
	whole, err := k.store.WholeDraft(ctx)
	if errors.Is(err, store.ErrNotFound) && len(row.Config) == 0 {
		return nil
	}
	draft := running
	authors := map[string]Author{}
	if err == nil {
		if draft, err = decode(whole.Config); err == nil {
			err = json.Unmarshal(whole.Authors, &authors)
		}
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("the draft: %w", err)
	}
	draft.Share(running)
	objects, err := delta(&config.Config{}, running)
	if err != nil {
		return err
	}
	changed, err := draftRows("", running, draft)
	if err != nil {
		return err
	}
	for i, o := range changed {
		a := authors[owner(o.Object)]
		changed[i].Operator, changed[i].At = a.Operator, a.At.UnixMilli()
	}
	return k.store.Divide(ctx, row.Number, objects, changed)
}

// decode reads a configuration that an earlier version stored whole.
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

// Draft returns the draft. It must not be changed.
func (k *Keeper) Draft() *config.Config { return k.state.Load().draft.Config }

// CompiledDraft returns the draft as it was compiled when it was edited.
func (k *Keeper) CompiledDraft() *Compiled { return k.state.Load().draft }

// Running returns the configuration in effect and its number; 0 if nothing was ever published.
func (k *Keeper) Running() (*config.Config, int) {
	s := k.state.Load()
	return s.running.Config, s.number
}

// Number is that of the running revision.
func (k *Keeper) Number() int { return k.state.Load().number }

// CompiledRunning returns what is in effect, compiled, and its number.
func (k *Keeper) CompiledRunning() (*Compiled, int) {
	s := k.state.Load()
	return s.running, s.number
}

// Changes lists how the draft differs from what is running.
func (k *Keeper) Changes() Changes { return k.state.Load().changes() }

// Mark changes with the draft and with the running revision.
func (k *Keeper) Mark() string { return k.state.Load().mark }

// Author tells who changed an object of the draft last.
func (k *Keeper) Author(id string) (Author, bool) {
	a, ok := k.state.Load().authors[id]
	return a, ok
}

// Config returns the configuration of a revision; it must not be changed.
func (k *Keeper) Config(ctx context.Context, number int) (*config.Config, error) {
	plan, err := k.Plan(ctx, number)
	if err != nil {
		return nil, err
	}
	return plan.Config, nil
}

// Plan returns the compiled plan of a revision, for explaining attempts decided under it.
func (k *Keeper) Plan(ctx context.Context, number int) (*decide.Plan, error) {
	if s := k.state.Load(); number == s.number {
		return s.running.Plan, nil
	}
	k.mu.Lock()
	plan := k.plans[number]
	k.mu.Unlock()
	if plan != nil {
		return plan, nil
	}
	c, err := k.read(ctx, number)
	if err != nil {
		return nil, err
	}
	compiled := k.Compile(c)
	if compiled.Plan == nil {
		return nil, &Invalid{compiled.Problems}
	}
	k.remember(number, compiled.Plan)
	return compiled.Plan, nil
}

// read reads the configuration of a revision from the store. What is the same as in the running one is shared with it.
func (k *Keeper) read(ctx context.Context, number int) (*config.Config, error) {
	row, err := k.store.Revision(ctx, number)
	if err != nil {
		return nil, fmt.Errorf("revision %d: %w", number, err)
	}
	var c *config.Config
	if len(row.Config) > 0 {
		c, err = decode(row.Config)
	} else {
		var objects []store.Object
		if objects, err = k.store.Objects(ctx, row.Number); err == nil {
			c, err = assemble(objects)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("revision %d: %w", number, err)
	}
	running, _ := k.Running()
	c.Share(running)
	return c, nil
}

func (k *Keeper) remember(number int, plan *decide.Plan) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for old := range k.plans {
		if len(k.plans) < maxPlans {
			break
		}
		delete(k.plans, old)
	}
	k.plans[number] = plan
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
