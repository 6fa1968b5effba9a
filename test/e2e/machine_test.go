package e2e

import (
	"context"
	"crypto/tls"
	"net/http"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// office is the demo with a lane that asks for people on our own computers.
func office(t *testing.T, when string) (*world, *lab.Kit) {
	t.Helper()
	w := lantern(t)
	kit, err := lab.Outfit(context.Background(), w.api)
	if err != nil {
		t.Fatal(err)
	}
	var lane apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired ports", nil, &lane)
	lane.Methods = []string{"teap-tls", "teap-pap", "eap-tls", "ttls-pap"}
	lane.TLS.Prove = "both"
	lane.RejectDelayMillis = 0
	lane.Policies = []*config.Policy{{Name: "Computers alone", Enabled: true, When: "kind is computer",
		Outcome: config.Admit, Pass: "holding"},
		{Name: "On our machines", Enabled: true, When: `group is Ticketing and ` + when, Outcome: config.Admit,
			Pass: "ticketing"}}
	w.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*"))
	// people with passwords alone are expected too
	w.do(http.MethodPost, "/draft/publish", apitype.PublishBody{Despite: true}, nil)
	return w, kit
}

// plug signs in at a switch of the demo.
func (w *world) plug(mac, method, user, password string, device supplicant.Settings) results.Reply {
	w.t.Helper()
	s := lab.Switches()[0]
	reply, err := trial.Send(context.Background(), trial.Request{Server: w.radius, From: s.Addr, Secret: s.Secret,
		Method: method, User: user, Password: password, Supplicant: device, Timeout: 3 * time.Second, Tries: 1,
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}, {Name: "Calling-Station-Id",
			Value: mac}}})
	if err != nil && reply.Fault == "" {
		w.t.Logf("%s as %s: %v", method, user, err)
	}
	return reply
}

func TestThisPersonOnOneOfOurMachines(t *testing.T) {
	t.Parallel()
	w, kit := office(t, `machine.group is "Office PCs"`)
	device := supplicant.Settings{Roots: kit.Roots, ServerName: lab.ServerName, Outer: "anonymous",
		Machine: kit.Computers[0], MachineIdentity: "host/pc01." + lab.Domain}
	if reply := w.plug("02-00-5E-10-01-01", "teap-pap", "s.lodge", "harbour-s.lodge", device); !reply.Accepted ||
		reply.Keys != "match" {
		t.Errorf("person and machine in one conversation: %+v", reply)
	}
	a := w.newest(1)
	if a.Facts.Machine == nil || a.Facts.Machine.Name != "PC01$" || a.Facts.Person.Name != "s.lodge" ||
		a.Pass != "ticketing" || !a.Facts.Machine.InGroup("Office PCs") {
		t.Errorf("recorded %+v on %+v, pass %s: %s", a.Facts.Person, a.Facts.Machine, a.Pass, a.Trace.Sentence)
	}
	withTLS := device
	withTLS.Certificate = kit.People["s.lodge"]
	if reply := w.plug("02-00-5E-10-01-01", "teap-tls", "s.lodge", "", withTLS); !reply.Accepted {
		t.Errorf("both by certificate: %+v", reply)
	}
	device.Machine, device.MachineIdentity = nil, ""
	if reply := w.plug("02-00-5E-10-01-02", "teap-pap", "s.lodge", "harbour-s.lodge", device); reply.Accepted {
		t.Error("somebody on a machine of his own is admitted")
	}
	if a = w.newest(3); a.Reason != "policy.none" || a.Facts.Machine != nil {
		t.Errorf("refused with %s", a.Reason)
	}
	alone := supplicant.Settings{Roots: kit.Roots, Machine: kit.Computers[1], MachineIdentity: "host/pc02." +
		lab.Domain, Outer: "host/pc02." + lab.Domain}
	if reply := w.plug("02-00-5E-10-01-03", "teap-tls", "", "", alone); !reply.Accepted {
		t.Errorf("a machine at its login screen: %+v", reply)
	}
	if a = w.newest(4); a.Pass != "holding" || a.Facts.Person == nil || a.Facts.Person.Kind != "computer" {
		t.Errorf("the machine alone got %s: %s", a.Pass, a.Trace.Sentence)
	}
	device.MachineIdentity = "host/pc01." + lab.Domain
	device.Machine = kit.People["s.lodge"] // a person's certificate where the computer's is asked for
	if reply := w.plug("02-00-5E-10-01-05", "teap-pap", "s.lodge", "harbour-s.lodge", device); reply.Accepted {
		t.Error("a person's certificate is taken for a computer's")
	}
	if a = w.newest(5); a.Reason != "certificate.no-identity" || a.Facts.Machine != nil {
		t.Errorf("refused with %s", a.Reason)
	}
	other, err := tls.X509KeyPair(w.foreignMachine())
	if err != nil {
		t.Fatal(err)
	}
	device.Machine = &other
	if reply := w.plug("02-00-5E-10-01-04", "teap-pap", "s.lodge", "harbour-s.lodge", device); reply.Accepted {
		t.Error("a machine that the directory does not know is taken")
	}
}

