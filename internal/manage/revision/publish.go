package revision

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
)

// ErrNothing is returned when a publish would change nothing.
var ErrNothing = errors.New("the draft is the same as what is running")

// ErrOthers is returned when one change was to be published alone, but the draft holds others.
var ErrOthers = errors.New("the draft holds other changes")

// ErrChanged is returned when the draft is no longer what the caller has looked at.
var ErrChanged = errors.New("the draft was changed meanwhile")

// ErrDraft is returned when a revision was to be returned to while the draft holds changes.
var ErrDraft = errors.New("the draft holds changes that would be lost; publish or discard it first")

// Order says what to publish, and how.
type Order struct {
	Operator, Note string
	// Only is the object that alone may differ, "" for the whole draft.
	Only string
	// Despite publishes although expectations fail.
	Despite bool
	// Agree, if it is set, is asked about exactly what is about to be published, and may refuse it. It returns who
	// asked for it, "" for nobody.
	Agree func(w Wish) (asker string, err error)
}

// Wish is what is about to be published.
type Wish struct {
	Changes Changes
	// Digest tells it from everything else: what is running, and each object that would be another one.
	Digest string
	// Back is the revision that is returned to, 0 for the draft.
	Back int
}

// digest is the Digest of a wish.
func digest(running int, objects []store.Object) string {
	h := sha256.New()
	fmt.Fprintf(h, "%d\n", running)
	for _, o := range objects {
		fmt.Fprintf(h, "%s %s %d\n", o.Kind, o.ID, len(o.Body))
		h.Write(o.Body)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Wish returns what publishing the draft, or returning to a revision, would do now.
func (k *Keeper) Wish(ctx context.Context, back int) (Wish, error) {
	before := k.state.Load()
	next := before.draft.Config
	if back != 0 {
		var err error
		if next, err = k.read(ctx, back); err != nil {
			return Wish{}, err
		}
	}
	objects, err := delta(before.running.Config, next)
	if err != nil {
		return Wish{}, err
	}
	out := Wish{
		Changes: Differences(before.running.Config, next),
		Digest:  digest(before.number, objects),
		Back:    back,
	}
	if out.Changes.Count() == 0 {
		return out, ErrNothing
	}
	return out, nil
}

// Publish makes the draft the next revision, if its expectations are met. The draft was compiled when it was edited,
// and is not compiled again.
func (k *Keeper) Publish(ctx context.Context, o Order) (int, error) {
	for range tries {
		before := k.state.Load()
		changes := before.changes()
		if changes.Count() == 0 {
			return 0, ErrNothing
		}
		for _, c := range changes.List {
			if o.Only != "" && c.ID != o.Only {
				return 0, fmt.Errorf("%w: %s %q %s by %s", ErrOthers, c.Kind, c.Object, c.What,
					before.authors[c.ID].Operator)
			}
		}
		number, err := k.publish(ctx, o, before, before.draft, Wish{Changes: changes})
		if errors.Is(err, store.ErrChanged) { // another node was first
			k.store.AwaitTold(ctx)
			if err = k.Reload(ctx); err == nil {
				continue
			}
		}
		if !errors.Is(err, ErrChanged) {
			return number, err
		}
	}
	return 0, ErrChanged
}

// Return publishes the configuration of an earlier revision as a new one, if its expectations are met.
func (k *Keeper) Return(ctx context.Context, number int, o Order) (int, error) {
	before := k.state.Load()
	if before.changes().Count() > 0 {
		return 0, ErrDraft
	}
	c, err := k.read(ctx, number)
	if err != nil {
		return 0, err
	}
	changes := Differences(before.running.Config, c)
	if changes.Count() == 0 {
		return 0, ErrNothing
	}
	return k.publish(ctx, o, before, k.Compile(c), Wish{Changes: changes, Back: number})
}

// publish stores a configuration as the next revision and puts it into effect; the draft becomes the same. It returns
// ErrChanged if the state is no longer the one before.
func (k *Keeper) publish(ctx context.Context, o Order, before *state, next *Compiled, wish Wish) (int, error) {
	changes, asker := wish.Changes, ""
	if next.Plan == nil {
		return 0, &Invalid{next.Problems}
	}
	if !o.Despite {
		if err := k.expect(ctx, next.Plan); err != nil {
			return 0, err
		}
	}
	objects, err := delta(before.running.Config, next.Config)
	if err != nil {
		return 0, err
	}
	if o.Agree != nil {
		wish.Digest = digest(before.number, objects)
		if asker, err = o.Agree(wish); err != nil {
			return 0, err
		}
	}
	list, err := json.Marshal(changes.stored())
	if err != nil {
		return 0, err
	}
	k.commit.Lock()
	defer k.commit.Unlock()
	if k.state.Load() != before {
		return 0, ErrChanged
	}
	number := before.number + 1
	snapshot, err := k.gate.Prepare(next.Plan, number, k.box)
	if err != nil {
		return 0, err
	}
	audit.Of(ctx).
		On("revision", strconv.Itoa(number), "").
		Say(said(number, o, asker)).
		Listed(words(changes), nil, nil)
	if asker != "" {
		o.Note = strings.TrimSpace(o.Note + " (asked for by " + asker + ")")
	}
	r := store.Revision{
		Number:   number,
		At:       time.Now().UnixMilli(),
		Operator: o.Operator,
		Note:     o.Note,
		Changes:  list,
	}
	if err := k.store.Publish(ctx, r, objects); err != nil {
		return 0, err
	}
	k.gate.Swap(snapshot)
	k.remember(before.number, before.running.Plan)
	k.state.Store(k.newState(next, number, next, map[string]Author{}))
	return number, nil
}

// said says in words that a revision is published.
func said(number int, o Order, asker string) string {
	text := fmt.Sprintf("published revision %d", number)
	if asker != "" {
		text += ", for which " + asker + " asked"
	}
	if o.Despite {
		text += ", despite expectations that are not met"
	}
	if o.Note != "" {
		text += ": " + o.Note
	}
	return text
}

// unlisted is the kind under which a stored list of changes says how many more there are.
const unlisted = "unlisted"

func (c Changes) stored() []config.Change {
	if c.More == 0 {
		return c.List
	}
	return append(slices.Clone(c.List), config.Change{Kind: unlisted, Object: strconv.Itoa(c.More)})
}

// ReadChanges reads the stored changes of a revision.
func ReadChanges(text []byte) (Changes, error) {
	c := Changes{List: []config.Change{}}
	if err := json.Unmarshal(text, &c.List); err != nil || c.List == nil {
		return Changes{List: []config.Change{}}, err
	}
	if n := len(c.List); n > 0 && c.List[n-1].Kind == unlisted {
		c.More, _ = strconv.Atoi(c.List[n-1].Object)
		c.List = c.List[:n-1]
	}
	return c, nil
}
