package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/base/tally"
	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/identity/lockout"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/web/api"
)

// EngineFlag makes the program run the engine of a node, and nothing else.
const EngineFlag = "-run-engine"

// engineCommand is the command line that runs an engine.
func engineCommand(o *Options) ([]string, error) {
	if len(o.Engine) > 0 {
		return o.Engine, nil
	}
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("finding this program, which runs the engine: %w", err)
	}
	return []string{self, EngineFlag}, nil
}

// openCluster goes on as one of several nodes, if this is one.
func (a *App) openCluster(ctx context.Context, o *Options, box *seal.Box, registry *sources.Registry,
	revisions *revision.Keeper, counts *tally.Tally) error {
	command, err := engineCommand(o)
	if err != nil {
		return err
	}
	own := func() cluster.Own {
		hour, now := 0, time.Now().Unix()/60
		for m := now - 59; m <= now; m++ {
			count := counts.Minute(m)
			hour += count.Admitted + count.Refused
		}
		_, number := revisions.Running()
		out := cluster.Own{Revision: number, Attempts: hour, Clients: map[string]time.Time{},
			Holds: a.ofOthers.Nodes()}
		if m := a.mirror.Load(); m != nil {
			out.Copied = copiesOf(m.State())
		}
		if url := a.console.Load(); url != nil {
			out.URL = *url
		}
		for _, s := range registry.All() {
			if at := latest(s.Seen, s.SeenGear, s.SeenTLS); s.Client != "" && at.After(out.Clients[s.Client]) {
				out.Clients[s.Client] = at
			}
		}
		return out
	}
	a.owners["lease-block"] = blocks{a.leases}
	a.owners["node-settings"] = configuration{a.readNodeSettings}
	if err := a.readNodeSettings(ctx); err != nil {
		return err
	}
	a.cluster, err = cluster.Open(ctx, cluster.Options{Dir: o.Data, Address: o.NodeAddress, Number: int(o.Node),
		Version: Version, Command: command, Outside: o.Outside, Store: a.store, Box: box, Tell: a.Changed,
		Shared:  func(ctx context.Context, node int) error { return a.leases.Share(ctx, a.store, node) },
		Reunite: a.reunite, Inside: a.approvals.inside(a.copiesOr(api.Inside(a)), a.panicked), Hear: a.hear,
		Gather: a.gather, Missed: a.missed,
		Catch: func(run func()) {
			defer a.panicked.Catch(func() string { return "work of nodes" }, nil)
			run()
		}, Own: own,
		Log: o.Log})
	if err != nil {
		return fmt.Errorf("going on as one of several nodes: %w", err)
	}
	a.done = append(a.done, a.cluster.Close)
	a.Sessions.Silent(a.silentNode)
	a.Gate.Lockout.Tell(func(s lockout.Said) { a.cluster.Say(saidPassword, s) })
	a.Gate.Computers.Tell(func(mac, name string, at time.Time) {
		a.cluster.Say(saidComputer, computerSeen{mac, name, at})
	})
	a.Gate.Resumable().Tell(func(t server.Told) { a.cluster.Say(saidResumable, t) })
	return nil
}

// What nodes tell each other soon: what became of passwords, from where computers were proven, TLS sessions, and what
// people say of sign-ins on their phones.
const (
	saidPassword = "password"
	saidComputer = "computer"
	// A TLS session that may be resumed, or that was.
	saidResumable = "resumable"
	// An alarm of a person about a sign-in, and its end.
	saidNotMe    = "not-me"
	saidReleased = "released"
	// Sessions that clients report to another node than before.
	saidMoved = "moved"
	// Sessions that count towards limits, and those that are to end since there are too many.
	saidCounted = "counted"
	saidEnd     = "end"
	// A node that has begun, or did not hear for a while, asks for all of them.
	saidTellAnew = "tell-anew"
)

type computerSeen struct {
	MAC, Name string
	At        time.Time
}

// hear takes what another node says.
func (a *App) hear(s cluster.Saying) {
	switch s.Kind {
	case saidPassword:
		var said lockout.Said
		if json.Unmarshal(s.Data, &said) == nil && said.Name != "" {
			a.Gate.Lockout.Heard(said)
		}
	case saidNotMe, saidReleased:
		a.approvals.heard(s.Kind, s.Data)
	case saidDoing:
		a.heardDoing(s.Data)
	case saidTraits:
		a.heardTraits(s.Data)
	case saidSightings:
		a.heardSightings(s.Data)
	case saidCounted:
		var said countedHere
		if json.Unmarshal(s.Data, &said) == nil && said.Node != a.node {
			a.Sessions.Counts(said.Node, said.List, said.Anew)
		}
	case saidTellAnew:
		a.Sessions.TellAnew()
	case saidEnd:
		var end endThere
		if json.Unmarshal(s.Data, &end) == nil && end.Node == a.node {
			if one := a.Sessions.FindBy(end.Client, end.NAS, end.Session); one != nil {
				a.changes.End([]*session.Session{one}, end.Why)
			}
		}
	case saidMoved:
		var list []session.Moved
		if json.Unmarshal(s.Data, &list) == nil {
			a.Sessions.Left(list)
		}
	case saidResumable:
		var told server.Told
		if json.Unmarshal(s.Data, &told) == nil {
			a.Gate.Resumable().Heard(told)
		}
	case saidComputer:
		var seen computerSeen
		if json.Unmarshal(s.Data, &seen) == nil && seen.MAC != "" {
			a.Gate.Computers.Heard(seen.MAC, seen.Name, seen.At)
		}
	}
}

