// Package factor keeps the second factors of people: devices, mostly phones, that make one-time codes by the time (RFC
// 6238). They are records, not part of the draft: a change takes effect at once.
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

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

const (
	// window is by how many steps a code may be off from the clock that the token is known to have (RFC 6238 section
	// 5.2).
	window = 1
	// wide is how far a clock is looked for that has gone off; two codes in a row from there set it right.
	wide = 20
	// maxLate codes in a row that are a step behind mean that the clock is.
	maxLate = 3
	// maxSkew bounds the skew that is learned, in steps.
	maxSkew = 240
	// maxWrong codes in a row lock for lockTime.
	maxWrong = 5
	lockTime = 5 * time.Minute
	// maxUsed steps are remembered one by one: the order alone does not tell what is used after a clock was ahead.
	maxUsed = 16
	// maxTokens bounds what is kept in memory.
	maxTokens = 200_000
)

// Token is one device of a person. The secrets stay inside this package.
type Token struct {
	ID, Store, Name, Display string
	// Label is what the operator calls the device.
	Label     string
	Algorithm string
	Digits    int
	// Period is how long a code is shown, in seconds.
	Period int
	// Confirmed tells that a code of it was seen; before, it counts for nothing.
	Confirmed bool
	// Skew is by how many steps its clock is ahead.
	Skew         int64
	MadeAt       time.Time
	MadeBy       string
	UsedAt       time.Time
	UsedOn       string
	RecoveryLeft int
	// Wrong counts wrong codes since the last right one; LockedUntil is zero unless there were too many.
	Wrong       int
	LockedUntil time.Time
}

// secrets are what a token is sealed with.
type secrets struct {
	// Seed is in base32, as in a key URI.
	Seed     string   `json:"seed"`
	Recovery []string `json:"recovery"`
	// Tries are the wrong codes in a row, Locked until when none is looked at, in milliseconds since 1970.
	Tries  int   `json:"tries,omitempty"`
	Locked int64 `json:"locked,omitempty"`
	// Used are the last steps that were taken, sorted.
	Used []int64 `json:"used,omitempty"`
}

// kept is a token with its secrets. mu guards everything that a sign-in may change.
type kept struct {
	mu sync.Mutex
	Token
	secrets
	// step is the last one that was taken; far is one that a clock far off would have made, 0 for none.
	step, far int64
	// late counts codes in a row that came a step behind, which is a slow hand once and a slow clock if it lasts.
	late int
}

// Store is where tokens are kept.
type Store interface {
	FactorTokens(ctx context.Context) ([]store.FactorToken, error)
	FactorTokenByID(ctx context.Context, id string) (store.FactorToken, error)
	AddFactorToken(ctx context.Context, t store.FactorToken, remove []string) error
	SaveFactorToken(ctx context.Context, t store.FactorToken) error
	// SaveFactorTokenAlone saves here alone, while no majority of the nodes can be reached.
	SaveFactorTokenAlone(ctx context.Context, t store.FactorToken) error
	// AwaitTold waits until what other nodes changed is known here.
	AwaitTold(ctx context.Context)
	RemoveFactorToken(ctx context.Context, id string) error
}

// Keeper holds all tokens in memory over the store.
type Keeper struct {
	store Store
	box   *seal.Box
	ids   *ident.Source

	mu       sync.RWMutex
	byID     map[string]*kept
	byPerson map[string]*kept // those that are confirmed

	// saving keeps writes in order, so that the last one has the newest state.
	saving sync.Mutex
	recent recent
	// alone tells that codes count while no majority of the nodes can be reached.
	alone atomic.Bool
}

// Open reads the tokens.
func Open(ctx context.Context, s Store, box *seal.Box, ids *ident.Source) (*Keeper, error) {
	rows, err := s.FactorTokens(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the second factors: %w", err)
	}
	k := &Keeper{store: s, box: box, ids: ids, byID: map[string]*kept{}, byPerson: map[string]*kept{},
		recent: recent{given: map[place]time.Time{}}}
	for _, row := range rows {
		t, err := k.fromRow(row)
		if err != nil {
			return nil, err
		}
		k.keep(t)
	}
	return k, nil
}

func (k *Keeper) fromRow(row store.FactorToken) (*kept, error) {
	t := &kept{Token: Token{ID: row.ID, Store: row.Store, Name: row.Name, Display: row.Display, Label: row.Label,
		Algorithm: row.Algorithm, Digits: row.Digits, Period: row.Period,
		Confirmed: row.Confirmed, Skew: row.Skew, MadeAt: time.UnixMilli(row.MadeAt), MadeBy: row.MadeBy,
		UsedOn: row.UsedOn, RecoveryLeft: row.Recovery}, step: row.Step}
	if row.UsedAt != 0 {
		t.UsedAt = time.UnixMilli(row.UsedAt)
	}
	text, err := k.box.Open(Place(row.ID), config.Secret(row.Secrets))
	if err == nil {
		err = json.Unmarshal([]byte(text), &t.secrets)
	}
	if t.Wrong = t.secrets.Tries; t.secrets.Locked != 0 {
		t.LockedUntil = time.UnixMilli(t.secrets.Locked)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the second factor of %s: %w", row.Name, err)
	}
	return t, nil
}

