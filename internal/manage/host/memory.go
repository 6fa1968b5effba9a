package host

import (
	"context"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

const (
	// garbage is how much may lie about before it is collected, in octets, within the bounds of minPercent and the
	// percentage that a small installation has.
	garbage    = 160 << 20
	minPercent = 50
	// beginPercent is minPercent as long as the service reads what it knew: all of that stays, and to look for garbage
	// among it again and again takes as long as the reading.
	beginPercent = 100
	memoryEvery  = time.Second
)

// WatchMemory has garbage collected earlier the more memory is in use, until the context ends: a small installation
// collects it seldom, at so many percent of what it uses, and a large one does not take several times what it needs.
// Complete tells that what was known before the start is known again. GOGC in the environment overrides it.
func WatchMemory(ctx context.Context, percent int, complete func() bool) {
	if os.Getenv("GOGC") != "" {
		return
	}
	tick := time.NewTicker(memoryEvery)
	defer tick.Stop()
	sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for set := percent; ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		metrics.Read(sample)
		least := minPercent
		if !complete() {
			least = beginPercent
		}
		if next := percentOf(sample[0].Value.Uint64(), percent, least); next*10 < set*9 || next*9 > set*10 {
			set = next
			debug.SetGCPercent(set)
		}
	}
}

// percentOf is what may lie about in percent of what is in use.
func percentOf(live uint64, most, least int) int {
	return max(least, int(min(uint64(most), garbage*100/max(1, live))))
}