// readNodeSettings takes the settings of all nodes into use.
func (a *App) readNodeSettings(ctx context.Context) error {
	codes, err := a.store.CodesWhenCutOff(ctx)
	if err != nil {
		return fmt.Errorf("reading the settings of the nodes: %w", err)
	}
	a.factors.TakeAlone(codes == cluster.TakeCodes)
	return nil
}

// reunite shares what was done here alone while no majority of the nodes was reached.
func (a *App) reunite(ctx context.Context) error {
	list, err := a.store.Unshared(ctx)
	if err != nil {
		return err
	}
	for _, u := range list {
		ours, err := a.store.ShareAgain(ctx, u)
		if err != nil {
			return err
		}
		if ours {
			continue
		}
		if u.Table != "factors" {
			a.log.Warn(
				"what was changed here while no other node could be reached gave way to what those have",
				"table",
				u.Table,
				"row",
				u.ID,
			)
			continue
		}
		id, name, twice, err := a.factors.Reunite(ctx, &u)
		if err != nil {
			return err
		}
		if twice > 0 {
			a.twice(ctx, id, name, twice)
		}
	}
	return nil
}

// twice raises the alarm of codes that counted on two nodes.
func (a *App) twice(ctx context.Context, id, name string, count int) {
	a.mu.Lock()
	a.usedTwice = append(a.usedTwice, attention.UsedTwice{ID: id, Name: name, Count: count, At: time.Now()})
	a.usedTwice = a.usedTwice[max(0, len(a.usedTwice)-20):]
	a.mu.Unlock()
	a.trail.Put(ctx, audit.Line{Actor: audit.Actor{How: "service"}, Call: "reunite", Kind: "factor", Object: id,
		Name: name, What: fmt.Sprintf("found that %d codes of %s were used on two nodes that were cut off from each "+
			"other", count, name), Result: audit.Done})
}

// ServeHTTP answers calls of other nodes, once the API is there.
func (a *App) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	handler := a.handler.Load()
	if handler == nil {
		http.Error(w, "this node is starting", http.StatusServiceUnavailable)
		return
	}
	(*handler).ServeHTTP(w, r)
}

func latest(list ...time.Time) (out time.Time) {
	for _, at := range list {
		if at.After(out) {
			out = at
		}
	}
	return out
}

// Witness runs a witness until the context ends; an empty data directory joins first.
func Witness(ctx context.Context, o Options) error {
	if err := makePrivate(o.Data, o.Log); err != nil {
		return err
	}
	unlock, err := lock(filepath.Join(o.Data, "lock"))
	if err != nil {
		return fmt.Errorf("the data directory %s is in use by another tollgated: stop that one first", o.Data)
	}
	defer unlock()
	command, err := engineCommand(&o)
	if err != nil {
		return err
	}
	switch {
	case cluster.IsWitness(o.Data):
	case o.Outside != nil:
		return cluster.ErrNoWitness
	case o.Join == "":
		return errors.New("a witness needs an invitation: give -join what tollgate node invite printed")
	default:
		if err := cluster.Join(ctx, cluster.JoinOptions{Dir: o.Data, Token: o.Join, Address: o.NodeAddress,
			Version: Version, Witness: true}); err != nil {
			return err
		}
	}
	fmt.Println("Tollgate Key is running as a witness.")
	return cluster.Witness(ctx, o.Data, Version, command, o.Log)
}

// nodes are the nodes as Now is told of them.
func (a *App) nodes() attention.Nodes {
	a.mu.Lock()
	out := attention.Nodes{Twice: slices.Clone(a.usedTwice)}
	a.mu.Unlock()
	state := a.cluster.State(context.Background())
	if !state.Shared {
		return out
	}
	out.CutOff, out.Removed, out.Stuck, out.Engine = state.CutOff, state.Removed, state.Stuck, state.Outside
	out.Pair = len(state.Nodes) == 2 && state.Outside == ""
	for _, n := range state.Nodes {
		one := attention.Node{Name: n.Name, Witness: n.Witness, Offset: n.Seen.Offset}
		switch {
		case n.Seen.Silent():
			one.Wrong, one.Silent = n.Seen.Wrong, n.Seen.At
			if n.Seen.At.IsZero() {
				one.Silent = time.UnixMilli(n.JoinedAt)
			}
		case n.Seen.Wrong == "" && !n.Seen.At.IsZero() && !n.Seen.Own.Engine.Running:
			one.Wrong = n.Seen.Own.Engine.Why
		}
		one.Uncopied, one.Why = uncopied(&n, state.Nodes)
		out.Others = append(out.Others, one)
	}
	return out
}

// uncopied is since when something of what a node records is copied to no other node, although one answers, and why.
func uncopied(n *cluster.NodeState, all []cluster.NodeState) (since time.Time, why string) {
	if n.Witness || n.Seen.Silent() || !slices.ContainsFunc(all, func(o cluster.NodeState) bool {
		return o.Number != n.Number && !o.Witness && !o.Seen.At.IsZero() && !o.Seen.Silent()
	}) {
		return time.Time{}, ""
	}
	for _, c := range n.Seen.Own.Copied {
		if !c.Live && c.Wrong != "" && (since.IsZero() || c.Since.Before(since)) {
			since, why = c.Since, c.Kind+", "+c.Wrong
		}
	}
	return since, why
}
