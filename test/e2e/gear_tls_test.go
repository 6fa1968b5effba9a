package e2e

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/tacacs"
)

// gearCertificate has the authority of the test issue a certificate to a name.
func (w *world) gearCertificate(name string) tls.Certificate {
	w.t.Helper()
	var out apitype.NewlyIssued
	w.do(http.MethodPost, "/authorities/Gear/issue", apitype.IssueInput{Make: apitype.Make{Names: []string{name}}},
		&out)
	pair, err := tls.X509KeyPair([]byte(out.Chain), []byte(out.Key))
	if err != nil {
		w.t.Fatal(err)
	}
	return pair
}

func TestTACACSOverTLS(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	var authority apitype.Authority
	w.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Gear",
		Make: &apitype.Make{Subject: "Gear Authority"}}, nil)
	w.do(http.MethodGet, "/authorities/Gear", nil, &authority)
	w.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "gear", Authority: "Gear",
		Make: &apitype.Make{Subject: "gear.example", Names: []string{"gear.example"}}}, nil)
	w.do(http.MethodPost, "/trusts", apitype.TrustFields{Name: "gear", Authorities: []string{"Gear"},
		Identity: []string{"dns"}, Unanswered: config.TakeUnanswered}, nil)
	fields := apitype.ClientFields{Name: "hh-router-1", Enabled: true, Addresses: []string{"127.0.0.1"},
		MessageAuthenticator: "require", TLSNames: []string{"hh-router-1.example"}}
	w.do(http.MethodPut, "/clients/hh-router-1", apitype.ClientInput{ClientFields: fields}, nil, matchAny)
	w.publish()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority.PEM))
	over := func(change func(*tls.Config)) *trial.Gear {
		cfg := &tls.Config{RootCAs: roots, ServerName: "gear.example"}
		if change != nil {
			change(cfg)
		}
		g := &trial.Gear{Server: w.tacacsTLS, TLS: cfg, Single: true, Timeout: 3 * time.Second}
		t.Cleanup(g.Close)
		return g
	}
	own := w.gearCertificate("hh-router-1.example")
	g := over(func(c *tls.Config) { c.Certificates = []tls.Certificate{own} })
	for _, ask := range []trial.GearAsk{{Ask: "login", User: "ann", Password: "rope-and-anchor"},
		{Ask: "login", Method: "mschapv2", User: "ann", Password: "rope-and-anchor"}} {
		w.asks(g, ask, "PASS")
	}
	w.asks(g, trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	w.asks(g, trial.GearAsk{Ask: "start", User: "ann", Args: []string{"task_id=1"}}, "SUCCESS")
	// From anywhere, since the certificate tells who it is.
	far := over(func(c *tls.Config) { c.Certificates = []tls.Certificate{own} })
	far.From = netip.MustParseAddr("127.0.0.77")
	w.asks(far, trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	fails := func(name, detail string, g *trial.Gear) {
		t.Helper()
		if r, err := g.Try(context.Background(), trial.GearAsk{Ask: "shell", User: "ann"}); err == nil {
			t.Errorf("%s: %s", name, r.Status)
		}
		if c := w.contact(netip.MustParseAddr("127.0.0.1"), "tls"); !strings.Contains(c.Detail, detail) {
			t.Errorf("%s: %q lacks %q", name, c.Detail, detail)
		}
	}
	fails("no certificate", "shows no certificate", over(nil))
	other := w.gearCertificate("someone-else.example")
	fails("another name", "carries none of the names of hh-router-1", over(func(c *tls.Config) {
		c.Certificates = []tls.Certificate{other}
	}))
	if _, err := tls.Dial("tcp", w.tacacsTLS, &tls.Config{RootCAs: roots, ServerName: "gear.example",
		MaxVersion: tls.VersionTLS12}); err == nil || !strings.Contains(err.Error(), "protocol version") {
		t.Errorf("TLS 1.2: %v", err)
	}
	strange, _ := lab.NewAuthority("Somebody else")
	forged, err := strange.Server(time.Now().AddDate(1, 0, 0), "hh-router-1.example")
	if err != nil {
		t.Fatal(err)
	}
	fails("another authority", "certificate.untrusted", over(func(c *tls.Config) {
		c.Certificates = forged.Certificates
	}))
	// Bodies are never obfuscated within TLS.
	conn, err := tls.Dial("tcp", w.tacacsTLS, &tls.Config{RootCAs: roots, ServerName: "gear.example",
		Certificates: []tls.Certificate{own}})
	if err != nil {
		t.Fatal(err)
	}
	c := &wire{t, conn}
	c.send(header(tacacs.Authentication, 1, 1, 0), asciiStart("ann"), gearSecret)
	if h, body := c.reply(gearSecret); h.Flags&tacacs.Plain == 0 || !isError(tacacs.Authentication, body) || !c.over() {
		t.Errorf("an obfuscated body is answered %+v %x", h, body)
	}
	kept, err := tls.Dial("tcp", w.tacacsTLS, &tls.Config{RootCAs: roots, ServerName: "gear.example",
		Certificates: []tls.Certificate{own}})
	if err != nil {
		t.Fatal(err)
	}
	open := &wire{t, kept}
	shell := tacacs.Request{Method: tacacs.MethodTACACS, Level: 1, Kind: tacacs.ASCII, Service: tacacs.ServiceLogin,
		User: []byte("ann"), Args: [][]byte{[]byte("service=shell"), []byte("cmd=")}}
	for n := range uint32(2) {
		open.send(header(tacacs.Authorization, 1, n, tacacs.Single|tacacs.Plain), shell.Append(nil), "")
		if _, body := open.reply(""); len(body) == 0 || tacacs.AuthorStatus(body[0]) != tacacs.AuthorAdd {
			t.Errorf("a kept connection: %x", body)
		}
	}
	// A client without names is known by its address; a revoked certificate no longer lets its device in.
	w.wants(0, []string{"client", "show", "hh-router-1"}, "over TLS", "hh-router-1.example")
	var issued apitype.Page[apitype.IssuedCertificate]
	w.do(http.MethodGet, "/issued", nil, &issued)
	for _, one := range issued.Items {
		if strings.Contains(one.Subject, "hh-router-1") {
			w.do(http.MethodPost, "/issued/"+one.ID+"/revoke", nil, nil)
		}
	}
	fails("a revoked certificate", "certificate.revoked", over(func(c *tls.Config) {
		c.Certificates = []tls.Certificate{own}
	}))
	time.Sleep(6 * time.Second) // for longer no certificate is taken for good
	open.send(header(tacacs.Authorization, 1, 9, tacacs.Single|tacacs.Plain), shell.Append(nil), "")
	if _, body := open.reply(""); body != nil || !open.over() {
		t.Errorf("a connection that was open when its certificate was revoked: %x", body)
	}
	// Without a name, its address alone proves nothing: within TLS there is no shared secret either.
	w.wants(0, []string{"client", "change", "hh-router-1", "-tls-name", "none", "-publish"}, "published")
	fails("no name", "proves itself by nothing", over(nil))
	fails("a certificate that no client has", "proves itself by nothing", over(func(c *tls.Config) {
		c.Certificates = []tls.Certificate{other}
	}))
	w.wants(0, []string{"client", "change", "hh-router-1", "-tacacs-by-address", "-publish"},
		"known by its address alone")
	w.wants(0, []string{"client", "show", "hh-router-1"}, "over TLS by its address alone")
	w.asks(over(nil), trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
}

// The emergency account is sealed while a directory answers, and on the wrong devices; once no directory does, it
// opens, loudly.
func TestEmergencyAccount(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	for _, name := range []string{"bench-1"} {
		fields := apitype.ClientFields{Name: name, Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "auto", Tags: map[string]string{"site": "harbour-house", "kind": "router"}}
		w.do(http.MethodPut, "/clients/"+name, apitype.ClientInput{TACACSSecret: gearSecret, ClientFields: fields},
			nil, matchAny)
	}
	w.do(http.MethodPost, "/draft/publish", apitype.PublishBody{Despite: true}, nil)
	g := w.device(false)
	ask := trial.GearAsk{Ask: "login", User: lab.EmergencyUser, Password: lab.EmergencyPassword}
	w.asks(g, ask, "FAIL")
	a := w.attempts("reason=emergency.sealed", 1)[0]
	if d := w.road(a.ID); !strings.Contains(d.Trace.Sentence, "LANTERN answers") {
		t.Errorf("sealed: %s", d.Trace.Sentence)
	}
	w.wants(0, []string{"account", "show", lab.EmergencyUser}, "sealed, for client.site is harbour-house")
	// The directory goes away: nobody answers at its address any more.
	var d apitype.Directory
	w.do(http.MethodGet, "/directories/LANTERN", nil, &d)
	d.Servers, d.TimeoutMillis = []string{freePort(t)}, 500
	w.do(http.MethodPut, "/directories/LANTERN", apitype.DirectoryInput{BindPassword: lab.ServicePassword,
		DirectoryFields: d.DirectoryFields}, nil, matchAny)
	w.do(http.MethodPost, "/draft/publish", apitype.PublishBody{Despite: true}, nil)
	wrong := ask
	wrong.Password = "wrong"
	w.asks(g, wrong, "FAIL")
	w.asks(g, ask, "PASS")
	w.asks(g, trial.GearAsk{Ask: "shell", User: lab.EmergencyUser}, "PASS_ADD")
	w.asks(g, trial.GearAsk{Ask: "command", User: lab.EmergencyUser, Command: "show version"}, "PASS_ADD")
	w.wants(0, []string{"account", "show", lab.EmergencyUser}, "SEAL BROKEN", "on bench-1")
	var now apitype.Now
	w.do(http.MethodGet, "/now", nil, &now)
	if !strings.Contains(now.Attention[0].Title, "Emergency account harbour.emergency was used") ||
		now.Attention[0].Severity != "fail" {
		t.Errorf("Now begins with %+v", now.Attention[0])
	}
	w.asks(g, trial.GearAsk{Ask: "password", User: lab.EmergencyUser, Password: lab.EmergencyPassword,
		New: "somebody-elses-1"}, "FAIL")
	out := w.wants(0, []string{"account", "seal", lab.EmergencyUser}, "is sealed. Its password")
	fresh := strings.TrimSpace(out[strings.LastIndex(out, ":")+1:])
	w.wants(0, []string{"account", "show", lab.EmergencyUser}, "sealed, for")
	w.asks(g, ask, "FAIL")
	ask.Password = fresh
	w.asks(g, ask, "PASS")
	w.do(http.MethodPut, "/clients/bench-1", apitype.ClientInput{ClientFields: apitype.ClientFields{Name: "bench-1",
		Enabled: true, Addresses: []string{"127.0.0.1"}, MessageAuthenticator: "auto",
		Tags: map[string]string{"site": "north-pier"}}}, nil, matchAny)
	w.do(http.MethodPost, "/draft/publish", apitype.PublishBody{Despite: true}, nil)
	w.asks(g, ask, "FAIL")
	if d := w.road(w.attempts("reason=emergency.sealed", 2)[0].ID); !strings.Contains(d.Trace.Sentence,
		"it is not for bench-1, but for those where client.site is harbour-house") {
		t.Errorf("elsewhere: %s", d.Trace.Sentence)
	}
}

// Somebody signs in to the stand-ins as at a real device: on each in its own way, and everything is asked about and
// recorded.
func TestTheLabsDevicesHaveAShell(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	kit, err := lab.Outfit(context.Background(), w.api)
	if err != nil {
		t.Fatal(err)
	}
	for device, typed := range map[string][2]string{
		"hh-router-1": {"n.pryce", "show version;reload;disable;enable;harbour-n.pryce;configure " +
			"terminal;interface eth2;exit;exit"},
		"hh-firewall-1": {"n.pryce", "show users;exit"},
		"hh-core-1":     {"n.pryce", "show clock;exit"},
		"np-switch-1":   {"nobody", ";nobody;;nobody;"},
	} {
		var out strings.Builder
		lines := append([]string{typed[0], "harbour-" + typed[0]}, strings.Split(typed[1], ";")...)
		g, err := lab.Gear(device, w.tacacs, w.tacacsTLS, func() (*tls.Config, error) { return kit.FirewallTLS(), nil })
		if err != nil {
			t.Fatal(err)
		}
		if device == "hh-core-1" {
			code, _, err := lab.PhoneCode(typed[0], time.Now())
			if err != nil {
				t.Fatal(err)
			}
			lines = slices.Insert(lines, 2, code)
		}
		shell := lab.Shell{Name: device, Kind: "device", Gear: g, Out: &out, From: "192.0.2.99",
			In: bufio.NewReader(strings.NewReader(strings.Join(lines, "\n") + "\n"))}
		err = shell.Run(context.Background())
		g.Close()
		wants := map[string][]string{"hh-router-1": {"software 2026.11", "% Not permitted.", "hh-router-1>",
			"hh-router-1(config-eth2)#"}, "hh-firewall-1": {"from 192.0.2.99, level 15"},
			"hh-core-1": {"One-time code: ", "hh-core-1# show clock"}, "np-switch-1": {"Access denied."}}[device]
		for _, want := range wants {
			if !strings.Contains(out.String(), want) {
				t.Errorf("%s says\n%s\nwhich lacks %q (%v)", device, out.String(), want, err)
			}
		}
		if (err != nil) != (device == "np-switch-1") {
			t.Errorf("%s ends with %v", device, err)
		}
	}
	kinds := map[string]int{}
	for _, e := range w.entries("client=hh-router-1", 12) {
		kinds[e.Kind+" "+e.Verdict]++
	}
	for kind, n := range map[string]int{"login admitted": 1, "shell admitted": 1, "start ": 1, "enable admitted": 1,
		"command refused": 1, "command admitted": 3, "stop ": 4} {
		if kinds[kind] != n {
			t.Errorf("%d of %q in the journal, want %d: %v", kinds[kind], kind, n, kinds)
		}
	}
}
