package archive

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
)

// Wherever an archive is damaged, and whoever meets the damage first, it is told that it is damaged: also where a file
// is being taken out of it.
func TestDamageIsTold(t *testing.T) {
	const passphrase = "gangway and rope 2026"
	content := make([]byte, 200_000) // as it cannot be compressed, several pieces of the encryption
	random := rand.NewChaCha8([32]byte{1})
	random.Read(content)
	var whole bytes.Buffer
	w, err := NewWriter(&whole, passphrase, Manifest{})
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(w.Add("tollgate.db", int64(len(content)), bytes.NewReader(content)), w.Close()); err != nil {
		t.Fatal(err)
	}
	read := func(text []byte) error {
		_, err := Read(bytes.NewReader(text), passphrase, func(_ string, _ int64, content io.Reader) error {
			_, err := io.Copy(io.Discard, content)
			return err
		})
		return err
	}
	if err := read(whole.Bytes()); err != nil {
		t.Fatalf("a whole one: %v", err)
	}
	for _, at := range []int{140_000, whole.Len() - 300} { // each look takes a second, by the making of the key
		flipped := bytes.Clone(whole.Bytes())
		flipped[at] ^= 1
		if err := read(flipped); !errors.Is(err, ErrDamaged) {
			t.Errorf("altered at %d of %d: %v", at, whole.Len(), err)
		}
		if err := read(whole.Bytes()[:at]); !errors.Is(err, ErrDamaged) {
			t.Errorf("cut at %d: %v", at, err)
		}
	}
}
