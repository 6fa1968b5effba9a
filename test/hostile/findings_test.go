package hostile

import (
	"crypto/tls"
	"math/rand/v2"
	"slices"
	"testing"
)

// finding is one way by which somebody was admitted, or something was passed over, until it was found.
type finding struct {
	name         string
	ssid, method string
	holds        []holds
	// flights and insides are deviations, by name. Each of the ones goes with each of the others, at every place.
	flights, insides []string
	// refused tells that nobody at all is admitted where the deviation changed something, not even by his own rights.
	refused bool
	// ticket and otherSuite are those of a scenario.
	ticket, otherSuite bool
}

var (
	cuts = []string{"cut behind the 1st", "cut behind the 2nd", "cut behind the 3rd"}

	findings = []finding{
		{name: "half an inner EAP-TLS, then the other Identity-Type", ssid: "teap-both", method: "teap-tls",
			holds: []holds{dressed, onStolenPC, ownPC}, flights: cuts,
			insides: []string{"Identity-Type user alone", "Identity-Type machine as well"}},
		{name: "half an inner EAP-TLS, then PAP", ssid: "ttls", method: "ttls-tls", holds: []holds{public, dressed},
			flights: cuts, insides: []string{"PAP of nobody", "PAP without a name", "PAP of the attacker"}},
		{name: "half an inner EAP-TLS, then a password", ssid: "teap-user", method: "teap-tls", holds: []holds{public,
			dressed}, flights: cuts, insides: []string{"no password of nobody", "password of the attacker"}},
		{name: "half an inner EAP-TLS, then a success", ssid: "peap", method: "peap-tls", holds: []holds{public,
			dressed}, flights: cuts, insides: []string{"an extension of success", "bare TLS acknowledged"}},
		{name: "a person where a computer is wanted", ssid: "teap-machine", method: "teap-mschapv2",
			holds: []holds{asSelf, asPC}},
		{name: "a computer's name with a password, where both are wanted", ssid: "teap-both", method: "teap-mschapv2",
			holds: []holds{asPC, asSelf}},
		{name: "a session that is offered, and not resumed", ssid: "teap-user", method: "teap-mschapv2",
			holds: []holds{lesser}, ticket: true, otherSuite: true},
		{name: "a session without its secret", ssid: "peap", method: "peap-mschapv2", holds: []holds{public},
			ticket: true},
		{name: "doubled pairs in TTLS", ssid: "ttls", method: "ttls-pap", holds: []holds{lesser}, refused: true,
			insides: []string{"twice", "the victim's name as well", "the victim's name before",
				"the attacker's PAP as well", "PAP with two names", "PAP with two names, turned round"}},
		{name: "an unknown mandatory pair in TTLS", ssid: "ttls", method: "ttls-mschapv2", holds: []holds{lesser},
			insides: []string{"an unknown mandatory pair"}, refused: true},
		{name: "doubled TLVs in TEAP", ssid: "teap-user", method: "teap-mschapv2", holds: []holds{lesser},
			insides: []string{"doubled TLVs"}, refused: true},
		{name: "an unknown mandatory TLV in TEAP", ssid: "teap-user", method: "teap-pap", holds: []holds{lesser},
			insides: []string{"an unknown mandatory TLV"}, refused: true},
		{name: "a failure of the method, with a success of the whole", ssid: "teap-user", method: "teap-mschapv2",
			holds: []holds{lesser}, insides: []string{"an intermediate failure"}, refused: true},
		{name: "no result of the method, with a success of the whole", ssid: "teap-user", method: "teap-mschapv2",
			holds: []holds{lesser}, insides: []string{"no intermediate result"}, refused: true},
		{name: "a success before anything", ssid: "teap-user", method: "teap-pap", holds: []holds{public, lesser},
			insides: []string{"a result of success", "both results"}},
	}
)

// plans are all conversations of a finding, for one scenario that takes so many messages without a deviation.
func (f *finding) plans(s scenario, lengths [3]int) (out []plan) {
	places := func(l layer, names []string) (list [][]deviation) {
		for _, name := range names {
			kind := slices.IndexFunc(insideKinds, func(k insideKind) bool { return k.name == name })
			if l == flights {
				kind = slices.IndexFunc(flightKinds, func(k flightKind) bool { return k.name == name })
			}
			for at := range lengths[l] {
				list = append(list, []deviation{{l, at, kind}})
			}
		}
		if len(names) == 0 {
			return [][]deviation{nil}
		}
		return list
	}
	for _, cut := range places(flights, f.flights) {
		for _, said := range places(insides, f.insides) {
			out = append(out, plan{s, append(slices.Clone(cut), said...)})
		}
	}
	return out
}

// walk has all conversations of a finding.
func (w *world) walk(t *testing.T, f *finding) {
	n, changed := 0, 0
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		if f.otherSuite && version != tls.VersionTLS12 {
			continue
		}
		for _, h := range f.holds {
			s := scenario{ssid: f.ssid, method: f.method, holds: h, tls: version, ticket: f.ticket,
				otherSuite: f.otherSuite}
			honest := &device{w: w, s: s, random: rand.New(rand.NewPCG(1, 2))}
			if _, err := honest.run(); err != nil {
				t.Fatal(err)
			}
			for _, p := range f.plans(s, honest.count) {
				w.app.Gate.Lockout.Release("local", "")
				d := &device{w: w, s: s, deviations: p.d, random: rand.New(rand.NewPCG(3, 4))}
				given, err := d.run()
				if err != nil {
					t.Error(err)
				}
				for _, v := range given {
					if !p.allowed(v) || f.refused && d.changed {
						t.Errorf("%v: admitted into VLAN %s", p, v)
					}
				}
				if n++; d.changed {
					changed++
				}
			}
		}
	}
	if n == 0 || len(f.insides) > 0 && changed == 0 {
		t.Errorf("nothing was tried: %d conversations, %d with a change", n, changed)
	}
}

// Every road that was found once is walked again, at every step where it could begin. The table says what each is.
func TestFindings(t *testing.T) {
	w := newWorld(t)
	t.Run("findings", func(t *testing.T) { // ends when all of them have
		for i := range findings {
			t.Run(findings[i].name, func(t *testing.T) {
				t.Parallel()
				w.walk(t, &findings[i])
			})
		}
	})
	if m := w.app.Gate.Panics.List(); len(m) > 0 {
		t.Errorf("panics: %v", m)
	}
	w.records()
}
