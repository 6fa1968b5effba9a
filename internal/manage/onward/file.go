package onward

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// suffix is that of files of JSON lines.
const suffix = ".jsonl"

// file writes events into a file of JSON lines, and continues with another when it is full.
type file struct {
	dir, name string
	most      int64
	keep      int
	now       *os.File
	buf       []byte
}

func newFile(dir, name string, megabytes, keep int) *file {
	return &file{dir: dir, name: name, most: int64(megabytes) << 20, keep: keep}
}

func (f *file) path() string { return filepath.Join(f.dir, f.name+suffix) }

func (f *file) send(_ context.Context, list []event) error {
	if err := f.open(); err != nil {
		return fmt.Errorf("opening %s: %w", f.path(), err)
	}
	f.buf = f.buf[:0]
	for i := range list {
		f.buf = list[i].line(f.buf)
	}
	before, err := f.now.Seek(0, io.SeekEnd) // a test may have written meanwhile
	if err != nil {
		f.close()
		return fmt.Errorf("writing %s: %w", f.path(), err)
	}
	if _, err = f.now.Write(f.buf); err == nil {
		err = f.now.Sync() // the position is kept after that
	}
	if err != nil {
		// Half of what was written must not stand there when it is written again.
		err = errors.Join(fmt.Errorf("writing %s: %w", f.path(), err), f.now.Truncate(before))
		f.close()
		return err
	}
	if before+int64(len(f.buf)) >= f.most {
		return f.rotate()
	}
	return nil
}

func (f *file) alive() error {
	if err := f.open(); err != nil {
		return fmt.Errorf("opening %s: %w", f.path(), err)
	}
	return nil
}

func (f *file) certain() bool { return true }

// open opens the file, and cuts off half a line that a lost machine left.
func (f *file) open() error {
	if f.now != nil {
		return nil
	}
	if err := os.MkdirAll(f.dir, 0o700); err != nil {
		return err
	}
	now, err := os.OpenFile(f.path(), os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	size, err := whole(now)
	if err == nil {
		err = now.Truncate(size)
	}
	if err != nil {
		now.Close()
		return err
	}
	f.now = now
	return nil
}

// whole is the size of a file up to its last whole line.
func whole(f *os.File) (int64, error) {
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return 0, err
	}
	buf := make([]byte, 64<<10)
	for size > 0 {
		n := min(size, int64(len(buf)))
		if _, err := f.ReadAt(buf[:n], size-n); err != nil {
			return 0, err
		}
		if at := bytes.LastIndexByte(buf[:n], '\n'); at >= 0 {
			return size - n + int64(at) + 1, nil
		}
		size -= n
	}
	return 0, nil
}

// rotate gives the full file the time as part of its name, and removes the oldest.
func (f *file) rotate() error {
	f.close()
	to := filepath.Join(f.dir, f.name+"-"+time.Now().UTC().Format("20060102T150405.000000")+suffix)
	if err := os.Rename(f.path(), to); err != nil {
		return fmt.Errorf("continuing %s: %w", f.path(), err)
	}
	list, err := f.earlier()
	for len(list) > f.keep-1 && err == nil {
		err = os.Remove(filepath.Join(f.dir, list[0]))
		list = list[1:]
	}
	return err
}

// earlier lists the full files, the oldest first.
func (f *file) earlier() ([]string, error) {
	list, err := os.ReadDir(f.dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var out []string
	for _, one := range list {
		stamp, ok := strings.CutPrefix(one.Name(), f.name+"-")
		if stamp, has := strings.CutSuffix(stamp, suffix); ok && has {
			if _, err := time.Parse("20060102T150405.000000", stamp); err == nil {
				out = append(out, one.Name())
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

func (f *file) close() {
	if f.now != nil {
		f.now.Close()
		f.now = nil
	}
}
