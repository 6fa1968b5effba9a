package presence

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/kind"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
)

const (
	// maxDevices bounds the devices of which it is remembered what was seen; the oldest give way, a tenth at once.
	maxDevices = 100_000
	// maxNewDevices bounds the devices never seen before that are remembered in a minute.
	maxNewDevices = 2000
	// saveTraits bounds how many are written at once.
	saveTraits = 2000
	// seenEvery is how often it is noted anew that nothing changed.
	seenEvery = time.Hour
)

// TraitsStore is where it is kept what was seen of devices.
type TraitsStore interface {
	DeviceTraits(ctx context.Context, limit int) ([]store.DeviceTraits, error)
	SaveDeviceTraits(ctx context.Context, list []store.DeviceTraits, forget []string) error
}

// traits are what was seen of devices. What stands in it is replaced, and never changed.
type traits struct {
	mu    sync.RWMutex
	of    map[core.MAC]*seenTraits
	dirty map[core.MAC]bool
	// strangers are those since a moment.
	strangers int
	since     time.Time
}

type seenTraits struct {
	facts.Traits
	// at is when it was seen last, told when that was stored and told last; heard tells that another node has seen it.
	at, told time.Time
	heard    bool
	// taken is the kind that rules made of it last.
	taken atomic.Pointer[taken]
}

// taken is a kind, nil for none, with the rules that made it.
type taken struct {
	rules *kind.Rules
	kind  *facts.Kind
}

// kindBy is the kind by some rules, worked out once.
func (t *seenTraits) kindBy(rules *kind.Rules, mac core.MAC) *facts.Kind {
	if had := t.taken.Load(); had != nil && had.rules == rules {
		return had.kind
	}
	made := rules.Of(mac.String(), &t.Traits)
	t.taken.Store(&taken{rules, made})
	return made
}

// Notice notes what a source has seen of a device, whether or not it is in scope. What is empty stays as it was; but
// what a device says together with its fingerprint is all that it says, since another system may run on it now.
func (k *Keeper) Notice(source *Source, mac core.MAC, t facts.Traits, at time.Time) {
	if source.Enabled && mac != 0 && (t != facts.Traits{}) {
		k.notice(mac, t, at, false)
	}
}

// HeardTraits notes what another node has seen.
func (k *Keeper) HeardTraits(t *store.DeviceTraits) {
	now := k.o.Now()
	at := time.UnixMilli(t.SeenAt)
	if at.After(now) {
		at = now
	}
	if mac := core.ParseMAC(t.MAC); mac != 0 {
		k.notice(mac, facts.Traits{Fingerprint: t.Fingerprint, VendorClass: t.VendorClass, Host: t.Host}, at, true)
	}
}

func (k *Keeper) notice(mac core.MAC, t facts.Traits, at time.Time, heard bool) {
	for _, text := range []*string{&t.Fingerprint, &t.VendorClass, &t.Host} {
		if *text = strings.ToValidUTF8(strings.TrimSpace(*text), "?"); len(*text) > maxText {
			*text = strings.ToValidUTF8((*text)[:maxText], "")
		}
	}
	k.traits.take(mac, t, at, k.o.Now(), heard)
}

// take brings it in. What is worth it is stored and told with the next save, so that a device that says something else
// each time floods nobody.
func (d *traits) take(mac core.MAC, t facts.Traits, at, now time.Time, heard bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	was := d.of[mac]
	if was != nil {
		if at.Before(was.at) {
			return
		}
		if t.Host = cmp.Or(t.Host, was.Host); t.Fingerprint == "" {
			t.Fingerprint, t.VendorClass = was.Fingerprint, cmp.Or(t.VendorClass, was.VendorClass)
		}
		if t == was.Traits && at.Sub(was.told) < seenEvery {
			d.of[mac] = &seenTraits{Traits: was.Traits, at: at, told: was.told, heard: was.heard}
			return
		}
	} else {
		if now.Sub(d.since) > time.Minute || now.Before(d.since) {
			d.since, d.strangers = now, 0
		}
		if d.strangers++; d.strangers > maxNewDevices {
			return
		}
		if len(d.of) >= maxDevices {
			d.makeRoom()
		}
	}
	d.of[mac], d.dirty[mac] = &seenTraits{Traits: t, at: at, told: at, heard: heard}, true
}

