package app

import (
	"bytes"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestADataDirectoryThatOthersCanReadIsClosed(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	os.MkdirAll(dir, 0o755)
	os.Chmod(dir, 0o755)
	for name, mode := range map[string]os.FileMode{"key": 0o644, "tollgate.db": 0o666, "setup-code": 0o600} {
		path := filepath.Join(dir, name)
		os.WriteFile(path, []byte("x"), mode)
		os.Chmod(path, mode)
	}
	os.Symlink("/etc/passwd", filepath.Join(dir, "elsewhere")) // whatever it leads to is not ours
	var said bytes.Buffer
	if err := makePrivate(dir, slog.New(slog.NewTextHandler(&said, nil))); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]os.FileMode{".": 0o700, "key": 0o600, "tollgate.db": 0o600,
		"setup-code": 0o600} {
		if info, _ := os.Stat(filepath.Join(dir, name)); info.Mode().Perm() != want {
			t.Errorf("%s has rights %v", name, info.Mode().Perm())
		}
	}
	if info, _ := os.Stat("/etc/passwd"); info.Mode().Perm() != 0o644 {
		t.Errorf("a file outside was changed: %v", info.Mode())
	}
	if n := strings.Count(said.String(), "others could get at this"); n != 3 {
		t.Errorf("%d warnings: %s", n, said.String())
	}
	said.Reset()
	if err := makePrivate(dir, slog.New(slog.NewTextHandler(&said, nil))); err != nil || said.Len() > 0 {
		t.Errorf("a second time: %v %s", err, said.String())
	}
	if err := makePrivate(filepath.Join(dir, "key", "below"), slog.New(slog.DiscardHandler)); err == nil {
		t.Error("a directory that cannot be made is taken")
	}
}
