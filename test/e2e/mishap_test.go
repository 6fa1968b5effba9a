package e2e

import (
	"net/http"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// A fault of the program ends the piece of work that hits it, with a refusal and a record; everything else goes on, and
// the checkup names the fault. Here a part of the service is taken out for a while, so that whoever needs it hits nil.
func TestAFaultEndsOnePieceOfWorkAlone(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	accounts, leases := w.app.Gate.Accounts, w.app.Gate.Leases
	w.app.Gate.Accounts, w.app.Gate.Leases = nil, nil
	methods := []string{"pap", "chap", "mschapv2", "peap-mschapv2", "ttls-pap", "teap-mschapv2"}
	for _, method := range methods {
		if reply, err := w.ask(func(r *trial.Request) { r.Method = method }); reply.Accepted {
			t.Errorf("%s: admitted by a fault: %v", method, err)
		}
	}
	err := w.api.Do(t.Context(), http.MethodGet, "/leases", nil, nil)
	if p, ok := err.(*apitype.Problem); !ok || p.Status != http.StatusInternalServerError {
		t.Errorf("a call that hits a fault: %v", err)
	}
	w.app.Gate.Accounts, w.app.Gate.Leases = accounts, leases
	for _, method := range methods {
		if reply, err := w.ask(func(r *trial.Request) { r.Method = method }); !reply.Accepted {
			t.Errorf("%s after the faults: %+v %v", method, reply, err)
		}
	}
	w.do(http.MethodGet, "/leases", nil, nil)
	w.attempts("reason=service.fault&limit=50", len(methods))
	out, code := w.run("", "tollgate", "checkup", "run")
	if code == 0 || !strings.Contains(out, "fault") {
		t.Errorf("the checkup ends with %d and says\n%s", code, out)
	}
}

func TestAFaultEndsOneSessionOfGearAlone(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	in := trial.GearAsk{Ask: "login", Method: "pap", User: "ann", Password: "rope-and-anchor"}
	accounts := w.app.Gate.Accounts
	w.app.Gate.Accounts = nil
	if r, err := w.device(true).Try(t.Context(), in); r.Status == "PASS" || err == nil && r.Status == "" {
		t.Errorf("a session that hits a fault: %+v, %v", r, err)
	}
	w.app.Gate.Accounts = accounts
	w.asks(w.device(true), in, "PASS")
	if out, code := w.run("", "tollgate", "checkup", "run"); code == 0 || !strings.Contains(out, "fault") {
		t.Errorf("the checkup ends with %d and says\n%s", code, out)
	}
}

// Guesses at local accounts come to an end by every method that tells right from wrong, and those of one device do not
// lock the person out elsewhere.
func TestGuessesAtLocalAccountsAreBraked(t *testing.T) {
	t.Parallel()
	for _, method := range []string{"pap", "chap", "mschapv2", "eap-md5", "peap-mschapv2", "ttls-pap"} {
		t.Run(method, func(t *testing.T) {
			t.Parallel()
			w := start(t)
			w.tunnelled(nil)
			try := func(station, password string) bool {
				reply, err := w.ask(func(r *trial.Request) {
					r.Method, r.Password = method, password
					r.Attributes = []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"},
						{Name: "Calling-Station-Id", Value: station}}
				})
				if err != nil && reply.Fault == "" && !strings.Contains(err.Error(), "refused") {
					t.Error(err)
				}
				return reply.Accepted
			}
			for range 5 {
				try("02-00-5E-00-00-01", "guess")
			}
			if try("02-00-5E-00-00-01", "gangway-and-rope") {
				t.Error("the right password is looked at after five wrong ones from one device")
			}
			w.attempts("reason=password.braked", 1)
			if !try("02-00-5E-00-00-02", "gangway-and-rope") {
				t.Error("guesses from one device lock the person out on another")
			}
		})
	}
}

// Numbers that are 0 on purpose stay 0; what is left out gets what is usual.
func TestZeroIsNotNothing(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	var d apitype.Directory
	w.do(http.MethodGet, "/directories/LANTERN", nil, &d)
	for _, c := range []struct {
		given *int
		want  int
	}{{new(0), 0}, {new(5), 5}, {nil, 60}} {
		d.CacheSeconds = c.given
		w.do(http.MethodPut, "/directories/"+d.ID, apitype.DirectoryInput{DirectoryFields: d.DirectoryFields}, nil,
			client.IfMatch("*"))
		var saved apitype.Directory
		w.do(http.MethodGet, "/directories/"+d.ID, nil, &saved)
		if saved.CacheSeconds == nil || *saved.CacheSeconds != c.want {
			t.Errorf("people are remembered for %v seconds, wanted %d", saved.CacheSeconds, c.want)
		}
	}
}
