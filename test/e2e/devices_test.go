package e2e

import (
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/upstream/trial"
)

// Somebody may have several devices, and a temporary code while none is at hand; a lost one is removed by its name.
func TestSeveralDevicesAndATemporaryCode(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	const password = "gangplank-and-tide"
	w.account("m.wade", password, "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "code", "-reject-delay", "0", "-publish"},
		"revision")
	sign := func(code, reason string) {
		t.Helper()
		if _, err := w.ask(func(q *trial.Request) {
			q.User, q.Password, q.Code = "m.wade", password, code
		}); err != nil {
			t.Fatal(err)
		}
		w.cameTo(reason)
	}
	sign("000000", "factor.not-enrolled")
	w.wants(1, []string{"factor", "temporary", "nobody"}, "nobody")
	w.wants(1, []string{"factor", "temporary", "m.wade", "-hours", "400"}, "hours")
	out := w.wants(0, []string{"factor", "temporary", "m.wade", "-hours", "8"}, "as often as needed")
	temporary := strings.Fields(out)[0]
	sign(temporary, "ok")
	sign(strings.ReplaceAll(strings.ToUpper(temporary), "-", " "), "ok")
	w.wants(0, []string{"factor", "list"}, "m.wade", "temporary code until")
	w.app.Stop()
	w.boot()
	sign(temporary, "ok")
	if a := w.cameTo("ok"); a.Facts.Factor.By != "temporary" {
		t.Errorf("recorded: %+v", a.Facts.Factor)
	}
	w.wants(0, []string{"factor", "end-temporary", "m.wade"}, "good no more")
	sign(temporary, "factor.not-enrolled")
	out = w.wants(0, []string{"factor", "temporary", "m.wade", "-once"}, "once")
	sign(strings.Fields(out)[0], "ok")
	sign(strings.Fields(out)[0], "factor.not-enrolled")

	first, recovery := w.enrol("m.wade")
	sign(first.next(), "ok")
	offer := w.wants(0, []string{"factor", "enrol", "m.wade", "-label", "tablet", "-later", "-json"}, "otpauth")
	second := &authenticator{t: t, seed: field(offer, "seed"), at: time.Now().Add(-60 * time.Second)}
	w.wants(0, []string{"factor", "confirm", "tablet", second.next()}, "from before stay good")
	sign(second.next(), "ok")
	sign(first.next(), "ok")
	sign(recovery[0], "ok")
	w.wants(1, []string{"factor", "show", "m.wade"}, "tablet", "phone of m.wade")
	w.wants(0, []string{"factor", "recovery", "m.wade"}, "shown only here")
	sign(recovery[1], "factor.code-wrong")
	w.wants(0, []string{"factor", "remove", "phone of m.wade"}, "removed")
	sign(first.next(), "factor.code-wrong")
	sign(second.next(), "ok")
	w.wants(
		0,
		[]string{"factor", "enrol", "m.wade", "-label", "other phone", "-replace", "-later", "-json"},
		"otpauth",
	)
	sign(second.next(), "ok") // until the other one is confirmed
	w.wants(0, []string{"audit", "list"}, "gave m.wade a temporary code", "took back the temporary code of m.wade")
}

// field is a text of JSON that stands in it once.
func field(text, name string) string {
	_, after, _ := strings.Cut(text, `"`+name+`": "`)
	out, _, _ := strings.Cut(after, `"`)
	return out
}
