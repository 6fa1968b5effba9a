// Package seal keeps secrets unreadable at rest: AES-256-GCM with a key file that is not in the database.
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"tollgate.example/key/internal/core/config"
)

const prefix = "sealed1:"

// Box seals and opens secrets.
type Box struct{ aead cipher.AEAD }

// Open reads the key file, or makes one (readable by its owner only) if there is none.
func Open(path string) (*Box, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		rand.Read(key)
		err = os.WriteFile(path, key, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("the key file %s: %w", path, err)
	}
	if len(key) != 32 {
		return nil, fmt.Errorf("the key file %s has %d octets, not 32: restore it from a backup, since without it no secret can be opened", path, len(key))
	}
	return New(key), nil
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
	return &Box{aead}
}

// Seal makes a sealed secret of clear text; "" stays not set.
func (b *Box) Seal(clear string) config.Secret {
	if clear == "" {
		return ""
	}
	nonce := make([]byte, b.aead.NonceSize(), b.aead.NonceSize()+len(clear)+b.aead.Overhead())
	rand.Read(nonce)
	return config.Secret(prefix + base64.RawStdEncoding.EncodeToString(b.aead.Seal(nonce, nonce, []byte(clear), nil)))
}

// Open returns the clear text.
func (b *Box) Open(s config.Secret) (string, error) {
	if !s.Set() {
		return "", nil
	}
	text, ok := strings.CutPrefix(string(s), prefix)
	data, err := base64.RawStdEncoding.DecodeString(text)
	if !ok || err != nil || len(data) < b.aead.NonceSize() {
		return "", errors.New("this is not a sealed secret")
	}
	n := b.aead.NonceSize()
	clear, err := b.aead.Open(nil, data[:n], data[n:], nil)
	if err != nil {
		return "", errors.New("the secret was sealed with another key file")
	}
	return string(clear), nil
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
