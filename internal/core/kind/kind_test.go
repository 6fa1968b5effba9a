package kind

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
)

func TestTheRuleThatAsksForMoreDecides(t *testing.T) {
	r := Compile([]*config.DeviceKind{
		{Name: "anything of the house", Kind: "thing", Order: 50, MACs: []string{"02-00-5e"}},
		{Name: "cameras", Kind: "camera", Order: 50, MACs: []string{"02-00-5e"}, Hosts: []string{"cam-*"}},
		{Name: "phones", Kind: "phone", Order: 50, Fingerprints: []string{"1,3,6,15,26,28"}},
		{Name: "printers", Kind: "printer", Order: 10, VendorClasses: []string{"*print*"}},
		{Name: "one device", Kind: "scale", Order: 5, MACs: []string{"02-00-5e-00-00-09"}},
	})
	for _, c := range []struct {
		mac    string
		traits *facts.Traits
		want   string
	}{
		{"02-00-5e-00-00-01", nil, "thing"},
		{"02:00:5E:00:00:01", &facts.Traits{Host: "CAM-7"}, "camera"},
		{"02-00-5e-00-00-01", &facts.Traits{Host: "desk-7"}, "thing"},
		{"02-00-5f-00-00-01", &facts.Traits{Host: "cam-7"}, ""},
		{"02-00-5f-00-00-01", &facts.Traits{Fingerprint: "1,3,6,15,26,28"}, "phone"},
		{"02-00-5f-00-00-01", &facts.Traits{Fingerprint: "1,3,6,15,26,28,51"}, ""},
		{"02-00-5e-00-00-01", &facts.Traits{Host: "cam-7", VendorClass: "Acme Printer 9"}, "printer"},
		{"02-00-5e-00-00-09", &facts.Traits{Host: "cam-7", VendorClass: "Acme Printer 9"}, "scale"},
		{"02-00-5f-00-00-01", &facts.Traits{}, ""},
		{"", &facts.Traits{Host: "cam-7"}, ""},
		{"not-an-address", &facts.Traits{VendorClass: "print"}, ""},
	} {
		got := ""
		if k := r.Of(c.mac, c.traits); k != nil {
			got = k.Name
		}
		if got != c.want {
			t.Errorf("%s %+v: %q, want %q", c.mac, c.traits, got, c.want)
		}
	}
	if Compile(nil).Of("02-00-5e-00-00-01", nil) != nil {
		t.Error("no rules know a kind")
	}
}

// Of agrees with a reader of the rules one by one.
func TestOfAgreesWithASlowReader(t *testing.T) {
	dice := rand.New(rand.NewPCG(1, 2))
	some := func(list ...string) (out []string) {
		for _, text := range list {
			if dice.IntN(3) == 0 {
				out = append(out, text)
			}
		}
		return out
	}
	for range 2000 {
		var list []*config.DeviceKind
		for i := range 1 + dice.IntN(6) {
			k := &config.DeviceKind{Name: fmt.Sprint("rule ", i), Kind: fmt.Sprint("kind ", i), Order: 1 + dice.IntN(3),
				MACs: some("02", "02-00", "02-00-5e", "04", "02-00-5e-00-00-01"), Fingerprints: some("1,3", "1,3,6"),
				VendorClasses: some("a*", "*b", "a*b*c"), Hosts: some("desk-1", "*-1", "d*k*")}
			if k.Asks() > 0 {
				list = append(list, k)
			}
		}
		mac := []string{"02-00-5e-00-00-01", "02-00-5f-00-00-01", "04-00-00-00-00-01",
			"06-00-00-00-00-01"}[dice.IntN(4)]
		seen := &facts.Traits{Fingerprint: []string{"", "1,3", "1,3,6", "9"}[dice.IntN(4)],
			VendorClass: []string{"", "a", "ab", "aXbYc"}[dice.IntN(4)],
			Host:        []string{"", "desk-1", "DESK-1", "door-1"}[dice.IntN(4)]}
		var fit []*config.DeviceKind
		for _, k := range list {
			ok := len(k.MACs) == 0 || slices.ContainsFunc(k.MACs, func(m string) bool {
				return strings.HasPrefix(mac, m)
			})
			ok = ok && (len(k.Fingerprints) == 0 || slices.Contains(k.Fingerprints, seen.Fingerprint))
			for text, patterns := range map[string][]string{"v" + seen.VendorClass: k.VendorClasses,
				"h" + seen.Host: k.Hosts} {
				text = text[1:]
				ok = ok && (len(patterns) == 0 || text != "" && slices.ContainsFunc(patterns, func(p string) bool {
					return slow(p, strings.ToLower(text))
				}))
			}
			if ok {
				fit = append(fit, k)
			}
		}
		slices.SortStableFunc(fit, func(a, b *config.DeviceKind) int {
			if a.Order != b.Order {
				return a.Order - b.Order
			}
			if a.Asks() != b.Asks() {
				return b.Asks() - a.Asks()
			}
			return strings.Compare(a.Name, b.Name)
		})
		want, got := "", ""
		if len(fit) > 0 {
			want = fit[0].Name
		}
		if k := Compile(list).Of(mac, seen); k != nil {
			got = k.Rule
		}
		if got != want {
			t.Fatalf("%s %+v: %q, want %q", mac, seen, got, want)
		}
	}
}

// slow is Like, letter by letter.
func slow(pattern, text string) bool {
	switch {
	case pattern == "":
		return text == ""
	case pattern[0] == '*':
		return slow(pattern[1:], text) || text != "" && slow(pattern, text[1:])
	}
	return text != "" && text[0] == pattern[0] && slow(pattern[1:], text[1:])
}

func BenchmarkOf(b *testing.B) {
	var list []*config.DeviceKind
	for i := range 200 {
		list = append(list, &config.DeviceKind{Name: fmt.Sprint(i), Kind: "k", Order: 50,
			MACs: []string{fmt.Sprintf("02-00-%02x", i), fmt.Sprintf("04-%02x", i)}, Hosts: []string{"desk-*"}})
	}
	r, seen := Compile(list), &facts.Traits{Host: "desk-17"}
	b.ReportAllocs()
	for b.Loop() {
		if r.Of("02-00-77-00-00-01", seen) == nil {
			b.Fatal("no kind")
		}
	}
}
