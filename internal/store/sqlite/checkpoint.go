package sqlite

import (
	"log/slog"
	"os"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
)

const (
	checkpointEvery = 100 * time.Millisecond
	// maxLog is the size of the write-ahead log beyond which writers and readers wait until it could begin anew, and
	// the size to which it is cut then.
	maxLog = 64 << 20
)

// checkpoints brings what was committed from the write-ahead log into the file, a little at a time and beside the
// writer. Left to the writer, as SQLite does by itself, it would come as 64 MB at once, and hold up for tens of
// milliseconds whoever waits for an answer on the same core or for the same disk.
type checkpoints struct {
	// mu is held by whoever brings something from the log into the file, or must not have that done.
	mu      sync.Mutex
	closing chan struct{}
	once    sync.Once
	done    sync.WaitGroup
}

func startCheckpoints(db *sqlx.DB, path string) *checkpoints {
	c := &checkpoints{closing: make(chan struct{})}
	c.done.Go(func() { c.run(db, path) })
	return c
}

func (c *checkpoints) stop() {
	c.once.Do(func() { close(c.closing) })
	c.done.Wait()
}

func (c *checkpoints) run(db *sqlx.DB, path string) {
	tick := time.NewTicker(checkpointEvery)
	defer tick.Stop()
	var done time.Time // when the log was last written that is in the file as a whole
	var warned time.Time
	for {
		select {
		case <-c.closing:
			return
		case <-tick.C:
		}
		info, err := os.Stat(path + "-wal")
		if err != nil || info.ModTime().Equal(done) {
			continue
		}
		how := "PASSIVE"
		if info.Size() > maxLog {
			how = "TRUNCATE"
		}
		if !c.mu.TryLock() { // a copy is made, which may take minutes
			continue
		}
		var busy, logged, moved int
		err = db.QueryRow("PRAGMA wal_checkpoint("+how+")").Scan(&busy, &logged, &moved)
		c.mu.Unlock()
		if err != nil {
			if time.Since(warned) > time.Minute { // it is tried ten times a second
				warned = time.Now()
				slog.Warn("bringing the log of a database into its file", "file", path, "error", err)
			}
		} else if busy == 0 && logged == moved {
			done = info.ModTime()
		}
	}
}
