package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"
)

// errBusy tells that readers kept the log from being brought into the file.
var errBusy = errors.New("readers did not leave the file for a moment")

const (
	copyTries = 50
	copyWait  = 100 * time.Millisecond
)

// Copy hands on the file and its log as they are at one moment, while others go on to read and write: nothing is
// brought from the log into the file meanwhile. Opened together they are what a power cut at that moment would have
// left.
func (f *File) Copy(ctx context.Context, each func(name string, size int64, content io.Reader) error) error {
	f.checkpoints.mu.Lock()
	defer f.checkpoints.mu.Unlock()
	for try := 0; ; try++ {
		var busy, logged, moved int
		err := f.Read.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &logged, &moved)
		if err == nil && busy == 0 {
			break
		}
		if err == nil {
			err = errBusy
		}
		if try == copyTries || ctx.Err() != nil {
			return fmt.Errorf("copying %s: %w", f.Path, err)
		}
		time.Sleep(copyWait)
	}
	// from here on the file stays as it is, and the log only grows
	for _, more := range []string{"", "-wal"} {
		if err := copyOne(f.Path+more, f.Name()+more, each); err != nil {
			return fmt.Errorf("copying %s: %w", f.Path+more, err)
		}
	}
	return nil
}

func copyOne(path, name string, each func(name string, size int64, content io.Reader) error) error {
	in, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil || info.Size() == 0 {
		return err
	}
	return each(name, info.Size(), in)
}

// Checkpoint brings the log into the file, and cuts it.
func (f *File) Checkpoint(ctx context.Context) error {
	f.checkpoints.mu.Lock()
	defer f.checkpoints.mu.Unlock()
	_, err := f.Read.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}
