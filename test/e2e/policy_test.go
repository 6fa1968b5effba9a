package e2e

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// values are the values of an attribute in a reply.
func values(r results.Reply, name string) string {
	var out []string
	for _, a := range r.Attributes {
		if a.Name == name {
			out = append(out, a.Value)
		}
	}
	return strings.Join(out, ";")
}

// A pass is put together on the command line: a vendor's attributes, templates, rules and times, one pass extending
// another; a device then gets exactly that.
func TestPassesOnTheWire(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"vendor", "add", "Harbour", "-number", "32473", "-attr", "1:Harbour-Role:text", "-attr",
		"3:Harbour-Down:integer:rate-down:1"}, "added")
	w.wants(1, []string{"vendor", "add", "Twin", "-number", "32473"}, `32473 is the number of "Harbour" already`)
	w.wants(0, []string{"vendor", "show", "Harbour"}, "1A 0C 00007ED9 01 06 63726577")
	w.wants(0, []string{"pass", "add", "base", "-session-timeout", "600", "-sign-in-again", "-idle-timeout", "60",
		"-rule", "permit in ip from any to 192.0.2.0/24", "-rule", "deny in ip from any to any", "-rate-down", "2000"},
		"added")
	w.wants(0, []string{"pass", "change", "crew", "-extends", "base", "-session-timeout", "0", "-report",
		"{{person}}@ships.example", "-class", "{{client.site}}", "-attr", "Harbour-Role={{group or guest}}"}, "changed")
	w.wants(0, []string{"pass", "show", "crew"}, "Termination-Action", "{{person}}@ships.example", "NAS-Filter-Rule",
		"Harbour-Down", "1A 0C 00007ED9 03 06 000007D0")
	w.wants(1, []string{"pass", "change", "base", "-extends", "crew"}, "refers to itself: base -> crew -> base")
	w.wants(1, []string{"pass", "change", "base", "-rule", "let them in"}, "accessRules[0]", "Write for instance")
	w.wants(1, []string{"pass", "change", "crew", "-role", "{{persn.mail}}"}, "there is no field", "column")
	w.publish()
	reply, err := w.ask(nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"Session-Timeout": "600", "Termination-Action": "RADIUS-Request",
		"Idle-Timeout": "60", "User-Name": "k.nance@ships.example", "Class": "north-pier",
		"NAS-Filter-Rule": "0x" + fmt.Sprintf("%x", "permit in ip from any to 192.0.2.0/24\x00deny in ip from "+
			"any to any"), "Vendor-Specific": "32473:3:0x000007d0;32473:1:Crew"} {
		got, _, _ := strings.Cut(values(reply, name), ";0x746b") // our own Class comes after that of the pass
		if got != want {
			t.Errorf("%s is %q, wanted %q", name, got, want)
		}
	}
	w.wants(0, []string{"attempt", "explain", w.newest(1).ID}, "Harbour-Role", "Crew", "k.nance@ships.example")
}

// Nobody is admitted with an incomplete: who lacks a value that the pass asks for is refused, and the road says so.
func TestATemplateWithoutValueRefuses(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"pass", "change", "crew", "-vlan", "{{person.mail}}"}, "changed")
	w.publish()
	reply, err := w.ask(nil)
	if err != nil || reply.Accepted {
		t.Fatalf("%+v, %v", reply, err)
	}
	a := w.newest(1)
	if a.Reason != "pass.value-missing" || a.Trace.Verdict != "refused" {
		t.Errorf("%+v", a.Attempt)
	}
	w.wants(0, []string{"attempt", "explain", a.ID}, "person.mail of {{person.mail}} has no value",
		"Nobody is admitted with an incomplete")
}

