package e2e

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

const serverName = "radius.lanternferries.example"

// tunnelled configures one client and a lane that allows everything, with an authority of our own.
func (w *world) tunnelled(change func(*apitype.LaneFields)) {
	w.t.Helper()
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1",
			"192.0.2.0/24"}, MessageAuthenticator: "auto"}}, nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "here", Forms: []config.Form{{Kind: config.Bare},
		{Kind: config.Suffix, Value: "lanternferries.example"}, {Kind: config.Prefix, Value: "LANTERN"}},
		Lookup: []config.Lookup{{Store: "local", Unreachable: config.Refuse}}}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "crew", VLAN: "30"}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "printers", VLAN: "80"}, nil)
	w.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Lantern",
		Make: &apitype.Make{Subject: "Lantern Ferries Network Authority"}}, nil)
	w.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "radius",
		Make: &apitype.Make{Subject: serverName, Names: []string{serverName}}, Authority: "Lantern"}, nil)
	w.do(http.MethodPost, "/trusts", apitype.TrustFields{Name: "laptops", Authorities: []string{"Lantern"},
		Unanswered: "refuse"}, nil)
	lane := apitype.LaneFields{Name: "Wired", When: "port.type is Ethernet or port.type is Wireless-802.11",
		Methods: config.Methods, RejectDelayMillis: 0,
		TLS: config.LaneTLS{ResumeMinutes: 60}, Policies: []*config.Policy{{Name: "Printers", Enabled: true,
			When: "device.kind is printer", Outcome: config.Admit, Pass: "printers"},
			{Name: "Crew", Enabled: true, When: "group is Crew", Outcome: config.Admit, Pass: "crew"}}}
	if change != nil {
		change(&lane)
	}
	w.do(http.MethodPost, "/lanes", lane, nil)
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: "gangway-and-rope",
		AccountFields: apitype.AccountFields{Name: "k.nance", Groups: []string{"Crew"}, Enabled: true,
			Keeps: "password"}}, nil)
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: "gangway-and-rope",
		AccountFields: apitype.AccountFields{Name: "hash.only", Groups: []string{"Crew"}, Enabled: true}}, nil)
	w.publish()
	var authority apitype.Authority
	w.do(http.MethodGet, "/authorities/Lantern", nil, &authority)
	w.write("ca.pem", authority.PEM)
}

func (w *world) write(name, text string) string {
	w.t.Helper()
	path := filepath.Join(w.dir, name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		w.t.Fatal(err)
	}
	return path
}

// issue makes a client certificate and writes NAME.pem, NAME.key and NAME.p12.
func (w *world) issue(authority, name string, in apitype.IssueInput) apitype.NewlyIssued {
	w.t.Helper()
	var out apitype.NewlyIssued
	w.do(http.MethodPost, "/authorities/"+authority+"/issue", in, &out)
	w.write(name+".pem", out.Chain)
	w.write(name+".key", out.Key)
	w.write(name+".p12", string(out.PKCS12))
	return out
}

// eapol runs eapol_test with a network block and wants its exit code; extra are further options.
func (w *world) eapol(code int, block string, extra ...string) string {
	w.t.Helper()
	need(w.t, "eapol_test")
	host, port, _ := net.SplitHostPort(w.radius)
	conf := w.write("eapol.conf", "network={\n key_mgmt=WPA-EAP\n"+strings.ReplaceAll(strings.TrimSpace(block), "DIR",
		w.dir)+"\n}\n")
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	args := append([]string{"-c", conf, "-a", host, "-p", port, "-s", secret, "-t", "6", "-M", "02:00:5e:10:7a:31",
		"-N61:d:15", "-N87:s:1/0/8"}, extra...)
	out, err := exec.CommandContext(ctx, "eapol_test", args...).CombinedOutput()
	got := 0
	if exit, ok := err.(*exec.ExitError); ok {
		got = exit.ExitCode()
	} else if err != nil {
		w.t.Fatal(err)
	}
	if got != code {
		w.t.Errorf("eapol_test ends with %d, wanted %d, for\n%s\n%s", got, code, block, tail(string(out), 60))
	}
	return string(out)
}

