package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// A phone with an old password is held back before the domain would lock the account; the person goes on with another
// device. Without the guard the account is locked, and the other states of an account are told apart.
func TestTheGuardKeepsAccountsFromBeingLocked(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	admin := administrator(t, dc.ca)
	change := func(dn string, attributes map[string]string) {
		t.Helper()
		m := ldap.NewModifyRequest(dn, nil)
		for name, value := range attributes {
			m.Replace(name, []string{value})
		}
		if err := admin.Modify(m); err != nil {
			t.Fatalf("changing %s: %v", dn, err)
		}
	}
	change(domainBase, map[string]string{"lockoutThreshold": "5", "lockOutObservationWindow": "-18000000000",
		"lockoutDuration": "-18000000000"})
	w := start(t)
	w.member(ofDomain(dc.ca))
	n := 0
	from := func(mac, method, user, password string) string {
		t.Helper()
		reply, err := trial.Send(context.Background(), trial.Request{Server: w.radius, Secret: secret, Method: method,
			User: user, Password: password, Timeout: 5 * time.Second,
			Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}, {Name: "Calling-Station-Id",
				Value: mac}}})
		if err != nil {
			t.Fatal(err)
		}
		n++
		a := w.newest(n)
		if reply.Accepted != (a.Reason == "ok") {
			t.Errorf("%s: the answer and the record differ: %s", user, a.Reason)
		}
		return a.Reason
	}
	const phone, laptop = "02-00-5E-00-00-01", "02-00-5E-00-00-02"
	right := "Harbour-s.lodge-1"
	for i, c := range []struct{ mac, method, password, reason string }{
		{phone, "peap-mschapv2", "old", "password.wrong"}, {phone, "pap", "old", "password.wrong"},
		{phone, "mschapv2", "old", "password.guarded"}, {phone, "pap", right, "password.guarded"},
		{laptop, "mschapv2", right, "ok"}, {phone, "pap", "old", "password.wrong"}, {laptop, "pap", "mistyped",
			"password.wrong"}, {laptop, "mschapv2", "mistyped", "password.wrong"}, {laptop, "pap", right,
			"password.guarded"},
	} {
		if got := from(c.mac, c.method, "s.lodge", c.password); got != c.reason {
			t.Errorf("attempt %d is %s, wanted %s", i, got, c.reason)
		}
	}
	w.wants(0, []string{"attempt", "explain"}, "3 wrong ones of this person", "Find the device",
		"tollgate directory release LANTERN")
	w.wants(0, []string{"directory", "held", "LANTERN"}, "s.lodge", "3 of 3", "locks after 5")
	state := func(name string) string {
		result, err := admin.Search(ldap.NewSearchRequest("CN=s.lodge,CN=Users,"+domainBase, ldap.ScopeBaseObject, 0,
			1, 0, false, "(objectClass=*)", []string{name}, nil))
		if err != nil {
			t.Fatal(err)
		}
		return result.Entries[0].GetAttributeValue(name)
	}
	if got := state("badPwdCount"); got != "3" {
		t.Errorf("the domain counts %s wrong passwords", got)
	}
	w.wants(0, []string{"directory", "release", "LANTERN", "s.lodge"}, "1 released")
	if got := from(laptop, "pap", "s.lodge", right); got != "ok" {
		t.Errorf("after the release: %s", got)
	}
	// somebody else, elsewhere, mistypes: what the domain counts is taken over with the next wrong one here
	for range 3 {
		if c, err := ldap.DialURL("ldaps://"+controller, ldap.DialWithTLSConfig(trusting(dc.ca))); err == nil {
			c.Bind("s.lodge@lantern.example", "elsewhere")
			c.Close()
		}
	}
	if first, second := from(phone, "pap", "s.lodge", "old"), from(laptop, "pap", "s.lodge",
		"old"); first != "password.wrong" || second != "password.guarded" {
		t.Errorf("with three wrong ones from elsewhere: %s, %s", first, second)
	}
	// without the guard the domain locks, and says so
	var in apitype.Directory
	w.do(http.MethodGet, "/directories/LANTERN", nil, &in)
	in.GuardAfter, in.CacheSeconds = -1, new(0)
	w.do(http.MethodPut, "/directories/LANTERN", apitype.DirectoryInput{DirectoryFields: in.DirectoryFields}, nil,
		client.IfMatch("*"))
	w.publish()
	for range 3 {
		from(phone, "mschapv2", "s.lodge", "old")
	}
	if got := from(laptop, "mschapv2", "s.lodge", right); got != "person.locked" {
		t.Errorf("an account that was locked: %s", got)
	}
	change("CN=s.lodge,CN=Users,"+domainBase, map[string]string{"lockoutTime": "0"})
	change("CN=s.lodge,CN=Users,"+domainBase, map[string]string{"logonHours": strings.Repeat("\x00", 21)})
	if got := from(laptop, "mschapv2", "s.lodge", right); got != "person.hours" {
		t.Errorf("outside the hours: %s", got)
	}
	change("CN=s.lodge,CN=Users,"+domainBase, map[string]string{"logonHours": strings.Repeat("\xff", 21),
		"userWorkstations": "OFFICE9"})
	if got := from(laptop, "mschapv2", "s.lodge", right); got != "person.workstation" {
		t.Errorf("on another workstation: %s", got)
	}
	change("CN=s.lodge,CN=Users,"+domainBase, map[string]string{"userWorkstations": "OFFICE9,TOLLGATE1"})
	if got := from(laptop, "mschapv2", "s.lodge", right); got != "ok" {
		t.Errorf("with our machine account among the workstations: %s", got)
	}
	// The domain has become stricter since its rule was read. An account that is found locked has it read again.
	w.wants(0, []string{"directory", "held", "LANTERN"}, "No guard, and the directory locks after 5")
	change(domainBase, map[string]string{"lockoutThreshold": "4"})
	time.Sleep(2 * time.Second)
	for range 4 {
		from(phone, "mschapv2", "s.lodge", "old")
	}
	if got := from(laptop, "mschapv2", "s.lodge", right); got != "person.locked" {
		t.Errorf("an account that was locked after four: %s", got)
	}
	w.wants(0, []string{"directory", "held", "LANTERN"}, "No guard, and the directory locks after 4")
}
