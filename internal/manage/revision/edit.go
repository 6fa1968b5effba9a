package revision

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
)

// tries is how often an edit is made again because somebody else was quicker.
const tries = 10

// Authors tells who changed an object of the draft last.
type Authors func(id string) (Author, bool)

// Edit changes one object of the draft. The function works on a Copy of it, and changes what config.Own returns; its
// error, or a fault in the object with the ID that it returns, leaves the draft as it was. It is called again if
// somebody else changed the draft meanwhile.
func (k *Keeper) Edit(ctx context.Context, operator string, change func(*config.Config, Authors) (id string,
	err error)) error {
	return k.change(ctx, operator, func(before *state) (*Compiled, map[string]Author, error) {
		next := before.draft.Config.Copy()
		id, err := change(next, func(id string) (Author, bool) {
			a, ok := before.authors[id]
			return a, ok
		})
		if err != nil {
			return nil, nil, err
		}
		settle(next, before)
		compiled := k.Compile(next)
		var own []config.Problem
		for _, p := range compiled.Problems {
			if p.ID == id && !p.Warning {
				own = append(own, p)
			}
		}
		if len(own) > 0 {
			return nil, nil, &Invalid{own}
		}
		authors := maps.Clone(before.authors)
		authors[id] = Author{operator, time.Now()}
		return compiled, authors, nil
	})
}

// Replace makes the draft another configuration, which must have no faults. With mark set, it refuses if the draft no
// longer has that tag. The function is called again if somebody else changed the draft meanwhile.
func (k *Keeper) Replace(ctx context.Context, operator, mark string, next Next) error {
	return k.change(ctx, operator, func(before *state) (*Compiled, map[string]Author, error) {
		if mark != "" && mark != before.mark {
			return nil, nil, ErrChanged
		}
		compiled, authors, err := k.replaced(before, operator, next)
		if err == nil && compiled.Plan == nil {
			err = &Invalid{compiled.Problems}
		}
		return compiled, authors, err
	})
}

// EditMany changes many objects of the draft at once. Those that it changes must have no faults; faults that others
// have stay as they are, as with Edit. The function is called again if somebody else changed the draft meanwhile.
func (k *Keeper) EditMany(ctx context.Context, operator string, next Next) error {
	return k.change(ctx, operator, func(before *state) (*Compiled, map[string]Author, error) {
		compiled, authors, err := k.replaced(before, operator, next)
		if err != nil || compiled.Plan != nil {
			return compiled, authors, err
		}
		had := map[[3]string]bool{}
		fault := func(p config.Problem) [3]string { return [3]string{p.ID, p.Field, string(p.Code)} }
		for _, p := range before.draft.Problems {
			had[fault(p)] = true
		}
		made := slices.DeleteFunc(slices.Clone(compiled.Problems), func(p config.Problem) bool {
			changed := authors[p.ID] != before.authors[p.ID]
			return p.Warning || !changed && had[fault(p)]
		})
		if len(made) > 0 {
			return nil, nil, &Invalid{made}
		}
		return compiled, authors, nil
	})
}

// Next makes another configuration from the draft, and leaves the draft as it was.
type Next func(draft *config.Config) (*config.Config, error)

func (k *Keeper) replaced(before *state, operator string, next Next) (*Compiled, map[string]Author, error) {
	c, err := next(before.draft.Config)
	if err != nil {
		return nil, nil, err
	}
	arrange(c)
	settle(c, before)
	authors := maps.Clone(before.authors)
	changed, err := delta(before.draft.Config, c)
	if err != nil {
		return nil, nil, err
	}
	for _, o := range changed {
		authors[owner(o)] = Author{operator, time.Now()}
	}
	return k.Compile(c), authors, nil
}

// Discard makes the draft the same as what is running.
func (k *Keeper) Discard(ctx context.Context, operator string) error {
	return k.change(ctx, operator, func(before *state) (*Compiled, map[string]Author, error) {
		return before.running, map[string]Author{}, nil
	})
}

// change makes the next draft from the present one, without a lock, and stores it if the draft is still the same.
func (k *Keeper) change(
	ctx context.Context,
	operator string,
	make func(before *state) (*Compiled, map[string]Author,
		error),
) error {
	for range tries {
		before := k.state.Load()
		next, authors, err := make(before)
		if err != nil {
			return err
		}
		changed, err := draftRows(operator, before.draft.Config, next.Config)
		if err != nil {
			return err
		}
		note(ctx, before.draft.Config, next.Config)
		stored, err := k.saveOver(ctx, before, next, authors, changed)
		if errors.Is(err, store.ErrChanged) { // another node was first
			k.store.AwaitTold(ctx)
			stored, err = false, k.Reload(ctx)
		}
		if stored || err != nil {
			return err
		}
	}
	return ErrChanged
}

// saveOver stores a draft if the state is still the one that it was made from.
func (k *Keeper) saveOver(ctx context.Context, before *state, next *Compiled, authors map[string]Author,
	changed []store.DraftObject) (bool, error) {
	k.commit.Lock()
	defer k.commit.Unlock()
	if k.state.Load() != before {
		return false, nil
	}
	switch {
	case config.Same(before.draft.Config, next.Config): // nothing was changed
		audit.Of(ctx).Skip()
		return true, nil
	case config.Same(before.running.Config, next.Config):
		if err := k.store.DiscardDraft(ctx); err != nil {
			return false, err
		}
		next, authors = before.running, map[string]Author{}
	default:
		if err := k.store.SaveDraft(ctx, changed); err != nil {
			return false, err
		}
	}
	k.state.Store(k.newState(before.running, before.number, next, authors))
	return true, nil
}

// draftRows lists what an operator changed in the draft, as it is stored.
func draftRows(operator string, from, to *config.Config) ([]store.DraftObject, error) {
	changed, err := delta(from, to)
	if err != nil {
		return nil, err
	}
	at := time.Now().UnixMilli()
	out := make([]store.DraftObject, len(changed))
	for i, o := range changed {
		out[i] = store.DraftObject{Object: o, Operator: operator, At: at}
	}
	return out, nil
}
