package factor

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"strings"
	"time"

	"github.com/boombuler/barcode"
	"github.com/boombuler/barcode/qr"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
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
	// Counted asks for codes that follow a counter, of which Counter is the next one (RFC 4226).
	Counted bool
	Counter int64
	// Still is what Of has to say of the person, nil for anything: otherwise ErrUsed is returned.
	Still *string
	// Replaces has it count in place of the other devices for codes that the person has, and not beside them.
	Replaces bool
	By       string
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
	if r.Counted {
		r.Period = 0
	}
	_, known := algorithms[r.Algorithm]
	switch {
	case !known:
		return nil, &FieldError{"algorithm", fmt.Sprintf("%q is no algorithm for one-time codes", r.Algorithm),
			"Use SHA1, SHA256 or SHA512."}
	case r.Digits < 6 || r.Digits > 8:
		return nil, &FieldError{"digits", fmt.Sprintf("codes of %d digits are not used", r.Digits), "Use 6 to 8."}
	case r.Counter < 0 || r.Counter > maxCounter || !r.Counted && r.Counter != 0:
		return nil, &FieldError{"counter", fmt.Sprintf("the counter %d is none", r.Counter),
			"Give the next one of a device that counts, or leave it at 0."}
	case !r.Counted && (r.Period < 15 || r.Period > 120):
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
	seed, err := noPadding.DecodeString(text)
	switch {
	case err != nil:
		return nil, &FieldError{
			"seed",
			"this is no base32",
			"It has the letters A to Z and the digits 2 to 7 only.",
		}
	case len(seed) < 16 || len(seed) > 64: // RFC 4226 section 4, R6
		return nil, &FieldError{"seed", fmt.Sprintf("a seed of %d octets is not used", len(seed)),
			"Use one of 16 to 64 octets, which are 26 to 103 characters."}
	}
	return seed, nil
}

// Enrol begins an enrolment. The token counts once Confirm has seen a code of it.
func (k *Keeper) Enrol(ctx context.Context, r Request, now time.Time) (*Offer, error) {
	seed, err := r.check()
	if err != nil {
		return nil, err
	}
	uri, err := r.uri(seed)
	if err != nil {
		return nil, fmt.Errorf("making the key URI: %w", err)
	}
	picture, err := Picture(uri)
	if err != nil {
		return nil, err
	}
	t := k.made(&r, seed, now)
	if err := k.put(ctx, t, func(other *kept) bool { return false }); err != nil {
		return nil, err
	}
	return &Offer{Token: t.Token, Seed: t.Seed, URI: uri, QR: picture}, nil
}

// Picture is a QR code of a text, row by row, with 1 for a dark square.
func Picture(text string) ([]string, error) {
	picture, err := qr.Encode(text, qr.M, qr.Auto)
	if err != nil {
		return nil, fmt.Errorf("making the QR code: %w", err)
	}
	return rows(picture), nil
}

// maxCounter bounds the counter of a token.
const maxCounter = 1 << 48

// noPadding is base32 as seeds are written.
var noPadding = base32.StdEncoding.WithPadding(base32.NoPadding)

// made makes a token of a request that was checked.
func (k *Keeper) made(r *Request, seed []byte, now time.Time) *kept {
	t := &kept{Token: Token{ID: k.ids.New(now).String(), Store: r.Store, Name: r.Name, Display: r.Display,
		Label: r.Label, Algorithm: r.Algorithm, Digits: r.Digits, Period: r.Period, MadeAt: now, MadeBy: r.By}}
	t.Seed, t.Replaces = noPadding.EncodeToString(seed), r.Replaces
	if r.Counted {
		t.step = r.Counter - 1 // the last one that was taken
	}
	return t
}

// uri is the key URI, which a picture for the device holds.
func (r *Request) uri(seed []byte) (string, error) {
	if r.Counted {
		made, err := hotp.Generate(hotp.GenerateOpts{Issuer: issuer, AccountName: r.Name, Secret: seed,
			Digits: otp.Digits(r.Digits), Algorithm: algorithms[r.Algorithm]})
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s&counter=%d", made.URL(), r.Counter), nil
	}
	made, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: r.Name, Secret: seed,
		Period: uint(r.Period), Digits: otp.Digits(r.Digits), Algorithm: algorithms[r.Algorithm]})
	if err != nil {
		return "", err
	}
	return made.URL(), nil
}

// Import takes a device whose seed is known, such as one of hardware, for a person: it counts at once, in place of one
// of the same seed or label. What it showed before the next counter, or by now, counts no more.
func (k *Keeper) Import(ctx context.Context, r Request, now time.Time) (*Token, error) {
	if r.Seed == "" {
		return nil, &FieldError{"seed", "there is none", "Give the seed of the device."}
	}
	seed, err := r.check()
	if err != nil {
		return nil, err
	}
	t := k.made(&r, seed, now)
	t.Confirmed = true
	if err := k.put(ctx, t, func(other *kept) bool {
		return r.Replaces || other.Seed == t.Seed || other.Label == t.Label && t.Label != ""
	}); err != nil {
		return nil, err
	}
	return k.Get(t.ID), nil
}

