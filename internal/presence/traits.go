package presence

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/facts"
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
	// at is when it was seen last, told when that was stored and told last.
	at, told time.Time
}

// Notice notes what a source has seen of a device, whether or not it is in scope. What is empty stays as it was; but
// what a device says together with its fingerprint is all that it says, since another system may run on it now.
func (k *Keeper) Notice(source *Source, mac core.MAC, t facts.Traits, at time.Time) {
	if source.Enabled && mac != 0 && (t != facts.Traits{}) {
		k.notice(mac, t, at, k.o.TellTraits)
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
		k.notice(mac, facts.Traits{Fingerprint: t.Fingerprint, VendorClass: t.VendorClass, Host: t.Host}, at, nil)
	}
}

func (k *Keeper) notice(mac core.MAC, t facts.Traits, at time.Time, tell func(*store.DeviceTraits)) {
	for _, text := range []*string{&t.Fingerprint, &t.VendorClass, &t.Host} {
		if *text = strings.ToValidUTF8(strings.TrimSpace(*text), "?"); len(*text) > maxText {
			*text = strings.ToValidUTF8((*text)[:maxText], "")
		}
	}
	made := k.traits.take(mac, t, at, k.o.Now())
	if made != nil && tell != nil {
		tell(rowOf(mac, made))
	}
}

// take brings it in, and returns it if it is worth telling.
func (d *traits) take(mac core.MAC, t facts.Traits, at, now time.Time) *seenTraits {
	d.mu.Lock()
	defer d.mu.Unlock()
	was := d.of[mac]
	if was != nil {
		if at.Before(was.at) {
			return nil
		}
		if t.Host = cmp.Or(t.Host, was.Host); t.Fingerprint == "" {
			t.Fingerprint, t.VendorClass = was.Fingerprint, cmp.Or(t.VendorClass, was.VendorClass)
		}
		if t == was.Traits && at.Sub(was.told) < seenEvery {
			d.of[mac] = &seenTraits{was.Traits, at, was.told}
			return nil
		}
	} else {
		if now.Sub(d.since) > time.Minute || now.Before(d.since) {
			d.since, d.strangers = now, 0
		}
		if d.strangers++; d.strangers > maxNewDevices {
			return nil
		}
		if len(d.of) >= maxDevices {
			d.makeRoom()
		}
	}
	made := &seenTraits{t, at, at}
	d.of[mac], d.dirty[mac] = made, true
	return made
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
}

// Devices lists what was seen of devices, the latest first.
func (k *Keeper) Devices() []Device {
	k.traits.mu.RLock()
	out := make([]Device, 0, len(k.traits.of))
	for mac, t := range k.traits.of {
		out = append(out, Device{mac, t.Traits, t.at})
	}
	k.traits.mu.RUnlock()
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
			k.traits.of[mac] = &seenTraits{facts.Traits{Fingerprint: r.Fingerprint, VendorClass: r.VendorClass,
				Host: r.Host}, at, at}
		}
	}
	return nil
}

// saveTraits writes what changed; what could not be written is tried again.
func (k *Keeper) saveTraits(ctx context.Context) {
	var list []store.DeviceTraits
	var forget []string
	k.traits.mu.Lock()
	for mac := range k.traits.dirty {
		if t := k.traits.of[mac]; t != nil {
			list = append(list, *rowOf(mac, t))
		} else {
			forget = append(forget, mac.String())
		}
		if delete(k.traits.dirty, mac); len(list)+len(forget) >= saveTraits {
			break
		}
	}
	k.traits.mu.Unlock()
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
