package rule

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/facts"
)

var monday = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func parsed(t testing.TB, text string) *Condition {
	t.Helper()
	c, err := Parse(text, Person, hours)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return c
}

func TestSearchKnows(t *testing.T) {
	for text, want := range map[string]Answer{
		`always`: Possible, `not always`: Impossible,
		`group is A and group is B`: Possible, `group is A and group is not a`: Impossible,
		`group is A and not group exists`: Impossible, `not group exists`: Possible,
		`group starts Ticket and group is not Ticketing`: Possible,
		`group is Ticketing and not group starts TICK`:   Impossible,
		`ssid is a and ssid is b`:                        Impossible, `ssid in a, b and ssid is not a`: Possible,
		`ssid in a, b and ssid not in B, A`:                                                 Impossible,
		`ssid starts LF- and ssid ends Deck and ssid is not LF-Deck`:                        Possible,
		`ssid starts LF and ssid starts XY`:                                                 Impossible,
		`ssid starts ab and ssid ends bc and ssid is abc`:                                   Possible,
		`ssid contains ab and not ssid contains A`:                                          Impossible,
		`ssid exists and ssid is ""`:                                                        Impossible,
		`ssid starts a and not ssid exists`:                                                 Impossible,
		`ssid matches "^LF-[0-9]{2}$"`:                                                      Possible,
		`ssid matches "^a$" and not ssid matches "^a$"`:                                     Impossible,
		`ssid matches "^a+$" and not ssid matches "^a"`:                                     Unknown,
		`client.address within 192.0.2.0/24 and client.address within 198.51.100.0/24`:      Impossible,
		`client.address within 192.0.2.0/24 and not client.address within 192.0.2.0/25`:     Possible,
		`client.address within 192.0.2.0/31 and client.address not in 192.0.2.0, 192.0.2.1`: Impossible,
		`client.address within 2001:db8::/32 and client.address is not 2001:db8::`:          Possible,
		`machine.seen within 8h and not machine.seen within 9h`:                             Impossible,
		`machine.seen within 8h and machine.seen at least 8h`:                               Possible,
		`machine.seen at least 1h and not machine.seen exists`:                              Impossible,
		`person.badge at least 3 and not person.badge at least 4`:                           Possible,
		`attribute.NAS-Port at least 4 and not attribute.NAS-Port at least 3`:               Impossible,
		`service is not network and service is not device-login and service is not device-command and service is not call-check and service exists`: Impossible, `service is lunch`: Impossible,
		`method is pap and proof is peap-mschapv2`: Impossible, `method is eap and proof is peap-mschapv2`: Possible,
		`method is eap and proof in pap, chap`: Impossible, `method is not eap and proof starts peap`: Impossible,
		`not method exists`: Possible,
		`time is office-hours and time is not office-hours`: Impossible,
		`time is office-hours and time is weekend`:          Unknown, `time not in office-hours, weekend`: Possible,
		`time is weekend and ssid is x`:                 Possible,
		`name.form is prefix and name.realm is LANTERN`: Possible, `mac starts 02-00-5e and mac ends 9d`: Possible,
		`mac is 02-00-5E-10-4C-9D and not mac starts 02`:                                                         Impossible,
		`device.kind is printer and not device exists and device.owner is x`:                                     Possible,
		`kind is computer and machine exists and certificate.upn ends .example and certificate.left at least 3d`: Possible,
		// the Kelvin sign
		`group is "\u212a" and not group starts k`: Impossible,
	} {
		c := parsed(t, strings.ReplaceAll(text, `\u212a`, "\u212a"))
		s := Search{At: monday, Steps: 1000}
		w, got := s.Find(c.Must())
		if got != want {
			t.Errorf("%s: %v, wanted %v", text, got, want)
		}
		if got == Possible && !c.Fits(w.Facts) {
			t.Errorf("%s is not fulfilled by %v", text, w.Lines())
		}
	}
}

// TestSearchAgainstBruteForce compares what the search proves with facts made at random.
func TestSearchAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	answers := map[Answer]int{}
	for range 4000 {
		text, _ := writeTree(randomTree(r, 3))
		target := parsed(t, text)
		var before []*Condition
		for range r.IntN(4) {
			text, _ := writeTree(randomTree(r, 2))
			before = append(before, parsed(t, text))
		}
		reaches := func(f *facts.Facts) bool {
			for _, c := range before {
				if c.Fits(f) {
					return false
				}
			}
			return target.Fits(f)
		}
		s := Search{At: monday, Steps: 2000, Blocked: func(f *facts.Facts) []Goal {
			for _, c := range before {
				if c.Fits(f) {
					return []Goal{c.MustNot()}
				}
			}
			return nil
		}}
		w, answer := s.Find(target.Must())
		answers[answer]++
		if answer == Possible && !reaches(w.Facts) {
			t.Fatalf("%s behind %v is not reached by %v", target, before, w.Lines())
		}
		if answer != Impossible {
			continue
		}
		for range 400 {
			if f := randomFacts(r); reaches(f) {
				t.Fatalf("%s behind %v was called impossible, but is reached by %+v %+v", target, before, f, f.Person)
			}
		}
	}
	if answers[Unknown] > 400 || answers[Impossible] < 100 || answers[Possible] < 1000 {
		t.Errorf("found %d, impossible %d, unknown %d", answers[Possible], answers[Impossible], answers[Unknown])
	}
	t.Log(answers)
}

func TestFoldingIsThatOfEqualFold(t *testing.T) {
	letters := []rune("kKsS\u212a\u017fßẞσςΣab\u0130ıiI\ufffd")
	r := rand.New(rand.NewPCG(5, 6))
	text := func() string {
		var b strings.Builder
		for range r.IntN(4) {
			if r.IntN(12) == 0 {
				b.WriteByte(0xff)
				continue
			}
			b.WriteRune(letters[r.IntN(len(letters))])
		}
		return b.String()
	}
	for range 30000 {
		a, b := text(), text()
		if same := strings.EqualFold(a, b); same != (FoldString(a) == FoldString(b)) {
			t.Fatalf("%q and %q fold to %q and %q", a, b, FoldString(a), FoldString(b))
		} else if same && !(startsFold(a, b) && endsFold(b, a) && containsFold(a, b)) {
			t.Fatalf("%q is %q but does not begin, end and contain it", a, b)
		}
		if c := text(); !startsFold(a+c, a) || !endsFold(c+a, a) || !containsFold(c+a+c, a) {
			t.Fatalf("%q is not found beside %q", a, c)
		}
	}
}

func BenchmarkSearch(b *testing.B) {
	target, before := parsed(b, `group in "Deck Officers", Ticketing and ssid is LF-Crew`),
		parsed(b, `group is Ticketing and client.site is heron`)
	b.ReportAllocs()
	for b.Loop() {
		s := Search{At: monday, Steps: 100, Blocked: func(f *facts.Facts) []Goal {
			if before.Fits(f) {
				return []Goal{before.MustNot()}
			}
			return nil
		}}
		if _, answer := s.Find(target.Must()); answer != Possible {
			b.Fatal(answer)
		}
	}
}
