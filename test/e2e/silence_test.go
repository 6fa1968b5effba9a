package e2e

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// While nobody can check a password, the device is not told that it is wrong: it is refused for something else, or, if
// the realm wants that, not answered at all, so that it asks its other server.
func TestNobodyCanCheckThePassword(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	w.do(http.MethodPost, "/directories", apitype.DirectoryInput{BindPassword: "x",
		DirectoryFields: apitype.DirectoryFields{
			Name: "LANTERN", Kind: "generic", Servers: []string{"127.0.0.1:1"}, TLS: "plain", BindName: "cn=x",
			Base:          "dc=x",
			TimeoutMillis: 300}}, nil)
	w.do(http.MethodPut, "/realms/here", apitype.RealmFields{Name: "here", Forms: []config.Form{{Kind: config.Bare}},
		Lookup: []config.Lookup{{Store: "LANTERN", Unreachable: config.Refuse}}}, nil, matchAny)
	w.do(http.MethodPost, "/draft/publish", map[string]string{}, nil)
	w.wants(0, []string{"lane", "change", "Wired", "-method", "pap,mschapv2,eap-mschapv2", "-publish"})
	for n, method := range []string{"mschapv2", "eap-mschapv2"} {
		reply, err := w.ask(func(r *trial.Request) { r.Method = method })
		if err != nil || reply.Accepted {
			t.Fatalf("%s: %+v, %v", method, reply, err)
		}
		said := ""
		for _, a := range reply.Attributes {
			said += a.Value + " "
		}
		for _, r := range reply.Rounds {
			said += r.Text + " "
		}
		if a := w.newest(n + 1); a.Reason != "directory.unreachable" || strings.Contains(said, "E=691") ||
			!strings.Contains(said, "E=649") {
			t.Errorf("%s is refused by %s, and the device is told %s", method, a.Reason, said)
		}
	}
	w.wants(0, []string{"realm", "change", "here", "-lookup", "LANTERN!", "-publish"})
	w.wants(0, []string{"realm", "show", "here"}, "LANTERN!")
	begun := time.Now()
	if reply, err := w.ask(nil); err == nil {
		t.Errorf("the device is answered after %v: %+v", time.Since(begun), reply)
	}
	if a := w.newest(3); a.Reason != "directory.unreachable" {
		t.Errorf("it is recorded as %s", a.Reason)
	}
}
