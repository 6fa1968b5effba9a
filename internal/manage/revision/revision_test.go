package revision

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"testing"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/identity/device"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// bench is a keeper over a store of its own.
type bench struct {
	*Keeper
	store *store.Store
	box   *seal.Box
	gate  *gate.Gate
}

func open(t *testing.T) *bench {
	t.Helper()
	ctx := context.Background()
	dir := t.TempDir()
	s, err := store.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	attempts, err := store.OpenAttempts(ctx, dir, ident.NewSource(0), s, record.Retention{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { attempts.Close(); s.Close() })
	accounts, err := account.Open(ctx, s, seal.New(make([]byte, 32)))
	if err != nil {
		t.Fatal(err)
	}
	devices, err := device.Open(ctx, s)
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{store: s, box: seal.New(make([]byte, 32)), gate: gate.New(gate.Parts{Accounts: accounts,
		Devices: devices, Attempts: attempts})}
	t.Cleanup(b.gate.Close)
	if b.Keeper, err = Open(ctx, s, b.box, b.gate); err != nil {
		t.Fatal(err)
	}
	return b
}

// add puts a client into the draft.
func (b *bench) add(name, address string) error {
	return b.Edit(context.Background(), "o.brandt", func(c *config.Config, _ Authors) (string, error) {
		c.Clients = append(c.Clients, &config.Client{ID: name, Name: name, Enabled: true, Addresses: []string{address},
			Secret: b.box.Seal(config.Place{Purpose: "radius", Object: name}, "quay-light")})
		return name, nil
	})
}

func TestDraftAndPublish(t *testing.T) {
	b := open(t)
	ctx := context.Background()
	if _, err := b.Publish(ctx, Order{Operator: "o.brandt", Note: "", Only: ""}); !errors.Is(err, ErrNothing) {
		t.Errorf("publishing nothing: %v", err)
	}
	if err := b.add("np-switch-1", " 192.0.2.11/32 "); err != nil {
		t.Fatal(err)
	}
	addr := netip.MustParseAddr("192.0.2.11")
	if c := b.gate.Current().Plan.Client(addr); c != nil {
		t.Error("the draft is in effect before it is published")
	}
	if changes := b.Changes(); changes.Count() != 1 || changes.List[0].What != "added" {
		t.Errorf("changes %v", changes)
	}
	if a, ok := b.Author("np-switch-1"); !ok || a.Operator != "o.brandt" {
		t.Errorf("author %+v", a)
	}
	if n, err := b.Publish(ctx, Order{Operator: "o.brandt", Note: "first", Only: ""}); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	snapshot := b.gate.Current()
	if c := snapshot.Plan.Client(addr); c == nil || snapshot.Revision != 1 || snapshot.Keys(c).RADIUS.Current == nil {
		t.Errorf("in effect is revision %d with %+v", snapshot.Revision, c)
	}
	if b.Changes().Count() != 0 {
		t.Error("after a publish the draft differs")
	}
	again, err := Open(ctx, b.store, b.box, b.gate)
	if err != nil {
		t.Fatal(err)
	}
	if c, n := again.Running(); n != 1 || len(c.Clients) != 1 || again.Changes().Count() != 0 {
		t.Errorf("read again: revision %d with %d clients", n, len(c.Clients))
	}
}

func TestEditsThatFailChangeNothing(t *testing.T) {
	b := open(t)
	if err := b.add("a", "192.0.2.11"); err != nil {
		t.Fatal(err)
	}
	before := b.Draft()
	var invalid *Invalid
	if err := b.add("b", "192.0.2.11"); !errors.As(err, &invalid) || !strings.Contains(err.Error(), `"a"`) {
		t.Errorf("an address of another client: %v", err)
	}
	wanted := errors.New("no")
	if err := b.Edit(context.Background(), "x", func(c *config.Config, _ Authors) (string, error) {
		c.Clients = nil
		return "", wanted
	}); !errors.Is(err, wanted) {
		t.Errorf("a refused edit: %v", err)
	}
	if b.Draft() != before || len(before.Clients) != 1 {
		t.Error("the draft changed")
	}
	// A fault elsewhere in the draft does not stop the edit of an object that has none.
	if err := b.Edit(context.Background(), "x", func(c *config.Config, _ Authors) (string, error) {
		c.Lanes = append(c.Lanes, &config.Lane{ID: "l", Name: "L"})
		return "other", nil
	}); err != nil {
		t.Errorf("an edit beside a fault: %v", err)
	}
	many := func(clients ...*config.Client) error {
		return b.EditMany(context.Background(), "x", func(c *config.Config) (*config.Config, error) {
			c = c.Copy()
			c.Clients = append(c.Clients, clients...)
			return c, nil
		})
	}
	client := func(name, address string) *config.Client {
		return &config.Client{ID: name, Name: name, Enabled: true, Addresses: []string{address},
			Secret: b.box.Seal(config.Place{Purpose: "radius", Object: name}, "quay-light")}
	}
	if err := many(client("c", "192.0.2.12"), client("d", "192.0.2.11")); !errors.As(err, &invalid) ||
		len(b.Draft().Clients) != 1 || len(invalid.Problems) == 0 || invalid.Problems[0].Object == "L" {
		t.Errorf("many, one with an address of another client: %v", err)
	}
	if err := many(client("c", "192.0.2.12"), client("d", "192.0.2.13")); err != nil || len(b.Draft().Clients) != 3 {
		t.Errorf("many beside a fault: %v", err)
	}
	if _, err := b.Publish(context.Background(), Order{Operator: "x", Note: "", Only: ""}); !errors.As(err, &invalid) {
		t.Errorf("publishing a fault: %v", err)
	}
	if _, n := b.Running(); n != 0 {
		t.Errorf("revision %d is running", n)
	}
}

func TestConditionsBecomeCanonical(t *testing.T) {
	b := open(t)
	if err := b.Edit(context.Background(), "x", func(c *config.Config, _ Authors) (string, error) {
		c.Lanes = append(c.Lanes, &config.Lane{ID: "l", Name: "L", When: " (PORT.TYPE is  Ethernet) ",
			Methods: []string{"pap"}})
		return "l", nil
	}); err != nil || b.Draft().Lanes[0].When != "port.type is Ethernet" {
		t.Errorf("kept as %q, %v", b.Draft().Lanes[0].When, err)
	}
}

func TestReturnAndOldPlans(t *testing.T) {
	b := open(t)
	ctx := context.Background()
	for i := range 12 {
		if err := b.add(fmt.Sprintf("c%d", i), fmt.Sprintf("192.0.2.%d", i+1)); err != nil {
			t.Fatal(err)
		}
		if _, err := b.Publish(ctx, Order{Operator: "x", Note: "", Only: ""}); err != nil {
			t.Fatal(err)
		}
	}
	for _, number := range []int{1, 12, 5, 1} {
		plan, err := b.Plan(ctx, number)
		if err != nil || len(plan.Config.Clients) != number {
			t.Errorf("plan %d: %v", number, err)
		}
	}
	if len(b.plans) > maxPlans {
		t.Errorf("%d plans are kept", len(b.plans))
	}
	if _, err := b.Plan(ctx, 99); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("plan 99: %v", err)
	}
	if n, err := b.Return(ctx, 3, Order{Operator: "x", Note: "back"}); n != 13 || err != nil {
		t.Fatal(n, err)
	}
	if c, _ := b.Running(); len(c.Clients) != 3 || b.Changes().Count() != 0 {
		t.Errorf("running with %d clients", len(c.Clients))
	}
	if _, err := b.Return(ctx, 13, Order{Operator: "x", Note: ""}); !errors.Is(err, ErrNothing) {
		t.Errorf("to itself: %v", err)
	}
	b.add("new", "198.51.100.1")
	if _, err := b.Return(ctx, 2, Order{Operator: "x", Note: ""}); !errors.Is(err, ErrDraft) {
		t.Errorf("over a draft: %v", err)
	}
	if err := b.Discard(ctx, "x"); err != nil || b.Changes().Count() != 0 {
		t.Errorf("discarding: %v", err)
	}
}