// foreignMachine is a certificate of our authority for a computer that is in no directory.
func (w *world) foreignMachine() (chain, key []byte) {
	var out apitype.NewlyIssued
	w.do(http.MethodPost, "/authorities/Lantern Network/issue",
		apitype.IssueInput{Make: apitype.Make{Names: []string{"stranger." + lab.Domain}}}, &out)
	return []byte(out.Chain), []byte(out.Key)
}

func TestTheMachineWasSeenBefore(t *testing.T) {
	t.Parallel()
	w, kit := office(t, `machine.seen within 8h`)
	mac := "02-00-5E-10-02-01"
	person := supplicant.Settings{Roots: kit.Roots, ServerName: lab.ServerName}
	if reply := w.plug(mac, "ttls-pap", "s.lodge", "harbour-s.lodge", person); reply.Accepted {
		t.Error("admitted before the machine was seen")
	}
	if reply := w.plug(mac, "eap-tls", "host/pc01."+lab.Domain, "", supplicant.Settings{Roots: kit.Roots,
		Certificate: kit.Computers[0]}); !reply.Accepted {
		t.Errorf("the machine itself: %+v", reply)
	}
	if reply := w.plug(mac, "ttls-pap", "s.lodge", "harbour-s.lodge", person); !reply.Accepted {
		t.Errorf("after the machine was seen: %+v", reply)
	}
	if reply := w.plug("02-00-5E-10-02-02", "ttls-pap", "s.lodge", "harbour-s.lodge", person); reply.Accepted {
		t.Error("admitted from another address")
	}
	if a := w.newest(4); a.Facts.MachineSeen != nil {
		t.Errorf("another address has seen %+v", a.Facts.MachineSeen)
	}
	w.app.Stop() // it is remembered over a restart
	w.boot()
	if reply := w.plug(mac, "ttls-pap", "s.lodge", "harbour-s.lodge", person); !reply.Accepted {
		t.Errorf("after a restart: %+v", reply)
	}
}

func TestFaultsOfLaptopsAreTold(t *testing.T) {
	t.Parallel()
	w, kit := office(t, "always")
	mac := "02-00-5E-10-03-01"
	for i, c := range []struct {
		method, user, reason string
		device               supplicant.Settings
	}{
		{"eap-tls", kit.ExpiredOf.User, "certificate.expired", supplicant.Settings{Certificate: kit.Expired}},
		{"eap-tls", kit.RevokedOf.User, "certificate.revoked", supplicant.Settings{Certificate: kit.Revoked}},
		{"ttls-pap", "s.lodge", "tls.peer-distrusts", supplicant.Settings{Roots: kit.Wrong}},
		{"eap-tls", "s.lodge", "tls.no-common-version", supplicant.Settings{Certificate: kit.People["s.lodge"],
			MinTLS: tls.VersionTLS10, MaxTLS: tls.VersionTLS11}},
		{"eap-tls", "s.lodge", "certificate.missing", supplicant.Settings{}},
	} {
		if reply := w.plug(mac, c.method, c.user, "harbour-"+c.user, c.device); reply.Accepted {
			t.Errorf("%s is admitted", c.reason)
		}
		if a := w.newest(i + 1); a.Reason != c.reason || a.Trace.Remedy == "" {
			t.Errorf("wanted %s, got %s: %s", c.reason, a.Reason, a.Trace.Sentence)
		}
	}
}

