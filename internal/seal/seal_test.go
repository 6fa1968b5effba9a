package seal

import (
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
	sealed := box.Seal("quay-light")
	if strings.Contains(string(sealed), "quay") || box.Seal("quay-light") == sealed {
		t.Error("the secret shows, or sealing twice gives the same")
	}
	again, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if clear, err := again.Open(sealed); err != nil || clear != "quay-light" {
		t.Errorf("opened as %q, %v", clear, err)
	}
	other := New(make([]byte, 32))
	for _, bad := range []config.Secret{sealed[:len(sealed)-2] + "xx", "quay-light", "sealed1:", "sealed1:AAAA", other.Seal("x")} {
		if clear, err := again.Open(bad); err == nil {
			t.Errorf("%q is opened as %q", bad, clear)
		}
	}
	if s := box.Seal(""); s.Set() {
		t.Error("an empty secret is set")
	}
	os.WriteFile(path, []byte("short"), 0o600)
	if _, err := Open(path); err == nil {
		t.Error("a damaged key file is taken")
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
