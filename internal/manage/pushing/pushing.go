// Package pushing tells subscribers of presence that cannot ask: as RADIUS accounting (RFC 2866), which firewalls take
// to learn who has an address. Whoever comes is a Start, whoever goes a Stop; a Filter-Id has the role, each Class a
// group.
package pushing

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/upstream/trial"
)

const (
	// lookEvery is how often it is looked for subscribers that are new, changed or gone.
	lookEvery = time.Second
	// wait is how long it is waited for changes at once, batch how many are sent at once.
	wait  = 5 * time.Second
	batch = 200
	// atOnce is how many are under way to one subscriber at once.
	atOnce = 16
	// timeout and tries are those of one record; firstPause and lastPause bound how long is waited after a failure.
	timeout    = 2 * time.Second
	tries      = 3
	firstPause = time.Second
	lastPause  = time.Minute
	// maxClasses bounds the groups that are told, maxValue the octets of an attribute (RFC 2865 section 5).
	maxClasses = 16
	maxValue   = 253
)

// Keeper pushes to all subscribers that are told so.
type Keeper struct {
	Presence *presence.Keeper
	// Config is the configuration in effect, Open opens a secret of it.
	Config func() *config.Config
	Open   func(at config.Place, s config.Secret) (string, error)
	// Catch runs something and catches a fault of ours.
	Catch func(run func())
}

// Run pushes until the context ends.
func (k *Keeper) Run(ctx context.Context) {
	type worker struct {
		of   *config.Subscriber
		stop context.CancelFunc
	}
	running := map[string]worker{}
	var all sync.WaitGroup
	defer all.Wait()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		wanted := map[string]bool{}
		for _, s := range k.Config().Subscribers {
			if s.To == "" || !s.Enabled {
				continue
			}
			wanted[s.ID] = true
			if w, there := running[s.ID]; there && w.of == s {
				continue
			} else if there {
				w.stop()
			}
			each, stop := context.WithCancel(ctx)
			running[s.ID] = worker{s, stop}
			all.Go(func() {
				for each.Err() == nil { // again after a fault of ours
					k.Catch(func() { k.follow(each, s) })
					sleep(each, firstPause)
				}
			})
		}
		for id, w := range running {
			if !wanted[id] {
				w.stop()
				delete(running, id)
			}
		}
		select {
		case <-ctx.Done():
			for _, w := range running {
				w.stop()
			}
			return
		case <-tick.C:
		}
	}
}

// sleep waits, but not longer than the context.
func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// follow tells one subscriber, until the context ends.
func (k *Keeper) follow(ctx context.Context, s *config.Subscriber) {
	secret, err := k.Open(s.PushPlace(), s.PushSecret)
	if err != nil {
		slog.Error("the secret of a subscriber cannot be opened", "subscriber", s.Name, "error", err)
		return
	}
	t := &telling{keeper: k, of: s, secret: secret, filter: presence.FilterOf(s)}
	for pause := firstPause; ctx.Err() == nil; {
		err := t.round(ctx)
		if err == nil {
			pause = firstPause
			continue
		}
		if ctx.Err() != nil {
			return
		}
		if t.failed == "" {
			slog.Warn("a subscriber does not take who is where", "subscriber", s.Name, "error", err)
		}
		t.failed = err.Error()
		k.Presence.Failed(s, t.failed)
		sleep(ctx, pause)
		pause = min(2*pause, lastPause)
	}
}

// telling is how far one subscriber was told.
type telling struct {
	keeper   *Keeper
	of       *config.Subscriber
	secret   string
	filter   presence.Filter
	position string
	failed   string
	// begun tells the sessions apart that were told since everybody was gone.
	begun string
}

