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
	var before, ours parts
	for _, one := range []struct {
		picture string
		into    *parts
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
		t, p := k.byID[id], k.shared[id]
		k.mu.RUnlock()
		switch {
		case t != nil:
			t.of.mu.Lock()
			name, twice = t.Name, t.merge(&before.secrets, &ours.secrets)
			t.of.mu.Unlock()
			err = k.save(ctx, t)
		case p != nil:
			p.mu.Lock()
			next := *p.common
			name, twice = p.name, next.merge(&before.common, &ours.common)
			p.common = &next
			p.mu.Unlock()
			err = k.saveCommon(ctx, p, &next, k.store.SaveFactorToken)
		default: // it was removed
			return id, "", 0, nil
		}
		if !isStale(err) {
			return id, name, twice, err
		}
		k.store.AwaitTold(ctx)
	}
	return id, name, twice, err
}

// parts are what a row is sealed with, of either kind.
type parts struct {
	secrets
	common
}

// merge adds to a device what was taken of it elsewhere, and counts what was taken in both places.
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
	return twice
}

// merge takes away what was used elsewhere, and counts what was used in both places.
func (c *common) merge(before, ours *common) (twice int) {
	c.Recovery = slices.Clone(c.Recovery)
	for _, code := range before.Recovery {
		if slices.Contains(ours.Recovery, code) {
			continue
		}
		at := slices.Index(c.Recovery, code)
		if at < 0 {
			twice++
			continue
		}
		c.Recovery = slices.Delete(c.Recovery, at, at+1)
	}
	if t := before.Temporary; t != nil && t.Once && ours.Temporary == nil {
		if c.Temporary == nil {
			twice++
		} else if c.Temporary.Code == t.Code {
			c.Temporary = nil
		}
	}
	return twice
}
