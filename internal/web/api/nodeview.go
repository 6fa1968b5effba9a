package api

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/web/apitype"
)

// copiedTo says where the records of a node are copied to, and whether all of them are.
func copiedTo(n *cluster.NodeState, all []cluster.NodeState) (says string, whole bool) {
	if n.Witness || n.Seen.Silent() || len(n.Seen.Own.Copied) == 0 {
		return "", false
	}
	var there, behind, why []string
	to, since := "", time.Time{}
	for _, c := range n.Seen.Own.Copied {
		switch {
		case c.Live:
			there, to = append(there, c.Kind), nameOf(all, c.Node)
		case c.Wrong == "" && c.Node >= 0:
			behind, to = append(behind, c.Kind), nameOf(all, c.Node)
		default:
			if why = append(why, cmp.Or(c.Wrong, "there is no other node")); since.Before(c.Since) {
				since = c.Since
			}
		}
	}
	switch {
	case len(why) > 0 && len(there)+len(behind) == 0:
		return "nowhere since " + since.Format("15:04:05") + ": " + strings.Join(slices.Compact(why), "; ") + ".", false
	case len(why) > 0:
		return strings.Join(append(there, behind...), " and ") + " to " + to + "; the others nowhere: " +
			strings.Join(slices.Compact(why), "; ") + ".", false
	case len(behind) > 0:
		return to + ", which is given what it missed of " + strings.Join(behind, ", ") + ".", false
	}
	return to, true
}

func nameOf(all []cluster.NodeState, number int) string {
	for i := range all {
		if all[i].Number == number {
			return all[i].Name
		}
	}
	return fmt.Sprintf("node %d", number)
}

// nodeView says in words what is the matter with the nodes.
func nodeView(out *apitype.Attention, code attention.Code, p map[string]string) {
	out.Action = "Open nodes"
	switch code {
	case attention.NodesCutOff:
		out.Title = "No majority of the nodes is reached since " + p["since"]
		out.Text = "Devices are answered as before. Nothing can be published or changed here until the others are back."
		if p["engine"] != "" {
			out.Title = "The etcd cluster by which nodes share state is not reached since " + p["since"]
			out.Text = "Devices are answered as before. Nothing can be published or changed here until it is back: " +
				p["engine"]
		}
	case attention.NodeRemoved:
		out.Title = "The other nodes removed this one"
		out.Text = "It answers devices with what it knew until then. Stop it; to have it back, empty its data " +
			"directory and join again."
	case attention.NodesStuck:
		out.Title = "What other nodes changed cannot be taken over"
		out.Text = p["error"] + ". This node answers with what it had before."
	case attention.NodeSilent:
		out.Title = fmt.Sprintf("The %s %s does not answer", p["kind"], p["node"])
		out.Text = fmt.Sprintf("Since %s: %s.", p["since"], p["error"])
	case attention.NodeEngine:
		out.Title = "The engine of node " + p["node"] + " does not run"
		out.Text = "It is started again and again: " + p["error"]
		if p["engine"] != "" {
			out.Title = "Node " + p["node"] + " does not reach the etcd cluster"
			out.Text = "It answers devices, and what others change does not come to it: " + p["error"]
		}
	case attention.NodeClock:
		out.Title = fmt.Sprintf("The clock of node %s is %s %s ours", p["node"], p["by"], p["way"])
		out.Text = "Check what sets the clocks of both machines: one-time codes and certificates go by them."
	case attention.NodeUncopied:
		out.Title = "What " + p["node"] + " records is not copied to another node"
		out.Text = fmt.Sprintf("Since %s: %s. If its disk dies, attempts, accounting and the gear journal since then "+
			"are lost.", p["since"], p["error"])
	case attention.NodesPair:
		out.Title = "There are two nodes and no witness"
		out.Text = "When one dies, the other goes on to answer devices, but nothing can be changed until it is " +
			"back. Add a witness on a third machine: tollgate node invite NAME."
	case attention.CodesTwice:
		out.Action = "Open second factor"
		out.Title = fmt.Sprintf("%s one-time codes of %s were used twice", p["count"], p["account"])
		if p["count"] == "1" {
			out.Title = fmt.Sprintf("A one-time code of %s was used twice", p["account"])
		}
		out.Text = "On two nodes that were cut off from each other; found at " + p["at"] + ". Ask the person " +
			"whether both sign-ins were theirs."
	}
}
