package factor

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/boombuler/barcode"
	"github.com/boombuler/barcode/qr"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

const (
	// seedLen is the length of a seed that we make, in octets: that of SHA-1, as RFC 4226 section 4 recommends.
	seedLen      = 20
	recoveryMany = 8
	recoveryLen  = 9
	// letters of recovery codes leave out what looks alike.
	letters = "23456789abcdefghjkmnpqrstuvwxyz"
	// issuer is the name under which the phone shows the code.
	issuer = "Tollgate Key"
)

// FieldError is a fault in one field of an enrolment.
type FieldError struct{ Field, Message, Remedy string }

func (e *FieldError) Error() string { return e.Field + ": " + e.Message + ". " + e.Remedy }

// Request asks for an enrolment.
type Request struct {
	Store, Name, Display, Label string
	// Seed is that of a device that has one already, in base32; empty makes one.
	Seed      string
	Algorithm string
	Digits    int
	Period    int
	By        string
}

// Offer is what the person brings into the device.
type Offer struct {
	Token Token
	// Seed is in base32, URI the key URI that the picture holds too; each text of QR is a row of it, 1 for a dark
	// square.
	Seed, URI string
	QR        []string
}

// check fills in what is usual, and returns the first fault.
func (r *Request) check() ([]byte, error) {
	r.Algorithm, r.Digits, r.Period = cmp.Or(strings.ToUpper(r.Algorithm), "SHA1"), cmp.Or(r.Digits, 6),
		cmp.Or(r.Period, 30)
	r.Label = strings.TrimSpace(r.Label)
	_, known := algorithms[r.Algorithm]
	switch {
	case !known:
		return nil, &FieldError{"algorithm", fmt.Sprintf("%q is no algorithm for one-time codes", r.Algorithm),
			"Use SHA1, SHA256 or SHA512."}
	case r.Digits < 6 || r.Digits > 8:
		return nil, &FieldError{"digits", fmt.Sprintf("codes of %d digits are not used", r.Digits), "Use 6 to 8."}
	case r.Period < 15 || r.Period > 120:
		return nil, &FieldError{"period", fmt.Sprintf("%d seconds are out of range", r.Period),
			"Use 15 to 120; 30 is usual."}
	case len(r.Label) > 100:
		return nil, &FieldError{"label", "the text has more than 100 octets", "Shorten it."}
	}
	if r.Seed == "" {
		seed := make([]byte, seedLen)
		rand.Read(seed)
		return seed, nil
	}
	text := strings.ToUpper(strings.NewReplacer(" ", "", "-", "", "=", "").Replace(r.Seed))
	seed, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(text)
	switch {
	case err != nil:
		return nil, &FieldError{"seed", "this is no base32", "It has the letters A to Z and the digits 2 to 7 only."}
	case len(seed) < 16 || len(seed) > 64: // RFC 4226 section 4, R6
		return nil, &FieldError{"seed", fmt.Sprintf("a seed of %d octets is not used", len(seed)),
			"Use one of 16 to 64 octets, which are 26 to 103 characters."}
	}
	return seed, nil
}

// Enrol begins an enrolment. The token counts once Confirm has seen a code of it; until then one that the person has
// goes on.
func (k *Keeper) Enrol(ctx context.Context, r Request, now time.Time) (*Offer, error) {
	seed, err := r.check()
	if err != nil {
		return nil, err
	}
	made, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: r.Name, Secret: seed,
		Period: uint(r.Period), Digits: otp.Digits(r.Digits), Algorithm: algorithms[r.Algorithm]})
	if err != nil {
		return nil, fmt.Errorf("making the key URI: %w", err)
	}
	picture, err := qr.Encode(made.URL(), qr.M, qr.Auto)
	if err != nil {
		return nil, fmt.Errorf("making the QR code: %w", err)
	}
	t := &kept{Token: Token{ID: k.ids.New(now).String(), Store: r.Store, Name: r.Name, Display: r.Display,
		Label: r.Label, Algorithm: r.Algorithm, Digits: r.Digits, Period: r.Period, MadeAt: now, MadeBy: r.By}}
	t.Seed = made.Secret()
	var before []string
	k.mu.RLock()
	full := len(k.byID) >= maxTokens
	for id, other := range k.byID { // one that was never confirmed is forgotten
		if !other.Confirmed && key(other.Store, other.Name) == key(r.Store, r.Name) {
			before = append(before, id)
		}
	}
	k.mu.RUnlock()
	if full {
		return nil, &FieldError{"person", fmt.Sprintf("there are %d second factors already", maxTokens),
			"Remove those of people who have left."}
	}
	if err := k.store.AddFactorToken(ctx, t.row(k.box), before); err != nil {
		return nil, fmt.Errorf("storing the second factor of %s: %w", r.Name, err)
	}
	k.mu.Lock()
	for _, id := range before {
		delete(k.byID, id)
	}
	k.keep(t)
	k.mu.Unlock()
	out := &Offer{Token: t.Token, Seed: t.Seed, URI: made.URL()}
	out.QR = rows(picture)
	return out, nil
}

// quiet is how many light squares stand around a QR code (ISO/IEC 18004 section 6.3.8).
const quiet = 4

