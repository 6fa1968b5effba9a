package host

import (
	"context"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

const (
	// largeHeap is from how many octets in use on garbage is collected earlier: what is in use is much by then, and as
	// much again would lie about. The collector runs seldom enough not to be noticed.
	largeHeap   = 96 << 20
	largeGC     = 50
	memoryEvery = time.Second
)

// WatchMemory keeps a large installation in little more memory than it uses, until the context ends. GOGC in the
// environment overrides it.
func WatchMemory(ctx context.Context) {
	if os.Getenv("GOGC") != "" {
		return
	}
	tick := time.NewTicker(memoryEvery)
	defer tick.Stop()
	sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	early := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		metrics.Read(sample)
		if large := sample[0].Value.Kind() == metrics.KindUint64 && sample[0].Value.Uint64() > largeHeap; large != early {
			early = large
			debug.SetGCPercent(map[bool]int{true: largeGC, false: 100}[large])
		}
	}
}
