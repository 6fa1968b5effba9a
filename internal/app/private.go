package app

import (
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
)

// makePrivate makes the data directory, and takes from others what they may do with it and with what lies in it: keys,
// hashes and what was recorded of people. Whoever could read it before may have done so, which is why it is said.
func makePrivate(dir string, log *slog.Logger) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("making the data directory: %w", err)
	}
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return fmt.Errorf("looking at the rights of %s: %w", path, err)
		}
		info, err := d.Info()
		// gone meanwhile, somewhere else, or of an engine that was killed: nobody gets at a socket in here
		if err != nil || d.Type()&(fs.ModeSymlink|fs.ModeSocket) != 0 {
			return nil
		}
		if info.Mode().Perm()&0o077 == 0 {
			return nil
		}
		narrow := info.Mode().Perm() & 0o700
		if err := os.Chmod(path, narrow); err != nil {
			return fmt.Errorf("%s may be read or changed by others (%v), and that cannot be ended: give it to the "+
				"user that runs the service, with rights %v: %w", path, info.Mode().Perm(), narrow, err)
		}
		log.Warn("others could get at this until now; that was ended. If they are not to be trusted, change what "+
			"lies in it", "path", path, "rights", info.Mode().Perm().String(), "now", narrow.String())
		return nil
	})
}
