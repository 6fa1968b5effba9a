// Package backup makes a backup of a running service, and restores one into an empty directory.
package backup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"tollgate.example/key/internal/base/archive"
	"tollgate.example/key/internal/store/sqlite"
)

// KeyFile is the name of the key file, without which the secrets of a backup cannot be opened.
const KeyFile = "key"

// ErrRunning is returned while another backup is made.
var ErrRunning = errors.New("another backup is being made. Wait until it has ended")

// Source is what a backup is made of.
type Source struct {
	// Files are copied in this order. What others refer to comes last, so that nothing refers to what is not there.
	Files []*sqlite.File
	// Dir is the data directory, with the key file.
	Dir     string
	Version string

	mu sync.Mutex
}

// Options of a backup.
type Options struct {
	Passphrase string
	// WithoutKey leaves the key file out: whoever restores must have it from elsewhere.
	WithoutKey bool
	By         string
	Facts      map[string]string
}

// Make writes a backup.
func (s *Source) Make(ctx context.Context, to io.Writer, o Options) error {
	if !s.mu.TryLock() {
		return ErrRunning
	}
	defer s.mu.Unlock()
	w, err := archive.NewWriter(to, o.Passphrase, archive.Manifest{Version: s.Version, MadeAt: time.Now().UTC(),
		MadeBy: o.By, Facts: o.Facts})
	if err != nil {
		return err
	}
	for _, f := range s.Files {
		if err := f.Copy(ctx, w.Add); err != nil {
			return err
		}
	}
	if !o.WithoutKey {
		key, err := os.ReadFile(filepath.Join(s.Dir, KeyFile))
		if err != nil {
			return fmt.Errorf("reading the key file for the backup: %w", err)
		}
		if err := w.Add(KeyFile, int64(len(key)), bytes.NewReader(key)); err != nil {
			return err
		}
	}
	return w.Close()
}

// names are the files that a backup may hold.
var names = map[string]bool{KeyFile: true}

func init() {
	for _, db := range []string{"tollgate.db", "attempts.db", "journal.db", "accounting.db", "sessions.db",
		"sightings.db"} {
		names[db], names[db+"-wal"] = true, true
	}
}

// Restore restores a backup into an empty directory, which is made if it does not exist. A key file from elsewhere is
// used where the backup holds none. Nothing is left in the directory unless all is well.
func Restore(ctx context.Context, from io.Reader, passphrase, dir, keyFile string) (m archive.Manifest, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return m, err
	}
	present, err := os.ReadDir(dir)
	if err != nil {
		return m, err
	}
	if len(present) > 0 {
		return m, fmt.Errorf(
			"the directory %s is not empty. Restore into an empty one, and move that where it belongs", dir)
	}
	defer func() {
		if err == nil {
			return
		}
		for name := range names {
			os.Remove(filepath.Join(dir, name))
			os.Remove(filepath.Join(dir, name+"-shm"))
		}
	}()
	there := map[string]bool{}
	m, err = archive.Read(from, passphrase, func(name string, _ int64, content io.Reader) error {
		if !names[name] || there[name] {
			return fmt.Errorf("%w: it holds %q", archive.ErrDamaged, name)
		}
		there[name] = true
		return write(filepath.Join(dir, name), content)
	})
	if err != nil {
		return m, err
	}
	if err := restoreKey(dir, keyFile, there[KeyFile]); err != nil {
		return m, err
	}
	for name := range there {
		if filepath.Ext(name) == ".db" {
			if err := sqlite.Check(ctx, filepath.Join(dir, name)); err != nil {
				return m, err
			}
		}
	}
	if !there["tollgate.db"] {
		return m, fmt.Errorf("%w: it has no configuration", archive.ErrDamaged)
	}
	return m, nil
}

func restoreKey(dir, keyFile string, there bool) error {
	switch {
	case there && keyFile != "":
		return errors.New("the backup holds the key file. Leave -restore-key out")
	case !there && keyFile == "":
		return errors.New("the backup was made without the key file. Name it with -restore-key")
	case there:
		return nil
	}
	key, err := os.Open(keyFile)
	if err != nil {
		return fmt.Errorf("reading the key file: %w", err)
	}
	defer key.Close()
	return write(filepath.Join(dir, KeyFile), io.LimitReader(key, 1<<16))
}

// write writes a file that others may not read, and returns when it is on the disk.
func write(path string, content io.Reader) error {
	out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, content); err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}