func TestPoliciesInTime(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	day := strings.ToLower(time.Now().UTC().Weekday().String()[:3])
	w.wants(0, []string{"calendar", "add", "today", "-hours", day + " 00:00-24:00", "-zone", "UTC"}, "added")
	w.wants(0, []string{"calendar", "list"}, "today", "holds")
	w.wants(1, []string{"calendar", "add", "wrong", "-hours", "moonday 25:00-3"}, "spans[0].days", "spans[0].from",
		"spans[0].to")
	w.wants(0, []string{"pass", "add", "other", "-vlan", "41"}, "added")
	w.wants(0, []string{"policy", "add", "Wired", "Not today", "-when", "time is not today", "-pass", "other", "-at",
		"1"}, "has a policy more")
	w.wants(0, []string{"policy", "add", "Wired", "Over", "-pass", "other", "-at", "1", "-until", "2026-01-01",
		"-owner", "Harbour Office"}, "has a policy more")
	w.wants(0, []string{"policy", "add", "Wired", "To come", "-pass", "other", "-at", "1", "-from", "2100-01-01"},
		"has a policy more")
	w.wants(1, []string{"policy", "change", "Wired", "Over", "-from", "2026-06-01"}, "ends before it begins")
	w.publish()
	reply, err := w.ask(nil)
	if err != nil || values(reply, "Tunnel-Private-Group-ID") != "30" {
		t.Fatalf("%+v, %v", reply, err)
	}
	a := w.newest(1)
	out := w.wants(0, []string{"attempt", "explain", a.ID}, "time is not today")
	if a.Policy != "Crew" || len(a.Trace.Policies) != 4 || a.Trace.Policies[0].Skipped == "" ||
		a.Trace.Policies[1].Skipped == "" {
		t.Errorf("%+v\n%s", a.Trace.Policies, out)
	}
	w.wants(0, []string{"calendar", "change", "today", "-holiday", time.Now().UTC().Format(time.DateOnly) + " Today"},
		"changed")
	w.publish()
	if reply, err = w.ask(nil); err != nil || values(reply, "Tunnel-Private-Group-ID") != "41" {
		t.Errorf("on a holiday: %+v, %v", reply, err)
	}
	w.wants(0, []string{"calendar", "remove", "today"}, "removed")
	w.refused(422, http.MethodPost, "/draft/publish", map[string]string{}, `there is no calendar "today"`)
}

func TestOverrides(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"pass", "add", "workshop", "-vlan", "77"}, "added")
	w.wants(0, []string{"override", "add", "Kaia at the workshop", "-person", "K.NANCE", "-store", "local", "-pass",
		"workshop", "-owner", "Engine Room"}, "added")
	w.wants(1, []string{"override", "add", "Again", "-person", "k.nance", "-store", "local", "-pass", "workshop"},
		"is for the same person")
	w.wants(0, []string{"override", "list"}, "K.NANCE", "workshop", "Engine Room")
	w.publish()
	reply, err := w.ask(nil)
	if err != nil || values(reply, "Tunnel-Private-Group-ID") != "77" {
		t.Fatalf("%+v, %v", reply, err)
	}
	w.wants(0, []string{"attempt", "explain", w.newest(1).ID}, `override "Kaia at the workshop"`, "VLAN")
	w.wants(0, []string{"override", "change", "Kaia at the workshop", "-until", "2026-01-01"}, "changed")
	w.publish()
	if reply, err = w.ask(nil); err != nil || values(reply, "Tunnel-Private-Group-ID") != "30" {
		t.Errorf("after its end: %+v, %v", reply, err)
	}
	w.wants(0, []string{"override", "list"}, "(over)")
	w.wants(1, []string{"pass", "remove", "workshop", "-publish"}, "")
}

