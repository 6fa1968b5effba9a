package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func TestBadInputNamesTheFieldAndChangesNothing(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	fields := apitype.ClientFields{Name: "other", Enabled: true, Addresses: []string{"127.0.0.1"},
		MessageAuthenticator: "require"}
	w.refused(422, http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, ClientFields: fields},
		"addresses[0]", `127.0.0.1 already belongs to client "np-switch-1"`)
	fields.Addresses = []string{"switch"}
	w.refused(422, http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, ClientFields: fields},
		"addresses[0]", "neither an address nor a prefix")
	w.refused(422, http.MethodPost, "/clients", apitype.ClientInput{Secret: "12", ClientFields: fields}, "secret")
	w.refused(422, http.MethodPost, "/passes", apitype.PassFields{Name: "x", VLAN: "5000"}, "vlan",
		"VLAN 5000 does not exist", "1 to 4094")
	w.refused(422, http.MethodPost, "/directories", apitype.DirectoryInput{BindPassword: "x",
		DirectoryFields: apitype.DirectoryFields{Name: "D", Kind: "generic", TLS: "ldaps", BindName: "cn=x",
			Servers: []string{"dc1:389"}}}, "servers[0]", "StartTLS")
	lane := apitype.LaneFields{Name: "L", When: "grup is x", Methods: []string{"pap"}}
	w.refused(422, http.MethodPost, "/lanes", lane, "when", "column 1", "Did you mean group?")
	lane.When, lane.Policies = "always", []*config.Policy{{Name: "P", Enabled: true, When: `client.site is "x`,
		Outcome: config.Admit, Pass: "crew"}}
	w.refused(422, http.MethodPost, "/lanes", lane, "policies[0].when", "column 16", "not closed")
	lane.Policies[0].When, lane.Policies[0].Pass = "always", "gone"
	w.refused(422, http.MethodPost, "/lanes", lane, "policies[0].pass", `no pass "gone"`)
	w.refused(422, http.MethodPost, "/clients", map[string]any{"name": "x", "enabled": true, "colour": "blue"},
		"colour")
	w.refused(404, http.MethodGet, "/clients/nothing", nil, `no client "nothing"`)
	p := w.refused(422, http.MethodPost, "/clients", map[string]any{"enabled": "perhaps",
		"secret": "do-not-repeat-this-one"})
	if strings.Contains(p.Error(), "do-not-repeat-this-one") || strings.Contains(p.Error(), "perhaps") {
		t.Errorf("the problem repeats the input: %v", p)
	}
	var d apitype.Draft
	w.do(http.MethodGet, "/draft", nil, &d)
	if len(d.Changes) != 0 || d.Revision != 1 {
		t.Errorf("something was changed: %+v", d)
	}
}

func TestAPublishWithFaultsLeavesWhatIsRunningAlone(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.do(http.MethodDelete, "/passes/crew", nil, nil, client.IfMatch("*"))
	w.refused(422, http.MethodPost, "/draft/publish", map[string]string{}, `lane "Wired", policies[0].pass`,
		`no pass "crew"`, "stays as it is")
	if reply, err := w.ask(nil); err != nil || !reply.Accepted {
		t.Errorf("after a refused publish: %+v, %v", reply, err)
	}
	var d apitype.Draft
	w.do(http.MethodGet, "/draft", nil, &d)
	if d.Publishable || len(d.Changes) != 1 || d.Revision != 1 {
		t.Errorf("the draft is %+v", d)
	}
	w.do(http.MethodDelete, "/draft", nil, nil)
	w.refused(409, http.MethodPost, "/draft/publish", map[string]string{}, "the same as what is running")
}

func TestTwoOperatorsDoNotOverwriteEachOther(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.do(http.MethodPost, "/operators", apitype.OperatorInput{Name: "m.eide", Password: "second-operator-1"}, nil)
	var signed apitype.SignedIn
	w.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "m.eide", Password: "second-operator-1",
		TokenName: "t"}, &signed)
	second := &client.Client{URL: w.api.URL, Token: signed.Token}
	var mine apitype.Pass
	w.do(http.MethodGet, "/passes/crew", nil, &mine)
	theirs := mine.PassFields
	theirs.VLAN = "31"
	if err := second.Do(context.Background(), http.MethodPut, "/passes/crew", theirs, nil,
		client.IfMatch(mine.Tag)); err != nil {
		t.Fatal(err)
	}
	err := w.api.Do(context.Background(), http.MethodPut, "/passes/crew", mine.PassFields, nil,
		client.IfMatch(mine.Tag))
	if p, ok := err.(*apitype.Problem); !ok || p.Status != 412 || !strings.Contains(p.Detail, "m.eide") {
		t.Errorf("the second write gives %v", err)
	}
	w.refused(428, http.MethodPut, "/passes/crew", mine.PassFields, "If-Match")
	// One edit is published alone only if the draft holds nothing else.
	extra := apitype.PassFields{Name: "extra"}
	w.refused(409, http.MethodPost, "/passes?publish=true", extra, "not published", "crew", "m.eide")
	w.publish()
	var now apitype.Pass
	w.do(http.MethodGet, "/passes/crew", nil, &now)
	if now.VLAN != "31" {
		t.Errorf("the VLAN is %s", now.VLAN)
	}
}

