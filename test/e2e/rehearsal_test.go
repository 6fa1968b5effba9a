package e2e

import (
	"net/http"
	"testing"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// A policy is switched off in the draft; the rehearsal tells for whom that makes a difference before it is published,
// and afterwards the same people really end that way.
func TestRehearsalBeforePublishing(t *testing.T) {
	w := lantern(t)
	sign := func() {
		t.Helper()
		for _, user := range []string{"s.lodge", "e.holm", "t.marchetti", "nobody.here"} {
			if _, err := w.ask(func(q *trial.Request) {
				q.User, q.Password, q.Secret, q.From = user, "harbour-"+user, "gangway-and-bollard-99",
					must("127.0.10.99")
			}); err != nil {
				t.Fatal(err)
			}
		}
	}
	sign()
	before := w.attempts("", 4)
	w.wants(0, []string{"draft", "rehearse"}, "0 of 4 attempts")
	var lane apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired ports", nil, &lane)
	for i := range lane.Policies {
		lane.Policies[i].Enabled = lane.Policies[i].Name != "By department"
	}
	w.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*"))
	out := w.wants(0, []string{"draft", "rehearse", "-hours", "1"}, "refused by policy.none", "Sunniva Lodge",
		"VLAN 20", "of 4 attempts since", "attempt explain -draft")
	var last apitype.Rehearsal
	w.do(http.MethodGet, "/rehearsal", nil, &last)
	if last.Outdated || last.Changed == 0 || last.Changed == 4 {
		t.Errorf("the last rehearsal: %+v\n%s", last.Rehearsal, out)
	}
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/"), p.click("Rehearse"), p.see("would have a different result"), p.see("policy.none"),
		p.click("Rehearse"), p.see("By department"), p.click("Sunniva Lodge"), p.see("The whole attempt"),
		p.see("No policy of lane Wired ports matches"), p.see("Admitted by policy By department"),
		p.click("The whole attempt"), p.see("decided again with the draft"),
		p.click("Publish"), p.see("attempts would have a different result"), p.press("\x1b"))
	w.do(http.MethodPost, "/draft/publish", apitype.PublishBody{Despite: true}, nil)
	w.do(http.MethodGet, "/rehearsal", nil, &last)
	if !last.Outdated {
		t.Error("after publishing, the rehearsal counts as current")
	}
	w.wants(0, []string{"directory", "forget", "LANTERN"}, "dropped")
	sign()
	changed := 0
	for i, a := range w.attempts("", 8)[:4] {
		if old := before[i]; a.Verdict != old.Verdict || a.Pass != old.Pass || a.Reason != old.Reason {
			changed++
		}
	}
	if changed != last.Changed {
		t.Errorf("%d attempts end otherwise, %d were expected", changed, last.Changed)
	}
	w.do(http.MethodDelete, "/passes/ticketing", nil, nil, client.IfMatch("*"))
	w.wants(1, []string{"draft", "rehearse"}, "ticketing")
}
