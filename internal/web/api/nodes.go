package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) nodes() {
	huma.Register(s.api, operation("GET", "/nodes", "list-nodes", "The nodes of this service, and how they do"),
		func(ctx context.Context, _ *none) (*body[apitype.Nodes], error) {
			out, err := s.nodesNow(ctx)
			return ok(out), err
		})
	huma.Register(
		s.api,
		operation("PUT", "/nodes/settings", "change-node-settings", "Change the settings of all nodes"),
		func(ctx context.Context, in *struct {
			Body apitype.NodeSettings
		}) (*body[apitype.Nodes], error) {
			audit.Of(ctx).On("node", "", "").Say("had one-time codes while no majority of the nodes is reached: " +
				in.Body.CodesWhenCutOff)
			if err := s.Store.SetCodesWhenCutOff(ctx, in.Body.CodesWhenCutOff); err != nil {
				return nil, err
			}
			s.Factors.TakeAlone(in.Body.CodesWhenCutOff == cluster.TakeCodes)
			out, err := s.nodesNow(ctx)
			return ok(out), err
		},
	)
	huma.Register(
		s.api,
		operation("POST", "/nodes", "invite-node", "Make an invitation for a node that is to join"),
		func(ctx context.Context, in *struct {
			Body apitype.NodeInput
		}) (*body[apitype.NodeInvitation], error) {
			name := strings.TrimSpace(in.Body.Name)
			audit.Of(ctx).On("node", name, name).Say("invited the node " + name)
			i, err := s.Cluster.Invite(ctx, name, in.Body.Witness, who(ctx).Name)
			if err != nil {
				return nil, nodeProblem(err)
			}
			return ok(apitype.NodeInvitation{Name: name, Token: i.Token(), Flags: s.Cluster.Flags(),
				Until: time.Unix(i.Until, 0)}), nil
		},
	)
	huma.Register(s.api, operation("DELETE", "/nodes/{name}", "remove-node", "Remove a node from the others"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"63"`
		}) (*none, error) {
			audit.Of(ctx).On("node", in.Name, in.Name).Say("removed the node " + in.Name)
			if err := s.Cluster.Remove(ctx, in.Name); err != nil {
				return nil, nodeProblem(err)
			}
			return nil, nil
		})
	huma.Register(
		s.api,
		operation("POST", "/nodes/recovery", "recover-nodes", "Go on with this node alone, where the "+
			"majority of the nodes is gone for good"),
		func(ctx context.Context, _ *none) (*body[apitype.Nodes], error) {
			if err := s.Cluster.Recover(ctx); err != nil {
				return nil, nodeProblem(err)
			}
			audit.Of(ctx).On("node", "", "").Say("went on with this node alone; the others have to join again")
			out, err := s.nodesNow(ctx)
			return ok(out), err
		},
	)
}

// nodeProblem says what to do about a node that cannot come or go.
func nodeProblem(err error) error {
	switch {
	case errors.Is(err, cluster.ErrName), errors.Is(err, store.ErrTaken):
		return problem(http.StatusUnprocessableEntity, err.Error(), "Choose another name.",
			apitype.Fault{Field: "name", Message: err.Error()})
	case errors.Is(err, cluster.ErrAlone):
		return problem(http.StatusConflict, err.Error(), "Invite another one first.")
	case errors.Is(err, cluster.ErrSelf), errors.Is(err, cluster.ErrMajority), errors.Is(err, cluster.ErrNoWitness):
		return problem(http.StatusConflict, err.Error(), "")
	case errors.Is(err, cluster.ErrAnew):
		return problem(http.StatusConflict, err.Error(), "Empty its data directory, and start it with an invitation.")
	case errors.Is(err, cluster.ErrOtherLog):
		return problem(http.StatusConflict, err.Error(), "To begin another log in the same etcd cluster, start this "+
			"node with another -engine-prefix.")
	case errors.Is(err, store.ErrNotFound):
		return problem(http.StatusNotFound, "there is no such node", "See tollgate node list.")
	}
	return err
}

const (
	// clockApart is how far apart clocks are when that is worth a word, behindBy after how many entries a node is
	// behind.
	clockApart = time.Second
	behindBy   = 100
	// namedClients is how many clients of a node are named.
	namedClients = 8
)

// nodesNow is how the nodes do.
func (s *server) nodesNow(ctx context.Context) (apitype.Nodes, error) {
	state := s.Cluster.State(ctx)
	out := apitype.Nodes{Shared: state.Shared, Majority: state.Majority, Head: state.Head, Applied: state.Applied,
		Stuck: state.Stuck, Removed: state.Removed, Etcd: state.Outside, Items: []apitype.Node{},
		Lonely: []apitype.Lonely{}}
	if !state.CutOff.IsZero() {
		out.CutOff = &state.CutOff
	}
	running, _ := s.Revisions.Running()
	for _, n := range state.Nodes {
		one := node(&n, state.Head, state.Outside != "")
		one.Copies, one.Copied = copiedTo(&n, state.Nodes)
		for _, c := range running.Clients {
			if _, asked := n.Seen.Own.Clients[c.ID]; asked {
				one.Asked = append(one.Asked, c.Name)
			}
		}
		slices.Sort(one.Asked)
		one.Clients, one.Asked = len(one.Asked), one.Asked[:min(len(one.Asked), namedClients)]
		if n.Self {
			out.Self = n.Name
		}
		out.Items = append(out.Items, one)
	}
	if state.Shared {
		out.Lonely = lonely(state.Nodes, running.Clients)
	}
	var err error
	out.CodesWhenCutOff, err = s.Store.CodesWhenCutOff(ctx)
	return out, err
}

func node(n *cluster.NodeState, head int64, outside bool) apitype.Node {
	own := n.Seen.Own
	out := apitype.Node{Number: n.Number, Name: n.Name, Self: n.Self, Witness: n.Witness, Address: n.Address,
		URL: own.URL, Version: cmp.Or(own.Version, n.Version), Applied: own.Applied, Revision: own.Revision,
		Offset: n.Seen.Offset.Milliseconds(), Attempts: own.Attempts, Asked: []string{}, Leads: own.Engine.Leader,
		Engine: own.Engine.Size, Why: own.Engine.Why, JoinedAt: time.UnixMilli(n.JoinedAt), JoinedBy: n.JoinedBy}
	if !n.Seen.At.IsZero() {
		out.Seen = &n.Seen.At
	}
	if !own.Engine.Died.IsZero() {
		out.Died = &own.Engine.Died
	}
	if !n.Witness && out.Seen != nil {
		out.Behind = max(0, head-own.Applied)
	}
	out.State, out.Says = health(n, out.Behind, outside)
	return out
}

// health says how a node does.
func health(n *cluster.NodeState, behind int64, outside bool) (state, says string) {
	switch engine := n.Seen.Own.Engine; {
	case n.Seen.At.IsZero() && n.Seen.Wrong == "":
		return "joining", "not met yet"
	case n.Seen.At.IsZero():
		return "silent", "never reached: " + n.Seen.Wrong
	case n.Seen.Silent():
		return "silent", "does not answer: " + n.Seen.Wrong
	case !engine.Running && outside:
		return "engine", "answers devices, but does not reach what the nodes share state by: " + engine.Why
	case !engine.Running:
		return "engine", "answers devices, but its engine does not run: " + engine.Why
	case engine.Learner:
		return "joining", "catches up, and counts for no majority yet"
	case behind > behindBy:
		return "behind", fmt.Sprintf("takes over what others changed: %d entries are left", behind)
	case n.Seen.Offset.Abs() > clockApart:
		return "well", fmt.Sprintf(
			"its clock is %s%s",
			n.Seen.Offset.Abs().Round(100*time.Millisecond),
			way(n.Seen.Offset),
		)
	}
	if n.Witness {
		return "well", "counts for the majority"
	}
	return "well", "up to date"
}

func way(d time.Duration) string {
	if d < 0 {
		return " behind"
	}
	return " ahead"
}

// lonely are the clients that have asked one node only, which will be without service if that dies.
func lonely(nodes []cluster.NodeState, clients []*config.Client) []apitype.Lonely {
	out := []apitype.Lonely{}
	asked := map[string][]apitype.Lonely{}
	count := 0
	for _, n := range nodes {
		if !n.Witness {
			count++
		}
		for id, at := range n.Seen.Own.Clients {
			asked[id] = append(asked[id], apitype.Lonely{Node: n.Name, Seen: at})
		}
	}
	if count < 2 {
		return out
	}
	for _, c := range clients {
		if list := asked[c.ID]; c.Enabled && len(list) == 1 {
			out = append(out, apitype.Lonely{Client: c.Name, Node: list[0].Node, Seen: list[0].Seen})
		}
	}
	slices.SortFunc(out, func(a, b apitype.Lonely) int { return strings.Compare(a.Client, b.Client) })
	return out
}
