package e2e

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

// grep fails if any file below a directory holds one of the texts.
func grep(t *testing.T, dir string, texts ...string) {
	t.Helper()
	files := 0
	err := filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files++
		for _, text := range texts {
			if bytes.Contains(data, []byte(text)) {
				t.Errorf("%s holds %q", path, text)
			}
		}
		return nil
	})
	if err != nil || files == 0 {
		t.Errorf("%d files read in %s, %v", files, dir, err)
	}
}
