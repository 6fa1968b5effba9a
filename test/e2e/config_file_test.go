package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// written puts a text into a file and returns its path.
func written(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "file.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// The whole configuration leaves as a file and comes back: the same octets, the same decisions, and whatever was
// changed in the file changed in the draft.
func TestTheConfigurationAsAFile(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	text := w.wants(0, []string{"config", "export"}, "tollgate: 1", "- name: By department", "group: Ticketing",
		"opening-hours", "Harbour-Level")
	if strings.Contains(text, "secret:") || strings.Contains(text, "bindPassword") || strings.Contains(text,
		"\n  id:") {
		t.Error("the file holds secrets or identifiers")
	}
	w.wants(0, []string{"config", "compare", written(t, text)}, "No difference.")
	changed := strings.Replace(strings.Replace(text, "vlan: \"60\"", "vlan: \"66\"", 1), "when: ssid is LF-Deck",
		"when: SSID   in LF-Deck, LF-Bridge", 1)
	file := written(t, "# mine\n"+changed)
	w.wants(0, []string{"config", "apply", file}, `changed pass "contractors"`, "VLAN 60 -> 66", "comment",
		"Nothing was changed yet")
	if d, _ := w.running(); len(d.Changes) != 0 {
		t.Errorf("the preview changed the draft: %+v", d.Changes)
	}
	w.wants(0, []string{"config", "apply", file, "-yes"}, "2 changes. Publish with")
	again := w.wants(0, []string{"config", "export"}, "when: ssid in LF-Deck, LF-Bridge"[:5])
	w.wants(0, []string{"config", "apply", written(t, again), "-yes", "-over-draft"}, "No difference.")
	if third := w.wants(0, []string{"config", "export"}); third != again {
		t.Error("exported, applied and exported again, the file differs")
	}
	w.wants(1, []string{"config", "apply", file, "-yes"}, "the draft holds changes", "-over-draft")
	w.publish()
	w.wants(0, []string{"config", "compare", written(t, text), "-with", "running"}, "VLAN 66 -> 60")
	w.wants(0, []string{"config", "compare", written(t, text), "-with", "3"}, "No difference.")
	if r, err := w.ask(func(q *trial.Request) {
		q.User, q.Password, q.Secret, q.From = "s.lodge", "harbour-s.lodge", "gangway-and-bollard-99",
			must("127.0.10.99")
	}); err != nil || !r.Accepted {
		t.Errorf("after applying a file without secrets nobody signs in: %+v, %v", r, err)
	}
	sealed := w.wants(0, []string{"config", "export", "-secrets", "-of", "running"}, "secret:", "bindPassword:")
	w.wants(0, []string{"config", "compare", written(t, sealed)}, "No difference.")

	// Another server opens none of these secrets, and has none to keep.
	other := start(t)
	other.wants(1, []string{"config", "apply", written(t, sealed), "-yes"}, "cannot be opened", "another server")
	other.wants(1, []string{"config", "apply", written(t, text), "-yes"}, "no shared secret")
	if d, _ := other.running(); len(d.Changes) != 0 {
		t.Errorf("a refused file left %d changes", len(d.Changes))
	}
	part := "tollgate: 1\nclients:\n- name: np-switch-1\n  addresses: [127.0.0.1]\n  secret: " +
		"clear:quay-light-and-bollard\npasses:\n- name: crew\n  vlan: \"30\"\nrealms:\n- name: here\n  forms: " +
		"[{kind: bare}]\n  lookup: [{store: local}]\nlanes:\n- name: Wired\n  methods: [pap]\n  policies:\n  - name: " +
		"Crew\n    when: group is Crew\n    pass: crew\n...\n"
	other.wants(0, []string{"config", "apply", written(t, part), "-yes"}, "added client")
	other.account("k.nance", "gangway-and-rope", "Crew")
	other.publish()
	if r, err := other.ask(nil); err != nil || values(r, "Tunnel-Private-Group-ID") != "30" {
		t.Errorf("made from a file: %+v, %v", r, err)
	}
}

func TestBadConfigurationFiles(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	text := w.wants(0, []string{"config", "export"})
	for name, c := range map[string]struct{ text, says string }{
		"half of it":       {text[:len(text)/2], "the file "}, // wherever that falls: it cannot be read, or has no end
		"half a line":      {text[:strings.Index(text, "rewrite: ")+3], "cannot be read"},
		"cut at a line":    {text[:strings.Index(text, "realms:")], "has no end"},
		"an older form":    {strings.Replace(text, "tollgate: 1", "tollgate: 0", 1), "does not say of which form"},
		"a newer form":     {strings.Replace(text, "tollgate: 1", "tollgate: 7", 1), "newer than this version"},
		"an unknown field": {strings.Replace(text, "  vlan:", "  vlam:", 1), "vlam"},
		"a circle": {strings.Replace(text, "- name: officers\n", "- name: officers\n  extends: bridge\n", 1),
			"refers to itself"},
		"a wrong VLAN": {strings.Replace(text, `vlan: "60"`, `vlan: "6000"`, 1), "VLAN 6000 does not exist"},
		"a wrong word": {strings.Replace(text, "when: ssid is LF-Deck", "when: sside is LF-Deck", 1),
			"Did you mean ssid?"},
		"an explosion": {"tollgate: 1\npasses: &a [{name: x}, {name: y}]\nlanes: [*a, *a]\n...\n",
			"anchor or alias"},
	} {
		t.Run(name, func(t *testing.T) {
			w.t = t
			out := w.wants(1, []string{"config", "apply", written(t, c.text), "-yes"}, c.says)
			if d, _ := w.running(); len(d.Changes) != 0 {
				t.Errorf("something was applied: %+v\n%s", d.Changes, out)
			}
		})
	}
	w.t = t
	err := w.api.Do(context.Background(), http.MethodPost, "/file/apply", client.Raw{Type: "application/yaml",
		Body: make([]byte, 66<<20)}, nil)
	if p, ok := err.(*apitype.Problem); !ok || p.Status != 413 {
		t.Errorf("66 MB: %v", err)
	}
	// Operators are no part of the file, so that no file can lock them out; even one with nothing in it.
	var empty strings.Builder
	empty.WriteString("tollgate: 1\n")
	for _, list := range []string{"clients", "directories", "realms", "lanes", "passes", "calendars", "pools",
		"remotes", "vendors", "overrides", "expectations", "commandLists", "authorities", "certificates", "trusts"} {
		empty.WriteString(list + ": []\n")
	}
	w.wants(0, []string{"config", "apply", written(t, empty.String()+"...\n"), "-yes"}, `removed client "np-switch-1"`)
	w.publish()
	w.wants(0, []string{"operator", "list"}, "o.brandt")
	w.wants(0, []string{"revision", "return", "3"}, "in effect again")
	var p apitype.Problem
	if err := w.api.Do(context.Background(), http.MethodPost, "/file/apply?mark=stale",
		client.Raw{Type: "application/yaml", Body: []byte(text)}, nil); err == nil || !strings.Contains(err.Error(),
		"changed meanwhile") {
		t.Errorf("with the mark of another draft: %v %v", err, p)
	}
}

func TestADictionaryIsImported(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	text := "tollgate: 1\nvendors:\n- name: Harbour Instruments\n  number: 32474\n  attributes:\n  - {number: 1, " +
		"name: Harbour-Role, type: text}\n...\n"
	w.wants(0, []string{"vendor", "import", written(t, text)}, "number 32473 -> 32474", "Nothing was changed yet")
	w.wants(1, []string{"vendor", "import", written(t, text), "-yes"}, `there is no attribute "Harbour-Level"`)
	text = strings.Replace(text, "...", "  - {number: 2, name: Harbour-Level, type: integer, values: [{number: 15, "+
		"name: bridge}]}\n...", 1)
	w.wants(0, []string{"vendor", "import", written(t, text), "-yes"}, "Publish with")
	w.wants(0, []string{"vendor", "show", "Harbour Instruments"}, "1A 0C 00007EDA 02 06 0000000F")
	w.wants(0, []string{"pass", "show", "bridge"}, "1A 0C 00007EDA 02 06 0000000F")
	w.wants(1, []string{"vendor", "import", written(t, "tollgate: 1\npasses: []\n...\n")}, "and not vendors alone")
}

// Ten thousand policies are applied, analysed and decided by.
func TestTenThousandPolicies(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	var b strings.Builder
	b.WriteString("tollgate: 1\nlanes:\n- name: Wired\n  methods: [pap]\n  policies:\n")
	for i := range 9_998 {
		fmt.Fprintf(&b, "  - {name: P%d, when: 'group is \"Department %d\" and client.site is north-pier', outcome: "+
			"admit, pass: crew}\n", i, i)
	}
	b.WriteString("  - {name: Dead, when: group is \"Department 77\" and client.site is north-pier and ssid is x, " +
		"outcome: refuse}\n  - {name: Crew, when: group is Crew, outcome: admit, pass: crew}\n...\n")
	begun := time.Now()
	w.wants(0, []string{"config", "apply",
		written(t, strings.Replace(b.String(),
			`when: group is "Department 77" and client.site is north-pier and ssid is x`,
			`when: 'group is "Department 77" and client.site is north-pier and ssid is x'`, 1)), "-yes"},
		"Publish with")
	applied := time.Since(begun)
	w.publish()
	begun = time.Now()
	var a apitype.Analysis
	w.do(http.MethodGet, "/draft/analysis", nil, &a)
	if a.Policies != 10_000 || len(a.Items) == 0 {
		t.Errorf("%d policies, %d findings", a.Policies, len(a.Items))
	}
	dead := false
	for _, f := range a.Items {
		dead = dead || f.Policy == "Dead" && f.Code == "unreachable" && strings.Contains(f.Message, "policy 78, P77")
	}
	t.Logf("applied in %s, analysed in %s", applied, time.Since(begun))
	if r, err := w.ask(nil); err != nil || !r.Accepted || !dead {
		t.Errorf("found the dead one: %v; %+v, %v", dead, r, err)
	}
	b.WriteString("")
	over := strings.Replace(b.String(), "  - {name: P0,", "  - {name: Q0, when: always, outcome: refuse}\n  - "+
		"{name: P0,", 1)
	over = strings.Replace(over, `when: group is "Department 77" and client.site is north-pier and ssid is x`,
		`when: 'ssid is x'`, 1)
	w.wants(1, []string{"config", "apply", written(t, over), "-yes", "-over-draft"}, "10001 policies, at most 10000")
}
