package e2e

import (
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/web/apitype"
)

// The same from the command line: authority, certificate, trust list, lane, account, client certificate, a trial, a
// revocation, a signing request and its answer, an import.
func TestCertificatesFromTheCommandLine(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"authority", "make", "Lantern", "-subject", "Lantern Ferries Network Authority"},
		"CN=Lantern Ferries Network Authority", "Saved in the draft")
	w.wants(1, []string{"certificate", "make", "radius", "-authority", "Lantern"}, "make.names",
		"refused by most devices")
	w.wants(1, []string{"certificate", "make", "radius", "-authority", "nobody", "-dns", serverName}, "no authority")
	w.wants(0, []string{"certificate", "make", "radius", "-authority", "Lantern", "-dns", serverName}, serverName)
	w.wants(0, []string{"trust", "add", "laptops", "-authority", "Lantern", "-identity", "upn,subject"},
		"upn, subject", "refuse")
	w.wants(0, []string{"lane", "change", "Wired", "-method", "eap-tls,peap-mschapv2", "-tls-min", "1.2", "-resume",
		"60"})
	w.wants(0, []string{"lane", "show", "Wired"}, "EAP-TLS, PEAP with EAP-MSCHAPv2", "resume 60 min")
	w.wants(0, []string{"draft", "publish", "-note", "in TLS"})
	out, code := w.run("gangway-and-rope\n", "tollgate", "account", "change", "k.nance", "-keeps", "nt-hash",
		"-password")
	if code != 0 {
		t.Errorf("keeping the NT hash: %s", out)
	}
	dir := w.dir + "/device"
	issued := w.wants(0, []string{"authority", "issue", "Lantern", dir, "-upn", "k.nance"}, "issued, serial",
		"password of device.p12")
	var authority apitype.Authority
	w.do(http.MethodGet, "/authorities/Lantern", nil, &authority)
	ca := w.write("ca.pem", authority.PEM)
	tls := []string{"try", "-secret", secret, "-method", "eap-tls", "-user", "k.nance", "-cert", dir + "/device.pem",
		"-key", dir + "/device.key", "-ca", ca, "-server-name", serverName, "-attr", "NAS-Port-Type=Ethernet", w.radius}
	w.wants(0, tls, "admitted", "TLS 1.3", "the same on both sides", serverName)
	w.wants(0, []string{"try", "-secret", secret, "-method", "peap-mschapv2", "-user", "k.nance", "-password",
		"gangway-and-rope", "-ca", ca, "-rounds", "-attr", "NAS-Port-Type=Ethernet", w.radius},
		"MS-CHAPv2 success, with its proof", "protected result: success")
	if !strings.Contains(issued, "serial ") {
		t.Errorf("the serial number is not told: %s", issued)
	}
	w.wants(0, []string{"authority", "revoke", "k.nance"}, "revoked, and refused from now on")
	w.wants(0, []string{"authority", "issued"}, "REVOKED", "CN=k.nance")
	w.wants(1, tls, "refused", "the device stopped")
	w.wants(0, []string{"attempt", "explain"}, "certificate of the device was revoked", "issue a new certificate")
	w.wants(1, []string{"try", "-secret", secret, "-method", "peap-mschapv2", "-user", "k.nance", "-password",
		"gangway-and-rope", "-ca", ca, "-server-name", "elsewhere.example", "-attr", "NAS-Port-Type=Ethernet",
		w.radius}, "elsewhere.example", "the device stopped")

	// another authority signs a request of ours
	w.wants(0, []string{"certificate", "make", "portal", "-dns", "portal.lanternferries.example"},
		"BEGIN CERTIFICATE REQUEST", "has not been answered yet")
	w.wants(1, []string{"certificate", "import", "portal", ca}, "private key belongs to none")
	key, _ := certificate.NewKey(certificate.RSA)
	root, err := certificate.NewAuthority("Harbour root", key, time.Now().Add(-time.Hour), time.Now().AddDate(1, 0, 0))
	if err != nil {
		t.Fatal(err)
	}
	mine, _ := certificate.NewKey(certificate.P256)
	leaf, err := certificate.Issue(root, key, certificate.Subject{Name: "portal",
		DNS: []string{"portal.lanternferries.example"}, Server: true, From: time.Now().Add(-time.Hour),
		Until: time.Now().AddDate(0, 0, 20)}, mine.Public())
	if err != nil {
		t.Fatal(err)
	}
	text, _ := certificate.KeyPEM(mine)
	w.wants(0, []string{"certificate", "import", "portal", w.write("portal.pem", certificate.PEM(leaf, root)),
		w.write("portal.key", text)}, "CN=Harbour root")
	w.wants(0, []string{"certificate", "list"}, "in 19 days", "portal.lanternferries.example")
	w.wants(0, []string{"draft", "publish"})
	var now apitype.Now
	w.do(http.MethodGet, "/now", nil, &now)
	found := false
	for _, a := range now.Attention {
		found = found || a.Code == "certificate.ends" && a.Params["name"] == "portal" && a.Params["days"] == "19" &&
			a.Kind == "certificate"
	}
	if !found {
		t.Errorf("Now says %+v", now.Attention)
	}
	list := func() string {
		t.Helper()
		response, err := http.Get(w.api.URL + "/lists/" + authority.ID + ".crl")
		if err != nil || response.StatusCode != http.StatusOK ||
			response.Header.Get("Content-Type") != "application/pkix-crl" {
			t.Fatalf("the revocation list: %v %v", response, err)
		}
		defer response.Body.Close()
		octets, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		return string(octets)
	}
	before := list()
	if list() != before {
		t.Error("the list is signed again for everybody who asks") // an ECDSA signature is another each time
	}
	made := w.issue(authority.ID, "later", apitype.IssueInput{UPN: "later@lanternferries.example",
		Make: apitype.Make{Subject: "later"}})
	w.do(http.MethodPost, "/issued/"+made.Certificate.ID+"/revoke", nil, nil)
	if list() == before {
		t.Error("the list does not hold what was revoked just now")
	}
	raw, _ := os.ReadFile(w.dir + "/tollgate.db")
	if strings.Contains(string(raw), "BEGIN PRIVATE KEY") {
		t.Error("a private key is in the database in clear")
	}
}