// makeRoom forgets the tenth that was not seen for longest. The caller holds the lock.
func (d *traits) makeRoom() {
	all := make([]core.MAC, 0, len(d.of))
	for mac := range d.of {
		all = append(all, mac)
	}
	slices.SortFunc(all, func(a, b core.MAC) int { return d.of[a].at.Compare(d.of[b].at) })
	for _, mac := range all[:len(all)/10] {
		delete(d.of, mac)
		d.dirty[mac] = true
	}
}

// Traits are what was seen of a device, nil for nothing.
func (k *Keeper) Traits(mac string) *facts.Traits {
	m := core.ParseMAC(mac)
	if m == 0 {
		return nil
	}
	k.traits.mu.RLock()
	defer k.traits.mu.RUnlock()
	if t := k.traits.of[m]; t != nil {
		return &t.Traits
	}
	return nil
}

// Device is a device with what was seen of it.
type Device struct {
	MAC core.MAC
	facts.Traits
	Seen time.Time
	// Kind is what the rules make of it, nil for nothing.
	Kind *facts.Kind
	seen *seenTraits
}

// Devices lists what was seen of devices, the latest first, with what rules make of each.
func (k *Keeper) Devices(rules *kind.Rules) []Device {
	k.traits.mu.RLock()
	out := make([]Device, 0, len(k.traits.of))
	for mac, t := range k.traits.of {
		out = append(out, Device{MAC: mac, Traits: t.Traits, Seen: t.at, seen: t})
	}
	k.traits.mu.RUnlock()
	for i := range out { // outside of the lock, since sign-ins wait for it
		out[i].Kind = out[i].seen.kindBy(rules, out[i].MAC)
	}
	slices.SortFunc(out, func(a, b Device) int {
		return cmp.Or(b.Seen.Compare(a.Seen), cmp.Compare(a.MAC, b.MAC))
	})
	return out
}

// TraitsSince lists what was seen since a moment, up to a limit.
func (k *Keeper) TraitsSince(since time.Time) (out []store.DeviceTraits) {
	k.traits.mu.RLock()
	defer k.traits.mu.RUnlock()
	for mac, t := range k.traits.of {
		if !t.at.Before(since) && len(out) < maxMissed {
			out = append(out, *rowOf(mac, t))
		}
	}
	return out
}

func rowOf(mac core.MAC, t *seenTraits) *store.DeviceTraits {
	return &store.DeviceTraits{MAC: mac.String(), Fingerprint: t.Fingerprint, VendorClass: t.VendorClass, Host: t.Host,
		SeenAt: t.at.UnixMilli()}
}

// loadTraits reads what was seen before the start.
func (k *Keeper) loadTraits(ctx context.Context) error {
	if k.o.Traits == nil {
		return nil
	}
	rows, err := k.o.Traits.DeviceTraits(ctx, maxDevices)
	if err != nil {
		return err
	}
	k.traits.mu.Lock()
	defer k.traits.mu.Unlock()
	for _, r := range rows {
		if mac := core.ParseMAC(r.MAC); mac != 0 && k.traits.of[mac] == nil {
			at := time.UnixMilli(r.SeenAt)
			k.traits.of[mac] = &seenTraits{Traits: facts.Traits{Fingerprint: r.Fingerprint,
				VendorClass: r.VendorClass, Host: r.Host}, at: at, told: at}
		}
	}
	return nil
}

// saveTraits writes what changed, and tells other nodes what was seen here; what could not be written is tried again.
func (k *Keeper) saveTraits(ctx context.Context) {
	var list []store.DeviceTraits
	var tell []int // of the list
	var forget []string
	k.traits.mu.Lock()
	for mac := range k.traits.dirty {
		if t := k.traits.of[mac]; t == nil {
			forget = append(forget, mac.String())
		} else if list = append(list, *rowOf(mac, t)); !t.heard {
			tell = append(tell, len(list)-1)
		}
		if delete(k.traits.dirty, mac); len(list)+len(forget) >= saveTraits {
			break
		}
	}
	k.traits.mu.Unlock()
	for _, i := range tell {
		if k.o.TellTraits != nil {
			k.o.TellTraits(&list[i])
		}
	}
	if len(list)+len(forget) == 0 || k.o.Traits == nil {
		return
	}
	if err := k.o.Traits.SaveDeviceTraits(ctx, list, forget); err != nil && ctx.Err() == nil {
		k.o.Log.Warn("what was seen of devices could not be stored, and is tried again", "error", err)
		k.traits.mu.Lock()
		for _, t := range list {
			k.traits.dirty[core.ParseMAC(t.MAC)] = true
		}
		for _, mac := range forget {
			k.traits.dirty[core.ParseMAC(mac)] = true
		}
		k.traits.mu.Unlock()
	}
}
