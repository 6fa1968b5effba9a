package api

import (
	"fmt"

	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/web/apitype"
)

// nodeView says in words what is the matter with the nodes.
func nodeView(out *apitype.Attention, code attention.Code, p map[string]string) {
	out.Action = "Open nodes"
	switch code {
	case attention.NodesCutOff:
		out.Title = "No majority of the nodes is reached since " + p["since"]
		out.Text = "Devices are answered as before. Nothing can be published or changed here until the others are back."
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
	case attention.NodeClock:
		out.Title = fmt.Sprintf("The clock of node %s is %s %s ours", p["node"], p["by"], p["way"])
		out.Text = "Check what sets the clocks of both machines: one-time codes and certificates go by them."
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
