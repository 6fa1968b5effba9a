// Package device keeps the known devices: MAC addresses and prefixes with their names, owners and tags, for MAC
// bypass and as facts of every attempt from such an address. They are records: a change takes effect at once. It also
// remembers the unknown addresses that were refused recently, for an administrator to add.
package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/roster"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/store"
)

// MaxDevices bounds what is kept in memory.
const MaxDevices = 1_000_000

// Device is one known device, or all of a prefix.
type Device struct {
	ID string
	// Match is an address such as 02-00-5E-10-7A-31, or a prefix of whole octets such as 02-00-5E-*.
	Match   string
	Name    string
	Owner   string
	Tags    map[string]string
	Note    string
	Enabled bool
	// Expires is when it is refused again, zero for never.
	Expires   time.Time
	ChangedAt time.Time
	ChangedBy string
}

// Store is where devices are kept.
type Store interface {
	Devices(ctx context.Context) ([]store.Device, error)
	DeviceByID(ctx context.Context, id string) (store.Device, error)
	SaveDevices(ctx context.Context, list []store.Device) error
	RemoveDevice(ctx context.Context, id string) error
}

// Keeper holds all devices in memory over the store.
type Keeper struct {
	store Store

	mu      sync.RWMutex
	byMatch map[string]*Device
	byID    map[string]*Device
	lengths [6]int // how many prefixes there are of each number of octets
	count   atomic.Int64
	list    roster.List[Device]

	editing sync.Mutex
	strangers
}

// Open reads the devices.
func Open(ctx context.Context, s Store) (*Keeper, error) {
	rows, err := s.Devices(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the known devices: %w", err)
	}
	k := &Keeper{store: s, byMatch: make(map[string]*Device, len(rows)), byID: make(map[string]*Device, len(rows))}
	list := make([]*Device, len(rows))
	for i, row := range rows {
		list[i] = fromRow(row)
	}
	k.use(list...)
	return k, nil
}

// Reload reads a device anew, which was changed or removed by somebody else.
func (k *Keeper) Reload(ctx context.Context, id string) error {
	k.editing.Lock()
	defer k.editing.Unlock()
	row, err := k.store.DeviceByID(ctx, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading known device %s anew: %w", id, err)
	}
	if err != nil {
		k.forget(id)
	} else {
		k.use(fromRow(row))
	}
	return nil
}

// use keeps devices, in place of those of the same identifiers.
func (k *Keeper) use(list ...*Device) {
	entries := make([]roster.Entry[Device], len(list))
	k.mu.Lock()
	for i, d := range list {
		entries[i] = roster.Entry[Device]{Key: d.Match, Text: d.words(), Of: d}
		if old := k.byID[d.ID]; old != nil && old.Match != d.Match {
			defer k.list.Remove(old.Match)
		}
		k.put(d)
	}
	k.mu.Unlock()
	k.list.Put(entries...)
}

// forget no longer keeps a device.
func (k *Keeper) forget(id string) {
	k.mu.Lock()
	old := k.byID[id]
	k.drop(id)
	k.mu.Unlock()
	if old != nil {
		k.list.Remove(old.Match)
	}
}

func fromRow(row store.Device) *Device {
	d := &Device{ID: row.ID, Match: row.Match, Name: row.Name, Owner: row.Owner, Note: row.Note, Enabled: row.Enabled,
		ChangedAt: time.UnixMilli(row.ChangedAt), ChangedBy: row.ChangedBy}
	if err := json.Unmarshal(row.Tags, &d.Tags); err != nil || d.Tags == nil {
		d.Tags = map[string]string{}
	}
	if row.Expires != 0 {
		d.Expires = time.UnixMilli(row.Expires)
	}
	return d
}

// put keeps a device; the lock is held, or nobody else knows of the keeper yet.
func (k *Keeper) put(d *Device) {
	k.drop(d.ID)
	k.byMatch[d.Match], k.byID[d.ID] = d, d
	k.count.Add(1)
	if n := octets(d.Match); n < 6 {
		k.lengths[n]++
	}
}

