package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// The checkup of a real domain finds what works today and will not one day: too strong an account, a password that
// ends, a clock, a single controller, groups that are gone, a controller that takes right answers for wrong ones.
func TestCheckupOfARealDomain(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	admin := administrator(t, dc.ca)
	change := func(dn string, do func(*ldap.ModifyRequest)) {
		t.Helper()
		m := ldap.NewModifyRequest(dn, nil)
		do(m)
		if err := admin.Modify(m); err != nil {
			t.Fatalf("changing %s: %v", dn, err)
		}
	}
	w := start(t)
	in := ofDomain(dc.ca)
	in.DNS = controller
	w.member(in)
	w.wants(0, []string{"directory", "pick", "LANTERN", "Ticketing", "-publish"}, "picked")
	w.wants(0, []string{"checkup", "run"}, "Compare clocks", "password does not expire", "1, 1 configured here",
		"dc1.lantern.example", "it locks nobody", "1 of 1 are there", "Secure channel",
		"right answers are taken for right")
	w.wants(0, []string{"checkup", "show"}, "checks passed")
	w.wants(0, []string{"checkup", "changes"}, "None.")
	// what nobody warns of
	service := "CN=svc-tollgate,CN=Users," + domainBase
	change("CN=Backup Operators,CN=Builtin,"+domainBase, func(m *ldap.ModifyRequest) {
		m.Add("member", []string{"CN=Domain Admins,CN=Users," + domainBase})
	})
	change("CN=Domain Admins,CN=Users,"+domainBase, func(m *ldap.ModifyRequest) { m.Add("member", []string{service}) })
	change(service, func(m *ldap.ModifyRequest) { m.Replace("userAccountControl", []string{"512"}) })
	change(domainBase, func(m *ldap.ModifyRequest) {
		m.Replace("lockoutThreshold", []string{"4"})
		m.Replace("maxPwdAge", []string{"-8640000000000"}) // ten days
	})
	other := ldap.NewAddRequest("CN=DC2,OU=Domain Controllers,"+domainBase, nil)
	for name, value := range map[string]string{"objectClass": "computer", "sAMAccountName": "DC2$",
		"userAccountControl": "8192", "dNSHostName": "dc2.lantern.example"} {
		other.Attribute(name, []string{value})
	}
	if err := admin.Add(other); err != nil {
		t.Fatal(err)
	}
	if err := admin.Del(ldap.NewDelRequest("CN=Ticketing,CN=Users,"+domainBase, nil)); err != nil {
		t.Fatal(err)
	}
	var d apitype.Directory
	w.do(http.MethodGet, "/directories/LANTERN", nil, &d)
	d.GuardAfter, d.DNS = 9, ""
	w.do(http.MethodPut, "/directories/LANTERN", apitype.DirectoryInput{BindPassword: "Harbour-svc-tollgate-1",
		DirectoryFields: d.DirectoryFields}, nil, client.IfMatch("*"))
	w.publish()
	w.wants(0, []string{"checkup", "run", "LANTERN"}, "a member of Administrators", "Backup Operators",
		"password expires in 9 days", "dc2.lantern.example", "Add a second one", "gone: Ticketing",
		"which is too late", "may be an outside one")
	w.wants(0, []string{"checkup", "changes"}, "pass -> warn", "Look at the service account",
		"Count the domain controllers", "Find the picked groups")
	var now apitype.Now
	w.do(http.MethodGet, "/now", nil, &now)
	found := false
	for _, a := range now.Attention {
		found = found || strings.Contains(a.Title, "Look at the service account")
	}
	if !found {
		t.Errorf("Now does not show what the checkup found: %+v", now.Attention)
	}
	w.wants(1, []string{"checkup", "run", "nowhere"}, "no directory nowhere in use")
	// a controller that refuses what MS-CHAPv2 needs, and one that is gone
	dc.stop()
	conf, err := os.ReadFile(filepath.Join(dc.dir, "smb.conf"))
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(dc.dir, "smb.conf"), []byte(strings.Replace(string(conf), "mschapv2-and-ntlmv2-only",
		"ntlmv2-only", 1)), 0o600)
	dc.start(t)
	waitFor(t, "Netlogon", func() bool {
		out, _ := w.run("", "tollgate", "checkup", "run")
		return strings.Contains(out, "with "+controller)
	})
	w.wants(1, []string{"checkup", "run"}, "takes a right answer for a wrong password", "NTLMv2 only")
	dc.stop()
	begun := time.Now()
	w.wants(1, []string{"checkup", "run"}, "refuses the connection")
	if took := time.Since(begun); took > 10*time.Second {
		t.Errorf("a checkup without the controller took %v", took)
	}
	w.wants(1, []string{"checkup", "show"}, "refuses the connection")
}