// round tells what changed; where that is not known any more, that everybody is gone, and who is there.
func (t *telling) round(ctx context.Context) error {
	waiting, cancel := context.WithTimeout(ctx, wait)
	list, next, err := t.keeper.Presence.Changes(waiting, t.position, t.filter, batch)
	cancel()
	if errors.Is(err, presence.ErrGap) {
		return t.whole(ctx)
	}
	if err != nil {
		return err
	}
	changes := make([]core.Change, len(list))
	for i := range list {
		changes[i] = list[i].Change
	}
	if err := t.send(ctx, changes); err != nil {
		return err
	}
	t.reached(next, len(list))
	return nil
}

func (t *telling) reached(position string, n int) {
	t.position, t.failed = position, ""
	t.keeper.Presence.Reached(t.of, position, n)
}

// whole begins anew (RFC 2866 section 5.1, Accounting-On).
func (t *telling) whole(ctx context.Context) error {
	if !t.keeper.Presence.Complete() {
		return errors.New("this node has just started, and does not know yet who is where")
	}
	t.begun = rand.Text()
	if err := t.one(ctx, []results.Attribute{{Name: "Acct-Status-Type", Value: "Accounting-On"}}); err != nil {
		return err
	}
	n := 0
	position, err := t.keeper.Presence.Snapshot(t.filter, func(list []core.Entry) error {
		changes := make([]core.Change, len(list))
		for i := range list {
			changes[i] = core.Change{Entry: list[i]}
		}
		n += len(list)
		return t.send(ctx, changes)
	})
	if err != nil {
		return err
	}
	t.keeper.Presence.Note(t.of, func(f *presence.Follower, now time.Time) { f.Snapshot, f.From = now, t.of.To })
	t.reached(position, n)
	return nil
}

// send sends changes, those of one address after one another.
func (t *telling) send(ctx context.Context, list []core.Change) error {
	var all sync.WaitGroup
	var mu sync.Mutex
	var first error
	lanes := make([][]*core.Change, atOnce)
	for i := range list {
		octets := list[i].Address.As16()
		lane := int(octets[15]) % atOnce
		lanes[lane] = append(lanes[lane], &list[i])
	}
	for _, lane := range lanes {
		if len(lane) == 0 {
			continue
		}
		all.Go(func() {
			for _, c := range lane {
				if !c.Ports.All() { // accounting knows no ports
					continue
				}
				if err := t.one(ctx, t.attributes(c)); err != nil {
					mu.Lock()
					first = errors.Join(first, err)
					mu.Unlock()
					return
				}
			}
		})
	}
	all.Wait()
	return first
}

func (t *telling) one(ctx context.Context, list []results.Attribute) error {
	r := trial.Report{Server: t.of.To, Secret: t.secret, Timeout: timeout, Tries: tries,
		Attributes: append(list, results.Attribute{Name: "NAS-Identifier", Value: "tollgate-key"})}
	if err := r.Send(ctx); err != nil {
		return fmt.Errorf("telling %s: %w", t.of.To, err)
	}
	return nil
}

// attributes are those of a change.
func (t *telling) attributes(c *core.Change) []results.Attribute {
	sum := sha256.Sum256([]byte(c.Address.String() + " " + c.Who + " " + t.begun))
	status, address := "Start", "Framed-IP-Address"
	if c.Gone {
		status = "Stop"
	}
	if c.Address.Is6() {
		address = "Framed-IPv6-Address"
	}
	out := []results.Attribute{{Name: "Acct-Status-Type", Value: status},
		{Name: "Acct-Session-Id", Value: hex.EncodeToString(sum[:8])}, {Name: "User-Name", Value: cut(c.Who)},
		{Name: address, Value: c.Address.String()}}
	if c.MAC != 0 {
		out = append(out, results.Attribute{Name: "Calling-Station-Id", Value: c.MAC.String()})
	}
	if c.Role != "" {
		out = append(out, results.Attribute{Name: "Filter-Id", Value: cut(c.Role)})
	}
	for _, group := range c.Groups[:min(len(c.Groups), maxClasses)] {
		out = append(out, results.Attribute{Name: "Class", Value: cut(group)})
	}
	return out
}

func cut(text string) string { return text[:min(len(text), maxValue)] }
