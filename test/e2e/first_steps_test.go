package e2e

import (
	"net/http"
	"strings"
	"testing"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// The first operator is made in a terminal; what is discarded comes with the one change that helps; an attempt is
// explained by the short identifier of the list.
func TestFirstStepsInATerminal(t *testing.T) {
	t.Parallel()
	w := &world{t: t, dir: t.TempDir()}
	w.boot()
	if out, code := w.run("lantern-demo-2026\n", "tollgate", "setup", "o.brandt"); code != 2 ||
		!strings.Contains(out, "-code") {
		t.Errorf("without the code: %d, %s", code, out)
	}
	if out, code := w.run("lantern-demo-2026\n", "tollgate", "setup", "o.brandt", "-code", "wrong"); code == 0 {
		t.Errorf("a wrong code: %s", out)
	}
	if out, code := w.run("lantern-demo-2026\n", "tollgate", "setup", "o.brandt", "-code",
		w.app.SetupCode); code != 0 ||
		!strings.Contains(out, "Signed in as o.brandt") {
		t.Fatalf("%d, %s", code, out)
	}
	if out, code := w.run("lantern-demo-2026\n", "tollgate", "setup", "other", "-code", w.app.SetupCode); code == 0 {
		t.Errorf("a second time: %s", out)
	}
	var signed apitype.SignedIn
	w.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "o.brandt", Password: "lantern-demo-2026",
		TokenName: "test"}, &signed)
	w.api.Token = signed.Token
	w.basic("require", "127.0.0.77")
	if out, code := w.run(secret+"\n", "tollgate", "client", "add", "old-switch", "-address", "127.0.0.1", "-secret",
		"-publish"); code != 0 || !strings.Contains(out,
		"tollgate client change old-switch -message-authenticator auto") {
		t.Errorf("%d, %s", code, out)
	}
	ask := func() (bool, error) {
		r, err := w.ask(func(q *trial.Request) { q.Unsigned = true })
		return r.Accepted, err
	}
	if accepted, err := ask(); err == nil || accepted {
		t.Fatalf("a request without Message-Authenticator: %v, %v", accepted, err)
	}
	w.wants(0, []string{"client", "show", "old-switch"}, "for it alone",
		"tollgate client change old-switch -message-authenticator auto -publish")
	w.wants(0, strings.Fields("client change old-switch -message-authenticator auto -publish"), "published")
	if accepted, err := ask(); err != nil || !accepted {
		t.Fatalf("after that: %v, %v", accepted, err)
	}
	// auto becomes require once the device is seen with one, and says how to go back.
	if r, err := w.ask(nil); err != nil || !r.Accepted {
		t.Fatalf("a request with one: %+v, %v", r, err)
	}
	if accepted, err := ask(); err == nil || accepted {
		t.Fatalf("without one after that: %v, %v", accepted, err)
	}
	w.wants(0, []string{"client", "show", "old-switch"}, "required from 127.0.0.1 since it was seen",
		"client unlearn old-switch")
	w.wants(0, []string{"client", "unlearn", "old-switch"}, "no longer required from 1 address")
	if accepted, err := ask(); err != nil || !accepted {
		t.Fatalf("after it was unlearned: %v, %v", accepted, err)
	}
	id := w.newest(1).ID
	short := strings.TrimRight(id[1:], "0")
	w.wants(0, []string{"attempt", "list"}, short)
	w.wants(0, []string{"attempt", "explain", short}, "old-switch", "admitted")
	w.wants(0, []string{"attempt", "explain", id}, "old-switch", "admitted")
}
