package config

import (
	"strings"
	"testing"
)

func TestRevert(t *testing.T) {
	running := Config{
		Passes: []*Pass{{ID: "1", Name: "crew", VLAN: "30"}, {ID: "2", Name: "ticketing"}},
		Lanes: []*Lane{{ID: "a", Name: "A", Policies: []*Policy{{ID: "p", Name: "P"}, {ID: "q", Name: "Q"},
			{ID: "r", Name: "R"}}}, {ID: "b", Name: "B"}, {ID: "c", Name: "C"}},
	}
	running.Normalise()
	draft := running.Copy()
	Own(draft.Passes, 0).VLAN = "40"
	draft.Passes = append(draft.Passes[:1], &Pass{ID: "3", Name: "new"})
	draft.Lanes[0], draft.Lanes[2] = draft.Lanes[2], draft.Lanes[0]
	lane := Own(draft.Lanes, 2)
	lane.Policies[0], lane.Policies[2] = lane.Policies[2], lane.Policies[0]
	Own(lane.Policies, 1).When = "ssid is x"
	draft.NormaliseSince(&running)
	if n := len(Diff(&running, draft)); n < 5 {
		t.Fatalf("only %d changes: %+v", n, Diff(&running, draft))
	}
	for _, c := range [][3]string{{"pass", "1"}, {"pass", "2"}, {"pass", "3"}, {"policy", "q", "a"},
		{"policy", "p", "a"}, {"policy", "r", "a"}, {"lane", "a"}, {"lane", "b"}, {"lane", "c"}} {
		if err := draft.Revert(&running, c[0], c[1], c[2]); err != nil {
			t.Fatalf("%v: %v", c, err)
		}
	}
	if left := Diff(&running, draft); len(left) > 0 {
		t.Errorf("left over: %+v", left)
	}
	for _, c := range [][4]string{{"pass", "9", "", "there is no pass"}, {"boat", "1", "", "not a kind"},
		{"policy", "p", "z", "lane of the policy"}} {
		if err := draft.Revert(&running, c[0], c[1], c[2]); err == nil || !strings.Contains(err.Error(), c[3]) {
			t.Errorf("%v: %v", c, err)
		}
	}
	draft.Passes = []*Pass{{ID: "9", Name: "Crew"}}
	if err := draft.Revert(&running, "pass", "1", ""); err == nil || !strings.Contains(err.Error(),
		`another pass called "crew"`) {
		t.Errorf("a name twice: %v", err)
	}
	if draft.Revert(&running, "pass", "2", "") != nil || draft.Lanes[0].Policies == nil {
		t.Error("reverting broke the draft")
	}
}