// put stores a new device, in place of those of its person and kind that gives says, and of any that was never
// confirmed.
func (k *Keeper) put(ctx context.Context, t *kept, gives func(other *kept) bool) error {
	before := k.others(t, gives)
	if err := k.room(t, before); err != nil {
		return err
	}
	return k.add(ctx, t, nil, before)
}

// room reports whether there is room for another device, when others are gone.
func (k *Keeper) room(t *kept, gone []string) error {
	k.mu.RLock()
	full := len(k.byID) >= maxTokens
	k.mu.RUnlock()
	if full {
		return &FieldError{"person", fmt.Sprintf("there are %d second factors already", maxTokens),
			"Remove those of people who have left."}
	}
	if p := k.find(t.Store, t.Name); p != nil {
		p.mu.Lock()
		left := len(p.devices) - len(gone)
		p.mu.Unlock()
		if left >= maxDevices {
			return &FieldError{"person", fmt.Sprintf("%s has %d devices already", t.Name, left),
				"Remove those that are not used any more."}
		}
	}
	return nil
}

// others are the devices of a person that were never confirmed, or of the kind of another one that gives says.
func (k *Keeper) others(t *kept, gives func(other *kept) bool) (ids []string) {
	p := k.find(t.Store, t.Name)
	if p == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, d := range p.devices {
		if d != t && (!d.Confirmed || d.Kind == t.Kind && gives(d)) {
			ids = append(ids, d.ID)
		}
	}
	return ids
}

// add stores a device, and what change makes of what the person's have in common, and removes others. Nothing is
// changed in common by a nil change, or where it returns nil.
func (k *Keeper) add(ctx context.Context, t *kept, change func(p *person) (*common, error), remove []string) error {
	k.saving.Lock()
	defer k.saving.Unlock()
	k.mu.Lock()
	p := k.person(t.Store, t.Name)
	k.mu.Unlock()
	p.mu.Lock()
	was, stored := p.common, p.stored
	var both *common
	var err error
	if change != nil {
		both, err = change(p)
	}
	if err != nil {
		p.mu.Unlock()
		return err
	}
	if t.of = p; t.Display != "" {
		p.display = t.Display
	}
	if both != nil {
		p.common, p.stored = both, true
	}
	rows := []store.FactorToken{t.row(k.box)}
	if both != nil {
		rows = append(rows, k.commonRow(p))
	}
	p.mu.Unlock()
	err = k.store.AddFactorTokens(ctx, rows, remove)
	if err != nil {
		p.mu.Lock()
		if both != nil && p.common == both {
			p.common, p.stored = was, stored
		}
		p.mu.Unlock()
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if err != nil {
		return fmt.Errorf("storing the second factor of %s: %w", t.Name, err)
	}
	for _, id := range remove {
		k.drop(id)
	}
	if both != nil {
		k.shared[p.id()] = p
	}
	k.keep(t)
	return nil
}

// Check fills in what is usual of a device to import, and returns the first fault.
func (r *Request) Check() error {
	_, err := r.check()
	return err
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

// Confirm takes the first code of a token, which counts from then on. It returns new recovery codes, which nobody can
// see again; none if the person has some from before.
func (k *Keeper) Confirm(ctx context.Context, id, typed string, now time.Time) ([]string, error) {
	return k.confirm(ctx, id, typed, nil, now)
}

// ConfirmStill is Confirm for whoever was allowed to add a device to those that Of named then: it returns ErrUsed if it
// names others by now, so that of two who were allowed by the same word one adds a device.
func (k *Keeper) ConfirmStill(ctx context.Context, id, typed, still string, now time.Time) ([]string, error) {
	return k.confirm(ctx, id, typed, &still, now)
}

func (k *Keeper) confirm(ctx context.Context, id, typed string, still *string, now time.Time) ([]string, error) {
	t := k.get(id)
	if t == nil {
		return nil, ErrNone
	}
	t.of.mu.Lock()
	if t.Confirmed {
		t.of.mu.Unlock()
		return nil, &FieldError{"code", "this second factor is confirmed already", "There is nothing to do."}
	}
	if still != nil && t.of.counting() != *still {
		t.of.mu.Unlock()
		return nil, ErrUsed
	}
	code, detail := t.take(plain(typed), now)
	if code == reason.OK {
		t.Confirmed = true
	}
	t.of.mu.Unlock()
	if code != reason.OK {
		return nil, &FieldError{"code", "this is not the code that the device should show: " + cmp.Or(
			strings.TrimRight(detail, ". "), string(code)),
			"Look whether the device took the right QR code, and at its clock."}
	}
	before := k.others(t, func(*kept) bool { return t.Replaces })
	var recovery []string
	if err := k.add(ctx, t, func(p *person) (*common, error) {
		next := *p.common
		recovery = next.renew(t.Replaces)
		return &next, nil
	}, before); err != nil {
		t.of.mu.Lock()
		t.Confirmed = false
		t.of.mu.Unlock()
		return nil, err
	}
	return recovery, nil
}

// renew makes new recovery codes where there are none, or anew, and returns them.
func (c *common) renew(anew bool) []string {
	if len(c.Recovery) > 0 && !anew {
		return nil
	}
	c.Recovery = newRecovery()
	return c.Recovery
}

func newRecovery() (out []string) {
	for range recoveryMany {
		out = append(out, recoveryCode())
	}
	return out
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