func TestPublishOneAlone(t *testing.T) {
	b := open(t)
	ctx := context.Background()
	b.add("a", "192.0.2.1")
	b.add("b", "192.0.2.2")
	if _, err := b.Publish(ctx, Order{Operator: "x", Note: "", Only: "b"}); !errors.Is(err, ErrOthers) ||
		!strings.Contains(err.Error(), `client "a" added by o.brandt`) {
		t.Errorf("beside another change: %v", err)
	}
	b.Publish(ctx, Order{Operator: "x", Note: "", Only: ""})
	b.add("c", "192.0.2.3")
	if n, err := b.Publish(ctx, Order{Operator: "x", Note: "", Only: "c"}); n != 2 || err != nil {
		t.Errorf("alone: %d, %v", n, err)
	}
}

func TestASecretOfAnotherKeyFileStopsThePublish(t *testing.T) {
	b := open(t)
	key := make([]byte, 32)
	key[0] = 1
	other := seal.New(key)
	b.Edit(context.Background(), "x", func(c *config.Config, _ Authors) (string, error) {
		c.Clients = append(c.Clients, &config.Client{ID: "a", Name: "a", Enabled: true,
			Addresses: []string{"192.0.2.1"}, Secret: other.Seal(config.Place{Purpose: "radius", Object: "a"}, "x")})
		return "a", nil
	})
	if _, err := b.Publish(context.Background(), Order{Operator: "x", Note: "", Only: ""}); err == nil ||
		!strings.Contains(err.Error(), "another key file") || !strings.Contains(err.Error(), "client a") {
		t.Errorf("got %v", err)
	}
}

