package e2e

import (
	"testing"
	"time"

	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/upstream/trial"
)

// EAP-GTC asks for the code by itself, with or without a tunnel, and whoever got the password wrong as well; a device
// that sends the password again loses no try of its person.
func TestCodeAskedForInEAP(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	const password = "gangplank-and-tide1"
	w.account("m.wade", password, "Crew")
	wade, _ := w.enrol("m.wade")
	w.wants(
		0,
		[]string{"lane", "change", "Wired", "-method", "peap-gtc", "-method", "ttls-gtc", "-method", "eap-gtc",
			"-resume", "0", "-second-factor", "code", "-factor-ask", "challenge", "-reject-delay", "0", "-publish"},
		"revision",
	)
	for _, method := range []string{"peap-gtc", "ttls-gtc", "eap-gtc"} {
		sign := func(password, code string, admitted bool, reason string) {
			t.Helper()
			asked := ""
			reply, err := w.ask(func(q *trial.Request) {
				q.Method, q.User, q.Password, q.Code = method, "m.wade", password, code
				q.Supplicant = supplicant.Settings{Binding: true}
				q.Told = func(question string) { asked = question }
			})
			if err != nil || reply.Accepted != admitted || code != "" && asked != "One-time code:" {
				t.Errorf("%s: %s %v, asked %q, %v", method, reply.Code, reply.Accepted, asked, err)
			}
			if a := w.cameTo(reason); a.Facts.Method != method {
				t.Errorf("recorded as %s", a.Facts.Method)
			}
		}
		code := wade.next()
		sign("wrong", code, false, "password.wrong") // the code is not looked at
		sign(password, code, true, "ok")
		sign(password, code, false, "factor.code-used")
		sign(password, "000000", false, "factor.code-wrong")
		for range 6 { // as a device does that keeps the password and sends it for whatever is asked
			sign(password, "", false, "factor.code-missing")
		}
		sign(password, wade.next(), true, "ok")
	}
	// An independent supplicant that keeps the password.
	for range 6 {
		w.eapol(252, ` eap=PEAP`+"\n"+` anonymous_identity="anonymous"`+"\n"+` identity="m.wade"`+"\n"+
			` password="`+password+`"`+"\n"+` phase2="auth=GTC"`)
	}
	if a := w.cameTo("factor.code-missing"); a.Facts.Factor.Detail != "the device sent the password again" {
		t.Errorf("%+v", a.Facts.Factor)
	}
	// Nothing is an answer too where the phone may approve.
	w.wants(
		0,
		[]string{"lane", "change", "Wired", "-second-factor", "any", "-factor-wait", "20", "-publish"},
		"revision",
	)
	phone := w.phoneOf("m.wade", password, "Wade's phone")
	for _, code := range []string{"", wade.next()} {
		s := w.begins("m.wade", password, func(q *trial.Request) {
			q.Method, q.Code, q.Supplicant = "peap-gtc", code, supplicant.Settings{Binding: true}
			q.Timeout = time.Minute
		})
		if told := <-s.told; told != "One-time code, or nothing to approve on your phone:" {
			t.Errorf("asked %q", told)
		}
		if code == "" {
			says(t, phone, waits(t, phone), approval.Approved, 0, approval.Approved)
		}
		s.ends("Access-Accept", "ok")
	}
}
