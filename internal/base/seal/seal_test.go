package seal

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
)

func TestSealAndOpen(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	box, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Errorf("the key file may be read by others: %v", info.Mode())
	}
	at := config.Place{Purpose: "radius", Object: "c1"}
	sealed := box.Seal(at, "quay-light")
	if strings.Contains(string(sealed), "quay") || box.Seal(at, "quay-light") == sealed {
		t.Error("the secret shows, or sealing twice gives the same")
	}
	again, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if clear, err := again.Open(at, sealed); err != nil || clear != "quay-light" {
		t.Errorf("opened as %q, %v", clear, err)
	}
	other := New(make([]byte, 32))
	for _, bad := range []config.Secret{sealed[:len(sealed)-2] + "xx", "quay-light", "sealed1:", "sealed1:AAAA",
		other.Seal(at, "x")} {
		if clear, err := again.Open(at, bad); err == nil {
			t.Errorf("%q is opened as %q", bad, clear)
		}
	}
	if s := box.Seal(at, ""); s.Set() {
		t.Error("an empty secret is set")
	}
	os.WriteFile(path, []byte("short"), 0o600)
	if _, err := Open(path); err == nil {
		t.Error("a damaged key file is taken")
	}
}

// A sealed secret that is moved to another object, or to where it is used for something else, does not open.
func TestSecretsOpenInTheirPlace(t *testing.T) {
	box := New(make([]byte, 32))
	at := config.Place{Purpose: "radius", Object: "c1"}
	for name, sealed := range map[string]config.Secret{"sealed": box.Seal(at, "x"), "for a file": box.SealAlike(at,
		"x")} {
		for _, elsewhere := range []config.Place{{Purpose: "radius", Object: "c2"}, {Purpose: "bind", Object: "c1"},
			{}} {
			if clear, err := box.Open(elsewhere, sealed); err == nil {
				t.Errorf("%s: opened at %+v as %q", name, elsewhere, clear)
			}
		}
		if clear, err := box.Open(at, sealed); err != nil || clear != "x" {
			t.Errorf("%s: %q %v", name, clear, err)
		}
	}
	if first, second := box.SealAlike(at, "x"), box.SealAlike(at, "x"); first != second || first == box.SealAlike(at,
		"y") {
		t.Error("what is sealed for a file differs, or does not")
	}
}

// Secrets of the version before open until all were sealed anew, and not again after that.
func TestTheFirstFormEndsWithTheKeyFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	key := make([]byte, 32)
	os.WriteFile(path, key, 0o600)
	box, err := Open(path)
	if err != nil || !box.Old {
		t.Fatalf("%+v %v", box, err)
	}
	at := config.Place{Purpose: "bind", Object: "d1"}
	nonce := make([]byte, 12)
	old := config.Secret(unplaced + base64.RawStdEncoding.EncodeToString(box.aead.Seal(nonce, nonce, []byte("rope"),
		nil)))
	next, err := box.Again(at, old)
	if clear, wrong := box.Open(at, next); err != nil || wrong != nil || clear != "rope" ||
		!strings.HasPrefix(string(next), prefix) {
		t.Errorf("%q %q %v %v", next, clear, err, wrong)
	}
	if again, err := box.Again(at, next); err != nil || again != next {
		t.Errorf("sealed twice: %v", err)
	}
	if err := box.Settle(); err != nil {
		t.Fatal(err)
	}
	box, err = Open(path)
	if err != nil || box.Old {
		t.Fatalf("after settling: %+v %v", box, err)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Errorf("the key file may be read by others: %v", info.Mode())
	}
	if _, err := box.Open(at, old); err == nil {
		t.Error("a secret without its place is opened")
	}
	if clear, err := box.Open(at, next); err != nil || clear != "rope" {
		t.Errorf("%q %v", clear, err)
	}
}

func TestGenerate(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		s := Generate()
		if len(s) != 24 || strings.ContainsAny(s, "0O1lI \"'") || seen[s] {
			t.Fatalf("generated %q", s)
		}
		seen[s] = true
	}
}
