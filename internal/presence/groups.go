package presence

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
)

const (
	// regroupEvery is how often the groups of everybody are looked up anew, over regroupWithin; perLookup is how long
	// one may take.
	regroupEvery  = 45 * time.Second
	regroupWithin = 40 * time.Second
	perLookup     = 5 * time.Second
	// paceEvery is how often some are looked up, at least and at most so many: directories have other work. At most it
	// is 1,200 a second, for 48,000 people in a round.
	paceEvery   = 20 * time.Millisecond
	leastAtOnce = 4
	mostAtOnce  = 24
)

// lookupsAtOnce is how many lookups are made side by side: one directory that hangs is not to hold up all others, and
// connections are left for sign-ins.
const lookupsAtOnce = 4

// paceOf is how many people of a round are looked up at once, so that it is over in its time.
func paceOf(people int) int {
	return min(max(leastAtOnce, (people*int(paceEvery)+int(regroupWithin)-1)/int(regroupWithin)), mostAtOnce)
}

// regroup looks the groups of people up, of those who are new at once, until the context ends.
func (k *Keeper) regroup(ctx context.Context) {
	var workers sync.WaitGroup
	defer workers.Wait()
	for range lookupsAtOnce {
		workers.Go(func() {
			for {
				select {
				case <-ctx.Done():
					return
				case name := <-k.lookups:
					k.lookUp(ctx, name)
				}
			}
		})
	}
	round := time.NewTicker(regroupEvery)
	defer round.Stop()
	pace := time.NewTicker(paceEvery)
	defer pace.Stop()
	var rest []string
	some := leastAtOnce
	for {
		var next <-chan time.Time
		if len(rest) > 0 {
			next = pace.C
		}
		select {
		case <-ctx.Done():
			return
		case <-next:
			for n := 0; n < some && len(rest) > 0; n++ {
				select {
				case k.lookups <- rest[0]:
					rest = rest[1:]
				default: // they do not come after
					n = some
				}
			}
		case <-round.C:
			k.warn()
			if len(rest) > 0 { // the round before is not over yet
				continue
			}
			k.mu.RLock()
			k.book.People(func(p *core.Person) { rest = append(rest, p.Name) })
			k.mu.RUnlock()
			k.asked.keep(rest)
			some = paceOf(len(rest))
		}
	}
}

// askedFor remembers whom directories were asked for, and when it was recorded what they said.
type askedFor struct {
	mu    sync.Mutex
	asked map[string]time.Time
	noted map[string]time.Time
}

const (
	// askAgain is after how long somebody is looked up again whom nobody knew; noteAgain after how long groups that did
	// not change are recorded again, so that they are known after a restart.
	askAgain  = 30 * time.Second
	noteAgain = behind / 2
	maxAsked  = 100_000
)

// again tells whether to look somebody up.
func (a *askedFor) again(name string, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.asked == nil || len(a.asked) > maxAsked {
		a.asked = map[string]time.Time{}
	}
	if last, ok := a.asked[name]; ok && now.Sub(last) < askAgain {
		return false
	}
	a.asked[name] = now
	return true
}

// note tells whether to record what groups somebody is in.
func (a *askedFor) note(name string, changed bool, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if last, ok := a.noted[name]; ok && !changed && now.Sub(last) < noteAgain {
		return false
	}
	if a.noted == nil {
		a.noted = map[string]time.Time{}
	}
	a.noted[name] = now
	return true
}

// keep forgets everybody but those who are still somewhere.
func (a *askedFor) keep(names []string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	noted := make(map[string]time.Time, len(names))
	for _, name := range names {
		if at, ok := a.noted[name]; ok {
			noted[name] = at
		}
	}
	a.noted = noted
}

const (
	// manyAddresses is at how many addresses a person is at most, manyLeases how many devices a network has at least
	// that is looked at as one without people.
	manyAddresses = 100
	manyLeases    = 30
)

// warn looks for what behaves as people do not.
func (k *Keeper) warn() {
	k.mu.RLock()
	wide, quiet := k.book.Widespread(manyAddresses), k.book.Quiet(manyLeases, k.o.Now())
	k.mu.RUnlock()
	out := []string{}
	for name, n := range wide {
		out = append(
			out,
			fmt.Sprintf("%s is at %d addresses, which no person is: leave the name out with a scope if it is "+
				"that of a service", name, n),
		)
	}
	for network, n := range quiet {
		if k.current().scope.network(network.Addr()) == "" {
			out = append(
				out,
				fmt.Sprintf("%s has %d devices and nobody ever signs in there: leave it out with a scope if it "+
					"is for printers or guests", network, n),
			)
		}
	}
	slices.Sort(out)
	k.warnings.Store(&out)
}

// Warnings say what behaves as people do not.
func (k *Keeper) Warnings() []string {
	if w := k.warnings.Load(); w != nil {
		return *w
	}
	return []string{}
}

func (k *Keeper) lookUp(ctx context.Context, name string) {
	ctx, cancel := context.WithTimeout(ctx, perLookup)
	defer cancel()
	p, ok := k.o.Find(ctx, name)
	if !ok { // what was known stands
		return
	}
	now := k.o.Now()
	k.mu.Lock()
	touched := k.book.Regroup(name, p.Display, p.Groups)
	k.settle(touched, now)
	k.mu.Unlock()
	if !k.asked.note(name, len(touched) > 0, now) {
		return
	}
	text, err := json.Marshal(p.Groups)
	if err != nil {
		return
	}
	k.o.Records.Add(&store.Sighting{At: now, Kind: store.SightingGroups, Who: name, Display: p.Display,
		Detail: string(text), Until: now})
}
