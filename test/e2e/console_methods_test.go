package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// An administrator makes an authority and a certificate, gives a lane PEAP, keeps an account's NT hash, tries it, and
// reads the road; then issues a certificate and revokes it.
func TestCertificatesInTheConsole(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	p := pageSteps{signedIn(t, w)}
	steps(t,
		p.open(w.app.URL+"/certificates"), p.see("No server certificate"), p.click("Add authority"),
		p.fill("Name", "Lantern"), p.fill("Common name", "Lantern Ferries Network Authority"),
		p.click("Save to the draft"), p.see("CN=Lantern Ferries Network Authority"),
		p.click("Certificates"), p.click("Add certificate"), p.fill("Name", "radius"), p.click("Save to the draft"),
		p.see("without a DNS name is refused by most devices"),
		p.fill("Common name", serverName), p.click("Save to the draft"), p.see("Not used by any lane yet"),
		p.see("in 396 days"),
		p.click("Certificates"), p.click("Add trust list"), p.fill("Name", "laptops"), p.click("Save to the draft"),
		p.see("The list is empty"), p.click("Lantern (CN=Lantern Ferries Network Authority)"),
		p.click("Save to the draft"), p.see("Its authorities"),
	)
	steps(t,
		p.open(w.app.URL+"/lanes"), p.see("PAP: what is exposed, and to whom"), p.click("Edit lane"),
		p.see("The client sees every password"))
	if err := selectOption(p, "Add a method", "peap-mschapv2"); err != nil {
		t.Fatal(err)
	}
	if err := selectOption(p, "Add a method", "eap-tls"); err != nil {
		t.Fatal(err)
	}
	steps(
		t,
		p.click("Remove pap"),
		p.see("Inside TLS"),
		p.choose("Lowest version", "TLS 1.1"),
		p.click(
			"Save to the draft",
		),
		p.see("PEAP with EAP-MSCHAPv2, EAP-TLS"),
		p.see("its hash functions are broken"),
		p.click("Edit lane"),
		p.choose("Lowest version", "TLS 1.2"),
		p.click("Save to the draft"),
		p.unsee("Methods, the preferred"),
		p.unsee("its hash functions are broken"),
		p.click("Publish"),
		p.see("Publish as revision 2"),
		p.fill("Note", "in TLS"),
		p.press("\r"),
		p.see("Running revision 2"),
	)
	steps(t, p.click("Settings for devices"), p.see("Trusted authority:  CN=Lantern Ferries Network Authority"),
		p.see("Configuration file for peap-mschapv2"), p.press("\x1b"), p.unsee("Trusted authority"))
	steps(t,
		p.click("People"), p.click("k.nance"), p.choose("What is kept of the password", "the NT hash too"),
		p.see("Also supports MS-CHAPv2"), p.click("Save"), p.see("cannot be made of the hash"),
		p.fill("Password", "gangway-and-rope"), p.click("Save"), p.see("Add account"))
	steps(
		t,
		p.click(
			"Attempts",
		),
		p.click("Try"),
		p.fill("Name", "k.nance"),
		p.fill("Password", "wrong"),
		p.click("Sign in"),
		p.see("Access-Reject"),
		p.see("MS-CHAPv2 failure"),
		p.fill("Password", "gangway-and-rope"),
		p.click("Sign in"),
		p.see("Access-Accept"),
		p.see("the same on both sides"),
		p.see("Tunnel-Private-Group-ID"),
		p.click("Its road"),
		p.see("password.wrong"),
		p.see("VLAN 30"),
	)
	if _, err := browser.Eval[bool](p.Page,
		`(document.querySelector("tbody tr[tabindex]").click(), true)`); err != nil {
		t.Fatal(err)
	}
	steps(t, p.see("The conversation"), p.see("name inside"), p.see("tried by"),
		p.see("result: success and crypto-binding"))
	steps(t,
		p.click("Certificates"), p.see("Wired"), p.click("Lantern"), p.click("Issue certificate"),
		p.fill("User principal name", "k.nance@lanternferries.example"), p.click("Issue"), p.see("shown only here"),
		p.press("\x1b"),
		p.see("CN=k.nance@lanternferries.example"), p.click("Revoke CN=k.nance@lanternferries.example"),
		p.see("for good"), p.click("Revoke for good"), p.see("revoked"), p.unsee("Revoke for good"))
	var issued apitype.Page[apitype.IssuedCertificate]
	w.do(http.MethodGet, "/issued", nil, &issued)
	if len(issued.Items) != 1 || issued.Items[0].RevokedAt == nil {
		t.Errorf("issued: %+v", issued.Items)
	}
}