// An expectation that the draft breaks stops the publish, by whatever way it comes.
func TestExpectationsGuardPublishing(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	w.wants(0, []string{"expectation", "check"}, "met", "0 of 4 expectations would not be met")
	w.wants(0, []string{"policy", "change", "Wired ports", "By department", "-off"}, "changed")
	w.wants(1, []string{"expectation", "check"}, "failed     Ticketing at a counter",
		"it would be: refused policy.none", "1 of 4")
	w.wants(0, []string{"expectation", "check", "-running"}, "0 of 4")
	w.wants(1, []string{"draft", "publish"}, `expectation "Ticketing at a counter"`,
		"wanted: admitted, pass ticketing, VLAN 20; it would be: refused policy.none")
	w.wants(1, []string{"policy", "change", "Wired ports", "By department", "-off", "-publish"},
		"Ticketing at a counter")
	if _, n := w.running(); n != 3 {
		t.Errorf("revision %d runs", n)
	}
	w.wants(0, []string{"draft", "publish", "-despite-expectations"}, "revision 4")
	w.wants(0, []string{"revision", "return", "3"}, "as revision 5")
	w.wants(1, []string{"revision", "return", "4"}, `expectation "Ticketing at a counter"`,
		"it would be: refused policy.none")
	if _, n := w.running(); n != 5 {
		t.Errorf("revision %d runs after a return that was refused", n)
	}
	w.wants(0, []string{"revision", "return", "-despite-expectations", "4"}, "as revision 6")
	w.wants(0, []string{"draft", "discard"}, "")
	w.wants(0, []string{"attempt", "dry-run", "-user", "t.marchetti", "-client", "np-switch-1", "-method",
		"peap-mschapv2", "-attr", "NAS-Port-Type=Ethernet"}, "refused", "method.unusable")
	w.wants(0, []string{"attempt", "dry-run", "-user", "t.marchetti", "-client", "np-switch-1", "-method", "peap-gtc",
		"-attr", "NAS-Port-Type=Ethernet"}, "admitted")
	w.wants(0, []string{"expectation", "add", "A stranger", "-user", "nobody.here", "-client", "np-switch-1",
		"-refused", "-reason", "person.unknown", "-attr", "NAS-Port-Type=Ethernet"}, "added")
	w.wants(0, []string{"expectation", "add", "A printer", "-user", "00-00-5E-00-53-F1", "-client", "np-switch-1",
		"-method", "mac", "-refused"}, "added")
	w.wants(0, []string{"expectation", "add", "Later", "-user", "s.lodge", "-client", "np-switch-1", "-refused", "-at",
		"2030-01-01T00:00", "-attr", "NAS-Port-Type=Ethernet"}, "added")
	w.wants(1, []string{"expectation", "check"}, "met        A stranger", "A printer", "met        Later")
	for _, c := range []struct{ user, client, ask, command, want string }{
		{"i.faramond", "hh-router-1", "command", "reload", "command.none"}, {"i.faramond", "hh-router-1", "command",
			"show  interfaces", "command list operators permits show interfaces"}, {"i.faramond", "hh-router-1",
			"enable", "", "level.too-high"},
		{"i.faramond", "hh-router-1", "shell", "", "priv-lvl=7, timeout=60"}, {"i.faramond", "hh-router-1", "ppp", "",
			"service.not-granted"}, {"n.pryce", "hh-core-1", "login", "", "/ admitted  Nerys Pryce"},
		{"i.solvang", "hh-core-1", "login", "", "factor.not-enrolled"},
	} {
		args := []string{"attempt", "dry-run", "-user", c.user, "-client", c.client, "-ask", c.ask, "-command",
			c.command}
		if c.ask == "enable" {
			args = append(args, "-level", "15")
		}
		w.wants(0, args, c.want)
	}
	var list apitype.CommandList
	w.do(http.MethodGet, "/command-lists/operators", nil, &list)
	list.Otherwise = "permit"
	w.do(http.MethodPut, "/command-lists/operators", list.CommandListFields, nil, matchAny)
	w.wants(1, []string{"expectation", "check"}, "failed     Port operations cannot reload",
		"it would be: admitted, pass gear-operators")
	w.refused(422, http.MethodPost, "/expectations", apitype.ExpectationFields{Name: "y", Sent: "y",
		Client: "hh-router-1", Method: "peap-gtc", Asks: "login", Command: "reload", Level: 16, VLAN: "7",
		Admitted: true, Attributes: []config.Attribute{{Name: "NAS-Port", Value: "1"}}},
		"is not used in TACACS+", "the request is not about a command", "16 is not a privilege level",
		"attributes exist in RADIUS only", "assigns no VLAN")
	w.refused(422, http.MethodPost, "/expectations", apitype.ExpectationFields{Name: "z", Sent: "z",
		Client: "hh-router-1", Asks: "command"}, "no command")
	w.refused(422, http.MethodPost, "/expectations", apitype.ExpectationFields{Name: "z", Sent: "z",
		Client: "hh-router-1", Method: "pap", Command: "reload"}, "in TACACS+ only")
	w.refused(422, http.MethodPost, "/expectations", apitype.ExpectationFields{Name: "x", Sent: "y", Client: "none",
		Method: "smoke", Admitted: true, Reason: "policy.none", Attributes: []config.Attribute{}},
		"there is no client", `"smoke" is not a method`, "an admission has no reason")
}

