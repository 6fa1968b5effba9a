package decide

import (
	"fmt"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/pass"
)

func TestRulesOnTheWay(t *testing.T) {
	vendors := []*config.Vendor{{Name: "Harbour Instruments", Number: 32473, TypeOctets: 1, LengthOctets: 1,
		Attributes: []config.VendorAttribute{{Number: 1, Name: "Harbour-Role", Type: "text"},
			{Number: 2, Name: "Harbour-Level", Type: "integer"}}}}
	dictionary, problems := pass.Dictionary(vendors)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	r := &config.Remote{Name: "far", Rules: []config.RemoteRule{
		{On: "request", Do: "rewrite", Attribute: "user-name", Match: `(.*)@harbour\.example`, Value: "$1"},
		{On: "request", Do: "drop", Attribute: "Harbour-Role", Match: "deck.*"},
		{On: "request", Do: "rewrite", Attribute: "Harbour-Level", Value: "not a number"},
		{On: "request", Do: "add", Attribute: "NAS-Identifier", Value: "quay"},
		{On: "answer", Do: "drop", Attribute: "Class"}}}
	rules, problems := compileRules(r, config.OnRequest, dictionary)
	if len(problems) > 0 || len(rules.Added) != 1 || string(rules.Added[0].Value) != "quay" || rules.Empty() {
		t.Fatalf("%+v, %v", rules, problems)
	}
	apply := func(kind byte, value []byte) (out []string) {
		for _, v := range rules.Apply(kind, value) {
			for _, part := range dictionary.Describe(kind, v) {
				out = append(out, part.Name+"="+part.Value)
			}
		}
		return out
	}
	encoded := func(name, value string) []byte {
		made, err := pass.Encode(dictionary, name, value)
		if err != nil {
			t.Fatal(err)
		}
		return made[0].Value
	}
	role, level := encoded("Harbour-Role", "deck-crew"), encoded("Harbour-Level", "7")
	both := append(append([]byte(nil), role...), level[4:]...) // in one Vendor-Specific
	for _, c := range []struct {
		kind  byte
		value []byte
		want  string
	}{
		{1, []byte("k.nance@harbour.example"), "[User-Name=k.nance]"},
		{1, []byte("k.nance@harbour.example.org"), "[User-Name=k.nance@harbour.example.org]"}, // the whole value
		{26, role, "[]"},
		{26, encoded("Harbour-Role", "bridge"), "[Harbour-Role=bridge]"},
		{26, both, "[Harbour-Level=7]"}, // taken apart; a value that does not fit changes nothing
		{26, []byte{0, 0}, "[Vendor-Specific=0x0000]"},
		{25, []byte("x"), "[Class=x]"},
	} {
		if got := fmt.Sprint(apply(c.kind, c.value)); got != c.want {
			t.Errorf("%d %q becomes %s, wanted %s", c.kind, c.value, got, c.want)
		}
	}
	r.Rules = []config.RemoteRule{{On: "request", Do: "drop", Attribute: "No-Such"},
		{On: "request", Do: "add", Attribute: "Harbour-Level", Value: "many"}}
	if _, problems := compileRules(r, config.OnRequest, dictionary); len(problems) != 2 ||
		problems[0].Field != "rules[0].attribute" || problems[1].Field != "rules[1].value" {
		t.Errorf("%+v", problems)
	}
	if kept := new(Rules).Apply(1, []byte("a")); len(kept) != 1 || string(kept[0]) != "a" {
		t.Errorf("no rules make %q", kept)
	}
}
