package firsthour

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"tollgate.example/key/internal/core/config"
)

func states(steps []Step) (out []State) {
	for _, s := range steps {
		out = append(out, s.State)
	}
	return out
}

func TestEachStepIsSeenFromWhatIsThere(t *testing.T) {
	c, w := &config.Config{}, World{Running: &config.Config{}, Owners: 1, Off: map[string]bool{}}
	want := []State{Now, Later, Later, Later, Later, Later, Later}
	check := func(what string) {
		t.Helper()
		if got := states(Steps(c, w)); !slices.Equal(got, want) {
			t.Errorf("%s: %v, not %v", what, got, want)
		}
	}
	check("nothing")
	w.Off[Certificate] = true
	want[2] = Off
	check("a step put off")
	delete(w.Off, Certificate)
	c.Directories = []*config.Directory{{Name: "LANTERN", Servers: []string{"a:636"}}}
	want = []State{Done, Now, Later, Later, Later, Later, Later}
	check("a directory")
	realm := Realm(c, 0, "lanternferries.example", "LANTERN")
	if got := Forms(realm.Forms); got != `@lanternferries.example, LANTERN\, bare names` ||
		realm.Name != "lanternferries" ||
		len(realm.Lookup) != 1 {
		t.Errorf("proposed %+v", realm)
	}
	c.Realms = []*config.Realm{&realm}
	c.Certificates = []*config.Certificate{{Name: "radius"}}
	want[1], want[2], want[3] = Done, Done, Now
	check("a realm and a certificate")
	n := 0
	id := func() string { n++; return fmt.Sprint(n) }
	lane, err := Wish{Rows: []Row{{"Ticketing", "20"}, {"Deck Officers", "30"}}, Others: "90", Ports: "wired"}.Make(c,
		c.Offer("", config.KeepsHash), id)
	if err != nil || len(lane.Policies) != 2 || len(c.Passes) != 3 || lane.When != "port.type is Ethernet" ||
		!slices.Equal(lane.Methods, []string{"peap-gtc", "ttls-pap"}) {
		t.Errorf("made %+v, %v", lane, err)
	}
	want[3], want[4] = Done, Now
	check("a lane")
	w.Running.Clients = []*config.Client{{Name: "np-switch-1"}}
	want[4], want[5] = Done, Now
	check("a client in use")
	w.Refused = "refused"
	check("a refusal is not yet done")
	w.Admitted = "admitted"
	want[5], want[6] = Done, Now
	check("an admitted attempt")
	w.Owners, w.Off[Keeping] = 2, true
	want[6] = Done
	check("kept")
	if Remains(Steps(c, w)) {
		t.Error("something is said to remain")
	}
}

func TestWishesThatCannotBeMade(t *testing.T) {
	for field, w := range map[string]Wish{
		"ports": {Rows: []Row{{"a", "1"}}, Ports: "x"}, "rows": {Ports: "any"},
		"rows[0].group": {Rows: []Row{{" ", "1"}}, Ports: "any"}, "rows[1].group": {Rows: []Row{{"a", "1"}, {"A", "2"}},
			Ports: "any"}, "rows[0].vlan": {Rows: []Row{{"a", "5000"}}, Ports: "any"},
		"others": {Others: "0", Ports: "any"},
	} {
		c := &config.Config{}
		_, err := w.Make(c, nil, func() string { return "x" })
		var fault *Fault
		if !errors.As(err, &fault) || fault.Field != field {
			t.Errorf("%+v: %v, not a fault of %s", w, err, field)
		}
		if len(c.Lanes) > 0 {
			t.Errorf("%+v left a lane behind", w)
		}
	}
}
