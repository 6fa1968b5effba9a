// Package factor keeps the second factors of people: devices that make one-time codes (RFC 4226, RFC 6238), recovery
// and temporary codes. They are records, not part of the draft: a change takes effect at once.
package factor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

const (
	// window is by how many steps a code may be off from the clock that the token is known to have (RFC 6238 section
	// 5.2).
	window = 1
	// wide is how far a clock is looked for that has gone off; two codes in a row from there set it right.
	wide = 20
	// ahead is how many codes of a counter may have been shown and not used; farAhead is how far one is looked for that
	// was pressed more often, which two codes in a row set right.
	ahead    = 10
	farAhead = 200
	// maxLate codes in a row that are a step behind mean that the clock is.
	maxLate = 3
	// maxSkew bounds the skew that is learned, in steps.
	maxSkew = 240
	// maxWrong codes in a row lock for a while.
	maxWrong = 5
	// maxUsed steps are remembered one by one: the order alone does not tell what is used after a clock was ahead.
	maxUsed = 16
	// maxTokens bounds what is kept in memory, maxDevices those of one person.
	maxTokens  = 200_000
	maxDevices = 10
)

// Kinds of second factors.
const (
	// KindCode is a device that makes one-time codes.
	KindCode = ""
	// KindPhone is a phone that approves sign-ins.
	KindPhone = "phone"
	// KindKey is a security key.
	KindKey = "key"
	// KindTemporary is that of a view of somebody who has a temporary code and no device.
	KindTemporary = "temporary"
)

// Token is one device of a person. The secrets stay inside this package.
type Token struct {
	ID, Store, Name, Display string
	// Kind is KindCode or another of the kinds.
	Kind string
	// Label is what the device is called.
	Label     string
	Algorithm string
	Digits    int
	// Period is how long a code is shown, in seconds; 0 for codes that follow a counter (RFC 4226).
	Period int
	// Confirmed tells that a code of it was seen; before, it counts for nothing.
	Confirmed bool
	// Skew is by how many steps its clock is ahead.
	Skew   int64
	MadeAt time.Time
	MadeBy string
	UsedAt time.Time
	UsedOn string
	// Keyed tells of a phone that a sign-in is approved on it with a security key alone.
	Keyed bool

	// Of the person: recovery codes that are left, wrong codes since the last right one, until when none is looked at
	// because there were too many, and until when a temporary code is good; the times are zero for none.
	RecoveryLeft   int
	Wrong          int
	LockedUntil    time.Time
	TemporaryUntil time.Time
}

// secrets are what a device is sealed with.
type secrets struct {
	// Seed is in base32, as in a key URI.
	Seed string `json:"seed,omitempty"`
	// Used are the last steps that were taken, sorted.
	Used []int64 `json:"used,omitempty"`
	// Key is the public key of a phone that approves sign-ins (SubjectPublicKeyInfo, RFC 5280 section 4.1.2.7).
	Key []byte `json:"key,omitempty"`
	// Credential is what is kept of a security key: of this one, or of the one that a phone asks for.
	Credential string `json:"credential,omitempty"`
	// Push is where a phone takes messages while its page is closed, nil for nowhere.
	Push *Push `json:"push,omitempty"`
	// Replaces tells that it counts in place of the other devices for codes, once it is confirmed.
	Replaces bool `json:"replaces,omitempty"`
}

// kept is a device with its secrets. Everything that a sign-in may change is guarded by its person.
type kept struct {
	Token
	secrets
	of *person
	// before is what its row says of the person, from when each had one device.
	before common
	// step is the last one that was taken; far is one that a clock far off would have made, 0 for none.
	step, far int64
	// late counts codes in a row that came a step behind, which is a slow hand once and a slow clock if it lasts.
	late int
}

// Store is where tokens are kept.
type Store interface {
	FactorTokens(ctx context.Context) ([]store.FactorToken, error)
	FactorTokenByID(ctx context.Context, id string) (store.FactorToken, error)
	AddFactorTokens(ctx context.Context, add []store.FactorToken, remove []string) error
	SaveFactorToken(ctx context.Context, t store.FactorToken) error
	// SaveFactorTokens saves several, all or nothing.
	SaveFactorTokens(ctx context.Context, list []store.FactorToken) error
	// SaveFactorTokenAlone saves here alone, while no majority of the nodes can be reached.
	SaveFactorTokenAlone(ctx context.Context, t store.FactorToken) error
	// AwaitTold waits until what other nodes changed is known here.
	AwaitTold(ctx context.Context)
}