func (k *Keeper) drop(id string) {
	old := k.byID[id]
	if old == nil {
		return
	}
	delete(k.byMatch, old.Match)
	delete(k.byID, id)
	k.count.Add(-1)
	if n := octets(old.Match); n < 6 {
		k.lengths[n]--
	}
}

func octets(match string) int {
	if len(match) == 17 && !strings.HasSuffix(match, "*") {
		return 6
	}
	return len(match) / 3
}

// Match writes an address or a prefix of whole octets in its one form. 02:00:5e, 02005E* and 02-00-5E-* are the same
// prefix.
func Match(text string) (string, error) {
	text = strings.TrimSpace(text)
	if mac, ok := facts.FormatMAC(text); ok {
		return mac, nil
	}
	digits := strings.ToUpper(strings.NewReplacer(":", "", "-", "", ".", "").Replace(strings.TrimRight(text, "*")))
	if len(digits) < 2 || len(digits) > 10 || len(digits)%2 != 0 || strings.Trim(digits, "0123456789ABCDEF") != "" {
		return "", fmt.Errorf("%q is neither a MAC address nor a prefix such as 02-00-5E-*", text)
	}
	var out strings.Builder
	for i := 0; i < len(digits); i += 2 {
		out.WriteString(digits[i:i+2] + "-")
	}
	return out.String() + "*", nil
}

// Find returns the device of an address, by the longest match; nil if it is not known.
func (k *Keeper) Find(mac string) *Device {
	if len(mac) != 17 || k.count.Load() == 0 {
		return nil
	}
	k.mu.RLock()
	defer k.mu.RUnlock()
	if d := k.byMatch[mac]; d != nil {
		return d
	}
	for n := 5; n > 0; n-- {
		if k.lengths[n] > 0 {
			if d := k.byMatch[mac[:n*3]+"*"]; d != nil {
				return d
			}
		}
	}
	return nil
}

// Facts are the facts of a device.
func (d *Device) Facts(now time.Time) *facts.Device {
	out := &facts.Device{ID: d.ID, Name: d.Name, Owner: d.Owner, Tags: d.Tags, Match: d.Match, State: reason.OK}
	switch {
	case !d.Enabled:
		out.State = reason.DeviceDisabled
	case !d.Expires.IsZero() && !now.Before(d.Expires):
		out.State = reason.DeviceExpired
	}
	return out
}

// Person is the device as the one who signs in by MAC bypass.
func Person(d *facts.Device, mac string) *facts.Person {
	p := &facts.Person{Store: config.DeviceStore, ID: d.ID, Name: mac, Display: d.Name, Kind: facts.KnownDevice,
		State: d.State}
	if d.Owner != "" {
		p.Attributes = map[string][]string{"owner": {d.Owner}}
	}
	return p
}

// Get returns a device by ID or match, nil if there is none.
func (k *Keeper) Get(ref string) *Device {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if d := k.byID[ref]; d != nil {
		return d
	}
	if match, err := Match(ref); err == nil {
		return k.byMatch[match]
	}
	return nil
}

// List returns the devices in whose words the text occurs, in the order of addresses.
func (k *Keeper) List(text string) []*Device {
	out, _ := k.Page(text, "", math.MaxInt)
	return out
}

// Page returns up to so many devices like List, those behind the one of an identifier; "" begins at the start. more
// tells that there are others.
func (k *Keeper) Page(text, after string, limit int) (page []*Device, more bool) {
	text = strings.ToLower(strings.TrimSpace(text))
	mac := ""
	if match, err := Match(text); err == nil {
		mac = strings.TrimSuffix(match, "*")
	}
	if d := k.Get(after); d != nil {
		after = d.Match
	} else {
		after = ""
	}
	return k.list.Page(after, limit, func(e *roster.Entry[Device]) bool {
		return text == "" || mac != "" && strings.HasPrefix(e.Key, mac) || strings.Contains(e.Text, text)
	})
}

// words are what a text is searched in, a line each.
func (d *Device) words() string {
	var b strings.Builder
	for _, field := range []string{d.Match, d.Name, d.Owner, d.Note} {
		b.WriteString(strings.ToLower(field) + "\n")
	}
	for key, value := range d.Tags {
		b.WriteString(strings.ToLower(key+"="+value) + "\n")
	}
	return b.String()
}

