package e2e

import (
	"net/http"
	"testing"

	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
)

// Somebody whose password must be changed changes it while signing in, and the domain holds the new one from then on. A
// new password that breaks the rules of the domain is told apart.
func TestAnExpiredPasswordIsChangedWhileSigningIn(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	w := start(t)
	in := ofDomain(dc.ca)
	w.member(in)
	var lane apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: lab.Switches()[0].Secret,
		ClientFields: apitype.ClientFields{Name: "quay", Enabled: true,
			Addresses: []string{lab.Switches()[0].Addr.String()}, MessageAuthenticator: "require"}}, nil)
	w.wants(0, []string{"policy", "change", "Wired", "Shore", "-when", `group is "Domain Users"`}, "changed")
	w.publish()
	n := 0
	signs := func(method, user, old, next string) string {
		t.Helper()
		n++
		reply := w.plug("02-00-5E-10-01-01", method, user, old, supplicant.Settings{NewPassword: next})
		a := w.newest(n)
		if reply.Accepted != (a.Reason == "ok") || reply.Accepted && reply.Keys != "match" {
			t.Errorf("%s: %+v, recorded %s", method, reply, a.Reason)
		}
		return a.Reason
	}
	const old, next = "Harbour-e.garth-1", "Harbour-e.garth-New-2"
	for _, c := range []struct{ method, old, next, reason string }{
		{"peap-mschapv2", old, "", "password.must-change"}, {"peap-mschapv2", old, "short", "password.rejected"},
		{"peap-mschapv2", "wrong", next, "password.wrong"},
		{"peap-mschapv2", old, next, "ok"}, {"peap-mschapv2", next, "", "ok"}, {"ttls-pap", next, "", "ok"},
	} {
		if got := signs(c.method, "e.garth", c.old, c.next); got != c.reason {
			out, _ := w.run("", "tollgate", "attempt", "explain")
			t.Errorf("from %s to %q: %s, wanted %s\n%s", c.old, c.next, got, c.reason, out)
		}
	}
	w.wants(0, []string{"attempt", "list", "-limit", "10"}, "password.rejected")
}
