package app

import (
	"encoding/json"
	"slices"
	"time"

	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/session"
)

// countedHere is what a node tells of its sessions where they are counted; with Anew, it is all.
type countedHere struct {
	Node int               `json:"node"`
	Anew bool              `json:"anew,omitempty"`
	List []session.Counted `json:"list"`
}

// endThere asks a node to have a session end.
type endThere struct {
	Node    int    `json:"node"`
	Client  string `json:"client"`
	NAS     string `json:"nas"`
	Session string `json:"session"`
	Why     string `json:"why"`
}

// counts tells whether sessions are counted.
func (a *App) counts() bool {
	now := a.Gate.Current()
	return now != nil && now.Plan.CountsSessions
}

// countedSayings tells of sessions that count.
func (a *App) countedSayings(list []session.Counted, anew bool) (out []cluster.Saying) {
	for anew || len(list) > 0 {
		part := list[:min(len(list), movedPerSaying)]
		list = list[len(part):]
		data, err := json.Marshal(countedHere{a.node, anew, part})
		if err != nil {
			a.log.Error("telling other nodes of sessions", "error", err)
			return out
		}
		out, anew = append(out, cluster.Saying{Kind: saidCounted, Data: data}), false
	}
	return out
}

// endSessions has the clients of sessions asked to end them, by the node to which each was reported.
func (a *App) endSessions(list []*session.Session, why string) {
	here := slices.DeleteFunc(slices.Clone(list), func(s *session.Session) bool {
		if s.ID == 0 {
			a.cluster.Say(saidEnd, endThere{s.Node, s.Client, s.NAS, s.Session, why})
		}
		return s.ID == 0
	})
	a.changes.End(here, why)
}

// silentNode is for how long another node has been silent, and whether there is one of that number.
func (a *App) silentNode(number int) (time.Duration, bool) {
	for _, n := range a.cluster.Members() {
		if n.Number != number {
			continue
		}
		if n.Seen.Silent() {
			return time.Since(n.Seen.At), true
		}
		return 0, true
	}
	return 0, false
}