func TestDevicesFromTheCommandLine(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	w.wants(0, []string{"device", "add", "0200.5e80.0001", "-name", "Copier", "-owner", "Kaia Nance", "-tag",
		"kind=printer"}, "02-00-5E-80-00-01", "kind=printer")
	w.wants(1, []string{"device", "add", "copier"}, "match", "neither a MAC address nor a prefix")
	w.wants(0, []string{"device", "change", "02:00:5e:80:00:01", "-tag", "floor=2", "-expires", "2031-01-01"},
		"floor=2 kind=printer", "until 2031-01-01", "Kaia Nance")
	w.wants(0, []string{"try", "-secret", secret, "-method", "mac", "-user", "02005e800001", "-bypass", "eap-md5",
		"-attr", "NAS-Port-Type=Ethernet", "-attr", "Calling-Station-Id=02-00-5E-80-00-01", w.radius}, "admitted", "80")
	w.wants(1, []string{"try", "-secret", secret, "-method", "mac", "-user", "02005e800002", "-attr",
		"NAS-Port-Type=Ethernet", "-attr", "Calling-Station-Id=02-00-5E-80-00-02", w.radius}, "refused")
	w.wants(0, []string{"device", "unknown"}, "02-00-5E-80-00-02", "np-switch-1")
	file := w.write("devices.csv", "mac,name,tags\n02-00-5E-80-00-02,Label printer,kind=printer\nnonsense,x,\n")
	w.wants(1, []string{"device", "import", file}, "line 3", "nothing was stored", "1 wrong")
	w.wants(1, []string{"device", "import", "-partial", file}, "imported: 1 added")
	w.wants(0, []string{"device", "list", "label"}, "Label printer")
	w.wants(0, []string{"device", "remove", "02-00-5E-80-00-02"}, "removed")
	w.wants(1, []string{"device", "show", "02-00-5E-80-00-02"}, "no known device")
}