// rows writes a QR code with its quiet zone, a text a row and 1 for a dark square.
func rows(picture barcode.Barcode) []string {
	size := picture.Bounds().Dx()
	out := make([]string, size+2*quiet)
	for y := range out {
		line := bytes.Repeat([]byte{'0'}, len(out))
		for x := range size {
			if inside := y - quiet; inside >= 0 && inside < size {
				if r, _, _, _ := picture.At(x, inside).RGBA(); r == 0 {
					line[x+quiet] = '1'
				}
			}
		}
		out[y] = string(line)
	}
	return out
}

// Confirm takes the first code of a token, which counts from then on in place of one that the person had. It returns
// the recovery codes, which nobody can see again.
func (k *Keeper) Confirm(ctx context.Context, id, typed string, now time.Time) ([]string, error) {
	t := k.get(id)
	if t == nil {
		return nil, ErrNone
	}
	t.mu.Lock()
	if t.Confirmed {
		t.mu.Unlock()
		return nil, &FieldError{"code", "this second factor is confirmed already", "There is nothing to do."}
	}
	code, detail := t.take(strings.ReplaceAll(typed, " ", ""), now)
	if code == reason.OK {
		t.Confirmed, t.Wrong = true, 0
		t.renew()
	}
	recovery := slices.Clone(t.Recovery)
	t.mu.Unlock()
	if code != reason.OK {
		return nil, &FieldError{"code", "this is not the code that the device should show: " + cmp.Or(detail,
			string(code)), "Look whether the device took the right QR code, and at its clock."}
	}
	var before []string
	k.mu.RLock()
	old := k.byPerson[key(t.Store, t.Name)]
	k.mu.RUnlock()
	if old != nil && old.ID != t.ID {
		before = append(before, old.ID)
	}
	if err := k.store.AddFactorToken(ctx, t.row(k.box), before); err != nil {
		t.mu.Lock()
		t.Confirmed, t.Recovery, t.RecoveryLeft = false, nil, 0
		t.mu.Unlock()
		return nil, fmt.Errorf("storing the second factor of %s: %w", t.Name, err)
	}
	k.mu.Lock()
	for _, gone := range before {
		delete(k.byID, gone)
	}
	k.keep(t)
	k.mu.Unlock()
	return recovery, nil
}

// renew makes new recovery codes.
func (t *kept) renew() {
	t.Recovery = nil
	for range recoveryMany {
		t.Recovery = append(t.Recovery, recoveryCode())
	}
	t.RecoveryLeft = len(t.Recovery)
}

func recoveryCode() string {
	out := make([]byte, 0, recoveryLen)
	for len(out) < recoveryLen {
		if len(out) == recoveryLen/2 {
			out = append(out, '-')
		}
		var b [1]byte
		if rand.Read(b[:]); int(b[0]) < 256/len(letters)*len(letters) { // the rest would prefer the first letters
			out = append(out, letters[int(b[0])%len(letters)])
		}
	}
	return string(out)
}

// Recover makes new recovery codes; the old ones count no more.
func (k *Keeper) Recover(ctx context.Context, id string) ([]string, error) {
	t := k.get(id)
	if t == nil || !t.Confirmed {
		return nil, ErrNone
	}
	t.mu.Lock()
	t.renew()
	out := slices.Clone(t.Recovery)
	t.mu.Unlock()
	return out, k.save(ctx, t)
}

// Release has codes of a person looked at again who gave too many wrong ones.
func (k *Keeper) Release(id string) error {
	t := k.get(id)
	if t == nil {
		return ErrNone
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.Wrong, t.LockedUntil = 0, time.Time{}
	return nil
}

// Remove removes a second factor; where one is asked for, the person is then refused.
func (k *Keeper) Remove(ctx context.Context, id string) error {
	t := k.get(id)
	if t == nil {
		return ErrNone
	}
	if err := k.store.RemoveFactorToken(ctx, id); err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("removing the second factor of %s: %w", t.Name, err)
	}
	k.mu.Lock()
	delete(k.byID, id)
	if k.byPerson[key(t.Store, t.Name)] == t {
		delete(k.byPerson, key(t.Store, t.Name))
	}
	k.mu.Unlock()
	k.recent.forget(key(t.Store, t.Name))
	return nil
}

func (k *Keeper) get(id string) *kept {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.byID[id]
}

// Get returns a token, nil if there is none.
func (k *Keeper) Get(id string) *Token {
	t := k.get(id)
	if t == nil {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	out := t.Token
	return &out
}

// List returns the tokens whose person or label contains the text, in the order of names.
func (k *Keeper) List(text string) []Token {
	text = strings.ToLower(text)
	k.mu.RLock()
	all := make([]*kept, 0, len(k.byID))
	for _, t := range k.byID {
		all = append(all, t)
	}
	k.mu.RUnlock()
	out := make([]Token, 0, len(all))
	for _, t := range all {
		t.mu.Lock()
		if strings.Contains(strings.ToLower(t.Name+" "+t.Display+" "+t.Label), text) {
			out = append(out, t.Token)
		}
		t.mu.Unlock()
	}
	slices.SortFunc(out, func(a, b Token) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.Store,
			b.Store), strings.Compare(a.ID, b.ID))
	})
	return out
}
