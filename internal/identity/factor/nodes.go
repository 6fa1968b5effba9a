package factor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// staleTries is how often a code is decided about again because another node changed the token.
const staleTries = 10

func isStale(err error) bool  { return errors.Is(err, store.ErrChanged) }
func isCutOff(err error) bool { return errors.Is(err, store.ErrCutOff) }

// TakeAlone says whether codes count while no majority of the nodes can be reached. One could count twice then: on two
// nodes that do not know of each other.
func (k *Keeper) TakeAlone(on bool) { k.alone.Store(on) }

func (k *Keeper) takesAlone() bool { return k.alone.Load() }

func (k *Keeper) saveAlone(ctx context.Context, t *kept) error {
	return k.write(ctx, t, k.store.SaveFactorTokenAlone)
}

// Reunite brings together what was taken of a token here alone and what other nodes took meanwhile. It returns the
// identifier of the token, whose it is, and how many codes counted twice.
func (k *Keeper) Reunite(ctx context.Context, u *store.Unshared) (id, name string, twice int, err error) {
	var before, ours secrets
	for _, one := range []struct {
		picture string
		into    *secrets
	}{{u.Base, &before}, {u.Here, &ours}} {
		clear := "{}"
		sealed, there, err := u.Text(one.picture, "secrets")
		if err == nil && there {
			id, _, _ = u.Text(one.picture, "id")
			clear, err = k.box.Open(Place(id), config.Secret(sealed))
		}
		if err != nil {
			return id, "", 0, fmt.Errorf("opening second factor %s: %w", id, err)
		}
		if err := json.Unmarshal([]byte(clear), one.into); err != nil {
			return id, "", 0, fmt.Errorf("reading second factor %s: %w", id, err)
		}
	}
	for range staleTries {
		if err = k.Reload(ctx, id); err != nil {
			return id, "", 0, err
		}
		k.mu.RLock()
		t := k.byID[id]
		k.mu.RUnlock()
		if t == nil { // it was removed
			return id, "", 0, nil
		}
		t.mu.Lock()
		name, twice = t.Name, t.merge(&before, &ours)
		t.mu.Unlock()
		if err = k.save(ctx, t); !isStale(err) {
			return id, name, twice, err
		}
		k.store.AwaitTold(ctx)
	}
	return id, name, twice, err
}

// merge adds to a token what was taken of it elsewhere, and counts what was taken in both places.
func (t *kept) merge(before, ours *secrets) (twice int) {
	for _, step := range ours.Used {
		switch {
		case slices.Contains(before.Used, step):
		case slices.Contains(t.secrets.Used, step):
			twice++
		default:
			last := t.step
			t.claim(step)
			t.step = max(last, step)
		}
	}
	for _, code := range before.Recovery {
		if slices.Contains(ours.Recovery, code) {
			continue
		}
		at := slices.Index(t.Recovery, code)
		if at < 0 {
			twice++
			continue
		}
		t.Recovery = slices.Delete(slices.Clone(t.Recovery), at, at+1)
	}
	t.RecoveryLeft = len(t.Recovery)
	return twice
}
