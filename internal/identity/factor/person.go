package factor

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

// person is somebody with all devices, and what they have in common.
type person struct {
	mu                   sync.Mutex
	store, name, display string
	// devices are in the order in which they were made, those too that are not confirmed.
	devices []*kept
	// keysCount tells that a security key is a second factor by itself.
	keysCount bool
	// common is another one whenever it was read anew; stored tells that it has a row of its own.
	common *common
	stored bool
}

// common is what the second factors of a person have in common.
type common struct {
	Recovery []string `json:"recovery,omitempty"`
	// Tries are the wrong codes in a row, Locked until when none is looked at, in milliseconds since 1970.
	Tries int `json:"tries,omitempty"`
	// Locks counts how often none was looked at since the last right one.
	Locks  int   `json:"locks,omitempty"`
	Locked int64 `json:"locked,omitempty"`
	// Temporary is a code that an operator gave, nil for none.
	Temporary *temporary `json:"temporary,omitempty"`
}

// temporary is a code that is good for a while.
type temporary struct {
	Code string `json:"code"`
	// Until is in milliseconds since 1970.
	Until int64 `json:"until"`
	// Once tells that it is good once only.
	Once bool `json:"once,omitempty"`
}

func (c *common) empty() bool {
	return len(c.Recovery) == 0 && c.Tries == 0 && c.Locks == 0 && c.Locked == 0 && c.Temporary == nil
}

func (c *common) lockedUntil() time.Time { return timeOf(c.Locked) }

func timeOf(milli int64) time.Time {
	if milli == 0 {
		return time.Time{}
	}
	return time.UnixMilli(milli)
}

// valid is the temporary code, nil if there is none that is good.
func (c *common) valid(now time.Time) *temporary {
	if c.Temporary == nil || !now.Before(timeOf(c.Temporary.Until)) {
		return nil
	}
	return c.Temporary
}

// id is the identifier of what a person's second factors have in common: the same on all nodes, so that two of them
// cannot write it without knowing of each other.
func (p *person) id() string {
	sum := sha256.Sum256([]byte(key(p.store, p.name)))
	return "of-" + hex.EncodeToString(sum[:12])
}

// putCommon takes what was read from a row of its own. The person is locked.
func (p *person) putCommon(c *common) { p.common, p.stored = c, true }

// counts reports whether there is something that a code may come from.
func (p *person) counts(now time.Time) bool {
	return p.common.valid(now) != nil || slices.ContainsFunc(p.devices, func(d *kept) bool {
		return d.Confirmed && (p.keysCount || d.Kind != KindKey)
	})
}

// counting names the devices that count. The person is locked.
func (p *person) counting() string {
	var ids []string
	for _, d := range p.devices {
		if d.Confirmed {
			ids = append(ids, d.ID)
		}
	}
	return strings.Join(ids, " ")
}

// take decides about a code, and claims it. The person is locked.
func (p *person) take(typed string, now time.Time) taken {
	c := p.common
	// locked while our clock was ahead
	if latest := now.Add(lockTime(c.Locks - 1)); c.lockedUntil().After(latest) {
		c.Locked = latest.UnixMilli()
	}
	switch {
	case typed == "" || !p.counts(now):
		return taken{why: reason.FactorMissing}
	case now.Before(c.lockedUntil()):
		return taken{why: reason.FactorLocked,
			detail: "none is looked at before " + c.lockedUntil().UTC().Format("15:04:05 UTC")}
	}
	if at := slices.IndexFunc(c.Recovery, func(code string) bool { return sameLetters(code, typed) }); at >= 0 {
		c.Recovery = slices.Delete(slices.Clone(c.Recovery), at, at+1)
		return p.right(taken{by: facts.ByRecovery, common: true,
			detail: fmt.Sprintf("a recovery code; %d are left", len(c.Recovery))})
	}
	if t := c.valid(now); t != nil && sameLetters(t.Code, typed) {
		out := taken{by: facts.ByTemporary, detail: "a temporary code, good until " +
			timeOf(t.Until).UTC().Format("2006-01-02 15:04 UTC")}
		if t.Once {
			c.Temporary, out.common, out.detail = nil, true, "a temporary code, which was good once"
		}
		return p.right(out)
	}
	wrong := taken{why: reason.FactorWrong, common: true}
	for _, d := range p.devices {
		if d.Kind != KindCode || !d.Confirmed {
			continue
		}
		switch why, detail := d.take(typed, now); {
		case why == reason.OK:
			return p.right(taken{by: facts.ByCode, detail: detail, device: d})
		case why == reason.FactorUsed:
			wrong = taken{why: why}
		case wrong.detail == "" && wrong.common:
			wrong.detail = detail
		}
	}
	if wrong.common {
		wrong.detail += c.wrong(now)
	}
	return wrong
}

