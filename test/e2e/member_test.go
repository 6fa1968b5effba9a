package e2e

import (
	"context"
	"net/http"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// Somebody who holds the one right that is said to be needed can join, and somebody who does not cannot.
func TestTheLeastRightToJoin(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	add := ldap.NewAddRequest("OU=Gate,"+domainBase, nil)
	add.Attribute("objectClass", []string{"organizationalUnit"})
	if err := administrator(t, dc.ca).Add(add); err != nil {
		t.Fatal(err)
	}
	w := start(t)
	w.do(http.MethodPost, "/directories", ofDomain(dc.ca), nil)
	join := apitype.JoinInput{Name: "s.lodge@lantern.example", Password: "Harbour-s.lodge-1", Computer: "tollgate9",
		OU: "OU=Gate," + domainBase}
	w.refused(422, http.MethodPost, "/directories/LANTERN/join", join, "the right to create computer objects")
	w.wants(1, []string{"directory", "delegation", "LANTERN", "no.body"}, "no account")
	w.wants(0, []string{"directory", "delegation", "LANTERN", "s.lodge@lantern.example", "-ou", join.OU},
		"(OA;;CC;bf967a86-0de6-11d0-a285-00aa003049e2;;S-1-5-21-", "OU=Gate")
	var right results.Delegation
	w.do(http.MethodGet, "/directories/LANTERN/delegation?name=s.lodge&ou="+url.QueryEscape(join.OU), nil, &right)
	if out, err := exec.Command("samba-tool", "dsacl", "set", "-H", "tdb://"+filepath.Join(dc.dir, "private/sam.ldb"),
		"-s", filepath.Join(dc.dir, "smb.conf"), "--action=allow", "--objectdn="+right.Container, "--sddl="+
			right.ACE).CombinedOutput(); err != nil {
		t.Fatalf("delegating: %v\n%s", err, out)
	}
	var joined apitype.Joined
	w.do(http.MethodPost, "/directories/LANTERN/join?publish=true", join, &joined)
	if joined.DN != "CN=TOLLGATE9,OU=Gate,"+domainBase {
		t.Errorf("joined as %s", joined.DN)
	}
}

// All domains of a forest are searched through its global catalog, and people are checked in the domain they lie in.
func TestTheGlobalCatalog(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	w := start(t)
	w.member(ofDomain(dc.ca, controller+":3269"))
	w.wants(0, []string{"directory", "test", "LANTERN", "-person", "s.lodge"}, "all domains of the forest",
		"The s.lodge")
	for _, method := range []string{"pap", "peap-mschapv2"} {
		if in, err := w.signs(method); !in {
			t.Errorf("%s through the global catalog: %v", method, err)
		}
	}
	if a := w.newest(2); a.Facts.Person.Domain != "LANTERN" {
		t.Errorf("the person lies in %q", a.Facts.Person.Domain)
	}
}

// Membership of a real domain: joined with credentials that are used once, and MS-CHAPv2 checked by its controller for
// people in every state.
func TestMembershipOfARealDomain(t *testing.T) {
	ca := startController(t)
	populate(t, ca)
	w := start(t)
	w.tunnelled(nil)
	w.do(http.MethodPost, "/directories", apitype.DirectoryInput{BindPassword: "Harbour-svc-tollgate-1",
		DirectoryFields: apitype.DirectoryFields{Name: "LANTERN", Kind: "active-directory",
			Servers: []string{controller}, TLS: "ldaps", CA: ca.PEM,
			BindName: "svc-tollgate@lantern.example", TimeoutMillis: 3000}}, nil)
	var realm apitype.Realm
	w.do(http.MethodGet, "/realms/here", nil, &realm)
	realm.Forms = append(realm.Forms, config.Form{Kind: config.Suffix, Value: "lantern.example"})
	realm.Lookup = []config.Lookup{{Store: "LANTERN", Unreachable: config.Refuse}}
	w.do(http.MethodPut, "/realms/here", realm.RealmFields, nil, client.IfMatch("*"))
	var lane apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	lane.Policies = []*config.Policy{{Name: "Computers", Enabled: true,
		When: `kind is computer and machine.group is "Domain Computers"`, Outcome: config.Admit, Pass: "printers"},
		{Name: "Shore", Enabled: true, When: `group is "Shore Staff"`, Outcome: config.Admit, Pass: "crew"}}
	w.do(http.MethodPut, "/lanes/Wired", lane.LaneFields, nil, client.IfMatch("*"))
	w.publish()
	attempt := func(method, user, password string) apitype.AttemptDetail {
		t.Helper()
		var reply apitype.TrialResult
		w.do(http.MethodPost, "/trials", apitype.TrialInput{Client: "np-switch-1", Method: method, User: user,
			Password: password, Attributes: []config.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}}, &reply)
		for range 100 {
			if a := w.newest(1); time.Since(a.At) < 5*time.Second && a.Facts.Name() == user &&
				a.At.After(reply.At.Add(-time.Second)) && (a.Verdict == "admitted") == reply.Accepted {
				return a
			}
			time.Sleep(20 * time.Millisecond)
		}
		t.Fatalf("the attempt of %s was not recorded", user)
		return apitype.AttemptDetail{}
	}
	if a := attempt("peap-mschapv2", "s.lodge", "Harbour-s.lodge-1"); a.Reason != "method.unusable" ||
		!strings.Contains(a.Trace.Sentence, "not joined to its domain") {
		t.Errorf("before joining: %s %s", a.Reason, a.Trace.Sentence)
	}
	var draft apitype.Draft
	w.do(http.MethodGet, "/draft", nil, &draft)
	w.refused(422, http.MethodPost, "/directories/LANTERN/join",
		apitype.JoinInput{Name: "Administrator@lantern.example", Password: "wrong", Computer: "tollgate1"},
		"the domain was not joined")
	w.refused(422, http.MethodPost, "/directories/LANTERN/join",
		apitype.JoinInput{Name: "svc-tollgate@lantern.example", Password: "Harbour-svc-tollgate-1",
			Computer: "not a name"}, "no name of a computer")
	w.refused(422, http.MethodPost, "/directories/LANTERN/join",
		apitype.JoinInput{Name: "svc-tollgate@lantern.example", Password: "Harbour-svc-tollgate-1",
			Computer: "tollgate1", OU: "OU=nowhere," + domainBase}, "the domain was not joined")
	var joined apitype.Joined
	w.do(http.MethodPost, "/directories/LANTERN/join?publish=true",
		apitype.JoinInput{Name: "Administrator@lantern.example", Password: adminPass, Computer: "tollgate1"}, &joined)
	if joined.DN != "CN=TOLLGATE1,CN=Computers,"+domainBase || joined.Controller != controller || joined.Revision == 0 {
		t.Errorf("joined %+v", joined)
	}
	for _, c := range []struct{ method, user, password, reason string }{
		{"peap-mschapv2", "s.lodge", "Harbour-s.lodge-1", "ok"}, {"mschapv2", "s.lodge", "Harbour-s.lodge-1", "ok"},
		{"ttls-mschapv2", `LANTERN\s.lodge`, "Harbour-s.lodge-1", "ok"}, {"teap-mschapv2", "s.lodge",
			"Harbour-s.lodge-1", "ok"},
		{"peap-mschapv2", "s.lodge", "wrong", "password.wrong"}, {"peap-mschapv2", "b.tulloch", "Harbour-b.tulloch-1",
			"person.disabled"}, {"peap-mschapv2", "f.oakes", "Harbour-f.oakes-1", "person.expired"},
		{"peap-mschapv2", "e.garth", "Harbour-e.garth-1", "password.must-change"}, {"peap-mschapv2", "nobody", "x",
			"person.unknown"},
	} {
		if a := attempt(c.method, c.user, c.password); a.Reason != c.reason {
			t.Errorf("%s by %s: %s, wanted %s: %s", c.user, c.method, a.Reason, c.reason, a.Trace.Sentence)
		}
	}
	for range 2 { // the machine password changes under use, more than once
		w.wants(0, []string{"directory", "rotate", "LANTERN"}, "new password")
		if a := attempt("mschapv2", "s.lodge", "Harbour-s.lodge-1"); a.Reason != "ok" {
			t.Errorf("after the machine password changed: %s %s", a.Reason, a.Trace.Sentence)
		}
	}
	// A change of unknown outcome left a password that the domain never took, before the one that it takes.
	kept := w.app.Gate.MachineAccounts
	if err := kept.Set(context.Background(), "LANTERN", "TOLLGATE1", "never-taken", kept.Passwords("LANTERN",
		"TOLLGATE1")[0]); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		w.wants(0, []string{"directory", "rotate", "LANTERN"}, "new password")
	}
	if a := attempt("mschapv2", "s.lodge", "Harbour-s.lodge-1"); a.Reason != "ok" {
		t.Errorf("after a change of unknown outcome: %s %s", a.Reason, a.Trace.Sentence)
	}
	addComputer(t, ca, "PC77", "Harbour-pc77-1")
	if a := attempt("peap-mschapv2", "host/pc77.lantern.example", "Harbour-pc77-1"); a.Reason != "ok" ||
		a.VLAN != "80" || a.Facts.Person.Kind != "computer" {
		t.Errorf("a computer with its machine password: %s %s", a.Reason, a.Trace.Sentence)
	}
	out := w.eapol(0, strings.NewReplacer("k.nance", "s.lodge", "gangway-and-rope",
		"Harbour-s.lodge-1").Replace(careful("peap-mschapv2")))
	if _, vlan, _ := strings.Cut(out, "Attribute 81 "); !strings.Contains(vlan[:min(len(vlan), 120)], "Value: 3330") {
		t.Errorf("an independent device is not told VLAN 30 by a nested group: %q", vlan[:min(len(vlan), 120)])
	}
	// another server takes our machine account over: we notice, and say so; joining again repairs it
	if _, err := trial.Send(context.Background(), trial.Request{Server: w.radius, Secret: secret, Method: "mschapv2",
		User: "s.lodge", Password: "Harbour-s.lodge-1", Timeout: 3 * time.Second,
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}}); err != nil {
		t.Error(err)
	}
	again := start(t)
	again.do(http.MethodPost, "/directories", apitype.DirectoryInput{BindPassword: "Harbour-svc-tollgate-1",
		DirectoryFields: apitype.DirectoryFields{Name: "LANTERN", Kind: "active-directory",
			Servers: []string{controller}, TLS: "ldaps", CA: ca.PEM,
			BindName: "svc-tollgate@lantern.example", TimeoutMillis: 3000}}, nil)
	again.do(http.MethodPost, "/directories/LANTERN/join", apitype.JoinInput{Name: "Administrator@lantern.example",
		Password: adminPass, Computer: "tollgate1"}, &joined)
	for range 3 { // connections of before may still be good
		if a := attempt("mschapv2", "s.lodge", "Harbour-s.lodge-1"); a.Reason == "domain.refuses" {
			break
		} else if a.Reason != "ok" {
			t.Errorf("after the account was taken over: %s %s", a.Reason, a.Trace.Sentence)
		}
	}
	if out, code := w.run(adminPass+"\n", "tollgate", "directory", "join", "LANTERN", "-as",
		"Administrator@lantern.example", "-computer", "tollgate1", "-publish"); code != 0 || !strings.Contains(out,
		"confirmed its secure channel") {
		t.Errorf("joining from the command line: %s", out)
	}
	w.wants(0, []string{"directory", "show", "LANTERN"}, "LANTERN as TOLLGATE1$")
	if a := attempt("peap-mschapv2", "s.lodge", "Harbour-s.lodge-1"); a.Reason != "ok" {
		t.Errorf("after joining again: %s %s", a.Reason, a.Trace.Sentence)
	}
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/directories"), p.click("LANTERN"), p.click("Membership"), p.see("Member of LANTERN"),
		p.click("Replace it now"), p.see("every 30 days"), p.see("TOLLGATE1$"), p.click("Leave the domain"),
		p.see("Join the domain"),
		p.fill("Who may create computers", "Administrator@lantern.example"), p.click("Which right is needed?"),
		p.see("(OA;;CC;bf967a86"), p.fill("Its password", adminPass), p.fill("Machine account", "not a name"),
		p.click("Join the domain"), p.see("no name of a computer"),
		p.fill("Its password", adminPass), p.fill("Machine account", "tollgate2"), p.click("Join the domain"),
		p.see("TOLLGATE2$"))
	w.publish()
	if a := attempt("mschapv2", "s.lodge", "Harbour-s.lodge-1"); a.Reason != "ok" {
		t.Errorf("after joining in the console: %s %s", a.Reason, a.Trace.Sentence)
	}
	if out, code := w.run("wrong\n", "tollgate", "directory", "leave", "LANTERN", "-as",
		"Administrator@lantern.example"); code != 1 || !strings.Contains(out, "still a member") {
		t.Errorf("leaving with a wrong password: %s", out)
	}
	if out, code := w.run(adminPass+"\n", "tollgate", "directory", "leave", "LANTERN", "-publish", "-as",
		"Administrator@lantern.example"); code != 0 || !strings.Contains(out, "published") {
		t.Errorf("leaving: %s", out)
	}
	if found, err := administrator(t, ca).Search(ldap.NewSearchRequest(domainBase, ldap.ScopeWholeSubtree, 0, 0, 0,
		false, "(sAMAccountName=TOLLGATE2$)", []string{"cn"}, nil)); err != nil || len(found.Entries) != 0 {
		t.Errorf("the machine account is still there: %v", err)
	}
	if a := attempt("peap-mschapv2", "s.lodge", "Harbour-s.lodge-1"); a.Reason != "method.unusable" {
		t.Errorf("after leaving: %s", a.Reason)
	}
}
