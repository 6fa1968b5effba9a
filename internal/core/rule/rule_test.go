package rule

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/facts"
)

func lodge() *facts.Facts {
	return &facts.Facts{Service: "network", Protocol: "radius", Client: "np-switch-1",
		ClientTags: map[string]string{"site": "north-pier", "kind": "switch"},
		Address:    netip.MustParseAddr("192.0.2.11"), PortType: "Ethernet", Port: "1/0/8", MAC: "02-00-5E-10-4C-9D",
		Sent: `LANTERN\s.lodge`, Method: "pap",
		Attributes: []facts.Attribute{{Name: "Framed-MTU", Value: "1500"}},
		Person: &facts.Person{Store: "LANTERN", Name: "s.lodge", Groups: []string{"Ticketing", "Harbour Office"},
			Attributes: map[string][]string{"mail": {"s.lodge@lanternferries.example"}, "department": {"Ticketing"}}}}
}

func TestFits(t *testing.T) {
	cases := map[string]bool{
		"always":                                           true,
		`group is Ticketing`:                               true,
		`group is ticketing`:                               true,
		`group is "Deck Officers"`:                         false,
		`group is not "Deck Officers"`:                     true,
		`group is not Ticketing`:                           false,
		`group in "Deck Officers", "Harbour Office"`:       true,
		`group not in "Deck Officers", "Engine Room"`:      true,
		`group starts Harbour`:                             true,
		`group exists`:                                     true,
		`client.site is north-pier`:                        true,
		`CLIENT.SITE IS NORTH-PIER`:                        true,
		`client.deck exists`:                               false,
		`client is np-switch-1 and port.type is Ethernet`:  true,
		`client is x or port.type is Ethernet`:             true,
		`not client is x`:                                  true,
		`not (client is np-switch-1 or client is x)`:       false,
		`client is x and client is y or port exists`:       true,
		`client is x and (client is y or port exists)`:     false,
		`client.address within 192.0.2.0/24`:               true,
		`client.address within 2001:db8::/32`:              false,
		`client.address is 192.0.2.11`:                     true,
		`client.address not in 192.0.2.11, 192.0.2.12`:     false,
		`mac is 02:00:5e:10:4c:9d`:                         true,
		`mac is 02005E104C9D`:                              true,
		`mac starts 02-00-5E`:                              true,
		`sent contains LODGE`:                              true,
		`sent matches "^lantern\\\\"`:                      true,
		`person.mail ends @lanternferries.example`:         true,
		`person.Mail exists`:                               true,
		`person.manager exists`:                            false,
		`person is s.lodge and store is LANTERN`:           true,
		`attribute.framed-mtu is 1500`:                     true,
		`ssid exists`:                                      false,
		`method is pap and service is not device-login`:    true,
		`not not always`:                                   true,
		`port matches "^1/0/[0-9]$" and called not in a,b`: true,
	}
	f := lodge()
	for text, want := range cases {
		c, err := Parse(text, Person, nil)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := c.Fits(f); got != want {
			t.Errorf("%s fits: %v", text, got)
		}
		again, err := Parse(c.String(), Person, nil)
		if err != nil || again.String() != c.String() || again.Fits(f) != want {
			t.Errorf("%s prints as %s, which is another condition (%v)", text, c, err)
		}
	}
}

func TestCanonical(t *testing.T) {
	for text, want := range map[string]string{
		` GROUP   is  "Ticketing" `:                       `group is Ticketing`,
		`(group is "A B") and (not (client is x))`:        `group is "A B" and not client is x`,
		`(ssid is a or ssid is b) and port exists`:        `(ssid is a or ssid is b) and port exists`,
		`ssid is a or (ssid is b and port exists)`:        `ssid is a or ssid is b and port exists`,
		`ssid in LF-Crew,LF-Deck`:                         `ssid in LF-Crew, LF-Deck`,
		`mac is 0200.5e10.4c9d`:                           `mac is 02-00-5E-10-4C-9D`,
		`client.address within 192.0.2.77/24`:             `client.address within 192.0.2.0/24`,
		`sent is "say \"aye\""`:                           `sent is "say \"aye\""`,
		`group is "and"`:                                  `group is "and"`,
		`not (ssid is a or ssid is b)`:                    `not (ssid is a or ssid is b)`,
		`((((always))))`:                                  `always`,
		`person.Department is x AND Attribute.Class is y`: `person.Department is x and attribute.Class is y`,
	} {
		c, err := Parse(text, Person, nil)
		if err != nil || c.String() != want {
			t.Errorf("%s prints as %v, %v; wanted %s", text, c, err, want)
		}
	}
}

