package decide

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
)

// mutate changes something of a configuration at random: a Copy, objects by Own.
func mutate(c *config.Config, r *rand.Rand, n int) {
	client := func() *config.Client {
		return &config.Client{ID: fmt.Sprint("c", n), Name: fmt.Sprint("client-", n%40), Secret: "s",
			Addresses: []string{fmt.Sprintf("198.51.100.%d", r.IntN(60)), fmt.Sprintf("203.0.113.%d/30", 4*r.IntN(60))},
			Tags:      map[string]string{"site": fmt.Sprint(r.IntN(3)), fmt.Sprint("tag-", r.IntN(4)): "x"}}
	}
	lane := func() *config.Lane { return config.Own(c.Lanes, r.IntN(len(c.Lanes))) }
	conditions := []string{"group is Crew", "client.tag-1 is x and group is Officers", "when in nothing", "not (",
		`group is "LANTERN: Crew"`, "client.site is 1", "always"}
	policy := func() *config.Policy {
		return &config.Policy{ID: fmt.Sprint("p", n), Name: fmt.Sprint("Policy ", n%50), Enabled: true,
			When: conditions[r.IntN(len(conditions))], Outcome: config.Admit,
			Pass: []string{"crew", "ticketing", "gone"}[r.IntN(3)]}
	}
	switch r.IntN(13) {
	case 0, 1:
		c.Clients = append(c.Clients, client())
	case 2:
		at := r.IntN(len(c.Clients))
		c.Clients = slices.Delete(c.Clients, at, at+1)
		c.Clients = append(c.Clients, client(), client())
	case 3:
		config.Own(c.Clients, r.IntN(len(c.Clients))).Name = fmt.Sprint("client-", r.IntN(40))
	case 4:
		config.Own(c.Clients, r.IntN(len(c.Clients))).TLSNames = []string{fmt.Sprintf("n%d.example", r.IntN(5))}
	case 5:
		config.Own(c.Clients, r.IntN(len(c.Clients))).Addresses = client().Addresses
	case 6, 7:
		l := lane()
		l.Policies = slices.Insert(l.Policies, r.IntN(len(l.Policies)+1), policy())
	case 8:
		if l := lane(); len(l.Policies) > 1 {
			at := r.IntN(len(l.Policies))
			l.Policies = slices.Delete(l.Policies, at, at+1)
		}
	case 9:
		if l := lane(); len(l.Policies) > 0 {
			config.Own(l.Policies, r.IntN(len(l.Policies))).When = conditions[r.IntN(len(conditions))]
		}
	case 10:
		i, j := r.IntN(len(c.Lanes)), r.IntN(len(c.Lanes))
		c.Lanes[i], c.Lanes[j] = c.Lanes[j], c.Lanes[i]
	case 11:
		config.Own(c.Passes, r.IntN(len(c.Passes))).VLAN = fmt.Sprint(r.IntN(5000))
	case 12:
		config.Own(c.Directories, 0).Groups = []config.PickedGroup{{Name: "Crew", ID: fmt.Sprint(n)}}
	}
}

// One compilation after another gives what compiling each alone gives, faults and all.
func TestCompilingAgain(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 15))
		var compiler Compiler
		first := harbour()
		at, good, sound := &first, &first, 0
		for n := range 120 {
			next := at.Copy()
			mutate(next, r, n)
			next.NormaliseSince(at)
			next.Share(at)
			plan, problems := compiler.Compile(next)
			alone, want := Compile(next)
			if got, want := texts(problems), texts(want); got != want {
				t.Fatalf("seed %d, step %d: problems\n%s\nwanted\n%s", seed, n, got, want)
			}
			if (plan == nil) != (alone == nil) {
				t.Fatalf("seed %d, step %d: one of the two has no plan", seed, n)
			}
			if plan != nil {
				sound++
				good = next
				samePlan(t, plan, alone, r)
			}
			if at = next; plan == nil && r.IntN(2) > 0 { // what has faults is a draft that goes on, or is given up
				at = good
			}
		}
		if sound < 10 {
			t.Errorf("seed %d: only %d configurations were sound", seed, sound)
		}
	}
}

func texts(problems []config.Problem) string {
	var out []string
	for _, p := range problems {
		out = append(out, fmt.Sprint(p.Warning, " ", p.Error()))
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

func samePlan(t *testing.T, a, b *Plan, r *rand.Rand) {
	t.Helper()
	for range 40 {
		addr := netip.AddrFrom4([4]byte{[]byte{198, 203}[r.IntN(2)], 51, 100, byte(r.IntN(256))})
		if r.IntN(2) == 0 {
			addr = netip.AddrFrom4([4]byte{203, 0, 113, byte(r.IntN(256))})
		}
		one, other := a.Client(addr), b.Client(addr)
		if one != other {
			t.Fatalf("%s belongs to %+v, and compiled alone to %+v", addr, one, other)
		}
		f := attempt(func(f *facts.Facts) {
			f.Person.Groups = []string{[]string{"Crew", "Officers", "LANTERN: Crew", "Ticketing"}[r.IntN(4)]}
			f.ClientTags = map[string]string{"site": fmt.Sprint(r.IntN(3)), "tag-1": "x"}
		})
		x, y := a.Decide(f), b.Decide(f)
		if x.Verdict != y.Verdict || x.Reason != y.Reason || name(x) != name(y) {
			t.Fatalf("decided %+v, and compiled alone %+v", x, y)
		}
	}
	if !reflect.DeepEqual(a.owners, b.owners) {
		t.Fatalf("owners %+v, and compiled alone %+v", a.owners, b.owners)
	}
}

func name(d Decision) string {
	if d.Policy == nil || d.Pass == nil {
		return ""
	}
	return fmt.Sprint(d.Policy.Number, d.Policy.Name, d.Pass.Name, d.Pass.VLAN)
}