func tail(text string, n int) string {
	lines := strings.Split(text, "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

// newest is the latest attempt in full.
func (w *world) newest(n int) apitype.AttemptDetail {
	w.t.Helper()
	id := w.attempts("", n)[0].ID
	for before := ""; before != id; id = w.attempts("", n)[0].ID { // they are recorded a moment after the answer
		before = id
		time.Sleep(150 * time.Millisecond)
	}
	var out apitype.AttemptDetail
	w.do(http.MethodGet, "/attempts/"+id, nil, &out)
	return out
}

// blocks are the settings of eapol_test for each of our methods that it knows.
var blocks = map[string]string{
	"eap-tls": ` eap=TLS` + "\n" + ` identity="k.nance@lanternferries.example"` + "\n" +
		` client_cert="DIR/k.pem"` + "\n" + ` private_key="DIR/k.key"`,
	"peap-mschapv2": ` eap=PEAP` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="k.nance"` + "\n" +
		` password="gangway-and-rope"` + "\n" + ` phase2="auth=MSCHAPV2"`,
	"peap-gtc": ` eap=PEAP` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="k.nance"` + "\n" +
		` password="gangway-and-rope"` + "\n" + ` phase2="auth=GTC"`,
	"peap-tls": ` eap=PEAP` + "\n" + ` anonymous_identity="anonymous"` + "\n" +
		` identity="k.nance@lanternferries.example"` + "\n" + ` phase2="auth=TLS"` + "\n" + ` ca_cert2="DIR/ca.pem"` +
		"\n" + ` client_cert2="DIR/k.pem"` + "\n" + ` private_key2="DIR/k.key"`,
	"ttls-pap": ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="k.nance"` + "\n" +
		` password="gangway-and-rope"` + "\n" + ` phase2="auth=PAP"`,
	"ttls-chap": ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="k.nance"` + "\n" +
		` password="gangway-and-rope"` + "\n" + ` phase2="auth=CHAP"`,
	"ttls-mschap": ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="k.nance"` + "\n" +
		` password="gangway-and-rope"` + "\n" + ` phase2="auth=MSCHAP"`,
	"ttls-mschapv2": ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="LANTERN\k.nance"` +
		"\n" + ` password="gangway-and-rope"` + "\n" + ` phase2="auth=MSCHAPV2"`,
	"ttls-md5": ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="k.nance"` + "\n" +
		` password="gangway-and-rope"` + "\n" + ` phase2="autheap=MD5"`,
	"ttls-gtc": ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="k.nance"` + "\n" +
		` password="gangway-and-rope"` + "\n" + ` phase2="autheap=GTC"`,
	"ttls-tls": ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" +
		` identity="k.nance@lanternferries.example"` + "\n" + ` phase2="autheap=TLS"` + "\n" +
		` ca_cert2="DIR/ca.pem"` + "\n" + ` client_cert2="DIR/k.pem"` + "\n" + ` private_key2="DIR/k.key"`,
	"eap-mschapv2": ` eap=MSCHAPV2` + "\n" + ` identity="k.nance"` + "\n" + ` password="gangway-and-rope"`,
	"eap-gtc":      ` eap=GTC` + "\n" + ` identity="k.nance"` + "\n" + ` password="gangway-and-rope"`,
	"eap-md5":      ` eap=MD5` + "\n" + ` identity="k.nance"` + "\n" + ` password="gangway-and-rope"`,
}

func careful(method string, phase1 ...string) string {
	text := blocks[method]
	if method == "eap-tls" || !strings.HasPrefix(method, "eap-") {
		text += "\n" + ` ca_cert="DIR/ca.pem"` + "\n" + ` domain_match="` + serverName + `"` + "\n" + ` phase1="` +
			strings.Join(append([]string{"peapver=0"}, phase1...), " ") + `"`
	}
	return text
}

func TestARealSupplicantWithEveryMethod(t *testing.T) {
	t.Parallel()
	need(t, "eapol_test")
	w := start(t)
	w.tunnelled(nil)
	w.issue("Lantern", "k", apitype.IssueInput{UPN: "k.nance@lanternferries.example"})
	n := 0
	for method := range blocks {
		for _, version := range []string{"TLS 1.2", "TLS 1.3"} {
			block, extra := careful(method, "tls_disable_tlsv1_3="+map[string]string{"TLS 1.2": "1",
				"TLS 1.3": "0"}[version]), []string(nil)
			if method == "eap-md5" || method == "eap-gtc" {
				extra = []string{"-n"} // they make no keys
			}
			n++
			direct := w.radius
			if method == "peap-mschapv2" || method == "eap-md5" {
				w.radius = recorded(t, "udp", direct, "eapol_test; k.nance by "+method+". Secret: "+secret,
					"front", "radius", "access", "testdata", method+".txt")
			}
			out := w.eapol(0, block, extra...)
			w.radius = direct
			a := w.newest(n)
			if a.Verdict != "admitted" || a.VLAN != "30" || a.Facts.Method != method {
				t.Errorf("%s with %s is recorded as %s by %s: %s", method, version, a.Verdict, a.Facts.Method,
					a.Trace.Sentence)
			}
			if extra != nil {
				continue
			}
			if method == "eap-mschapv2" {
				version = ""
			}
			if !strings.Contains(out, "MPPE keys OK: 1  mismatch: 0") || a.Facts.EAP.TLS != version {
				t.Errorf("%s: %s is recorded, keys: %v", method, a.Facts.EAP.TLS,
					strings.Contains(out, "MPPE keys OK: 1"))
			}
			if w.eapolWrong(method) {
				n++
				if a := w.newest(n); a.Verdict != "refused" || a.Reason != "password.wrong" {
					t.Errorf("%s with a wrong password is recorded as %s %s", method, a.Verdict, a.Reason)
				}
			}
		}
	}
}

// eapolWrong tries a method with a wrong password, if it has one.
func (w *world) eapolWrong(method string) bool {
	if strings.HasSuffix(method, "-tls") {
		return false
	}
	w.eapol(253, strings.Replace(careful(method), "gangway-and-rope", "wrong", 1), "-n")
	return true
}

func TestARealSupplicantResumes(t *testing.T) {
	t.Parallel()
	need(t, "eapol_test")
	w := start(t)
	w.tunnelled(nil)
	w.issue("Lantern", "k", apitype.IssueInput{UPN: "k.nance@lanternferries.example"})
	n := 0
	for _, method := range []string{"eap-tls", "peap-mschapv2", "ttls-pap"} {
		for _, v13 := range []string{"1", "0"} {
			out := w.eapol(0, careful(method, "tls_disable_session_ticket=0", "tls_disable_tlsv1_3="+v13), "-r1")
			n += 2
			a := w.newest(n)
			if a.Verdict != "admitted" || !a.Facts.EAP.Resumed || a.Facts.Inner == "" || a.VLAN != "30" ||
				a.Facts.Method != method {
				t.Errorf("%s, TLS 1.3 off %s: %s, resumed %v, inner %q\n%s", method, v13, a.Verdict,
					a.Facts.EAP.Resumed, a.Facts.Inner, tail(out, 30))
			}
		}
	}
	if out := w.eapol(0, careful("peap-mschapv2", "crypto_binding=2"), "-r1"); !strings.Contains(out,
		"Valid cryptobinding TLV") && !strings.Contains(out, "Crypto-Binding TLV") {
		t.Errorf("no crypto-binding:\n%s", tail(out, 40))
	}
}

func TestARealSupplicantThatDoesNotTrust(t *testing.T) {
	t.Parallel()
	need(t, "eapol_test")
	w := start(t)
	w.tunnelled(nil)
	w.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Other", Make: &apitype.Make{}}, nil)
	var other apitype.Authority
	w.do(http.MethodGet, "/authorities/Other", nil, &other)
	w.write("other.pem", other.PEM)
	w.issue("Other", "k", apitype.IssueInput{UPN: "k.nance@lanternferries.example"})
	wrongCA := strings.Replace(careful("peap-mschapv2"), "DIR/ca.pem", "DIR/other.pem", 1)
	wrongName := strings.Replace(careful("ttls-pap"), `domain_match="radius`, `domain_match="elsewhere`, 1)
	for i, c := range []struct{ block, reason, words string }{
		{wrongCA, "tls.peer-distrusts", "unknown_ca"},
		{wrongName, "tls.peer-distrusts", "not the one they expect"},
		{careful("eap-tls"), "certificate.untrusted", "issued by CN=Other"},
		{strings.Replace(careful("peap-mschapv2"), `"k.nance"`, `"hash.only"`, 1), "method.unusable", "only a hash"},
		{strings.Replace(careful("peap-mschapv2"), `"k.nance"`, `"nobody"`, 1), "person.unknown", "nobody"},
	} {
		w.eapol(253, c.block, "-n")
		if a := w.newest(i + 1); a.Reason != c.reason || !strings.Contains(a.Trace.Sentence, c.words) ||
			a.Trace.Remedy == "" {
			t.Errorf("wanted %s with %q, got %s: %s %s", c.reason, c.words, a.Reason, a.Trace.Sentence, a.Trace.Remedy)
		}
	}
}

func TestNegotiationWithARealSupplicant(t *testing.T) {
	t.Parallel()
	need(t, "eapol_test")
	w := start(t)
	w.tunnelled(func(l *apitype.LaneFields) { l.Methods = []string{"eap-tls", "ttls-pap", "peap-mschapv2"} })
	w.eapol(0, careful("peap-mschapv2"))
	if a := w.newest(1); a.Facts.Method != "peap-mschapv2" {
		t.Errorf("agreed on %s", a.Facts.Method)
	}
	w.eapol(253, careful("ttls-chap"), "-n")
	if a := w.newest(2); a.Reason != "eap.no-common-method" || !strings.Contains(a.Trace.Sentence, "CHAP") {
		t.Errorf("%s: %s", a.Reason, a.Trace.Sentence)
	}
	if a := w.newest(2); a.Facts.Method != "ttls" { // what was agreed on, not what was offered first
		t.Errorf("agreed on %s", a.Facts.Method)
	}
	w.eapol(253, blocks["eap-md5"], "-n")
	if a := w.newest(3); a.Reason != "eap.no-common-method" || !strings.Contains(a.Trace.Sentence, "EAP-MD5") {
		t.Errorf("%s: %s", a.Reason, a.Trace.Sentence)
	}
	for _, mtu := range []int{200, 1400} {
		out := w.eapol(0, careful("peap-mschapv2"), fmt.Sprintf("-N12:d:%d", mtu))
		for line := range strings.Lines(out) {
			var size int
			if _, err := fmt.Sscanf(line, "EAP: Received EAP-Request id=%d", &size); err == nil {
				continue
			}
			if _, err := fmt.Sscanf(line, "decapsulated EAP packet (code=1 id=%d len=%d)", new(int),
				&size); err == nil && size > mtu {
				t.Errorf("Framed-MTU %d, an EAP packet of %d octets", mtu, size)
			}
		}
	}
}

// A peer whose TLS library does not offer the extended master secret is refused with that reason, and admitted, with
// the right keys, once the lane allows it.
func TestAPeerWithoutTheExtendedMasterSecret(t *testing.T) {
	need(t, "eapol_test")
	w := start(t)
	w.tunnelled(nil)
	t.Setenv("OPENSSL_CONF", w.write("openssl.cnf", "openssl_conf = a\n[a]\nssl_conf = b\n[b]\nsystem_default = "+
		"c\n[c]\nOptions = -ExtendedMasterSecret\n"))
	block := careful("ttls-mschapv2", "tls_disable_tlsv1_3=1")
	w.eapol(253, block, "-n")
	if a := w.newest(1); a.Reason != "tls.no-extended-master-secret" {
		t.Errorf("refused with %s: %s", a.Reason, a.Trace.Sentence)
	}
	var lane apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	lane.TLS.Older = []string{config.NoExtendedMasterSecret}
	w.do(http.MethodPut, "/lanes/Wired?publish=true", lane.LaneFields, nil, client.IfMatch("*"))
	for _, method := range []string{"ttls-mschapv2", "peap-mschapv2", "ttls-pap"} {
		if out := w.eapol(0, careful(method, "tls_disable_tlsv1_3=1")); !strings.Contains(out,
			"MPPE keys OK: 1  mismatch: 0") {
			t.Errorf("%s: the keys differ", method)
		}
	}
	var after apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired", nil, &after)
	if text := fmt.Sprint(after.Problems); !strings.Contains(text, "no-extended-master-secret is allowed") {
		t.Errorf("no standing warning: %s", text)
	}
}

// Our own device does everything, over the network with the command line and within the process for the console.
func TestTryingEveryMethod(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(func(l *apitype.LaneFields) { l.TLS.Prove = "user" })
	w.issue("Lantern", "k", apitype.IssueInput{UPN: "k.nance@lanternferries.example"})
	w.do(http.MethodPost, "/devices", apitype.DeviceFields{Match: "02:00:5e:10:7a:99", Name: "copier",
		Tags: map[string]string{"kind": "printer"}, Enabled: true}, nil)
	read := func(name string) string {
		b, _ := os.ReadFile(filepath.Join(w.dir, name))
		return string(b)
	}
	for _, method := range config.Methods {
		m := config.FindMethod(method)
		args := []string{"try", "-secret", secret, "-method", method, "-attr", "NAS-Port-Type=Ethernet", "-rounds"}
		in := apitype.TrialInput{Client: "np-switch-1", Method: method, User: "k.nance", Password: "gangway-and-rope",
			Attributes: []config.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}}
		vlan := "30"
		switch {
		case method == "mac":
			in.User, in.Password, vlan = "0200.5e10.7a99", "", "80"
			in.Attributes = append(in.Attributes, config.Attribute{Name: "Calling-Station-Id",
				Value: "02-00-5E-10-7A-99"})
			args = append(args, "-user", in.User, "-attr", "Calling-Station-Id=02-00-5E-10-7A-99")
		case m.Needs == config.NeedsCertificate:
			in.Certificate, in.Key = read("k.pem"), read("k.key")
			args = append(args, "-user", "k.nance", "-cert", filepath.Join(w.dir, "k.pem"), "-key",
				filepath.Join(w.dir, "k.key"))
		default:
			args = append(args, "-user", "k.nance", "-password", "gangway-and-rope")
		}
		if m.TLS {
			in.CA, in.ServerName = read("ca.pem"), serverName
			args = append(args, "-ca", filepath.Join(w.dir, "ca.pem"), "-server-name", serverName)
		}
		var got apitype.TrialResult
		w.do(http.MethodPost, "/trials", in, &got)
		if !got.Accepted || got.Fault != "" || m.TLS && (got.Keys != "match" || got.TLS == nil ||
			got.TLS.Version != "TLS 1.3" || len(got.Rounds) < 4) || !strings.Contains(fmt.Sprint(got.Attributes),
			"Tunnel-Private-Group-ID "+vlan) {
			t.Errorf("%s within the process: %+v", method, got)
		}
		out := w.wants(0, append(args, w.radius), "admitted", "Tunnel-Private-Group-ID")
		if m.TLS && !strings.Contains(out, "the same on both sides") {
			t.Errorf("%s over the network:\n%s", method, out)
		}
	}
	a := w.newest(2 * len(config.Methods))
	if a.Facts.Tried != "" {
		t.Error("a request from the network is marked as a trial")
	}
	var refused apitype.TrialResult
	w.do(http.MethodPost, "/trials", apitype.TrialInput{Client: "np-switch-1", Method: "peap-mschapv2",
		User: "k.nance", Password: "wrong", Attributes: []config.Attribute{{Name: "NAS-Port-Type",
			Value: "Ethernet"}}}, &refused)
	if a = w.newest(2*len(config.Methods) + 1); refused.Accepted || a.Facts.Tried != "o.brandt" ||
		a.Reason != "password.wrong" {
		t.Errorf("a wrong trial: %+v recorded as %s by %q", refused, a.Reason, a.Facts.Tried)
	}
	out := w.wants(0, []string{"try", "-secret", secret, "-method", "peap-mschapv2", "-user", "k.nance", "-password",
		"gangway-and-rope", "-resume", "-attr", "NAS-Port-Type=Ethernet", w.radius}, "full handshake", "resumed")
	if strings.Count(out, "the same on both sides") != 2 {
		t.Errorf("resumed keys:\n%s", out)
	}
	w.refused(422, http.MethodPost, "/trials", apitype.TrialInput{Client: "nobody", Method: "pap", User: "x"},
		"no client", "publish")
	w.refused(422, http.MethodPost, "/trials", apitype.TrialInput{Client: "np-switch-1", Method: "eap-tls", User: "x",
		CA: "nonsense"}, "no certificate in PEM")
	w.wants(2, []string{"try", "-user", "x", "-method", "telepathy", "-secret", "x", w.radius}, "-method takes one of")
}
