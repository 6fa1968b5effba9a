package document

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
)

// fill sets every field of a value to something, texts to ones that are hard to quote.
func fill(v reflect.Value, r *rand.Rand, depth int) {
	texts := []string{"a", "LF-Crew", "yes", "null", "~", "0x1", "1e3", "20", "-", "- a", "a: b", "# no", `"q" \ 'r'`,
		"{{person.mail or \"x\"}}", "line\nbreak\n", " spaced ", "a,b", "@at", "%p", "Ünïcödé", "2026-11-23", "...",
		"---", "|", "[a]", "é\u2028x", "tab\there"}
	switch {
	case v.Type() == reflect.TypeFor[time.Time]():
		v.Set(reflect.ValueOf(time.Unix(1_800_000_000+r.Int64N(1e6), 0).UTC()))
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			fill(v.Field(i), r, depth+1)
		}
	case v.Kind() == reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), r, depth)
	case v.Kind() == reflect.Slice:
		n := 1 + r.IntN(3)
		v.Set(reflect.MakeSlice(v.Type(), n, n))
		for i := range n {
			fill(v.Index(i), r, depth+1)
		}
	case v.Kind() == reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		for range 2 {
			v.SetMapIndex(reflect.ValueOf(fmt.Sprint("k", r.IntN(100))), reflect.ValueOf(texts[r.IntN(len(texts))]))
		}
	case v.Kind() == reflect.String:
		v.SetString(texts[r.IntN(len(texts))])
	case v.Kind() == reflect.Bool:
		v.SetBool(r.IntN(2) == 0)
	case v.CanInt():
		v.SetInt(r.Int64N(1000))
	case v.CanUint():
		v.SetUint(r.Uint64N(1000))
	default:
		panic(v.Type().String())
	}
}

// whole makes a configuration in which everything is set; names and identifiers are unique.
func whole(r *rand.Rand) *config.Config {
	c := &config.Config{}
	fill(reflect.ValueOf(c).Elem(), r, 0)
	n := 0
	var name func(v reflect.Value)
	name = func(v reflect.Value) {
		switch v.Kind() {
		case reflect.Pointer:
			name(v.Elem())
		case reflect.Struct:
			if id := v.FieldByName("ID"); id.IsValid() {
				if label := v.FieldByName("Name"); label.IsValid() {
					n++
					id.SetString(fmt.Sprint("id", n))
					label.SetString(fmt.Sprintf("Object %d", n))
				}
			}
			for i := range v.NumField() {
				name(v.Field(i))
			}
		case reflect.Slice:
			for i := range v.Len() {
				name(v.Index(i))
			}
		}
	}
	name(reflect.ValueOf(c).Elem())
	c.Normalise()
	return c
}

func TestEverythingComesBack(t *testing.T) {
	for seed := range uint64(60) {
		c := whole(rand.New(rand.NewPCG(seed, 1)))
		text := Write(c, true)
		doc, err := Read(text)
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		if doc.Comments != 0 || len(doc.Lists) != len(kinds) {
			t.Fatalf("%d comments, lists %v", doc.Comments, doc.Lists)
		}
		over := doc.Over(c, func() string { t.Fatal("an identifier was made anew"); return "" })
		if again := Write(over, true); !bytes.Equal(text, again) {
			a, b := bytes.Split(text, []byte("\n")), bytes.Split(again, []byte("\n"))
			for i := range a {
				if i >= len(b) || !bytes.Equal(a[i], b[i]) {
					t.Fatalf("written, read and written again it differs in line %d: %q", i+1,
						bytes.Join(slices.Concat(a[i:min(len(a), i+3)], b[min(i, len(b)):min(len(b), i+3)]),
							[]byte("\n")))
				}
			}
		}
		if changes := config.Diff(c, over); len(changes) > 0 {
			t.Fatalf("something was lost: %+v", changes)
		}
		bare := Write(c, false)
		if bytes.Contains(bare, []byte("secret:")) {
			t.Fatal("secrets are written")
		}
		if doc, err = Read(bare); err != nil {
			t.Fatal(err)
		}
		if changes := config.Diff(c, doc.Over(c, nil)); len(changes) > 0 {
			t.Fatalf("without secrets something was lost: %+v", changes)
		}
	}
}

