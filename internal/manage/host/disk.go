package host

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

const (
	diskEvery = time.Second
	// warnAt and failAt are the parts of a disk that are left when an operator is warned.
	warnAt, failAt = 0.20, 0.05
	// shedAt is the part below which attempts are removed, bounded by maxReserve.
	shedAt     = 0.02
	maxReserve = 512 << 20
	// heldAt is the part of a disk that a file holds, for what must be written when others have filled it.
	heldAt  = 0.01
	maxHeld = 64 << 20
	// spans of use are compared over this long to tell how long the disk will last.
	rateOver   = 30 * time.Minute
	rateLeast  = time.Minute
	shedBlocks = 64
)

// Shedder can give room back: attempts, the oldest first.
type Shedder interface {
	RemoveOldest(ctx context.Context, blocks int) (int64, error)
	Shrink(ctx context.Context) error
}

// Together sheds from several kinds of records, of each a part in turn.
type Together []Shedder

// RemoveOldest implements Shedder.
func (t Together) RemoveOldest(ctx context.Context, blocks int) (sum int64, err error) {
	for _, one := range t {
		n, e := one.RemoveOldest(ctx, blocks)
		sum, err = sum+n, errors.Join(err, e)
	}
	return sum, err
}

// Shrink implements Shedder.
func (t Together) Shrink(ctx context.Context) (err error) {
	for _, one := range t {
		err = errors.Join(err, one.Shrink(ctx))
	}
	return err
}

// Space is how full the disk is.
type Space struct {
	// Free and Total are in octets.
	Free, Total int64
	// Lasts is for how long at the rate of the last half hour; 0 if it does not fill up, or not known yet.
	Lasts time.Duration
	// Shed counts attempts that were removed before their time, to make room, since the disk was last that full.
	Shed int64
	// Shedding tells that room is being made, Spent that the file is given up that held room for the worst.
	Shedding, Spent bool
}

// Low and Short report that an operator should see to the disk, or must.
func (s *Space) Low() bool   { return s.Total > 0 && float64(s.Free) < warnAt*float64(s.Total) }
func (s *Space) Short() bool { return s.Total > 0 && float64(s.Free) < failAt*float64(s.Total) }

type use struct {
	at   time.Time
	free int64
}

// Disk watches the disk of the data directory. Below a reserve it makes room: it removes the oldest attempts, never
// entries of the journal. A file holds room for what must be written even if somebody else fills the disk at once: that
// operators sign in, and that attempts can be removed.
type Disk struct {
	dir, held string
	attempts  Shedder
	stat      func(dir string) (free, total int64, err error)

	mu    sync.Mutex
	space Space
	uses  []use
}

// OpenDisk begins to hold room in a data directory. A nil stat asks the operating system.
func OpenDisk(dir string, attempts Shedder, stat func(string) (int64, int64, error)) *Disk {
	if stat == nil {
		stat = statfs
	}
	d := &Disk{dir: dir, held: filepath.Join(dir, "reserve"), attempts: attempts, stat: stat}
	d.look(context.Background())
	return d
}

func statfs(dir string) (free, total int64, err error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(dir, &s); err != nil {
		return 0, 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), int64(s.Blocks) * int64(s.Bsize), nil
}

// Space is how full the disk is now.
func (d *Disk) Space() Space {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.space
}

// Run watches until the context ends.
func (d *Disk) Run(ctx context.Context) {
	tick := time.NewTicker(diskEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			d.look(ctx)
		}
	}
}

// look looks once, and makes room as long as there is too little.
func (d *Disk) look(ctx context.Context) {
	free, total, err := d.stat(d.dir)
	if err != nil || total == 0 {
		return
	}
	reserve, hold := min(int64(shedAt*float64(total)), maxReserve), min(int64(heldAt*float64(total)), maxHeld)
	spent := d.hold(free, hold)
	d.note(free, total, free < reserve, spent)
	for free < reserve && ctx.Err() == nil {
		n, err := d.attempts.RemoveOldest(ctx, shedBlocks)
		if err == nil {
			err = d.attempts.Shrink(ctx)
		}
		if err != nil || n == 0 {
			return
		}
		d.mu.Lock()
		if d.space.Shed == 0 {
			slog.Error(
				"the disk is nearly full: the oldest attempts and sightings are removed before their time",
				"free",
				free,
			)
		}
		d.space.Shed += n
		d.mu.Unlock()
		if free, _, err = d.stat(d.dir); err != nil {
			return
		}
	}
}

// hold holds room while there is enough, and gives it up when the disk is full. It reports whether it is given up.
func (d *Disk) hold(free, size int64) (spent bool) {
	info, err := os.Stat(d.held)
	holding := err == nil && info.Size() > 0
	switch {
	case holding && free < size/4:
		if err := os.Remove(d.held); err != nil {
			slog.Error("giving up the room that is held", "error", err)
		}
		slog.Error("the disk is full: the room that was held for this is given up")
		return true
	case !holding && free > 4*size:
		if err := allocate(d.held, size); err != nil {
			slog.Warn("holding room for a full disk", "error", err)
		}
		return false
	}
	return !holding
}

func allocate(path string, size int64) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Fallocate(int(f.Fd()), 0, 0, size); err != nil {
		return errors.Join(err, f.Close(), os.Remove(path))
	}
	return f.Close()
}

// note keeps how full the disk is, and how quickly it fills.
func (d *Disk) note(free, total int64, shedding, spent bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	if len(d.uses) == 0 || now.Sub(d.uses[len(d.uses)-1].at) >= rateOver/60 {
		d.uses = append(d.uses, use{now, free})
	}
	for len(d.uses) > 1 && now.Sub(d.uses[0].at) > rateOver {
		d.uses = d.uses[1:]
	}
	s := &d.space
	s.Free, s.Total, s.Shedding, s.Spent, s.Lasts = free, total, shedding, spent, 0
	if over := now.Sub(d.uses[0].at); over >= rateLeast && d.uses[0].free > free {
		s.Lasts = time.Duration(float64(over) * float64(free) / float64(d.uses[0].free-free))
	}
	if !s.Low() {
		s.Shed = 0
	}
}
