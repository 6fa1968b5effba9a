package factor

import (
	"context"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

// Check takes a code that a person typed: of a device, a recovery code or a temporary one. The reason is OK, or why it
// does not count; the detail is for the record. A code that counts is noted as used on the disk before this returns,
// and where there are several nodes, by all of them. by says how it was shown.
func (k *Keeper) Check(ctx context.Context, store, name, typed, on string, now time.Time) (why reason.Code, by,
	detail string) {
	typed = plain(typed)
	for try := 0; ; try++ {
		p := k.find(store, name)
		if p == nil {
			return reason.FactorNotEnrolled, "", ""
		}
		p.mu.Lock()
		counts := p.counts(now)
		out := p.take(typed, now)
		if out.device != nil {
			out.device.UsedAt, out.device.UsedOn = now, on
		}
		both := p.common
		p.mu.Unlock()
		switch {
		case !counts:
			return reason.FactorNotEnrolled, "", ""
		case typed == "":
			return reason.FactorMissing, "", ""
		case out.device == nil && !out.common:
			return out.why, out.by, out.detail
		}
		err := k.keepTaken(ctx, p, both, &out)
		if isStale(err) && try < staleTries { // another node took a code meanwhile: decide again by what it left
			k.store.AwaitTold(ctx)
			if err = k.Reload(ctx, out.row(p)); err == nil {
				continue
			}
		}
		if err != nil {
			return reason.FactorFailed, "", err.Error()
		}
		return out.why, out.by, out.detail
	}
}

// Shows reports whether a code would count now, without taking it. It changes nothing, so that whoever guesses locks
// nobody out; it says nothing of the password, and lets nobody in.
func (k *Keeper) Shows(store, name, typed string, now time.Time) bool {
	typed = plain(typed)
	p := k.find(store, name)
	if p == nil || typed == "" {
		return false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	found := false
	for _, code := range p.common.Recovery {
		found = sameLetters(code, typed) || found
	}
	if t := p.common.valid(now); t != nil {
		found = sameLetters(t.Code, typed) || found
	}
	for _, d := range p.devices {
		if d.Kind == KindCode && d.Confirmed {
			found = d.wouldTake(typed, now) || found
		}
	}
	return found
}

// keepTaken writes what a code changed: of the device that made it, or of the person; a restart gives nobody his tries
// back.
func (k *Keeper) keepTaken(ctx context.Context, p *person, both *common, out *taken) error {
	if out.device == nil {
		err := k.together(func() (store.FactorToken, error) { return k.commonOf(p, both) })
		if err == nil {
			k.commonStored(p, both)
		}
		if isCutOff(err) && (out.why != reason.OK || k.takesAlone()) {
			err = k.saveCommon(ctx, p, both, k.store.SaveFactorTokenAlone)
		}
		return err
	}
	err := k.together(func() (store.FactorToken, error) { return k.rowOf(out.device) })
	if isCutOff(err) && k.takesAlone() {
		err = k.saveAlone(ctx, out.device)
	}
	if err == nil && out.common { // wrong codes from before are forgiven; if this is lost, later
		_ = k.saveCommon(ctx, p, both, k.store.SaveFactorToken)
	}
	return err
}

// taken is what became of a code: the device that made it, nil for none, and whether what the person's have in common
// has changed.
type taken struct {
	why        reason.Code
	by, detail string
	device     *kept
	common     bool
}

// row is the identifier of what has to be read anew before it can be decided again.
func (o *taken) row(p *person) string {
	if o.device != nil {
		return o.device.ID
	}
	return p.id()
}