func TestPartsAndDefaults(t *testing.T) {
	base := &config.Config{Passes: []*config.Pass{{ID: "p", Name: "crew", VLAN: "30"}},
		Lanes: []*config.Lane{{ID: "l", Name: "Wired", Policies: []*config.Policy{{ID: "x", Name: "Crew",
			Enabled: true},
			{ID: "y", Name: "Others"}}}}}
	base.Normalise()
	doc, err := Read([]byte("# who wants to know\ntollgate: 1\nlanes:\n- name: Wired\n  when: ssid is x # why\n  " +
		"methods: [pap]\n  policies:\n  - name: others\n    enabled: false\n    outcome: admit\n    pass: crew\n  - " +
		"name: New\n    outcome: refuse\n...\n"))
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	out := doc.Over(base, func() string { n++; return fmt.Sprint("new", n) })
	if len(out.Passes) != 1 || len(out.Lanes) != 1 || doc.Comments != 2 {
		t.Fatalf("%d comments: %+v", doc.Comments, out)
	}
	p := out.Lanes[0].Policies
	if out.Lanes[0].ID != "l" || len(p) != 2 || p[0].ID != "y" || p[0].Enabled || p[1].ID != "new1" || !p[1].Enabled {
		t.Errorf("%+v", out.Lanes[0])
	}
}