// FieldError is a fault in one field of a device.
type FieldError = sheet.Fault

// tidy checks a device and brings it into its one form.
func (d *Device) tidy() error {
	match, err := Match(d.Match)
	if err != nil {
		return sheet.Fail("match", err.Error(), "Write an address such as 02-00-5E-10-7A-31, or its beginning and *.")
	}
	d.Match, d.Name, d.Owner, d.Note = match, strings.TrimSpace(d.Name), strings.TrimSpace(d.Owner),
		strings.TrimSpace(d.Note)
	if d.Name == "" {
		d.Name = match
	}
	for field, text := range map[string]string{"name": d.Name, "owner": d.Owner, "note": d.Note} {
		if len(text) > 200 || strings.ToValidUTF8(text, "") != text {
			return sheet.Fail(field, "the text has more than 200 octets or is not UTF-8", "Shorten it.")
		}
	}
	tags := map[string]string{}
	for key, value := range d.Tags {
		key, value = strings.ToLower(strings.TrimSpace(key)), strings.TrimSpace(value)
		if key == "" || strings.Trim(key, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" || key == "owner" ||
			key == "name" {
			return sheet.Fail("tags", fmt.Sprintf("%q is no name for a tag", key),
				"Use letters, digits and -, such as kind=printer; owner and name are fields of their own.")
		}
		if len(key) > 100 || len(value) > 100 {
			return sheet.Fail("tags", "a tag has more than 100 octets", "Shorten it.")
		}
		tags[key] = value
	}
	if len(tags) > 50 {
		return sheet.Fail("tags", "more than 50 tags", "Remove some.")
	}
	d.Tags = tags
	d.ChangedAt = time.UnixMilli(d.ChangedAt.UnixMilli()) // as it is stored: an entity tag survives a restart
	return nil
}

func (d *Device) row() store.Device {
	tags, _ := json.Marshal(d.Tags)
	row := store.Device{ID: d.ID, Match: d.Match, Name: d.Name, Owner: d.Owner, Tags: tags, Note: d.Note,
		Enabled: d.Enabled, ChangedAt: d.ChangedAt.UnixMilli(), ChangedBy: d.ChangedBy}
	if !d.Expires.IsZero() {
		row.Expires = d.Expires.UnixMilli()
	}
	return row
}

// Save adds a device or replaces the one of the same ID.
func (k *Keeper) Save(ctx context.Context, d Device) (*Device, error) {
	k.editing.Lock()
	defer k.editing.Unlock()
	if err := d.tidy(); err != nil {
		return nil, err
	}
	if k.Get(d.ID) == nil && k.Len() >= MaxDevices {
		return nil, sheet.Fail("match", fmt.Sprintf("there are %d devices already", MaxDevices), "Use prefixes.")
	}
	if err := k.keep(ctx, []*Device{&d}); err != nil {
		return nil, err
	}
	return &d, nil
}

// keep stores devices that are tidy, then uses them.
func (k *Keeper) keep(ctx context.Context, list []*Device) error {
	rows := make([]store.Device, len(list))
	for i, d := range list {
		rows[i] = d.row()
	}
	if err := k.store.SaveDevices(ctx, rows); errors.Is(err, store.ErrTaken) {
		return sheet.Fail("match", "another device has this address or prefix", "Change that one instead.")
	} else if err != nil {
		return fmt.Errorf("storing known devices: %w", err)
	}
	kept := make([]*Device, len(list))
	for i, d := range list {
		one := *d
		one.Tags = maps.Clone(d.Tags)
		kept[i] = &one
		k.strangers.forget(d.Match)
	}
	k.use(kept...)
	return nil
}

// Remove removes a device by ID.
func (k *Keeper) Remove(ctx context.Context, id string) error {
	k.editing.Lock()
	defer k.editing.Unlock()
	if err := k.store.RemoveDevice(ctx, id); err != nil {
		return fmt.Errorf("removing a known device: %w", err)
	}
	k.forget(id)
	return nil
}

// Len counts the devices.
func (k *Keeper) Len() int { return int(k.count.Load()) }
