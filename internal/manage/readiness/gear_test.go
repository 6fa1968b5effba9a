package readiness

import (
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

// What attempts say of the clients becomes a line each, with what to do.
func TestChecksOfGear(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	all := map[string]*Client{}
	note := func(client, lane, by string, outcome reason.Code, times int) {
		for range times {
			f := &facts.Facts{Client: client, Factor: &facts.Factor{Outcome: outcome, By: by}}
			a := &store.Attempt{Lane: lane}
			if outcome == reason.FactorLost {
				f.Factor, a.Reason = nil, string(outcome)
			}
			noteClient(a, f, all)
		}
	}
	note("asks", "codes", facts.ByCode, reason.OK, 9)
	note("asks", "codes", "", reason.FactorUnanswered, 2)
	note("mute", "codes", "", reason.FactorUnanswered, 5)
	note("bare", "codes", "", reason.FactorMissing, 5)
	note("hasty", "codes", facts.ByCode, reason.OK, 2)
	note("hasty", "codes", "", reason.FactorLost, 5)
	note("new", "codes", "", reason.FactorUnanswered, 1)
	note("phones", "phones", facts.ByApproval, reason.OK, 5)
	note("elsewhere", "none", facts.ByCode, reason.OK, 5)
	noteClient(&store.Attempt{}, &facts.Facts{Client: "asks", Tried: "o.brandt", Factor: &facts.Factor{}}, all)
	noteClient(&store.Attempt{}, &facts.Facts{Client: "asks"}, all)
	lanes := []*config.Lane{{Name: "codes", SecondFactor: config.OneTimeCode}, {Name: "phones",
		SecondFactor: config.Approval, Factor: config.LaneFactor{Ask: config.AskAppend, Until: now.AddDate(0, 0, 3)}},
		{Name: "none"}}
	want := map[string]State{"asks, lane codes": Good, "mute, lane codes": Bad, "bare, lane codes": Bad,
		"hasty, lane codes": Bad, "new, lane codes": Warn, "phones, lane phones": Good, "Time": Good,
		"Seeds and keys": Good, "Pages for people": Bad, "Mail": Warn, "codes asks for a code": Good,
		"phones asks for an approval": Warn}
	for _, c := range Checks(&Report{Clients: sorted(all)}, lanes, &Server{Now: now}) {
		if want[c.Title] != c.State || c.State == Bad && c.Remedy == "" {
			t.Errorf("%s is %s: %s %s", c.Title, c.State, c.Found, c.Remedy)
		}
		if delete(want, c.Title); c.Title == "phones, lane phones" &&
			c.Remedy != "It has to wait 35 seconds for an answer." {
			t.Errorf("it says %q", c.Remedy)
		}
	}
	if len(want) > 0 {
		t.Errorf("not told: %v", want)
	}
	for _, c := range []struct {
		server Server
		want   State
	}{{Server{}, Warn}, {Server{Portal: "http://127.0.0.1:8443"}, Warn},
		{Server{Portal: "https://me.example", Ends: now.AddDate(1, 0, 0)}, Good},
		{Server{Portal: "https://me.example", Ends: now.AddDate(1, 0, 0), Own: true}, Warn},
		{Server{Portal: "https://me.example", Ends: now.AddDate(0, 0, 9)}, Bad}} {
		c.server.Now, c.server.Clocks, c.server.KeyFault = now, []string{"the clock was set"}, "it is gone"
		list := Checks(&Report{}, nil, &c.server)
		if list[0].State != Bad || list[1].State != Bad || list[2].Title != "Pages for people" ||
			list[2].State != c.want {
			t.Errorf("%+v: %+v", c.server, list)
		}
	}
}