func TestBadFiles(t *testing.T) {
	good := "tollgate: 1\npasses:\n- name: crew\n  vlan: \"30\"\n...\n"
	if _, err := Read([]byte(good)); err != nil {
		t.Fatal(err)
	}
	for text, says := range map[string]string{
		"":                                     "one YAML document",
		"hello":                                "cannot be read",
		"passes: []\n...\n":                    "does not say of which form",
		"tollgate: 0\n...\n":                   "does not say of which form",
		"tollgate: -1\n...\n":                  "form -1",
		"tollgate: 2\n...\n":                   "newer than this version",
		strings.TrimSuffix(good, "...\n"):      "has no end",
		good[:len(good)/2]:                     "has no end",
		"tollgate: 1\nboats: []\n...\n":        "unknown field \"boats\"",
		"tollgate: 1\npasses:\n- nme: x\n...":  "[3:3] unknown field \"nme\"",
		"tollgate: 1\npasses:\n- name: [x\n..": "cannot be read",
		"tollgate: 1\npasses:\n- sessionTimeout: soon\n...":               "[3:19]",
		"tollgate: 1\npasses: &a\n- name: x\nrealms: *a\n...":             "anchor or alias",
		"tollgate: 1\ntollgate: 1\n...":                                   "already defined",
		"tollgate: 1\nclients:\n- secret: topsecret\n  enabled: [1]\n...": "cannot be read",
		"a: b\"" + strings.Repeat("[", 30000):                             "nested too deeply",
		strings.Repeat("a: [\n", 1000):                                    "nested too deeply",
		strings.Repeat("[", 100000):                                       "nested too deeply",
		strings.Repeat("- ", 100000):                                      "nested too deeply",
		strings.Repeat(" ", 500) + "a: b":                                 "nested too deeply",
		"tollgate: 1\n---\ntollgate: 1\n...\n":                            "one YAML document",
	} {
		_, err := Read([]byte(text))
		if err == nil || !strings.Contains(err.Error(), says) || strings.Contains(err.Error(), "topsecret") {
			t.Errorf("%.60q: %v, wanted %q", text, err, says)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(Write(whole(rand.New(rand.NewPCG(1, 1))), true))
	f.Add([]byte("tollgate: 1\npasses:\n- name: crew\n...\n"))
	f.Add([]byte("{tollgate: 1, clients: [{name: a, tags: {b: c}}]}\n..."))
	f.Fuzz(func(t *testing.T, text []byte) {
		if tame(text) == nil {
			alike(t, text)
		}
		doc, err := Read(text)
		if err != nil {
			return
		}
		base := &config.Config{}
		base.Normalise()
		out := doc.Over(base, func() string { return "x" })
		Write(out, true)
	})
}

// A long text is read in parts, and comes to the same as in one; errors name the line in the whole of it.
func TestLongFiles(t *testing.T) {
	c := &config.Config{}
	for i := range 6000 {
		c.Clients = append(c.Clients, &config.Client{ID: fmt.Sprint(i), Name: fmt.Sprintf("switch-%05d", i),
			Enabled: i%3 > 0, Addresses: []string{fmt.Sprintf("10.0.%d.%d", i/250, i%250)}, Note: "- a\nclients:\n- b",
			Tags: map[string]string{"site": "north"}})
	}
	for i := range 40 {
		lane := &config.Lane{ID: fmt.Sprint("l", i), Name: fmt.Sprint("Lane ", i)}
		for j := range 100 {
			lane.Policies = append(lane.Policies, &config.Policy{ID: fmt.Sprint("p", i, "/", j), Name: fmt.Sprint(j),
				Enabled: j%2 > 0, When: "group is Crew"})
		}
		c.Lanes = append(c.Lanes, lane)
	}
	c.Normalise()
	text := Write(c, true)
	parts, err := divide(text)
	if err != nil || len(parts) < 5 {
		t.Fatalf("%d octets are read in %d parts, %v", len(text), len(parts), err)
	}
	doc, err := Read(text)
	if err != nil {
		t.Fatal(err)
	}
	if doc.Comments != 0 || len(doc.Lists) != len(kinds) {
		t.Errorf("%d comments, lists %v", doc.Comments, doc.Lists)
	}
	if changes := config.Diff(c, doc.Over(c, func() string { t.Fatal("an identifier"); return "" })); len(changes) > 0 {
		t.Fatalf("read in parts it differs: %+v", changes[0])
	}
	lines := strings.Split(string(text), "\n")
	for _, at := range []int{20, len(lines) / 3, len(lines) - 300} {
		for !strings.HasPrefix(strings.TrimSpace(lines[at]), "name:") &&
			!strings.HasPrefix(strings.TrimSpace(lines[at]),
				"- name:") {
			at++
		}
		broken := slices.Clone(lines)
		broken[at] = strings.Replace(broken[at], "name:", "nmae:", 1)
		if _, err := Read([]byte(strings.Join(broken, "\n"))); err == nil ||
			!strings.Contains(err.Error(), fmt.Sprintf("[%d:", at+1)) {
			t.Errorf("a fault in line %d: %v", at+1, err)
		}
	}
	twice := strings.Replace(string(text), "\nlanes:", "\nclients:\n- name: x\nlanes:", 1)
	if _, err := Read([]byte(twice)); err == nil || !strings.Contains(err.Error(), "a second time") {
		t.Errorf("a list twice: %v", err)
	}
	if _, err := Read(bytes.Replace(text, []byte("tollgate: 1"), []byte("tollgate: 2"), 1)); err == nil ||
		!strings.Contains(err.Error(), "newer") {
		t.Errorf("another form: %v", err)
	}
	if _, err := Read(text[:len(text)*2/3]); err == nil {
		t.Error("two thirds of a file are taken")
	}
}

// alike reads a text with the quick reader; what that takes, the other one must read alike.
func alike(t *testing.T, text []byte) (taken bool) {
	t.Helper()
	in, lists, comments, ok := quick(text)
	if !ok {
		return false
	}
	var doc Document
	if err := doc.parse(text, false, true); err != nil {
		t.Fatalf("only the quick reader takes %q: %v", text, err)
	}
	if doc.Comments != comments || len(doc.Lists) != len(lists)-min(1, in.Tollgate) {
		t.Fatalf("%d comments, lists %v; quickly %d and %v in %q", doc.Comments, doc.Lists, comments, lists, text)
	}
	for kind := range lists {
		if kind != "tollgate" && !slices.Contains(doc.Lists, kind) {
			t.Fatalf("only the quick reader finds %s in %q", kind, text)
		}
	}
	doc.Config.Normalise()
	in.Config.Normalise()
	if !reflect.DeepEqual(doc.Config, in.Config) {
		t.Fatalf("read quickly it differs: %+v in %q", config.Diff(&doc.Config, &in.Config), text)
	}
	return true
}

func TestQuickReader(t *testing.T) {
	for seed := range uint64(100) {
		if !alike(t, Write(whole(rand.New(rand.NewPCG(seed, 2))), true)) {
			t.Errorf("seed %d: what was written is not read quickly", seed)
		}
	}
	for text, taken := range map[string]bool{"clients:\n- name: a # b\n  note: 2026-11-23\n": true,
		"# x\n# y\nclients:\n- name: yes\n  enabled: false\n": true, "clients:\n- name: 5\n": false,
		"clients:\n- Name: a\n": false, "clients: [{name: a, tags: {A: b}}]": false, "clients:\n- name: &a b\n": false,
		"clients:\n- name: a\n  name: b\n": false, "clients:\n-\n": false, "lanes:\n- rejectDelayMillis: 0x10\n": false,
		"lanes:\n- rejectDelayMillis: 010\n": false, "clients:\n- name: ~\n": false, "boats: []\n": false,
		"clients: []\n---\nlanes: []\n": false, "clients:\n- enabled: yes\n": false,
		"clients:\n- name: !!str a\n":                                    false,
		"clients:\n- name: \"a\\tb\\u2028\"\n  note: >-\n    b\n    c\n": true} {
		if got := alike(t, []byte(text)); got != taken {
			t.Errorf("%q: taken %v", text, got)
		}
	}
}
