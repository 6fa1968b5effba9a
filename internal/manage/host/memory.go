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
	garbage     = 160 << 20
	minPercent  = 50
	memoryEvery = time.Second
)

// WatchMemory has garbage collected earlier the more memory is in use, until the context ends: a small installation
// collects it seldom, at so many percent of what it uses, and a large one does not take several times what it needs.
// It begins when complete tells that what was known before the start is known again: all that is read until then stays,
// and to look for garbage among it again and again takes as long as the reading. GOGC in the environment overrides it.
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
		if !complete() {
			continue
		}
		metrics.Read(sample)
		if next := percentOf(sample[0].Value.Uint64(), percent); next*10 < set*9 || next*9 > set*10 {
			set = next
			debug.SetGCPercent(set)
		}
	}
}

// percentOf is what may lie about in percent of what is in use.
func percentOf(live uint64, most int) int {
	return max(minPercent, int(min(uint64(most), garbage*100/max(1, live))))
}
