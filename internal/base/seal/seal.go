// Package seal keeps secrets unreadable at rest: AES-256-GCM with a key file that is not in the database. What a secret
// is for and its owner are its associated data, so that a sealed one opens in its own place only.
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"tollgate.example/key/internal/core/config"
)

const (
	// unplaced began secrets of the first form, which were sealed without their place.
	unplaced = "sealed1:"
	prefix   = "sealed2:"
	keySize  = 32
	// form begins the key file of an installation that holds no secrets of the first form any more.
	form = 2
)

// Box seals and opens secrets.
type Box struct {
	aead cipher.AEAD
	mac  []byte
	path string
	key  []byte
	// Old tells that secrets of the first form are still opened: until all were sealed anew, and Settle was called.
	Old bool
}

// Open reads the key file, or makes one (readable by its owner only) if there is none.
func Open(path string) (*Box, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		data = append([]byte{form}, make([]byte, keySize)...)
		rand.Read(data[1:])
		err = WriteFile(path, data)
	}
	if err != nil {
		return nil, fmt.Errorf("the key file %s: %w", path, err)
	}
	old := len(data) == keySize
	if !old && (len(data) != 1+keySize || data[0] != form) {
		return nil, fmt.Errorf("the key file %s has %d octets, which is no key: restore it from a backup, since "+
			"without it no secret can be opened", path, len(data))
	}
	b := New(data[len(data)-keySize:])
	b.path, b.Old = path, old
	return b, nil
}

// WriteFile puts a file that its owner alone can read on the disk, whole or not at all.
func WriteFile(path string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".key-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}

// Key is the key itself, for another node of the same service.
func (b *Box) Key() []byte { return append([]byte(nil), b.key...) }

// WriteKey makes the key file of a node that joins others.
func WriteKey(path string, key []byte) error {
	if len(key) != keySize {
		return fmt.Errorf("the key has %d octets instead of %d", len(key), keySize)
	}
	return WriteFile(path, append([]byte{form}, key...))
}

// Settle notes in the key file that no secret of the first form is left. From then on none is opened any more.
func (b *Box) Settle() error {
	if !b.Old {
		return nil
	}
	if err := WriteFile(b.path, append([]byte{form}, b.key...)); err != nil {
		return fmt.Errorf("the key file %s: %w", b.path, err)
	}
	b.Old = false
	return nil
}

// New makes a box from a key of 32 octets.
func New(key []byte) *Box {
	block, err := aes.NewCipher(key)
	if err != nil {
		panic(err)
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err)
	}
	derive := hmac.New(sha256.New, key)
	derive.Write([]byte("nonces of files"))
	return &Box{aead: aead, mac: derive.Sum(nil), key: append([]byte(nil), key...)}
}

// Derive is a key of 32 octets for another purpose than secrets in their places.
func (b *Box) Derive(purpose string) []byte {
	mac := hmac.New(sha256.New, b.key)
	mac.Write([]byte("key for " + purpose))
	return mac.Sum(nil)
}

// bind is a place as associated data.
func bind(at config.Place) []byte { return []byte(at.Purpose + "\x00" + at.Object) }

// Seal makes a sealed secret of clear text, for its place; "" stays not set.
func (b *Box) Seal(at config.Place, clear string) config.Secret {
	nonce := make([]byte, b.aead.NonceSize())
	rand.Read(nonce)
	return b.seal(at, clear, nonce)
}

// SealAlike is Seal with a result that is the same for the same secret in the same place, for files that are compared.
func (b *Box) SealAlike(at config.Place, clear string) config.Secret {
	mac := hmac.New(sha256.New, b.mac)
	mac.Write(bind(at))
	mac.Write([]byte{0})
	mac.Write([]byte(clear))
	return b.seal(at, clear, mac.Sum(nil)[:b.aead.NonceSize()])
}

func (b *Box) seal(at config.Place, clear string, nonce []byte) config.Secret {
	if clear == "" {
		return ""
	}
	return config.Secret(prefix + base64.RawStdEncoding.EncodeToString(b.aead.Seal(nonce, nonce, []byte(clear),
		bind(at))))
}

// Open returns the clear text of a secret that was sealed for the place.
func (b *Box) Open(at config.Place, s config.Secret) (string, error) {
	if !s.Set() {
		return "", nil
	}
	data := bind(at)
	text, ok := strings.CutPrefix(string(s), prefix)
	if !ok {
		if text, ok = strings.CutPrefix(string(s), unplaced); ok && !b.Old {
			return "", errors.New(
				"the secret has a form that is not taken any more, since it does not say where it " +
					"belongs",
			)
		}
		data = nil
	}
	sealed, err := base64.RawStdEncoding.DecodeString(text)
	if !ok || err != nil || len(sealed) < b.aead.NonceSize() {
		return "", errors.New("this is not a sealed secret")
	}
	n := b.aead.NonceSize()
	clear, err := b.aead.Open(nil, sealed[:n], sealed[n:], data)
	if err != nil {
		return "", errors.New("the secret was sealed with another key file, or for another object")
	}
	return string(clear), nil
}

// Again seals a secret of the first form anew, for its place; others stay as they are.
func (b *Box) Again(at config.Place, s config.Secret) (config.Secret, error) {
	if !strings.HasPrefix(string(s), unplaced) {
		return s, nil
	}
	clear, err := b.Open(at, s)
	if err != nil {
		return s, err
	}
	return b.Seal(at, clear), nil
}

// Generate makes a secret of 24 characters that can be typed on any device: letters and digits without those that
// look alike, about 138 bits.
func Generate() string {
	const letters = "ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz23456789"
	out := make([]byte, 0, 24)
	var b [64]byte
	for len(out) < 24 {
		rand.Read(b[:])
		for _, c := range b {
			if int(c) < 256/len(letters)*len(letters) && len(out) < 24 {
				out = append(out, letters[int(c)%len(letters)])
			}
		}
	}
	return string(out)
}

// Sealed reports whether a text is a sealed secret, of this version or one before.
func Sealed(text string) bool {
	return strings.HasPrefix(text, "sealed") && strings.Contains(text, ":")
}
