package facts

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"tollgate.example/key/internal/core/reason"
)

func TestFormatMAC(t *testing.T) {
	for text, want := range map[string]string{
		"02:00:5e:10:7a:31": "02-00-5E-10-7A-31", "0200.5e10.7a31": "02-00-5E-10-7A-31",
		"02005E107A31": "02-00-5E-10-7A-31", "02-00-5E-10-7A-31": "02-00-5E-10-7A-31",
		"02:00:5e:10:7a": "", "02:00:5e:10:7a:31:00": "", "s.lodge": "", "": "", "0g:00:5e:10:7a:31": "",
	} {
		if got, ok := FormatMAC(text); got != want || ok != (want != "") {
			t.Errorf("%q gives %q, %v", text, got, ok)
		}
	}
}

func TestWhere(t *testing.T) {
	for _, c := range []struct {
		f    Facts
		want string
	}{{Facts{SSID: "LF-Crew", Port: "1"}, "LF-Crew"}, {Facts{Port: "1/0/8"}, "port 1/0/8"},
		{Facts{Service: DeviceLogin, Port: "1"}, "login"}, {Facts{PortType: "Virtual"}, "Virtual"}} {
		if got := c.f.Where(); got != c.want {
			t.Errorf("got %q, wanted %q", got, c.want)
		}
	}
}

// full has every field set, with characters that need care.
func full(text string) *Facts {
	return &Facts{At: time.Date(2026, 11, 23, 9, 5, 2, 123456789, time.UTC), Transport: text,
		Present: &Present{Count: 2, Address: netip.MustParseAddr("192.0.2.41"), Hosts: []string{text, "desk"},
			Sources: []string{text}, From: FromOther}, Open: &OpenSessions{3,
			map[string]int{text: 2}, map[string]int{"wired ports": 1, text: 3}},
		Protocol: "radius", Service: Network,
		Client: text, ClientTags: map[string]string{"site": text, "x": ""}, Address: netip.MustParseAddr("2001:db8::7"),
		PortType: "Ethernet", Port: text, SSID: text, MAC: "02-00-5E-10-7A-31", Called: text, NAS: text, Sent: text,
		Method: "pap", Tried: text, Inner: text,
		EAP: &EAP{Rounds: 9, TLS: "TLS 1.3", Suite: text, Resumed: true, Server: text,
			Steps: []Step{{12, "peer", text}}},
		Certificate: &Certificate{Subject: text, Issuer: text, Serial: "0a", Until: time.Date(2027, 1, 2, 3, 4, 5, 0,
			time.UTC), UPN: []string{text}, DNS: []string{"a"}, Email: []string{text}, Trust: text, Source: "upn",
			Revocation: text},
		Device: &Device{ID: text, Name: text, Owner: text, Tags: map[string]string{"kind": text},
			Match: "02-00-5E-*", State: reason.OK},
		Forwarded: &Forwarded{Server: text, Answer: "accept", Detail: text, Micros: 7},
		From:      netip.MustParseAddr("192.0.2.77"), Gear: &Gear{Asks: AsksCommand, Level: 15, Command: text,
			Authenticated: "tacacs", Args: []string{text, "cmd=show"}},
		Factor:      &Factor{Outcome: reason.FactorWrong, By: ByRecovery, Detail: text, Micros: 9},
		Lease:       &Lease{"vpn", netip.MustParseAddr("192.0.2.9")},
		Machine:     &Person{Store: "LANTERN", ID: text, Name: text, Kind: Computer, State: reason.OK},
		Traits:      &Traits{text, text, text},
		MachineSeen: &MachineSeen{text, time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)},
		Attributes:  []Attribute{{"Framed-MTU", "1500"}, {text, text}},
		Lookups: []Lookup{{Store: "LANTERN", Outcome: reason.DirectoryUnreachable, Detail: text, Micros: 17},
			{Store: "local", Outcome: reason.OK}},
		Person: &Person{Store: "local", ID: text, Name: text, Display: text, Kind: Computer, State: reason.OK,
			Groups: []string{text, "Crew"}, Attributes: map[string][]string{"mail": {text, "b"}, text: {}},
			Created: time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)},
		Claimed:    &Person{Store: "local", ID: text, Name: text, Display: text, State: reason.PersonLocked},
		Credential: reason.PasswordWrong, CredentialDetail: text, Spent: Spent{1, 2, 3, 4, 5, 6}}
}

// same fails if the two encoders give different values.
func same(t *testing.T, f *Facts) {
	t.Helper()
	want, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	var a, b any
	got := f.AppendJSON(nil)
	if err := json.Unmarshal(got, &a); err != nil {
		t.Fatalf("%v in %s", err, got)
	}
	json.Unmarshal(want, &b)
	if !reflect.DeepEqual(a, b) {
		t.Errorf("encoded\n%s\nwanted\n%s", got, want)
	}
}

func TestAppendJSONIsWhatTheStandardEncoderGives(t *testing.T) {
	same(t, full("plain"))
	same(t, full("quo\"te \\ back\nline \u2028 ü \xff <&>"))
	same(t, &Facts{})
	same(t, &Facts{Person: &Person{}})
	// A field that is added to the facts and forgotten in AppendJSON shows here.
	v := reflect.ValueOf(full("x")).Elem()
	for i := range v.NumField() {
		if v.Type().Field(i).Tag.Get("json") != "-" && v.Field(i).IsZero() {
			t.Errorf("the test sets no %s", v.Type().Field(i).Name)
		}
	}
}

func FuzzAppendJSON(f *testing.F) {
	f.Add("x")
	f.Add("\x00\"\\")
	f.Fuzz(func(t *testing.T, text string) { same(t, full(text)) })
}

func TestNameAndFamily(t *testing.T) {
	f := Facts{Sent: "anonymous@lanternferries.example", Method: "peap-mschapv2", EAP: &EAP{}}
	if f.Name() != f.Sent || f.Family() != "eap" {
		t.Errorf("name %q, family %q", f.Name(), f.Family())
	}
	f.Inner = "s.lodge"
	if f.Name() != "s.lodge" {
		t.Errorf("name %q", f.Name())
	}
	if (&Facts{Method: "mac", EAP: &EAP{}}).Family() != "mac" || (&Facts{Method: "pap"}).Family() != "pap" {
		t.Error("MAC bypass and PAP are no EAP")
	}
	e := &EAP{}
	for range 2 * MaxSteps {
		e.Add(time.Millisecond, "peer", "x")
	}
	if len(e.Steps) != MaxSteps || e.Steps[0].Micros != 1000 {
		t.Errorf("%d steps", len(e.Steps))
	}
}