func TestErrorsPointAtTheColumn(t *testing.T) {
	cases := []struct {
		text   string
		column int
		says   string
	}{
		{"", 1, "empty"},
		{"   ", 1, "empty"},
		{"grop is x", 1, "Did you mean group?"},
		{"port.type is Ethernet and grup is x", 27, "Did you mean group?"},
		{"group likes x", 7, "operator"},
		{"group is", 9, "value"},
		{"group is x y", 12, "not expected"},
		{`group is "x`, 10, "not closed"},
		{"(group is x", 12, "not closed"},
		{"group is x)", 11, "not expected"},
		{"group is x, y", 11, "Use in"},
		{"client.address is nowhere", 19, "not an address"},
		{"client.address is 192.0.2.0/24", 19, "Use within"},
		{"client.address starts 192", 16, "address"},
		{"group within 192.0.2.0/24", 7, "not one"},
		{"mac is 12", 8, "MAC"},
		{`sent matches "("`, 14, "pattern"},
		{"and", 1, "field"},
		{"username is x", 1, "Did you mean sent?"},
		{"vlan is 3", 1, "The fields are"},
		{`ssid is "ünï" and grop is x`, 19, "group"},
	}
	for _, c := range cases {
		_, err := Parse(c.text, Person, nil)
		var at *Error
		if !errors.As(err, &at) || at.Column != c.column || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%q: %v; wanted column %d and %q", c.text, err, c.column, c.says)
		}
	}
	if _, err := Parse("group is x", Request, nil); err == nil || !strings.Contains(err.Error(), "not known yet") {
		t.Errorf("a lane may ask for the group: %v", err)
	}
}

func TestBounds(t *testing.T) {
	for name, text := range map[string]string{
		"parentheses": strings.Repeat("(", 5000) + "always" + strings.Repeat(")", 5000),
		"negations":   strings.Repeat("not ", 1999) + "always",
		"length":      strings.Repeat("group is x or ", 1000) + "always",
		"values":      "group in " + strings.Repeat("x,", 1000) + "x",
	} {
		if _, err := Parse(text, Person, nil); err == nil {
			t.Errorf("%s have no bound", name)
		}
	}
}

func TestExplain(t *testing.T) {
	c, _ := Parse(`group is "Deck Officers" and client.site is north-pier`, Person, nil)
	got := c.Explain(lodge())
	if len(got) != 2 || got[0].Fits || got[0].Found != "Ticketing, Harbour Office" || !got[1].Fits ||
		got[1].Wanted != "client.site is north-pier" {
		t.Errorf("explained as %+v", got)
	}
	if uses := c.Uses(); uses["group"][0] != "Deck Officers" || uses["client.site"][0] != "north-pier" {
		t.Errorf("uses %v", uses)
	}
}

func TestFitsDoesNotAllocate(t *testing.T) {
	c, _ := Parse(`group is "Harbour Office" and client.site is north-pier and not (ssid exists or port.type in Virtual, Async)`, Person, nil)
	f := lodge()
	if n := testing.AllocsPerRun(100, func() { c.Fits(f) }); n != 0 {
		t.Errorf("%v allocations", n)
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"always", `group is "A" and not (client.site in x, y)`, `mac is 02-00-5e-10-4c-9d`,
		`sent matches "^a+$"`, `(`, `"`, `person.x exists`} {
		f.Add(text)
	}
	at := lodge()
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Parse(text, Person, nil)
		if err != nil {
			var e *Error
			if !errors.As(err, &e) || e.Column < 1 {
				t.Errorf("%q gives an error without a column: %v", text, err)
			}
			return
		}
		again, err := Parse(c.String(), Person, nil)
		if err != nil || again.String() != c.String() {
			t.Errorf("%q prints as %q, which gives %v", text, c, err)
			return
		}
		if again.Fits(at) != c.Fits(at) {
			t.Errorf("%q decides otherwise when printed", text)
		}
	})
}