func (w *world) running() (apitype.Draft, int) {
	w.t.Helper()
	var d apitype.Draft
	w.do(http.MethodGet, "/draft", nil, &d)
	return d, d.Revision
}

func TestHitsOfPolicies(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("p.diver", "hull-and-keel-77", "Divers")
	w.wants(0, []string{"policy", "add", "Wired", "By group", "-group", "Divers=crew", "-group", "Cooks=crew"},
		"has a policy more")
	w.publish()
	diver := func(q *trial.Request) { q.User, q.Password = "p.diver", "hull-and-keel-77" }
	for _, change := range []func(*trial.Request){nil, nil, diver} {
		if r, err := w.ask(change); err != nil || !r.Accepted {
			t.Fatalf("%+v, %v", r, err)
		}
	}
	var trial apitype.TrialResult
	w.do(http.MethodPost, "/trials", apitype.TrialInput{Client: "np-switch-1", Method: "pap", User: "k.nance",
		Password: "gangway-and-rope", Attributes: []config.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}},
		&trial)
	w.attempts("", 4)
	read := func() map[string]apitype.Hits {
		var all apitype.AllHits
		w.do(http.MethodGet, "/hits", nil, &all)
		out := map[string]apitype.Hits{}
		for _, h := range all.Items {
			out[h.Group] = h
		}
		return out
	}
	hits := read()
	if h := hits[""]; h.Since != 2 || h.Before != 0 || h.Last == nil || h.Hours[47]+h.Hours[46] != 2 || h.Stale {
		t.Errorf("a policy: %+v", h)
	}
	if h := hits["Divers"]; h.Since != 1 {
		t.Errorf("a row: %+v", h)
	}
	if h := hits["Cooks"]; h.Since != 0 || h.Last != nil {
		t.Errorf("a row that nobody came to: %+v", h)
	}
	w.wants(0, []string{"pass", "change", "crew", "-role", "sailor", "-publish"}, "revision 3")
	w.ask(diver)
	w.attempts("", 5)
	if h := read()["Divers"]; h.Since != 1 || h.Before != 1 {
		t.Errorf("after publishing: %+v", h)
	}
	w.wants(0, []string{"policy", "hits", "Wired"}, "Divers", "REVISION 3", "never")
}

func TestPartsOfTheDraftAndRevisions(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	w.wants(0, []string{"pass", "change", "contractors", "-vlan", "61"}, "changed")
	w.wants(0, []string{"pass", "add", "spare", "-vlan", "62"}, "added")
	w.wants(0, []string{"policy", "change", "Wired ports", "Deck officers", "-at", "3"}, "changed")
	w.wants(0, []string{"policy", "change", "Wired ports", "Contractors ashore", "-off"}, "changed")
	w.wants(0, []string{"lane", "move", "VPN", "-at", "1"}, "moved")
	w.wants(1, []string{"draft", "discard", "pass", "holding"}, "no change of pass holding")
	w.wants(0, []string{"draft", "discard", "pass", "contractors"}, "as in what is running")
	w.wants(0, []string{"draft", "discard", "policy", "Wired ports", "By department"}, "")
	w.wants(0, []string{"draft", "diff"}, "spare", "moved lane", "Contractors ashore", "enabled yes -> no")
	w.wants(0, []string{"draft", "discard", "lane", "VPN"}, "")
	w.wants(0, []string{"draft", "discard", "pass", "spare"}, "")
	d, _ := w.running()
	if len(d.Changes) != 1 || len(d.Changes[0].Parts) != 1 || d.Changes[0].Parts[0].Object != "Contractors ashore" {
		t.Errorf("what is left: %+v", d.Changes)
	}
	w.publish()
	w.wants(0, []string{"pass", "change", "contractors", "-vlan", "63", "-publish"}, "revision 5")
	w.wants(0, []string{"revision", "diff", "5", "-from", "3"}, "VLAN 60 -> 63", "Contractors ashore")
	w.wants(0, []string{"revision", "diff", "4", "-from", "3"}, "Contractors ashore")
	w.wants(1, []string{"revision", "diff", "9"}, "no")
}

