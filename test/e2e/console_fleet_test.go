package e2e

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// A file of clients is read line by line; many are changed at once; a draft with ten thousand changes can be read.
func TestConsoleOfManyClients(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	var file strings.Builder
	file.WriteString("name,addresses,tags\n")
	for i := range 10_000 {
		fmt.Fprintf(&file, "sw-%05d,10.1.%d.%d,site=north-pier\n", i, i/250, i%250+1)
	}
	p := pageSteps{signedIn(t, w)}
	steps(
		t,
		p.open(w.app.URL+"/clients"),
		p.see("np-switch-1"),
		p.click("Import CSV"),
		p.fill("CSV", "name,addresses,tags\nlb-1,nowhere,\nlb-2,192.0.2.2,site=x\n"),
		p.click("Import"),
		p.see("Nothing was stored"),
		p.see("neither an address nor a prefix"),
		p.click("Import the good lines"),
		p.see(
			"Imported: 1 new",
		),
		p.see("1 new secret, shown only here"),
		p.press("\x1b"),
		p.see("Close without keeping"),
		p.click("Stay here"),
		p.click("Save the file"),
		p.press("\x1b"),
		p.unsee("Import clients from CSV"),
		p.see("lb-2"),
	)
	path := filepath.Join(t.TempDir(), "clients.csv")
	if err := os.WriteFile(path, []byte(file.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	secrets := filepath.Join(t.TempDir(), "secrets.csv")
	w.wants(0, []string{"client", "import", path, "-secrets", secrets}, "10000 added")
	imported := time.Since(begun)
	text, err := os.ReadFile(secrets)
	if info, _ := os.Stat(secrets); err != nil || strings.Count(string(text), "\n") != 10_001 ||
		info.Mode().Perm() != 0o600 {
		t.Errorf("the secrets are written with %v, %d lines", err, strings.Count(string(text), "\n"))
	}
	w.wants(1, []string{"client", "import", path, "-secrets", secrets}, "file exists")
	begun = time.Now()
	steps(
		t,
		p.open(w.app.URL+"/clients?q=sw-000"),
		p.see("sw-00001"),
		p.unsee("sw-00100"),
		p.click("Choose all that are shown"),
		p.see(
			"100 chosen",
		),
		p.click("Change them ..."),
		p.fill("Set tags", "floor=2"),
		p.click("Make new shared secrets"),
		p.click(
			"Change 100 clients",
		),
		p.see("100 changed in the draft"),
		p.see("100 new secrets"),
		p.click("Save the file"),
		p.click("Close"),
		p.unsee("100 chosen"),
		p.see("floor=2"),
	)
	changed := time.Since(begun)
	var tagged apitype.Page[apitype.Client]
	w.do(http.MethodGet, "/clients?limit=1000&q=floor=2", nil, &tagged)
	if len(tagged.Items) != 100 {
		t.Errorf("%d clients are tagged", len(tagged.Items))
	}
	begun = time.Now()
	steps(
		t,
		p.click("Read"),
		p.see("added client: "),
		p.fill("Search the changes", "sw-00777"),
		p.unsee("added client: 9"),
		p.see("added client: 1"),
		p.see("sw-00777"),
	)
	read := time.Since(begun)
	tall, err := browser.Eval[int](p.Page, `(() => { const d = document.querySelector("[role=dialog]");
		const b = [...d.querySelectorAll("button")].find((b) => b.innerText === "Publish ...").getBoundingClientRect();
		return b.top > 0 && b.bottom <= innerHeight ? d.scrollHeight : -1; })()`)
	if err != nil || tall < 0 || tall > 3000 {
		t.Errorf("the dialog is %d pixels tall, or its buttons are out of sight; %v", tall, err)
	}
	begun = time.Now()
	steps(t, p.press("\x1b"), p.open(w.app.URL+"/clients"), p.see("sw-00001"))
	listed := time.Since(begun)
	begun = time.Now()
	steps(t, p.click("Publish"), p.see("Publish as revision"), p.fill("Note", "the whole fleet"), p.press("\r"),
		p.see("Running revision 2"))
	published := time.Since(begun)
	t.Logf(
		"10,000 clients: imported in %v, listed in %v, 100 changed in %v, the draft read in %v, published in %v",
		imported,
		listed,
		changed,
		read,
		published,
	)
	for what, took := range map[string]time.Duration{"listing": listed, "reading": read, "publishing": published} {
		if took > 10*time.Second {
			t.Errorf("%s takes %v", what, took)
		}
	}
	// back from a row, the list is where it was
	steps(t, p.open(w.app.URL+"/clients?q=sw-001"), p.see("sw-00150"))
	if _, err := browser.Eval[bool](p.Page, `(document.querySelector("main").scrollTop = 900, true)`); err != nil {
		t.Fatal(err)
	}
	time.Sleep(100 * time.Millisecond)
	steps(t, p.click("sw-00130"), p.see("Shared secret"))
	if _, err := browser.Eval[bool](p.Page, "(history.back(), true)"); err != nil {
		t.Fatal(err)
	}
	steps(t, p.see("sw-00150"), func() error {
		for range 40 {
			top, err := browser.Eval[int](p.Page, `document.querySelector("main").scrollTop`)
			if top > 600 || err != nil {
				return err
			}
			time.Sleep(50 * time.Millisecond)
		}
		return fmt.Errorf("the list begins at its top again")
	})
}

// What is missing is made where it is missed, and what is removed tells where it is used.
func TestConsoleMakesWhatIsMissedAndTellsUses(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	p := pageSteps{signedIn(t, w)}
	steps(
		t,
		p.open(w.app.URL+"/lanes"),
		p.click("Add policy"),
		p.fill("Name", "Guests"),
		p.click("New pass ..."),
		p.fill("Name of the pass", "guests"),
		p.fill("Its VLAN", "5000"),
		p.click("Make the pass"),
		p.see("5000"),
		p.fill(
			"Its VLAN",
			"80",
		),
		p.press("\r"),
		p.see("guests, VLAN 80"),
		p.press("\x1b"),
		p.see("Close without saving what you typed?"),
		p.click(
			"Stay here",
		),
		p.click("Save to the draft"),
		p.unsee("Name of the pass"),
		p.see("Guests"),
		p.see("in the draft"),
		p.open(
			w.app.URL+"/passes/guests",
		),
		p.click("Remove"),
		p.see("It is used in one place"),
		p.see("Wired"),
		p.click("Keep"),
		p.open(
			w.app.URL+"/clients/np-switch-1",
		),
		p.click("Remove"),
		p.see("Nothing uses this client"),
		p.click("Keep"),
	)
	// a certificate from the form of a lane, a pool from that of a pass; both go on as they were
	steps(t, p.open(w.app.URL+"/lanes/new"), p.see("Methods, the preferred"), p.fill("Name", "Wi-Fi"))
	if err := selectOption(p, "Add a method", "peap-gtc"); err != nil {
		t.Fatal(err)
	}
	steps(
		t,
		p.click("New certificate ..."),
		p.fill("DNS name of this server", "radius.lanternferries.example"),
		p.click(
			"Make the certificate",
		),
		p.see("the first one (radius.lanternferries.example)"),
		p.click("Save to the draft"),
		p.see("Policy (first match)"),
		p.see("PEAP with EAP-GTC"),
		p.open(
			w.app.URL+"/passes/new",
		),
		p.see("What the device gets"),
		p.fill("Name", "tunnels"),
		p.click("New pool ..."),
		p.fill(
			"Name of the pool",
			"vpn",
		),
		p.fill("Its prefix, or first-last address", "203.0.113.0/28"),
		p.press("\r"),
		p.unsee("Make the pool"),
		p.see("vpn, 14 addresses"),
		p.fill("Session time-out, seconds", "3600"),
		p.click("Save to the draft"),
		p.see("Saved in the draft"),
	)
	var pass apitype.Pass
	if w.do(http.MethodGet, "/passes/tunnels", nil, &pass); pass.Pool != "vpn" {
		t.Errorf("the pass takes addresses from %q", pass.Pool)
	}
	var lane apitype.Lane
	if w.do(http.MethodGet, "/lanes/Wired", nil, &lane); lane.Policies[len(lane.Policies)-1].Pass != "guests" {
		t.Errorf("the policy was saved as %+v", lane.Policies[len(lane.Policies)-1])
	}
	var uses apitype.Uses
	w.do(http.MethodGet, "/uses/passes/crew", nil, &uses)
	if len(uses.Items) == 0 || uses.Items[0].Kind != "lane" {
		t.Errorf("uses of a pass: %+v", uses.Items)
	}
	w.refused(http.StatusNotFound, http.MethodGet, "/uses/passes/none", nil, "no such object")
	w.refused(http.StatusNotFound, http.MethodGet, "/uses/nothing/none", nil, "no such object")
}

// More passes than anybody looks through in a list are searched by the service.
func TestOneOfManyPassesIsSearched(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	for i := range 101 {
		w.do(http.MethodPost, "/passes", map[string]any{"name": fmt.Sprintf("pier-%03d", i), "vlan": "7"}, nil)
	}
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/overrides/new"), p.see("Gets the pass"), p.fill("Gets the pass", "r-07"))
	offered := `[...document.querySelectorAll("datalist option")].map((o) => o.value).join(" ")`
	want, got := "pier-070 pier-071 pier-072 pier-073 pier-074 pier-075 pier-076 pier-077 pier-078 pier-079", ""
	for range 50 { // after a pause in typing
		var err error
		if got, err = browser.Eval[string](p.Page, offered); err != nil || got == want {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if got != want {
		t.Errorf("offered are %s", got)
	}
	steps(t, p.fill("Gets the pass", "pier-077"), p.fill("Name", "One of many"), p.fill("Person", "k.nance"),
		p.click("Save to the draft"), p.see("1 change"))
}