func TestReturnToARevision(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"pass", "change", "crew", "-vlan", "31", "-publish", "-note", "new floor"}, "revision 2")
	if reply, _ := w.ask(nil); reply.Attributes[2].Value != "31" {
		t.Errorf("after revision 2 the VLAN is %+v", reply.Attributes)
	}
	old := w.attempts("user=k.nance", 1)[0]
	w.wants(0, []string{"revision", "diff", "1"}, "VLAN 31 -> 30")
	w.wants(0, []string{"revision", "return", "1"}, "in effect again, as revision 3")
	if reply, _ := w.ask(nil); reply.Attributes[2].Value != "30" {
		t.Errorf("after taking back the VLAN is %+v", reply.Attributes)
	}
	w.wants(1, []string{"revision", "return", "99"}, "revision 99")
	w.wants(0, []string{"pass", "change", "crew", "-vlan", "32"}, "in the draft")
	w.wants(1, []string{"revision", "return", "2"}, "publish or discard it first")
	// An attempt is explained under the revision that decided it, and tried again under the draft.
	w.wants(0, []string{"attempt", "explain", old.ID}, "revision 2", "Tunnel-Private-Group-ID    31")
	w.wants(0, []string{"attempt", "explain", "-draft", old.ID}, "draft", "Tunnel-Private-Group-ID    32")
	w.wants(0, []string{"revision", "list"}, "3 *", "new floor", "back to revision 1")
}

func TestRestartKeepsEverything(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.ask(nil)
	w.attempts("", 1)
	w.wants(0, []string{"pass", "change", "crew", "-vlan", "77"})
	w.app.Stop()
	w.boot()
	if reply, err := w.ask(nil); err != nil || reply.Attributes[2].Value != "30" {
		t.Errorf("after a restart %+v, %v", reply, err)
	}
	w.attempts("", 2)
	w.wants(0, []string{"draft", "diff"}, "VLAN 30 -> 77")
	var now apitype.Now
	w.do(http.MethodGet, "/now", nil, &now)
	if now.Admitted != 2 {
		t.Errorf("the last hour has %d admitted", now.Admitted)
	}
	if w.app.SetupCode != "" {
		t.Error("a service that is set up prints a setup code")
	}
}

func TestRenamingFollowsReferences(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"pass", "change", "crew", "-name", "deck"}, "deck")
	w.wants(0, []string{"policy", "list", "Wired"}, "deck")
	w.publish()
	if reply, err := w.ask(nil); err != nil || !reply.Accepted {
		t.Errorf("after renaming the pass: %v", err)
	}
}

func TestSignInAndAccess(t *testing.T) {
	t.Parallel()
	w := start(t)
	stranger := &client.Client{URL: w.api.URL}
	for _, path := range []string{"/clients", "/attempts", "/now", "/draft", "/tokens", "/attempts-live", "/fields"} {
		err := stranger.Do(context.Background(), http.MethodGet, path, nil, nil)
		if p, ok := err.(*apitype.Problem); !ok || p.Status != 401 {
			t.Errorf("%s without a token gives %v", path, err)
		}
	}
	w.refused(409, http.MethodPost, "/setup", apitype.SetupInput{Code: "AAAA-AAAA-AAAA", Name: "x",
		Password: "long-enough-one"}, "exists already")
	w.refused(401, http.MethodPost, "/sign-in", apitype.SignInInput{Name: "o.brandt", Password: "wrong"}, "wrong")
	tooMany := false
	for range 12 {
		err := stranger.Do(context.Background(), http.MethodPost, "/sign-in", apitype.SignInInput{Name: "nobody",
			Password: "wrong"}, nil)
		if p, ok := err.(*apitype.Problem); ok && p.Status == 429 {
			tooMany = true
			break
		}
	}
	if !tooMany {
		t.Error("sign-ins are not limited")
	}
	// A page of another origin cannot make a browser act.
	req, _ := http.NewRequest(http.MethodPost, w.api.URL+"/api/v1/sign-out", nil)
	req.Header.Set("Authorization", "Bearer "+w.api.Token)
	req.Header.Set("Origin", "https://elsewhere.example")
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	if resp, err := http.DefaultClient.Do(req); err != nil || resp.StatusCode != http.StatusForbidden {
		t.Errorf("a call from another origin gives %v, %v", resp, err)
	}
	resp, err := http.Get(w.api.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	if csp := resp.Header.Get("Content-Security-Policy"); strings.Contains(csp, "unsafe") || !strings.Contains(csp,
		"'nonce-") || resp.Header.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("the page comes with %v", resp.Header)
	}
	if resp, err := http.Get(w.api.URL + "/assets/missing.js"); err != nil || resp.StatusCode != 404 {
		t.Errorf("a missing asset gives %v, %v", resp.StatusCode, err)
	}
	w.do(http.MethodPost, "/sign-out", nil, nil)
	if err := w.api.Do(context.Background(), http.MethodGet, "/draft", nil, nil); err == nil {
		t.Error("a token works after sign-out")
	}
}