// Keeper holds all tokens in memory over the store.
type Keeper struct {
	store Store
	box   *seal.Box
	ids   *ident.Source

	mu     sync.RWMutex
	byID   map[string]*kept
	people map[string]*person // by key
	shared map[string]*person // by the identifier of what they have in common

	// saving keeps writes in order, so that the last one has the newest state.
	saving sync.Mutex
	// keysCount tells that a security key is a second factor by itself: where people sign in on pages of ours alone.
	keysCount bool
	// removing keeps two removals of one person apart, so that one device stays.
	removing sync.Mutex
	queue    queue
	recent   recent
	// alone tells that codes count while no majority of the nodes can be reached.
	alone atomic.Bool
}

func newKeeper(s Store, box *seal.Box, ids *ident.Source) *Keeper {
	return &Keeper{store: s, box: box, ids: ids, byID: map[string]*kept{}, people: map[string]*person{},
		shared: map[string]*person{}, recent: recent{given: map[place]time.Time{}}}
}

// Open reads the tokens.
func Open(ctx context.Context, s Store, box *seal.Box, ids *ident.Source, how ...func(*Keeper)) (*Keeper, error) {
	rows, err := s.FactorTokens(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the second factors: %w", err)
	}
	k := newKeeper(s, box, ids)
	for _, set := range how {
		set(k)
	}
	for _, row := range rows {
		if err := k.take(&row); err != nil {
			return nil, err
		}
	}
	return k, nil
}

// take takes a row of the store. The caller holds the lock, or is alone.
func (k *Keeper) take(row *store.FactorToken) error {
	text, err := k.box.Open(Place(row.ID), config.Secret(row.Secrets))
	if err != nil {
		return fmt.Errorf("opening the second factor of %s: %w", row.Name, err)
	}
	read := func(into any) {
		if err == nil {
			err = json.Unmarshal([]byte(text), into)
		}
	}
	var both common
	if read(&both); err != nil {
		return fmt.Errorf("reading the second factor of %s: %w", row.Name, err)
	}
	if row.Kind == store.FactorsInCommon {
		p := k.person(row.Store, row.Name)
		p.mu.Lock()
		p.display = row.Display
		p.putCommon(&both)
		p.mu.Unlock()
		k.shared[row.ID] = p
		return nil
	}
	t := &kept{Token: Token{ID: row.ID, Store: row.Store, Name: row.Name, Display: row.Display, Kind: row.Kind,
		Label: row.Label, Algorithm: row.Algorithm, Digits: row.Digits, Period: row.Period, Confirmed: row.Confirmed,
		Skew: row.Skew, MadeAt: time.UnixMilli(row.MadeAt), MadeBy: row.MadeBy, UsedOn: row.UsedOn}, step: row.Step,
		before: both}
	if row.UsedAt != 0 {
		t.UsedAt = time.UnixMilli(row.UsedAt)
	}
	if read(&t.secrets); err != nil {
		return fmt.Errorf("reading the second factor of %s: %w", row.Name, err)
	}
	k.keep(t)
	return nil
}

// Reload reads a token anew, which was changed or removed by somebody else. Codes that count twice are prevented by
// what was used, which is part of it.
func (k *Keeper) Reload(ctx context.Context, id string) error {
	k.saving.Lock()
	defer k.saving.Unlock()
	row, err := k.store.FactorTokenByID(ctx, id)
	there := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading second factor %s anew: %w", id, err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if there {
		return k.take(&row)
	}
	k.drop(id)
	return nil
}

