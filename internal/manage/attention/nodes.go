package attention

import (
	"strconv"
	"time"
)

const (
	// NodesCutOff is that no majority of the nodes is reached; parameters since and engine. NodeRemoved is that the
	// others removed this node.
	NodesCutOff Code = "nodes.cut-off"
	NodeRemoved Code = "nodes.removed"
	// NodesStuck is that what other nodes changed cannot be taken over; parameter error.
	NodesStuck Code = "nodes.stuck"
	// NodeSilent is a node that does not answer; parameters node, kind, since and error.
	NodeSilent Code = "nodes.silent"
	// NodeEngine is a node whose engine does not run; parameters node, error and engine.
	NodeEngine Code = "nodes.engine"
	// NodeClock is a node whose clock is another one than ours; parameters node, by and way.
	NodeClock Code = "nodes.clock"
	// NodeUncopied is a node whose records are not copied to another one; parameters node, since and error.
	NodeUncopied Code = "nodes.uncopied"
	// NodesPair are two nodes without a witness.
	NodesPair Code = "nodes.pair"
	// CodesTwice are one-time codes that counted on two nodes which were cut off from each other; parameters account,
	// count and at.
	CodesTwice Code = "factor.twice"
)

// NotMe is a person who says of a sign-in, on the phone: this is not me.
type NotMe struct {
	Store, Name, Client, From string
	At                        time.Time
}

// Same tells that it is the same one, however it came here.
func (n *NotMe) Same(o *NotMe) bool {
	return n.Store == o.Store && n.Name == o.Name && n.At.Equal(o.At)
}

// alarms lists those.
func alarms(list []NotMe) (out []Item) {
	for _, n := range list {
		out = append(out, Item{FactorAlarm, Fail, "factor", "", map[string]string{"person": n.Name, "client": n.Client,
			"from": n.From, "at": n.At.Format("2006-01-02 15:04")}})
	}
	return out
}

// Nodes are several nodes as this one sees them.
type Nodes struct {
	CutOff  time.Time
	Removed bool
	Stuck   string
	// Engine names the etcd cluster by which nodes share state, "" where each has an engine of its own.
	Engine string
	// Pair tells that there are two, so that a majority is both.
	Pair   bool
	Others []Node
	Twice  []UsedTwice
}

// Node is another node, or this one for its engine.
type Node struct {
	Name    string
	Witness bool
	// Silent is since when it does not answer, zero if it does; Wrong says why, or why its engine does not run.
	Silent time.Time
	Wrong  string
	// Uncopied is since when its records are copied to no other node although one answers, zero if they are; Why says
	// why.
	Uncopied time.Time
	Why      string
	// Offset is by how much its clock is ahead.
	Offset time.Duration
}

// UsedTwice are codes of a person that counted on two nodes.
type UsedTwice struct {
	ID, Name string
	Count    int
	At       time.Time
}

// Clocks that are further apart are worth a word, or an alarm.
const (
	clockApart = time.Second
	clockWrong = 30 * time.Second
)

// copiedSoon is how long the copy of a node's records may be behind until that is worth a word.
const copiedSoon = time.Minute

// items lists what of the nodes needs attention.
func (n *Nodes) items() (out []Item) {
	add := func(code Code, severity Severity, params map[string]string) {
		out = append(out, Item{code, severity, "node", "", params})
	}
	if !n.CutOff.IsZero() {
		add(NodesCutOff, Fail, map[string]string{"since": n.CutOff.Format("15:04:05"), "engine": n.Engine})
	}
	if n.Removed {
		add(NodeRemoved, Fail, nil)
	}
	if n.Stuck != "" {
		add(NodesStuck, Fail, map[string]string{"error": n.Stuck})
	}
	for _, o := range n.Others {
		kind := "node"
		if o.Witness {
			kind = "witness"
		}
		switch {
		case !o.Silent.IsZero():
			add(NodeSilent, Fail, map[string]string{"node": o.Name, "kind": kind, "error": o.Wrong,
				"since": o.Silent.Format("2006-01-02 15:04:05")})
		case o.Wrong != "":
			add(NodeEngine, Warn, map[string]string{"node": o.Name, "error": o.Wrong, "engine": n.Engine})
		case o.Offset.Abs() > clockApart:
			severity, way := Warn, "ahead of"
			if o.Offset.Abs() > clockWrong {
				severity = Fail
			}
			if o.Offset < 0 {
				way = "behind"
			}
			add(NodeClock, severity, map[string]string{"node": o.Name, "way": way,
				"by": o.Offset.Abs().Round(100 * time.Millisecond).String()})
		}
		if !o.Uncopied.IsZero() && time.Since(o.Uncopied) > copiedSoon {
			add(NodeUncopied, Warn, map[string]string{"node": o.Name, "error": o.Why,
				"since": o.Uncopied.Format("2006-01-02 15:04:05")})
		}
	}
	if n.Pair {
		add(NodesPair, Warn, nil)
	}
	for _, u := range n.Twice {
		out = append(out, Item{CodesTwice, Fail, "factor", u.ID, map[string]string{"account": u.Name,
			"count": strconv.Itoa(u.Count), "at": u.At.Format("2006-01-02 15:04")}})
	}
	return out
}
