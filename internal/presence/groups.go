package presence

import (
	"context"
	"fmt"
	"slices"
	"time"

	core "tollgate.example/key/internal/core/presence"
)

const (
	// regroupEvery is how often the groups of everybody are looked up anew, perLookup how long one may take, and
	// lookupsPerSecond how many are made at most: directories have other work.
	regroupEvery     = 45 * time.Second
	perLookup        = 5 * time.Second
	lookupsPerSecond = 200
)

// regroup looks the groups of people up, of those who are new at once, until the context ends.
func (k *Keeper) regroup(ctx context.Context) {
	round := time.NewTicker(regroupEvery)
	defer round.Stop()
	pace := time.NewTicker(time.Second / lookupsPerSecond)
	defer pace.Stop()
	var rest []string
	for {
		var next <-chan time.Time
		if len(rest) > 0 {
			next = pace.C
		}
		select {
		case <-ctx.Done():
			return
		case name := <-k.lookups:
			k.lookUp(ctx, name)
		case <-next:
			k.lookUp(ctx, rest[0])
			rest = rest[1:]
		case <-round.C:
			if len(rest) > 0 { // the round before is not over yet
				continue
			}
			k.warn()
			k.mu.RLock()
			k.book.People(func(p *core.Person) { rest = append(rest, p.Name) })
			k.mu.RUnlock()
		}
	}
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
	k.mu.Lock()
	defer k.mu.Unlock()
	k.settle(k.book.Regroup(name, p.Display, p.Groups), k.o.Now())
}