// ReloadPerson reads all of a person anew.
func (k *Keeper) ReloadPerson(ctx context.Context, store, name string) error {
	p := k.find(store, name)
	if p == nil {
		return nil
	}
	p.mu.Lock()
	ids := []string{p.id()}
	for _, d := range p.devices {
		ids = append(ids, d.ID)
	}
	p.mu.Unlock()
	for _, id := range ids {
		if err := k.Reload(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

func key(store, name string) string { return strings.ToLower(store) + "\x00" + strings.ToLower(name) }

// KeysCount has a security key be a second factor by itself: where people sign in on pages of ours alone.
func KeysCount(k *Keeper) { k.keysCount = true }

// person is the one of that name, made if need be. The caller holds the lock.
func (k *Keeper) person(store, name string) *person {
	at := key(store, name)
	p := k.people[at]
	if p == nil {
		p = &person{store: store, name: name, common: &common{}, keysCount: k.keysCount}
		k.people[at] = p
	}
	return p
}

// keep keeps a device, in place of one of the same identifier. The caller holds the lock.
func (k *Keeper) keep(t *kept) {
	k.byID[t.ID] = t
	p := k.person(t.Store, t.Name)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.devices = slices.DeleteFunc(slices.Clone(p.devices), func(d *kept) bool { return d.ID == t.ID })
	p.devices = append(p.devices, t)
	slices.SortFunc(p.devices, func(a, b *kept) int { return strings.Compare(a.ID, b.ID) })
	if t.of = p; t.Display != "" {
		p.display = t.Display
	}
	if before := t.before; !p.stored && t.Confirmed && !before.empty() {
		p.common = &before
	}
}

// drop forgets what has an identifier. The caller holds the lock.
func (k *Keeper) drop(id string) {
	p := k.shared[id]
	if t := k.byID[id]; t != nil {
		p = t.of
	}
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if k.shared[id] == p {
		delete(k.shared, id)
		p.common, p.stored = &common{}, false
	}
	delete(k.byID, id)
	p.devices = slices.DeleteFunc(slices.Clone(p.devices), func(d *kept) bool { return d.ID == id })
	if at := key(p.store, p.name); len(p.devices) == 0 && !p.stored && k.people[at] == p {
		delete(k.people, at)
	}
}

func (k *Keeper) find(store, name string) *person {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.people[key(store, name)]
}

// Enrolled reports whether a person has a second factor that counts.
func (k *Keeper) Enrolled(store, name string, now time.Time) bool {
	enrolled, _ := k.Ready(store, name, now)
	return enrolled
}

// Of names the second factors of a person that count, "" for none: it is another text whenever one is added or removed.
func (k *Keeper) Of(store, name string) string {
	p := k.find(store, name)
	if p == nil {
		return ""
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.counting()
}

// Ready reports whether a person has a second factor that counts, and whether none of the codes is looked at now.
func (k *Keeper) Ready(store, name string, now time.Time) (enrolled, locked bool) {
	p := k.find(store, name)
	if p == nil {
		return false, false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.counts(now) {
		return false, false
	}
	return true, now.Before(p.common.lockedUntil())
}

// Ways tells whether a person has something that a one-time code may come from, and a phone that approves sign-ins.
func (k *Keeper) Ways(store, name string, now time.Time) (codes, phones bool) {
	p := k.find(store, name)
	if p == nil {
		return false, false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	codes = p.common.valid(now) != nil
	for _, d := range p.devices {
		codes = codes || d.Confirmed && d.Kind == KindCode
		phones = phones || d.Confirmed && d.Kind == KindPhone
	}
	return codes, phones
}

// Place is that of the secrets of a token.
func Place(id string) config.Place { return config.Place{Purpose: "factor", Object: id} }

// row is a device as it is stored. Its person is locked.
func (t *kept) row(box *seal.Box) store.FactorToken {
	text, _ := json.Marshal(t.secrets)
	if t.of != nil && !t.of.stored { // as it was while each had one
		text, _ = json.Marshal(struct {
			secrets
			common
		}{t.secrets, t.before})
	}
	out := store.FactorToken{
		ID:        t.ID,
		Store:     t.Store,
		Name:      t.Name,
		Display:   t.Display,
		Kind:      t.Kind,
		Label:     t.Label,
		Algorithm: t.Algorithm,
		Digits:    t.Digits,
		Period:    t.Period,
		Confirmed: t.Confirmed,
		Step:      t.step,
		Skew:      t.Skew,
		Secrets:   string(box.Seal(Place(t.ID), string(text))),
		MadeAt:    t.MadeAt.UnixMilli(),
		MadeBy:    t.MadeBy,
		UsedOn:    t.UsedOn,
	}
	if !t.UsedAt.IsZero() {
		out.UsedAt = t.UsedAt.UnixMilli()
	}
	return out
}

// save writes a device as it is now.
func (k *Keeper) save(ctx context.Context, t *kept) error {
	return k.write(ctx, t, k.store.SaveFactorToken)
}

func (k *Keeper) write(ctx context.Context, t *kept, save func(context.Context, store.FactorToken) error) error {
	k.saving.Lock()
	defer k.saving.Unlock()
	row, err := k.rowOf(t)
	if err != nil {
		return err
	}
	if err := save(ctx, row); err != nil {
		return fmt.Errorf("storing the second factor of %s: %w", t.Name, err)
	}
	return nil
}

// rowOf is a device as it is now.
func (k *Keeper) rowOf(t *kept) (store.FactorToken, error) {
	k.mu.RLock()
	now := k.byID[t.ID]
	k.mu.RUnlock()
	if now != nil && now != t { // another node changed it, and it was read anew
		return store.FactorToken{}, store.ErrChanged
	}
	t.of.mu.Lock()
	defer t.of.mu.Unlock()
	return t.row(k.box), nil
}

// ErrNone is returned where there is no such second factor.
var ErrNone = errors.New("there is no such second factor")

// ErrUsed is returned where a second factor was added or removed since somebody was allowed to add one.
var ErrUsed = errors.New("the second factors of this person have changed meanwhile")