// right ends a decision for a code: wrong ones from before are forgiven.
func (p *person) right(out taken) taken {
	out.why = reason.OK
	if c := p.common; c.Tries != 0 || c.Locks != 0 || c.Locked != 0 {
		c.Tries, c.Locks, c.Locked, out.common = 0, 0, 0, true
	}
	for _, d := range p.devices {
		d.far = 0
	}
	return out
}

// wrong notes a code that does not count, and locks after too many.
func (c *common) wrong(now time.Time) string {
	if c.Tries++; c.Tries >= maxWrong {
		long := lockTime(c.Locks)
		c.Tries, c.Locked = 0, now.Add(long).UnixMilli()
		c.Locks++
		return fmt.Sprintf("this was number %d in a row, so none is looked at for %d minutes", maxWrong,
			int(long.Minutes()))
	}
	return fmt.Sprintf("this was number %d of %d in a row, after which none is looked at for a while", c.Tries,
		maxWrong)
}

// commonRow is what the person's have in common, as it is stored. The person is locked.
func (k *Keeper) commonRow(p *person) store.FactorToken {
	text, _ := json.Marshal(p.common)
	return store.FactorToken{ID: p.id(), Kind: store.FactorsInCommon, Store: p.store, Name: p.name, Display: p.display,
		Confirmed: true, Recovery: len(p.common.Recovery), Secrets: string(k.box.Seal(Place(p.id()), string(text)))}
}

// saveCommon writes what a person's second factors have in common, unless it was read anew meanwhile.
func (k *Keeper) saveCommon(ctx context.Context, p *person, was *common, save func(context.Context,
	store.FactorToken) error) error {
	k.saving.Lock()
	defer k.saving.Unlock()
	row, err := k.commonOf(p, was)
	if err != nil {
		return err
	}
	if err := save(ctx, row); err != nil {
		return fmt.Errorf("storing the second factor of %s: %w", p.name, err)
	}
	k.commonStored(p, was)
	return nil
}

// commonOf is what a person's second factors have in common as it is now, unless it was read anew.
func (k *Keeper) commonOf(p *person, was *common) (store.FactorToken, error) {
	k.mu.RLock()
	stale := k.people[key(p.store, p.name)] != p
	k.mu.RUnlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	if stale || p.common != was {
		return store.FactorToken{}, store.ErrChanged
	}
	return k.commonRow(p), nil
}

// commonStored notes that it has a row of its own from now on.
func (k *Keeper) commonStored(p *person, was *common) {
	k.mu.Lock()
	k.shared[p.id()] = p
	k.mu.Unlock()
	p.mu.Lock()
	p.stored = p.stored || p.common == was
	p.mu.Unlock()
}

// Split takes apart what was typed where a password and a code come as one: the code is as many digits at the end as
// the device of the person shows, or a recovery or temporary code. Without one, all of it is the password.
func (k *Keeper) Split(store, name, typed string, now time.Time) (password, code string) {
	p := k.find(store, name)
	if p == nil {
		return typed, ""
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if at := len(typed) - recoveryLen; at > 0 {
		last, t := strings.ToLower(typed[at:]), p.common.valid(now)
		if t != nil && same(t.Code, last) ||
			slices.ContainsFunc(p.common.Recovery, func(code string) bool { return same(code, last) }) {
			return typed[:at], typed[at:]
		}
	}
	digits := 0
	for _, d := range p.devices {
		at := len(typed) - d.Digits
		if d.Kind != KindCode || !d.Confirmed || at <= 0 || strings.Trim(typed[at:], "0123456789") != "" {
			continue
		}
		if digits == 0 || d.showsAbout(typed[at:], now) { // of devices with another number of digits, the one that fits
			digits = d.Digits
		}
	}
	if digits == 0 {
		return typed, ""
	}
	return typed[:len(typed)-digits], typed[len(typed)-digits:]
}

// showsAbout reports whether a device shows a code about now, used or not.
func (t *kept) showsAbout(typed string, now time.Time) bool {
	base, reach := t.step, int64(ahead)
	if !t.Counted() {
		base, reach = now.Unix()/int64(t.Period)+t.Skew, window
	}
	for step := base - reach; step <= base+reach; step++ {
		if t.shows(step, typed) {
			return true
		}
	}
	return false
}