// MAC bypass in all its forms, and what is none.
func TestMACBypass(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	w.do(http.MethodPost, "/devices", apitype.DeviceFields{Match: "02:00:5e:80:00:*", Name: "printers",
		Tags: map[string]string{"kind": "printer"}, Enabled: true}, nil)
	past := time.Now().Add(-time.Hour)
	w.do(http.MethodPost, "/devices", apitype.DeviceFields{Match: "02:00:5e:80:00:99", Name: "lent", Enabled: true,
		Expires: &past}, nil)
	n := 0
	try := func(want string, change func(r *trial.Request), attributes ...results.Attribute) {
		t.Helper()
		r := trial.Request{Server: w.radius, Secret: secret, Method: "mac", User: "02005e800001",
			Timeout: 2 * time.Second, Tries: 1,
			Attributes: append([]results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}, attributes...)}
		if change != nil {
			change(&r)
		}
		reply, err := trial.Send(context.Background(), r)
		n++
		a := w.newest(n)
		got := a.Reason
		if err != nil || reply.Accepted != (want == "ok") || got != want {
			t.Errorf("%+v: wanted %s, got %s (%s): %v", r, want, got, a.Trace.Sentence, err)
		}
		if want == "ok" && (a.VLAN != "80" || a.Facts.Method != "mac" || a.Facts.Service != "call-check" ||
			a.Facts.Person.Store != "devices") {
			t.Errorf("recorded as %+v", a.Attempt)
		}
	}
	from := results.Attribute{Name: "Calling-Station-Id", Value: "02-00-5E-80-00-01"}
	for _, form := range []string{"02005e800001", "02:00:5e:80:00:01", "02-00-5E-80-00-01", "0200.5e80.0001"} {
		for _, bypass := range []string{"pap", "chap", "eap-md5"} {
			try("ok", func(r *trial.Request) { r.User, r.Bypass = form, bypass }, from)
		}
	}
	try("ok", nil, results.Attribute{Name: "Service-Type", Value: "Call-Check"}) // without Calling-Station-Id
	try("device.mismatch", nil, results.Attribute{Name: "Calling-Station-Id", Value: "02-00-5E-10-00-66"})
	try("device.mismatch", func(r *trial.Request) { r.Bypass = "eap-md5" },
		results.Attribute{Name: "Calling-Station-Id", Value: "02-00-5E-10-00-66"})
	try("device.expired", func(r *trial.Request) { r.User = "02005e800099" },
		results.Attribute{Name: "Calling-Station-Id", Value: "02-00-5E-80-00-99"})
	try("device.unknown", func(r *trial.Request) { r.User = "02005e990001" },
		results.Attribute{Name: "Calling-Station-Id", Value: "02-00-5E-99-00-01"})
	try("person.unknown", nil) // neither an address nor a Call-Check: just a name
	var unknown apitype.Page[apitype.UnknownDevice]
	w.do(http.MethodGet, "/unknown-devices", nil, &unknown)
	if len(unknown.Items) != 1 || unknown.Items[0].MAC != "02-00-5E-99-00-01" ||
		unknown.Items[0].Client != "np-switch-1" {
		t.Fatalf("unknown devices %+v", unknown.Items)
	}
	w.do(http.MethodPost, "/devices", apitype.DeviceFields{Match: unknown.Items[0].MAC,
		Tags: map[string]string{"kind": "printer"}, Enabled: true}, nil)
	try("ok", func(r *trial.Request) { r.User = "02005e990001" }, results.Attribute{Name: "Calling-Station-Id",
		Value: "02-00-5E-99-00-01"})
	w.do(http.MethodGet, "/unknown-devices", nil, &unknown)
	if len(unknown.Items) != 0 {
		t.Errorf("still unknown: %+v", unknown.Items)
	}
	w.refused(422, http.MethodPost, "/devices", apitype.DeviceFields{Match: "02005e990001"},
		"another device has this address")
	w.refused(422, http.MethodPost, "/devices", apitype.DeviceFields{Match: "printer"}, "match",
		"neither a MAC address nor a prefix")
}