// machines is an attempt in which a computer, a certificate and a known device play a part.
func machines() *facts.Facts {
	f := lodge()
	f.At = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	f.Method, f.EAP = "teap-tls", &facts.EAP{TLS: "TLS 1.3"}
	f.Certificate = &facts.Certificate{Subject: "CN=s.lodge", Issuer: "CN=Lantern", Serial: "0a",
		UPN: []string{"s.lodge@lanternferries.example"}, DNS: []string{"a"}, Email: []string{"b"}}
	f.Device = &facts.Device{Name: "copier", Owner: "Kaia Nance", Tags: map[string]string{"kind": "printer"}}
	f.Machine = &facts.Person{Name: "PC17$", Groups: []string{"Office PCs"}, Kind: facts.Computer}
	f.MachineSeen = &facts.MachineSeen{Name: "PC17$", At: f.At.Add(-90 * time.Minute)}
	return f
}

func TestFieldsOfMachinesAndDevices(t *testing.T) {
	f, bare := machines(), lodge()
	for text, want := range map[string]bool{
		`method is eap`: true, `method is teap-tls`: false, `proof is teap-tls`: true, `tls is "TLS 1.3"`: true,
		`kind is person`:                      true,
		`certificate.subject is "CN=s.lodge"`: true, `certificate.issuer contains lantern`: true,
		`certificate.serial is 0a`: true, `certificate.upn ends .example`: true, `certificate.dns exists`: true,
		`certificate.email is b`: true,
		`device is copier`:       true, `device.owner is "kaia nance"`: true, `device.KIND is printer`: true,
		`device.floor exists`: false,
		`machine is PC17$`:    true, `machine.group is "Office PCs"`: true, `machine.seen exists`: true,
		`machine.seen within 2h`: true, `machine.seen within 90m`: true, `machine.seen within 89m`: false,
		`machine.seen within 1d`: true, `not machine.seen within 1h`: true,
	} {
		c, err := Parse(text, Person, nil)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if c.Fits(f) != want {
			t.Errorf("%s fits: %v", text, !want)
		}
		if strings.HasPrefix(text, "not") || strings.HasPrefix(text, "method") || strings.HasPrefix(text, "kind") {
			continue
		}
		if c.Fits(bare) {
			t.Errorf("%s fits without any machine, device or certificate", text)
		}
	}
	bare.Person.Kind = facts.Computer
	for _, text := range []string{`kind is computer`, `machine is s.lodge`} {
		if c, err := Parse(text, Person, nil); err != nil || !c.Fits(bare) {
			t.Errorf("%s does not fit a computer that signs in by itself: %v", text, err)
		}
	}
	for _, wrong := range []string{`machine.seen is 8h`, `machine.seen within soon`, `machine.seen within -1h`,
		`machine.seen within 99999d`, `device within 8h`, `certificate.colour exists`} {
		if _, err := Parse(wrong, Person, nil); err == nil {
			t.Errorf("%s is taken", wrong)
		}
	}
	if _, err := Parse(`machine exists`, Request, nil); err == nil {
		t.Error("a lane may ask for the machine")
	}
}

func TestGivenOnlyThePerson(t *testing.T) {
	f := &facts.Facts{Person: &facts.Person{Name: "s.lodge", Groups: []string{"Ticketing", "Shore Staff"},
		Attributes: map[string][]string{"department": {"Ticketing"}}}}
	for text, want := range map[string]string{
		`group is Ticketing`: "always", `group is Crew`: "", `not group is Crew`: "always", `always`: "always",
		`ssid is LF-Deck`:                        "ssid is LF-Deck",
		`group is Ticketing and ssid is LF-Deck`: "ssid is LF-Deck", `group is Crew and ssid is LF-Deck`: "",
		`group is Crew or ssid is LF-Deck`:                                                           "ssid is LF-Deck",
		`group is Ticketing or ssid is LF-Deck`:                                                      "always",
		`not (group is Crew or ssid is LF-Deck)`:                                                     "not ssid is LF-Deck",
		`(ssid is LF-Deck or port is 3) and person.department is Ticketing and client.site is heron`: "(ssid is LF-Deck or port is 3) and client.site is heron",
	} {
		c, err := Parse(text, Person, nil)
		if err != nil {
			t.Fatal(err)
		}
		fits, rest := c.Given(f)
		if fits {
			rest = "always"
		}
		if rest != want {
			t.Errorf("%s leaves %q, wanted %q", text, rest, want)
		}
	}
}