// Reload reads a token anew, which was changed or removed by somebody else. Codes that count twice are prevented by
// what was used, which is part of it.
func (k *Keeper) Reload(ctx context.Context, id string) error {
	k.saving.Lock()
	defer k.saving.Unlock()
	row, err := k.store.FactorTokenByID(ctx, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading second factor %s anew: %w", id, err)
	}
	var next *kept
	if err == nil {
		if next, err = k.fromRow(row); err != nil {
			return err
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if old := k.byID[id]; old != nil {
		delete(k.byID, id)
		if person := key(old.Store, old.Name); k.byPerson[person] == old {
			delete(k.byPerson, person)
		}
	}
	if next != nil {
		k.keep(next)
	}
	return nil
}

func key(store, name string) string { return strings.ToLower(store) + "\x00" + strings.ToLower(name) }

func (k *Keeper) keep(t *kept) {
	k.byID[t.ID] = t
	if t.Confirmed {
		k.byPerson[key(t.Store, t.Name)] = t
	}
}

func (k *Keeper) find(store, name string) *kept {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.byPerson[key(store, name)]
}

// Enrolled reports whether a person has a second factor that counts.
func (k *Keeper) Enrolled(store, name string) bool { return k.find(store, name) != nil }

// Check takes a code that a person typed, or a recovery code. The reason is OK, or why it does not count; the detail is
// for the record. A code that counts is noted as used on the disk before this returns, and where there are several
// nodes, by all of them.
func (k *Keeper) Check(ctx context.Context, store, name, typed, on string, now time.Time) (reason.Code, string) {
	typed = strings.ToLower(strings.ReplaceAll(typed, " ", ""))
	for try := 0; ; try++ {
		t := k.find(store, name)
		switch {
		case t == nil:
			return reason.FactorNotEnrolled, ""
		case typed == "":
			return reason.FactorMissing, ""
		}
		t.mu.Lock()
		code, detail := t.take(typed, now)
		if code == reason.OK {
			t.Wrong, t.far, t.UsedAt, t.UsedOn = 0, 0, now, on
		}
		t.mu.Unlock()
		if code != reason.OK && code != reason.FactorWrong { // a restart gives nobody his tries back
			return code, detail
		}
		err := k.save(ctx, t)
		if isStale(err) && try < staleTries { // another node took a code meanwhile: decide again by what it left
			k.store.AwaitTold(ctx)
			if err = k.Reload(ctx, t.ID); err == nil {
				continue
			}
		}
		if isCutOff(err) && (code == reason.FactorWrong || k.takesAlone()) {
			err = k.saveAlone(ctx, t)
		}
		if err != nil {
			return reason.FactorFailed, err.Error()
		}
		return code, detail
	}
}

// take decides about a code, and claims it.
func (t *kept) take(typed string, now time.Time) (reason.Code, string) {
	if latest := now.Add(lockTime); t.LockedUntil.After(latest) { // locked while our clock was ahead
		t.LockedUntil = latest
	}
	if now.Before(t.LockedUntil) {
		return reason.FactorLocked, "none is looked at before " + t.LockedUntil.UTC().Format("15:04:05 UTC")
	}
	if at := slices.Index(t.Recovery, typed); at >= 0 {
		t.Recovery = slices.Delete(slices.Clone(t.Recovery), at, at+1)
		t.RecoveryLeft = len(t.Recovery)
		return reason.OK, fmt.Sprintf("a recovery code; %d are left", t.RecoveryLeft)
	}
	base := now.Unix() / int64(t.Period)
	if t.step > base+t.Skew+wide { // taken while our clock was ahead: those stay used, but others need not be later
		t.step = 0
	}
	for _, off := range [...]int64{0, -window, window} {
		step := base + t.Skew + off
		if !t.shows(step, typed) {
			continue
		}
		if t.isUsed(step) {
			return reason.FactorUsed, ""
		}
		t.claim(step)
		t.learn(off)
		return reason.OK, ""
	}
	detail := ""
	for step := base - wide; step <= base+wide; step++ {
		if t.isUsed(step) || !t.shows(step, typed) {
			continue
		}
		behind := clockOff((step - base) * int64(t.Period))
		if t.far != 0 && step == t.far+1 {
			t.claim(step)
			t.Skew = step - base
			return reason.OK, "the second code in a row from a clock that is " + behind +
				"; that is taken into account from now on"
		}
		t.far, detail = step, "it fits a clock that is "+behind+"; the next code from there sets that right. "
		break
	}
	if t.Wrong++; t.Wrong >= maxWrong {
		t.Wrong, t.LockedUntil = 0, now.Add(lockTime)
		return reason.FactorWrong, detail + fmt.Sprintf("this was number %d in a row, so none is looked at for %d "+
			"minutes", maxWrong, int(lockTime.Minutes()))
	}
	return reason.FactorWrong, detail + fmt.Sprintf(
		"this was number %d of %d in a row, after which none is looked "+
			"at for a while",
		t.Wrong,
		maxWrong,
	)
}

// isUsed reports whether a code counts no more: it was taken, or a later one was.
func (t *kept) isUsed(step int64) bool {
	return step <= t.step || slices.Contains(t.secrets.Used, step)
}

// claim takes a code, so that it counts no more, whatever the clock does.
func (t *kept) claim(step int64) {
	t.step = step
	t.secrets.Used = append(t.secrets.Used, step)
	if slices.Sort(t.secrets.Used); len(t.secrets.Used) > maxUsed {
		t.secrets.Used = t.secrets.Used[1:]
	}
}

// learn follows the clock of the token: at once where it is ahead, since nobody types what is not shown yet.
func (t *kept) learn(off int64) {
	if t.late++; off >= 0 {
		t.late = 0
	} else if t.late < maxLate {
		return
	}
	t.late = 0
	t.Skew = max(-maxSkew, min(t.Skew+off, maxSkew))
}

// clockOff says by how much a clock is off.
func clockOff(seconds int64) string {
	way := "ahead of ours"
	if seconds < 0 {
		seconds, way = -seconds, "behind ours"
	}
	return (time.Duration(seconds) * time.Second).String() + " " + way
}

// shows reports whether the token shows a code at a step.
func (t *kept) shows(step int64, typed string) bool {
	if step < 0 || len(typed) != t.Digits {
		return false
	}
	code, err := t.code(step)
	return err == nil && code == typed
}

func (t *kept) code(step int64) (string, error) {
	return hotp.GenerateCodeCustom(t.Seed, uint64(step), hotp.ValidateOpts{Digits: otp.Digits(t.Digits),
		Algorithm: algorithms[t.Algorithm]})
}

var algorithms = map[string]otp.Algorithm{"SHA1": otp.AlgorithmSHA1, "SHA256": otp.AlgorithmSHA256,
	"SHA512": otp.AlgorithmSHA512}

// Code is the code that a seed (base32) shows at a moment, by the usual SHA-1, six digits and 30 seconds; for phones of
// the lab.
func Code(seed string, at time.Time) (string, error) {
	t := kept{Token: Token{Algorithm: "SHA1", Digits: 6}, secrets: secrets{Seed: seed}}
	return t.code(at.Unix() / 30)
}

// Split takes apart what was typed where a password and a code come as one: the code is as many digits at the end as
// the token of the person shows, or one of its recovery codes. Without one, all of it is the password.
func (k *Keeper) Split(store, name, typed string) (password, code string) {
	t := k.find(store, name)
	if t == nil {
		return typed, ""
	}
	if at := len(typed) - recoveryLen; at > 0 {
		t.mu.Lock()
		ours := slices.Contains(t.Recovery, strings.ToLower(typed[at:]))
		t.mu.Unlock()
		if ours {
			return typed[:at], typed[at:]
		}
	}
	at := len(typed) - t.Digits
	if at <= 0 || strings.Trim(typed[at:], "0123456789") != "" {
		return typed, ""
	}
	return typed[:at], typed[at:]
}

// Place is that of the secrets of a token.
func Place(id string) config.Place { return config.Place{Purpose: "factor", Object: id} }

func (t *kept) row(box *seal.Box) store.FactorToken {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.secrets.Tries, t.secrets.Locked = t.Wrong, 0; !t.LockedUntil.IsZero() {
		t.secrets.Locked = t.LockedUntil.UnixMilli()
	}
	text, _ := json.Marshal(t.secrets)
	out := store.FactorToken{ID: t.ID, Store: t.Store, Name: t.Name, Display: t.Display, Label: t.Label,
		Algorithm: t.Algorithm, Digits: t.Digits, Period: t.Period,
		Secrets:  string(box.Seal(Place(t.ID), string(text))),
		Recovery: len(t.Recovery), Confirmed: t.Confirmed, Step: t.step, Skew: t.Skew, MadeAt: t.MadeAt.UnixMilli(),
		MadeBy: t.MadeBy, UsedOn: t.UsedOn}
	if !t.UsedAt.IsZero() {
		out.UsedAt = t.UsedAt.UnixMilli()
	}
	return out
}

// save writes a token as it is now.
func (k *Keeper) save(ctx context.Context, t *kept) error {
	return k.write(ctx, t, k.store.SaveFactorToken)
}

func (k *Keeper) write(ctx context.Context, t *kept, save func(context.Context, store.FactorToken) error) error {
	k.saving.Lock()
	defer k.saving.Unlock()
	k.mu.RLock()
	now := k.byID[t.ID]
	k.mu.RUnlock()
	if now != nil && now != t { // another node changed it, and it was read anew
		return store.ErrChanged
	}
	if err := save(ctx, t.row(k.box)); err != nil {
		return fmt.Errorf("storing the second factor of %s: %w", t.Name, err)
	}
	return nil
}

// ErrNone is returned where there is no such second factor.
var ErrNone = errors.New("there is no such second factor")