func TestSetupNeedsTheCode(t *testing.T) {
	t.Parallel()
	w := &world{t: t, dir: t.TempDir()}
	w.boot()
	var about apitype.About
	w.do(http.MethodGet, "/about", nil, &about)
	if !about.SetupNeeded {
		t.Error("a new service needs no set-up")
	}
	w.refused(422, http.MethodPost, "/setup", apitype.SetupInput{Code: "AAAA-AAAA-AAAA", Name: "x",
		Password: "long-enough-one"}, "setup code is wrong")
	w.refused(422, http.MethodPost, "/setup", apitype.SetupInput{Code: w.app.SetupCode, Name: "x", Password: "short"},
		"at least 10")
	w.refused(422, http.MethodPost, "/setup", apitype.SetupInput{Code: w.app.SetupCode, Name: "two words",
		Password: "long-enough-one"}, "without spaces")
	w.do(http.MethodPost, "/setup", apitype.SetupInput{Code: strings.ToLower(w.app.SetupCode), Name: "x",
		Password: "long-enough-one"}, nil)
	w.refused(409, http.MethodPost, "/setup", apitype.SetupInput{Code: w.app.SetupCode, Name: "y",
		Password: "long-enough-one"})
}

func TestLiveAttempts(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	type seen struct{ id, data string }
	got := make(chan seen, 10)
	ready := make(chan bool, 1)
	go w.api.Stream(ctx, http.MethodGet, "/attempts-live?verdict=refused", nil, func(e client.Event) bool {
		switch e.Name {
		case "beat":
			select {
			case ready <- true:
			default:
			}
		case "attempt":
			got <- seen{e.ID, string(e.Data)}
		}
		return true
	})
	<-ready
	w.ask(nil)
	w.ask(func(r *trial.Request) { r.User = "nobody" })
	first := <-got
	if !strings.Contains(first.data, "person.unknown") {
		t.Errorf("followed %s", first.data)
	}
	// Somebody who was away catches up from the last event.
	w.ask(func(r *trial.Request) { r.User = "nobody2" })
	w.attempts("reason=person.unknown", 2)
	caught := ""
	err := w.api.Stream(ctx, http.MethodGet, "/attempts-live?verdict=refused", nil, func(e client.Event) bool {
		caught = string(e.Data)
		return e.Name != "attempt"
	}, func(r *http.Request) { r.Header.Set("Last-Event-ID", first.id) })
	if err != nil || !strings.Contains(caught, "nobody2") {
		t.Errorf("caught up with %s, %v", caught, err)
	}
}

// Whoever was away for long is told from when on something is missing, instead of seeing a list with a hole in it.
func TestCatchingUpTellsOfGaps(t *testing.T) {
	t.Parallel()
	w := start(t)
	for i := range 700 {
		w.app.Attempts.Add(&store.Attempt{At: time.Now(), Verdict: "refused", Reason: "person.unknown",
			Client: "np-switch-1", Who: fmt.Sprint("p", i), Sent: fmt.Sprint("p", i), Facts: []byte("{}")})
	}
	w.app.Attempts.Flush(context.Background())
	var page apitype.Page[apitype.Attempt]
	w.do(http.MethodGet, "/attempts?limit=500", nil, &page)
	w.do(http.MethodGet, "/attempts?limit=500&before="+page.Next, nil, &page)
	first, err := ident.Parse(page.Items[len(page.Items)-1].ID)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	shown, gap := []string{}, apitype.Gap{}
	err = w.api.Stream(ctx, http.MethodGet, "/attempts-live", nil, func(e client.Event) bool {
		var a apitype.Attempt
		switch e.Name {
		case "attempt":
			if json.Unmarshal(e.Data, &a) == nil {
				shown = append(shown, a.Sent)
			}
		case "gap":
			return json.Unmarshal(e.Data, &gap) != nil
		}
		return true
	}, func(r *http.Request) { r.Header.Set("Last-Event-ID", fmt.Sprint(int64(first))) })
	if err != nil || len(shown) != 500 || shown[0] != "p1" || shown[499] != "p500" {
		t.Errorf("%d were shown: %v", len(shown), err)
	}
	if gap.Since.IsZero() || gap.Until.Before(gap.Since) {
		t.Errorf("the gap is told as %+v", gap)
	}
}
