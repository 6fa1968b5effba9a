package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/manage/host"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// garbagePercent is that of the service.
const garbagePercent = 400

// rig is a keeper of presence with its records, without the rest of the service.
type rig struct {
	*presence.Keeper
	records *store.Sightings
	stop    func()
}

func openRig(dir string) (*rig, time.Duration, error) {
	begun := time.Now()
	ids := ident.NewSource(0)
	ctx, cancel := context.WithCancel(context.Background())
	debug.SetGCPercent(garbagePercent)
	records, err := store.OpenSightings(ctx, dir, ids, record.Retention{})
	if err != nil {
		cancel()
		return nil, 0, err
	}
	c := &config.Config{}
	c.Normalise()
	k := presence.Open(presence.Options{Records: records, IDs: ids, Log: slog.Default(),
		Config: func() *config.Config { return c },
		Open:   func(config.Place, config.Secret) (string, error) { return "", errors.New("there is none") },
		Name:   func(sent string) string { return sent },
		Find: func(context.Context, string) (presence.Person, bool) {
			return presence.Person{Groups: []string{"Crew"}}, true
		}})
	go host.WatchMemory(ctx, garbagePercent, k.Complete)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.Run(ctx)
	}()
	for !k.Complete() {
		time.Sleep(time.Millisecond)
	}
	return &rig{k, records, func() {
		cancel()
		<-ended
		records.Close()
	}}, time.Since(begun), nil
}

// see reports one person at one address.
func (r *rig) see(n int, kind core.Kind) error {
	_, err := r.Take(r.BuiltIn(config.SourceSessions), presence.Report{Sighting: core.Sighting{Kind: kind,
		Who: fmt.Sprintf("person-%d", n), Ref: fmt.Sprintf("client %08x", n), MAC: core.MAC(n + 1),
		Address: netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})}})
	return err
}

// presenceOnly measures sightings a second, how soon subscribers know, and the time of a restart.
func presenceOnly(entries int) error {
	dir, err := os.MkdirTemp("", "tollgate-load")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	r, _, err := openRig(dir)
	if err != nil {
		return err
	}
	begun := time.Now()
	var next atomic.Int64
	var all sync.WaitGroup
	for range 2 {
		all.Go(func() {
			for n := next.Add(1); n <= int64(entries); n = next.Add(1) {
				if err := r.see(int(n), core.SignedIn); err != nil {
					fmt.Println("refused:", err)
				}
			}
		})
	}
	all.Wait()
	took := time.Since(begun)
	fmt.Printf("sightings of %d people at as many addresses: %.0f a second, %d lost on the way to the disk\n", entries,
		float64(entries)/took.Seconds(), r.records.Lost())
	if err := r.spread(entries); err != nil {
		return err
	}
	r.stop()
	program, err := os.Executable()
	if err != nil {
		return err
	}
	again := exec.Command(program, "-presence-again", dir) // nothing of this process is to be there
	again.Stdout, again.Stderr = os.Stdout, os.Stderr
	return again.Run()
}

// presenceAgain measures how long it takes until what was recorded in a directory is known again.
func presenceAgain(dir string) error {
	r, took, err := openRig(dir)
	if err != nil {
		return err
	}
	defer r.stop()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	fmt.Printf("after a restart %d are known again in %.1f s, and take %d MB\n", r.Len(), took.Seconds(),
		m.HeapAlloc>>20)
	return nil
}

// spread measures how soon 20 subscribers know of 5,000 changes a second.
func (r *rig) spread(entries int) error {
	const subscribers, rate, seconds = 20, 5000, 4
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var mu sync.Mutex
	var delays []time.Duration
	var all sync.WaitGroup
	for range subscribers {
		position, err := r.Position()
		if err != nil {
			return err
		}
		all.Go(func() {
			for ctx.Err() == nil {
				list, at, err := r.Changes(ctx, position, presence.Filter{}, 500)
				if err != nil {
					fmt.Println("a subscriber:", err)
					return
				}
				position = at
				now := time.Now()
				mu.Lock()
				for i := range list {
					delays = append(delays, now.Sub(list[i].At))
				}
				mu.Unlock()
			}
		})
	}
	tick := time.NewTicker(time.Second / 100)
	defer tick.Stop()
	made := 0
	for range seconds * 100 {
		<-tick.C
		for range rate / 100 / 2 { // one leaves, and comes again
			n := 1 + made%entries
			if err := errors.Join(r.see(n, core.SignedOut), r.see(n+entries, core.SignedIn)); err != nil {
				return err
			}
			made++
		}
	}
	time.Sleep(200 * time.Millisecond)
	cancel()
	all.Wait()
	slices.Sort(delays)
	if len(delays) == 0 {
		return errors.New("no subscriber was told anything")
	}
	fmt.Printf("%d changes in %d s, %d told to %d subscribers: half after %s, 99 of 100 after %s\n", 2*made, seconds,
		len(delays), subscribers, delays[len(delays)/2].Round(100*time.Microsecond),
		delays[len(delays)*99/100].Round(100*time.Microsecond))
	return nil
}