// selectOption chooses in a plain select by its label.
func selectOption(p pageSteps, label, value string) error {
	_, err := browser.Eval[bool](p.Page, `(() => {
		const s = document.querySelector('select[aria-label="`+label+`"]');
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "`+value+`");
		s.dispatchEvent(new Event("change", { bubbles: true }));
		return true;
	})()`)
	return err
}

func TestKnownDevicesInTheConsole(t *testing.T) {
	w := start(t)
	w.tunnelled(func(l *apitype.LaneFields) { l.Methods = []string{"mac", "pap"} })
	ask := func(mac string) results.Reply {
		reply, err := trial.Send(context.Background(), trial.Request{Server: w.radius, Secret: secret, Method: "mac",
			User: mac, Timeout: 2 * time.Second,
			Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"},
				{Name: "NAS-Port-Id", Value: "1/0/7"}, {Name: "Calling-Station-Id", Value: mac}}})
		if err != nil {
			t.Fatal(err)
		}
		return reply
	}
	ask("02-00-5E-99-00-01")
	ask("02-00-5E-99-00-02")
	p := pageSteps{signedIn(t, w)}
	steps(t,
		p.open(w.app.URL+"/devices"), p.see("No known device"), p.see("02-00-5E-99-00-01"), p.see("port 1/0/7"),
		p.click("Add 02-00-5E-99-00-02"), p.see("known"), p.unsee("No known device"),
		p.click("Add device"), p.fill("MAC address or prefix", "printer"), p.click("Add"),
		p.see("neither a MAC address nor a prefix"),
		p.fill("MAC address or prefix", "0200.5e99.0001"), p.fill("Name", "Copier"), p.fill("Owner", "Kaia Nance"),
		p.fill("Tags", "kind=printer"), p.click("Add"), p.see("Copier"), p.unsee("Refused lately"))
	if reply := ask("02-00-5E-99-00-01"); !reply.Accepted {
		t.Error("the device that was added is refused")
	}
	steps(
		t,
		p.click("Import CSV"),
		p.fill(
			"CSV",
			"mac,name,tags\n02-00-5E-80-00-01,Label printer,kind=printer\nnonsense,x,\n",
		),
		p.click("Import"),
		p.see("Nothing was stored"),
		p.see("1 wrong"),
		p.see("neither a MAC address"),
		p.click("Import the good lines"),
		p.see("Imported: 1 new"),
		p.press("\x1b"),
		p.see("Label printer"),
		p.fill("Search devices", "kaia"),
		p.unsee("Label printer"),
		p.see("Copier"),
	)
	var devices apitype.Page[apitype.Device]
	w.do(http.MethodGet, "/devices", nil, &devices)
	if len(devices.Items) != 3 || devices.Items[0].ChangedBy != "o.brandt" {
		t.Errorf("known devices: %+v", devices.Items)
	}
}

// The settings for devices name the authority, the server and the methods.
func TestSupplicantSettings(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	w.issue("Lantern", "k", apitype.IssueInput{UPN: "k.nance@lanternferries.example"})
	var out apitype.SupplicantText
	w.do(http.MethodGet, "/lanes/Wired/supplicant", nil, &out)
	if len(out.CA) != 1 || out.CA[0].SHA256 == "" {
		t.Errorf("authority %+v", out.CA)
	}
	// what is written for devices works as it stands
	for _, method := range []string{"peap-mschapv2", "ttls-pap", "eap-tls"} {
		text := out.Files[method]
		if text == "" {
			t.Errorf("no settings for %s", method)
			continue
		}
		block := strings.NewReplacer("WPA-EAP IEEE8021X", "WPA-EAP", "authority.pem", w.dir+"/ca.pem", "device.pem",
			w.dir+"/k.pem", "device.key", w.dir+"/k.key", "PASSWORD", "gangway-and-rope", "NAME",
			"k.nance").Replace(text)
		_, block, _ = strings.Cut(block, "network={\n  key_mgmt=WPA-EAP\n")
		w.eapol(0, strings.TrimSuffix(strings.TrimSpace(block), "}"))
	}
	w.wants(0, []string{"lane", "supplicant", "Wired"}, "Trusted authority", serverName, `phase2="auth=MSCHAPV2"`)
	w.refused(404, http.MethodGet, "/lanes/nothing/supplicant", nil, "no lane")
}
