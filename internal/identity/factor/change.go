package factor

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"
)

// change changes what a person's second factors have in common.
func (k *Keeper) change(ctx context.Context, find func() *person, do func(c *common)) error {
	for try := 0; ; try++ {
		p := find()
		if p == nil {
			return ErrNone
		}
		p.mu.Lock()
		was, next := p.common, *p.common
		do(&next)
		p.common = &next
		p.mu.Unlock()
		err := k.saveCommon(ctx, p, &next, k.store.SaveFactorToken)
		if err == nil {
			return nil
		}
		p.mu.Lock()
		if p.common == &next {
			p.common = was
		}
		p.mu.Unlock()
		if !isStale(err) || try >= staleTries {
			return err
		}
		k.store.AwaitTold(ctx)
		if err = k.Reload(ctx, p.id()); err != nil {
			return err
		}
	}
}

// withID finds the person of a device, or of what is in common.
func (k *Keeper) withID(id string) func() *person { return func() *person { return k.personOf(id) } }

func (k *Keeper) personOf(id string) *person {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if t := k.byID[id]; t != nil {
		return t.of
	}
	return k.shared[id]
}

// Recover makes new recovery codes; the old ones count no more.
func (k *Keeper) Recover(ctx context.Context, id string) ([]string, error) {
	if t := k.Get(id); t == nil || !t.Confirmed {
		return nil, ErrNone
	}
	out := newRecovery()
	return out, k.change(ctx, k.withID(id), func(c *common) { c.Recovery = out })
}

// Release has codes of a person looked at again who gave too many wrong ones.
func (k *Keeper) Release(ctx context.Context, id string) error {
	return k.change(ctx, k.withID(id), func(c *common) { c.Tries, c.Locks, c.Locked = 0, 0, 0 })
}

// maxTemporary is for how long a temporary code may be good.
const maxTemporary = 14 * 24 * time.Hour

// GiveTemporary makes a code for somebody whose device is not at hand: good until a time, or once. One from before
// counts no more.
func (k *Keeper) GiveTemporary(ctx context.Context, store, name, display string, until time.Time, once bool,
	now time.Time) (string, error) {
	if !until.After(now) || until.After(now.Add(maxTemporary)) {
		return "", &FieldError{"hours", "a temporary code cannot be good until " + until.Format(time.RFC3339),
			fmt.Sprintf("Use up to %d hours.", int(maxTemporary.Hours()))}
	}
	code := recoveryCode()
	return code, k.change(ctx, func() *person {
		k.mu.Lock()
		defer k.mu.Unlock()
		p := k.person(store, name)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.display == "" {
			p.display = display
		}
		return p
	}, func(c *common) {
		c.Temporary = &temporary{Code: code, Until: until.UnixMilli(), Once: once}
	})
}

// EndTemporary takes a temporary code back. id is that of a device of the person, or of the view of the code.
func (k *Keeper) EndTemporary(ctx context.Context, id string) error {
	p := k.personOf(id)
	if p == nil {
		return ErrNone
	}
	k.recent.forget(key(p.store, p.name))
	return k.change(ctx, k.withID(id), func(c *common) { c.Temporary = nil })
}

// ErrLast is returned for the last device of a person that counts, which only an operator removes.
var ErrLast = errors.New("this is the last second factor of the person")

// RemoveOwn removes a device for its person, who keeps one that counts.
func (k *Keeper) RemoveOwn(ctx context.Context, store, name, id string, now time.Time) error {
	k.removing.Lock()
	defer k.removing.Unlock()
	t := k.get(id)
	if t == nil || key(t.Store, t.Name) != key(store, name) {
		return ErrNone
	}
	t.of.mu.Lock()
	others := t.Kind == KindKey || slices.ContainsFunc(t.of.devices, func(d *kept) bool {
		return d != t && d.Confirmed && d.Kind != KindKey // with a key alone nobody signs in at gear
	})
	t.of.mu.Unlock()
	if !others {
		return ErrLast
	}
	return k.Remove(ctx, id, now)
}

// Remove removes a device; where a second factor is asked for, a person without another one is then refused. With the
// last one, all that the person has goes, but for a temporary code.
func (k *Keeper) Remove(ctx context.Context, id string, now time.Time) error {
	t := k.get(id)
	if t == nil {
		return ErrNone
	}
	gone := []string{id}
	p := t.of
	p.mu.Lock()
	if len(p.devices) == 1 && p.common.valid(now) == nil {
		gone = append(gone, p.id())
	}
	p.mu.Unlock()
	if err := k.store.AddFactorTokens(ctx, nil, gone); err != nil {
		return fmt.Errorf("removing the second factor of %s: %w", t.Name, err)
	}
	k.mu.Lock()
	for _, id := range gone {
		k.drop(id)
	}
	k.mu.Unlock()
	k.recent.forget(key(p.store, p.name))
	return nil
}
