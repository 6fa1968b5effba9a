package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"tollgate.example/key/test/e2e/browser"
)

// Links are made from kind and identifier by one function of the console. Whatever it makes leads to a page of its own:
// what the console does not know goes to Now.
func TestLinksLeadSomewhere(t *testing.T) {
	source, err := os.ReadFile(filepath.Join(root(), "console", "src", "api", "link.ts"))
	if err != nil {
		t.Fatal(err)
	}
	places := map[string]string{}
	for _, m := range regexp.MustCompile(`"?([a-z-]+)"?: "(/[a-z-]+)"`).FindAllStringSubmatch(string(source), -1) {
		places[m[1]] = m[2]
	}
	// What problems, findings and attention items name as their kind.
	for _, kind := range []string{"client", "directory", "realm", "lane", "pass", "authority", "certificate", "trust",
		"calendar", "pool", "remote", "vendor",
		"override", "expectation", "command-list", "account", "attempt", "checkup", "device", "factor", "journal"} {
		if places[kind] == "" {
			t.Errorf("nothing is linked for the kind %s", kind)
		}
	}
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	opened := 0
	for kind, place := range places {
		targets := []string{place}
		var list struct {
			Items []struct {
				ID   string `json:"id"`
				Name string `json:"name"`
			} `json:"items"`
		}
		calls := map[string]string{"/people": "/accounts", "/checkup": "", "/journal": "", "/sightings": ""}
		call, other := calls[place]
		if !other {
			call = place
		}
		if call != "" {
			var raw json.RawMessage
			w.do(http.MethodGet, call, nil, &raw)
			if err := json.Unmarshal(raw, &list); err != nil {
				t.Fatalf("%s: %v", call, err)
			}
			if len(list.Items) > 0 {
				targets = append(targets, place+"/"+list.Items[0].ID)
				opened++
			}
		}
		for _, target := range targets {
			steps(t, p.open(w.app.URL+target))
			if err := p.Until("more than an empty page", "document.body.innerText.trim().length > 200"); err != nil {
				t.Errorf("%s: %s: %v", kind, target, err)
			}
			at, err := browser.Eval[string](p.Page, "location.pathname")
			if err != nil {
				t.Fatal(err)
			}
			if at == "/" {
				t.Errorf("%s: %s leads nowhere", kind, target)
			}
		}
	}
	if opened < 12 {
		t.Errorf("only %d objects were opened", opened)
	}
}