// A sample that was written on one server is rehearsed on another.
func TestRehearsalOfASample(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	for range 3 {
		w.ask(nil)
	}
	w.attempts("", 3)
	sample := w.wants(0, []string{"attempt", "sample", "-limit", "2"}, `"sent":"k.nance"`)
	if strings.Count(sample, "\n") != 2 || strings.Contains(sample, "gangway") {
		t.Errorf("the sample:\n%s", sample)
	}
	other := start(t)
	other.basic("require", "127.0.0.1")
	file := filepath.Join(t.TempDir(), "sample.jsonl")
	if err := os.WriteFile(file, []byte(sample), 0o600); err != nil {
		t.Fatal(err)
	}
	other.wants(0, []string{"policy", "change", "Wired", "Crew", "-refuse"}, "changed")
	other.wants(0, []string{"draft", "rehearse", "-sample", file}, "2 of 2 attempts of the sample",
		"refused by policy.refused")
	if err := os.WriteFile(file, []byte("{\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	other.wants(1, []string{"draft", "rehearse", "-sample", file}, "line 1")
}

func TestConditionsThroughTheAPI(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	var check apitype.ConditionCheck
	w.do(http.MethodPost, "/condition-check", map[string]any{"tree": map[string]any{"op": "or", "parts": []any{
		map[string]any{"op": "compare", "field": "GROUP", "operator": "in", "values": []string{"Deck Officers",
			`say "aye"`}}, map[string]any{"op": "not", "parts": []any{map[string]any{"op": "compare", "field": "ssid",
			"operator": "exists"}}}}}}, &check)
	if want := `group in "Deck Officers", "say \"aye\"" or not ssid exists`; !check.Valid || check.Canonical != want ||
		check.Tree.Op != "or" {
		t.Errorf("%+v", check)
	}
	w.do(http.MethodPost, "/condition-check", map[string]any{"text": "time is lunch"}, &check)
	if check.Error == nil || check.Error.Column != 9 || !strings.Contains(check.Error.Message, "no calendar") {
		t.Errorf("%+v", check.Error)
	}
	for field, want := range map[string]string{"group": "Deck Officers", "time": "opening-hours",
		"client.site": "north-pier", "store": "LANTERN", "service": "call-check", "client": "hh-vpn-1",
		"device.kind": "printer", "name.realm": "ships"} {
		var page apitype.Page[apitype.Completion]
		w.do(http.MethodGet, "/completions?field="+field+"&q="+url.QueryEscape(want[1:4]), nil, &page)
		found := false
		for _, c := range page.Items {
			found = found || strings.Contains(c.Value, want)
		}
		if !found {
			t.Errorf("%s is not completed to %s: %+v", field, want, page.Items)
		}
	}
	w.wants(0, []string{"policy", "add", "Wired ports", "Too late", "-when", `group is "Deck Officers" and ssid is x`,
		"-pass", "officers"}, "has a policy more")
	w.wants(1, []string{"draft", "analyse"}, "mistake", `policy "Too late"`,
		"can never be reached: policy 2, Deck officers,", "Move it up")
}

// Addresses of a pool go to one session each; who comes when all are taken is refused, and says why.
func TestAddressPools(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(1, []string{"pool", "add", "vpn", "-range", "192.0.2.9-192.0.2.1"}, "does not go from a lower to a higher")
	w.wants(0, []string{"pool", "add", "vpn", "-range", "192.0.2.8/30"}, "added")
	w.wants(1, []string{"pool", "add", "twice", "-range", "192.0.2.10"}, `overlaps with addresses of pool "vpn"`)
	w.wants(0, []string{"pass", "change", "crew", "-pool", "vpn"}, "changed", "holds 2 addresses only")
	w.wants(1, []string{"pass", "change", "crew", "-session-timeout", "0"}, "a session that ends")
	w.wants(1, []string{"pass", "change", "crew", "-address", "192.0.2.77"}, "as well as a pool")
	w.publish()
	at := func(mac string) func(*trial.Request) {
		return func(q *trial.Request) { q.Attributes[2].Value = mac }
	}
	first, err := w.ask(at("00-00-5E-00-53-01"))
	second, err2 := w.ask(at("00-00-5E-00-53-02"))
	again, err3 := w.ask(at("00-00-5E-00-53-01"))
	third, err4 := w.ask(at("00-00-5E-00-53-03"))
	if err != nil || err2 != nil || err3 != nil || err4 != nil {
		t.Fatal(err, err2, err3, err4)
	}
	const name = "Framed-IP-Address"
	if a, b := values(first, name), values(second, name); a == "" || a == b || values(again, name) != a ||
		third.Accepted {
		t.Errorf("given %s and %s, again %s, and then %+v", a, b, values(again, name), third)
	}
	a := w.newest(4)
	if a.Reason != "pool.exhausted" || a.Pass != "" {
		t.Errorf("%+v", a.Attempt)
	}
	w.wants(0, []string{"attempt", "explain", a.ID}, "All addresses of pool vpn are in use",
		"Add addresses to the pool")
	w.wants(0, []string{"pool", "taken", "vpn"}, values(first, name), "np-switch-1")
	w.wants(0, []string{"pool", "list"}, "192.0.2.8/30", "2")
	w.app.Stop()
	w.boot() // a restart forgets nobody
	if r, err := w.ask(at("00-00-5E-00-53-03")); err != nil || r.Accepted {
		t.Errorf("after a restart: %+v, %v", r, err)
	}
	w.wants(0, []string{"pool", "release", values(first, name)}, "is free")
	w.wants(1, []string{"pool", "release", values(first, name)}, "is not taken")
	if r, err := w.ask(at("00-00-5E-00-53-03")); err != nil || values(r, name) != values(first, name) {
		t.Errorf("after releasing: %+v, %v", r, err)
	}
	w.wants(0, []string{"attempt", "dry-run", "-user", "k.nance", "-client", "np-switch-1", "-attr",
		"NAS-Port-Type=Ethernet"}, "admitted")
	w.wants(0, []string{"pool", "remove", "vpn"}, "removed")
	w.refused(422, http.MethodPost, "/draft/publish", map[string]string{}, `there is no pool "vpn"`)
}

// Several operators publish at the same moment: one of them does, the others are told that there is nothing left.
func TestOnlyOnePublishes(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"pass", "change", "crew", "-vlan", "31"}, "changed")
	outcomes := make(chan error, 8)
	for range cap(outcomes) {
		go func() {
			outcomes <- w.api.Do(context.Background(), http.MethodPost, "/draft/publish",
				apitype.PublishBody{Note: "mine"}, nil)
		}()
	}
	published := 0
	for range cap(outcomes) {
		err := <-outcomes
		var p *apitype.Problem
		switch {
		case err == nil:
			published++
		case !errors.As(err, &p) || p.Status != http.StatusConflict:
			t.Errorf("one of the others: %v", err)
		}
	}
	if _, n := w.running(); published != 1 || n != 2 {
		t.Errorf("%d published, revision %d runs", published, n)
	}
	// Who edits what somebody else has changed meanwhile is told by whom, and overwrites nothing.
	one, err := client.Get[apitype.Pass](context.Background(), w.api, "/passes/crew")
	if err != nil {
		t.Fatal(err)
	}
	w.wants(0, []string{"pass", "change", "crew", "-vlan", "32"}, "changed")
	one.Role = "mine"
	if err := w.api.Do(context.Background(), http.MethodPut, "/passes/crew", one.PassFields, nil,
		client.IfMatch(one.Tag)); err == nil || !strings.Contains(err.Error(), "was changed meanwhile by o.brandt") {
		t.Errorf("overwriting: %v", err)
	}
}

// A picked group that is gone from the directory is told where a policy asks for it.
func TestAGroupThatIsGone(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	var d apitype.Directory
	w.do(http.MethodGet, "/directories/LANTERN", nil, &d)
	d.Groups = append(d.Groups, config.PickedGroup{ID: "S-1-5-21-1-2-3-9999", Name: "Lamplighters"})
	w.do(http.MethodPut, "/directories/LANTERN", d.DirectoryFields, nil, client.IfMatch(d.Tag))
	w.wants(0, []string{"policy", "add", "Wired ports", "Lamps", "-when", "group is Lamplighters", "-pass",
		"officers"}, "has a policy more")
	w.publish()
	w.wants(1, []string{"draft", "analyse"},
		`mistake: lane "Wired ports", policy "Lamps": group "Lamplighters" was picked in a directory`)
}
