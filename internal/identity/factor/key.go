package factor

import (
	"context"
	"time"
)

// Key is a security key of a person: Text is what is kept of it.
type Key struct{ ID, Text string }

// Keys are the security keys of a person.
func (k *Keeper) Keys(store, name string) (out []Key) {
	p := k.find(store, name)
	if p == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, d := range p.devices {
		if d.Kind == KindKey && d.Confirmed {
			out = append(out, Key{d.ID, d.Credential})
		}
	}
	return out
}

// AddKey takes a security key that was registered: it counts at once, beside other devices of the person. It returns
// new recovery codes, which nobody can see again; none if the person has some from before.
func (k *Keeper) AddKey(ctx context.Context, r Request, text string, now time.Time) (recovery []string, err error) {
	return k.addProven(ctx, &r, now, func(t *kept) { t.Kind, t.Credential = KindKey, text })
}

// KeyShown notes that a security key was shown on a client, with what is to be kept of it from now on.
func (k *Keeper) KeyShown(ctx context.Context, id, text, on string, now time.Time) error {
	t := k.get(id)
	if t == nil {
		return ErrNone
	}
	t.of.mu.Lock()
	t.Credential, t.UsedAt, t.UsedOn = text, now, on
	t.of.mu.Unlock()
	return k.save(ctx, t)
}

// addProven stores a device that proved itself already, beside others of the person.
func (k *Keeper) addProven(ctx context.Context, r *Request, now time.Time, as func(t *kept)) ([]string, error) {
	if _, err := r.check(); err != nil {
		return nil, err
	}
	t := k.made(r, nil, now)
	t.Confirmed, t.Seed, t.Algorithm, t.Digits, t.Period = true, "", "", 0, 0
	as(t)
	if err := k.room(t, nil); err != nil {
		return nil, err
	}
	var recovery []string
	for try := 0; ; try++ {
		err := k.add(ctx, t, func(p *person) (*common, error) {
			if r.Still != nil && p.counting() != *r.Still {
				return nil, ErrUsed
			}
			next := *p.common // stored in any case, so that two nodes notice each other
			recovery = next.renew(r.Replaces)
			return &next, nil
		}, k.others(t, func(*kept) bool { return r.Replaces }))
		if !isStale(err) || try >= staleTries {
			return recovery, err
		}
		k.store.AwaitTold(ctx)
		if err = k.ReloadPerson(ctx, t.Store, t.Name); err != nil {
			return nil, err
		}
	}
}