func TestTagsFollowTheObject(t *testing.T) {
	a, b := config.Pass{ID: "1", Name: "x", VLAN: "20"}, config.Pass{ID: "1", Name: "x", VLAN: "20"}
	if Tag(&a) != Tag(&b) {
		t.Error("the same object has two tags")
	}
	b.VLAN = "21"
	if Tag(&a) == Tag(&b) || !strings.HasPrefix(Tag(&a), `"`) {
		t.Errorf("tags %s and %s", Tag(&a), Tag(&b))
	}
}

func TestSaveAndPublishCompilesOnce(t *testing.T) {
	b := open(t)
	ctx := context.Background()
	b.add("a", "192.0.2.1")
	b.Publish(ctx, Order{Operator: "x"})
	before := Compiles()
	if err := b.add("b", "192.0.2.2"); err != nil {
		t.Fatal(err)
	}
	if n, err := b.Publish(ctx, Order{Operator: "x", Only: "b"}); n != 2 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	analyst := NewAnalyst(b.gate, func() []string { return nil })
	for range 10 { // what lists and pages ask for again and again
		analyst.Problems(b.CompiledDraft())
		b.Changes()
		b.Plan(ctx, 2)
	}
	if n := Compiles() - before; n != 1 {
		t.Errorf("one save and publish compiles %d times", n)
	}
}

// Edits of several operators at once: none is lost, and none overwrites another.
func TestEditsAtOnce(t *testing.T) {
	b := open(t)
	const each = 5
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for j := range each {
				id := fmt.Sprintf("c%d-%d", i, j)
				if err := b.add(id, fmt.Sprintf("192.0.2.%d", 1+i*each+j)); err != nil && !errors.Is(err, ErrChanged) {
					t.Errorf("%s: %v", id, err)
				} else if err != nil {
					t.Logf("%s was told to try again", id)
				}
			}
		})
	}
	all.Go(func() {
		for range 5 {
			if _, err := b.Publish(context.Background(), Order{Operator: "x"}); err != nil && !errors.Is(err,
				ErrNothing) && !errors.Is(err, ErrChanged) {
				t.Errorf("publishing meanwhile: %v", err)
			}
		}
	})
	all.Wait()
	if n := len(b.Draft().Clients); n < 8*each-8 {
		t.Errorf("%d clients are in the draft, %d were added", n, 8*each)
	}
	again, err := Open(context.Background(), b.store, b.box, b.gate)
	if err != nil {
		t.Fatal(err)
	}
	if changes := config.Diff(b.Draft(), again.Draft()); len(changes) > 0 {
		t.Errorf("what is stored is not the draft: %+v", changes)
	}
}
