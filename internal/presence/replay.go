package presence

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"tollgate.example/key/internal/base/ident"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
)

// replay takes what was recorded in the time that it may still count.
func (k *Keeper) replay(ctx context.Context) error {
	now := k.o.Now()
	ready, used := make(chan *replayed, 8), make(chan *replayed, 8)
	var ended sync.WaitGroup
	defer ended.Wait()
	defer close(ready)
	ended.Go(func() { // beside the reading
		groups := map[string][]string{}
		for some := range ready {
			k.replaySome(some, groups)
			some.list = some.list[:0]
			select {
			case used <- some:
			default:
			}
		}
	})
	for _, part := range []store.SightingFilter{
		{Kinds: []string{string(core.Leased), string(core.Released)}, Span: store.Span{Since: now.Add(-longestLease),
			After: ident.At(now.Add(-longestLease - behind))}},
		{Kinds: []string{string(core.SignedIn), string(core.Still), string(core.SignedOut), store.SightingGroups},
			Most: true, Span: store.Span{Since: now.Add(-behind), After: ident.At(now.Add(-2 * behind))}},
	} {
		err := k.o.Records.Each(ctx, part, func(list []store.Sighting) error {
			var some *replayed
			select {
			case some = <-used:
			default:
				some = &replayed{}
			}
			for i := range list {
				r := &list[i]
				if r.Kind == store.SightingGroups {
					if r.Detail != "" {
						some.list = append(some.list, replay{groups: r.Detail, Sighting: core.Sighting{Who: r.Who,
							Display: r.Display}})
					}
					continue
				}
				if s, err := sightingOf(r); err == nil && s.Check() == nil {
					some.list = append(some.list, replay{Sighting: s})
				}
			}
			select {
			case ready <- some:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
		if err != nil {
			return fmt.Errorf("reading the sightings: %w", err)
		}
	}
	return nil
}

// replayed are some of the records; groups is empty but for those that say what groups somebody was in.
type replayed struct{ list []replay }

type replay struct {
	core.Sighting
	groups string
}

// replaySome takes what it changes for settled: that is done in the end. What there is no room for is not there.
func (k *Keeper) replaySome(some *replayed, groups map[string][]string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range some.list {
		r := &some.list[i]
		if r.groups != "" {
			k.replayGroups(groups, r)
			continue
		}
		if of := ident.ID(r.ID); of.Node() != k.o.Node {
			k.told.first(of)
		}
		k.book.Apply(&r.Sighting)
	}
}

// maxReplayed bounds the lists of groups that are remembered by how they are recorded.
const maxReplayed = 10_000

// replayGroups has somebody be in the groups that were recorded, so that subscribers miss nobody after a restart, even
// while directories do not answer. They are recorded behind the sighting that made the person known.
func (k *Keeper) replayGroups(known map[string][]string, r *replay) {
	groups, ok := known[r.groups]
	if !ok {
		if json.Unmarshal([]byte(r.groups), &groups) != nil {
			return
		}
		if len(known) >= maxReplayed {
			clear(known)
		}
		known[strings.Clone(r.groups)] = groups // not the block that it was read from
	}
	k.book.Regroup(r.Who, r.Display, groups)
}
