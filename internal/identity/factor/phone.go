package factor

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"math/big"
	"time"
)

// maxKey bounds the public key of a phone, in octets; one of P-256 has 91.
const maxKey = 256

// errKey is returned for what is no key of a phone.
var errKey = errors.New("this is no public key of P-256")

func readKey(der []byte) (*ecdsa.PublicKey, error) {
	if len(der) > maxKey {
		return nil, errKey
	}
	key, err := x509.ParsePKIXPublicKey(der)
	if err != nil {
		return nil, errKey
	}
	if k, ok := key.(*ecdsa.PublicKey); ok && k.Curve == elliptic.P256() {
		return k, nil
	}
	return nil, errKey
}

// PairPhone takes a phone that approves sign-ins, by the public key of its own, which the phone proves to have by a
// signature over a message: it counts at once, beside other devices of the person. It returns new recovery codes, which
// nobody can see again; none if the person has some from before.
func (k *Keeper) PairPhone(ctx context.Context, r Request, key, message, signature []byte, now time.Time) (*Token,
	[]string, error) {
	public, err := readKey(key)
	if err != nil {
		return nil, nil, &FieldError{"key", err.Error(), "Open the page in another browser."}
	}
	if !signed(public, message, signature) {
		return nil, nil, &FieldError{"signature", "the phone does not have that key", "Open the page anew."}
	}
	var made *kept
	recovery, err := k.addProven(ctx, &r, now, func(t *kept) { t.Kind, t.Key, made = KindPhone, key, t })
	if err != nil {
		return nil, nil, err
	}
	return k.Get(made.ID), recovery, nil
}

// Signed returns the phone of an identifier that signed a message, nil if there is none or another one did.
func (k *Keeper) Signed(id string, message, signature []byte) *Token {
	t := k.get(id)
	if t == nil {
		return nil
	}
	t.of.mu.Lock()
	defer t.of.mu.Unlock()
	if t.Kind != KindPhone || !t.Confirmed {
		return nil
	}
	public, err := readKey(t.Key)
	if err != nil || !signed(public, message, signature) {
		return nil
	}
	return t.view(time.Now())
}

// signed checks a signature as browsers make it: r and s of 32 octets each (IEEE P1363).
func signed(key *ecdsa.PublicKey, message, signature []byte) bool {
	if len(signature) != 64 {
		return false
	}
	sum := sha256.Sum256(message)
	return ecdsa.Verify(key, sum[:], new(big.Int).SetBytes(signature[:32]), new(big.Int).SetBytes(signature[32:]))
}

// Used notes that a phone approved a sign-in on a client.
func (k *Keeper) Used(ctx context.Context, id, on string, now time.Time) error {
	t := k.get(id)
	if t == nil {
		return ErrNone
	}
	t.of.mu.Lock()
	t.UsedAt, t.UsedOn = now, on
	t.of.mu.Unlock()
	return k.save(ctx, t)
}

// PhoneKey is what is kept of the security key that a phone asks for when a sign-in is approved, "" for none.
func (k *Keeper) PhoneKey(id string) string {
	t := k.get(id)
	if t == nil {
		return ""
	}
	t.of.mu.Lock()
	defer t.of.mu.Unlock()
	if t.Kind != KindPhone {
		return ""
	}
	return t.Credential
}

// SetPhoneKey notes what is kept of that key from now on, "" for none.
func (k *Keeper) SetPhoneKey(ctx context.Context, id, text string) error {
	return k.setPhone(ctx, id, func(s *secrets) { s.Credential = text })
}

// Push is where a phone takes messages (W3C Push API), and in which language.
type Push struct {
	Endpoint string `json:"endpoint"`
	P256DH   string `json:"p256dh"`
	Auth     string `json:"auth"`
	Language string `json:"language"`
}

// SetPush notes where a phone takes messages from now on, nil for nowhere.
func (k *Keeper) SetPush(ctx context.Context, id string, push *Push) error {
	if t := k.get(id); t != nil {
		t.of.mu.Lock()
		same := push == t.Push || push != nil && t.Push != nil && *push == *t.Push
		t.of.mu.Unlock()
		if same {
			return nil
		}
	}
	return k.setPhone(ctx, id, func(s *secrets) { s.Push = push })
}

// setPhone changes what is kept of a phone, or nothing.
func (k *Keeper) setPhone(ctx context.Context, id string, set func(s *secrets)) error {
	t := k.get(id)
	if t == nil || t.Kind != KindPhone {
		return ErrNone
	}
	t.of.mu.Lock()
	before := t.secrets
	set(&t.secrets)
	t.of.mu.Unlock()
	err := k.save(ctx, t)
	if err != nil {
		t.of.mu.Lock()
		t.Credential, t.Push = before.Credential, before.Push
		t.of.mu.Unlock()
	}
	return err
}

// Pushes are where the phones of a person take messages, by the identifiers of the phones.
func (k *Keeper) Pushes(store, name string) map[string]Push {
	p := k.find(store, name)
	if p == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[string]Push{}
	for _, d := range p.devices {
		if d.Kind == KindPhone && d.Confirmed && d.Push != nil {
			out[d.ID] = *d.Push
		}
	}
	return out
}
