package revision

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// text is a configuration as it reads, whatever is shared in it; objects without an order of their own are sorted.
func text(t *testing.T, c *config.Config) string {
	t.Helper()
	sorted := c.Copy()
	arrange(sorted)
	out, err := json.Marshal(sorted)
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

// lane makes a lane with policies.
func lane(id string, policies ...string) *config.Lane {
	l := &config.Lane{ID: id, Name: "Lane " + id, When: "ssid is " + id, Methods: []string{"pap"}}
	for _, p := range policies {
		l.Policies = append(l.Policies, &config.Policy{ID: p, Name: p, Enabled: true, Outcome: config.Refusal})
	}
	return l
}

// shuffle edits lanes, policies and clients at random.
func shuffle(c *config.Config, r *rand.Rand, n int) string {
	id := fmt.Sprintf("%04d", n)
	at := r.IntN(max(1, len(c.Lanes)))
	switch kind := r.IntN(8); {
	case kind == 0 || len(c.Lanes) == 0:
		c.Lanes = slices.Insert(c.Lanes, r.IntN(len(c.Lanes)+1), lane(id, id+"a", id+"b"))
	case kind == 1:
		c.Lanes = slices.Delete(c.Lanes, at, at+1)
	case kind == 2:
		i, j := r.IntN(len(c.Lanes)), r.IntN(len(c.Lanes))
		c.Lanes[i], c.Lanes[j] = c.Lanes[j], c.Lanes[i]
	case kind == 3:
		l := config.Own(c.Lanes, at)
		l.Policies = slices.Insert(l.Policies, r.IntN(len(l.Policies)+1), lane(id, id).Policies[0])
	case kind == 4:
		if l := config.Own(c.Lanes, at); len(l.Policies) > 0 {
			config.Own(l.Policies, r.IntN(len(l.Policies))).When = "group is G" + id
		}
	case kind == 5:
		if l := config.Own(c.Lanes, at); len(l.Policies) > 0 {
			l.Policies = l.Policies[1:]
		}
	case kind == 6 && len(c.Clients) > 0:
		i := r.IntN(len(c.Clients))
		c.Clients = slices.Delete(c.Clients, i, i+1)
	default:
		c.Clients = append(c.Clients, &config.Client{ID: id, Name: "c" + id, TACACSPlain: true,
			Addresses: []string{fmt.Sprintf("10.0.%d.%d", n>>8, n&255)}})
	}
	return id
}

// What is stored as rows comes back as it was: the draft after every edit, and every revision whenever it is asked for.
// No edit changes a configuration that somebody else holds.
func TestRowsComeBack(t *testing.T) {
	b, ctx, r := open(t), context.Background(), rand.New(rand.NewPCG(15, 3))
	was := map[int]string{}
	for n := range 150 {
		draft, running := b.Draft(), ""
		before := text(t, draft)
		if c, _ := b.Running(); true {
			running = text(t, c)
		}
		if err := b.Edit(ctx, "x", func(c *config.Config, _ Authors) (string, error) {
			return shuffle(c, r, n), nil
		}); err != nil {
			t.Fatal(err)
		}
		if text(t, draft) != before {
			t.Fatalf("edit %d changed the draft that was read before", n)
		}
		if c, _ := b.Running(); text(t, c) != running {
			t.Fatalf("edit %d changed what is running", n)
		}
		if n%7 == 0 {
			if number, err := b.Publish(ctx, Order{Operator: "x"}); err == nil {
				was[number] = text(t, b.Draft())
			}
		}
		if n%10 == 0 {
			again, err := Open(ctx, b.store, b.box, b.gate)
			if err != nil {
				t.Fatal(err)
			}
			if got, want := text(t, again.Draft()), text(t, b.Draft()); got != want {
				t.Fatalf("after edit %d the draft comes back as\n%s\nand not\n%s", n, got, want)
			}
			if again.Changes().Count() != b.Changes().Count() {
				t.Fatalf("%d changes come back, not %d", again.Changes().Count(), b.Changes().Count())
			}
		}
	}
	again, err := Open(ctx, b.store, b.box, b.gate)
	if err != nil {
		t.Fatal(err)
	}
	if len(was) < 10 {
		t.Fatalf("only %d revisions were published", len(was))
	}
	for number, want := range was {
		if c, err := again.Config(ctx, number); err != nil || text(t, c) != want {
			t.Errorf("revision %d came back otherwise, %v", number, err)
		}
	}
}

// Rows that are missing, or of a kind that a newer version made, are an error and not a smaller configuration.
func TestDamagedRows(t *testing.T) {
	whole, err := delta(&config.Config{}, &config.Config{Lanes: []*config.Lane{lane("1", "a", "b")},
		Passes: []*config.Pass{{ID: "p", Name: "crew"}}})
	if err != nil {
		t.Fatal(err)
	}
	if c, err := assemble(whole); err != nil || len(c.Lanes[0].Policies) != 2 {
		t.Fatal(err)
	}
	for what, damage := range map[string]func([]store.Object) []store.Object{
		"policy a of lane": func(all []store.Object) []store.Object {
			return slices.DeleteFunc(all, func(o store.Object) bool { return o.ID == "1/a" })
		},
		"lane 1 is missing": func(all []store.Object) []store.Object {
			return slices.DeleteFunc(all, func(o store.Object) bool { return o.Kind == "lane" })
		},
		"does not know": func(all []store.Object) []store.Object {
			return append(all, store.Object{Kind: "boat", ID: "1", Body: []byte("{}")})
		},
		"pass p": func(all []store.Object) []store.Object {
			at := slices.IndexFunc(all, func(o store.Object) bool { return o.Kind == "pass" })
			all[at].Body = []byte("{")
			return all
		},
	} {
		if _, err := assemble(damage(slices.Clone(whole))); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := delta(&config.Config{}, &config.Config{Lanes: []*config.Lane{lane("1", "a", "a")}}); err == nil {
		t.Error("two policies of the same identifier are stored")
	}
}

// A data directory whose configurations are whole, as earlier versions stored them, is divided into rows at the start:
// what is running, the draft and who changed it stay, and so do the revisions before.
func TestWholeConfigurationsAreDivided(t *testing.T) {
	b, ctx := open(t), context.Background()
	first := &config.Config{Clients: []*config.Client{{ID: "1", Name: "a", Addresses: []string{"192.0.2.1"},
		TACACSPlain: true}}}
	second := &config.Config{Clients: first.Clients, Lanes: []*config.Lane{lane("l", "p", "q")}}
	draft := &config.Config{Clients: []*config.Client{{ID: "2", Name: "b", Addresses: []string{"192.0.2.2"},
		TACACSPlain: true}}, Lanes: second.Lanes}
	for _, c := range []*config.Config{first, second, draft} {
		c.Normalise()
	}
	whole := func(c *config.Config) []byte {
		out, err := json.Marshal(c)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	for i, c := range []*config.Config{first, second} {
		if err := b.store.Publish(ctx, store.Revision{Number: i + 1, Changes: []byte("[]"), Config: whole(c)},
			nil); err != nil {
			t.Fatal(err)
		}
	}
	at := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	authors, _ := json.Marshal(map[string]Author{"2": {"s.lodge", at}, "1": {"o.brandt", at}})
	old := &before{b.store, &store.Whole{Config: whole(draft), Authors: authors}}
	k, err := Open(ctx, old, b.box, b.gate)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 { // and again, from the rows
		running, number := k.Running()
		if number != 2 || text(t, running) != text(t, second) || text(t, k.Draft()) != text(t, draft) {
			t.Fatalf("revision %d is %s, the draft %s", number, text(t, running), text(t, k.Draft()))
		}
		if a, ok := k.Author("2"); !ok || a.Operator != "s.lodge" || !a.At.Equal(at) {
			t.Errorf("the draft is of %+v", a)
		}
		if c, err := k.Config(ctx, 1); err != nil || !reflect.DeepEqual(c.Clients[0], first.Clients[0]) {
			t.Errorf("revision 1: %v", err)
		}
		if k, err = Open(ctx, b.store, b.box, b.gate); err != nil {
			t.Fatal(err)
		}
	}
	if r, _ := b.store.Revision(ctx, 2); len(r.Config) > 0 {
		t.Error("the newest revision is still whole")
	}
}

// before is a store in which an earlier version left a draft.
type before struct {
	*store.Store
	draft *store.Whole
}

func (s *before) WholeDraft(context.Context) (store.Whole, error) {
	if s.draft == nil {
		return store.Whole{}, store.ErrNotFound
	}
	return *s.draft, nil
}

func (s *before) Divide(ctx context.Context, number int, objects []store.Object, draft []store.DraftObject) error {
	s.draft = nil
	return s.Store.Divide(ctx, number, objects, draft)
}
