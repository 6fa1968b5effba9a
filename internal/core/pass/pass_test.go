package pass

import (
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/wire/dict"
)

// harbour is a vendor of the documentation's number, with one attribute of each type; wide uses fields of other widths.
var harbour = &config.Vendor{Name: "Harbour", Number: 32473, TypeOctets: 1, LengthOctets: 1,
	Attributes: []config.VendorAttribute{
		{Number: 1, Name: "Harbour-Role", Type: "text"}, {Number: 2, Name: "Harbour-Level", Type: "integer",
			Values: []config.NamedValue{{Number: 7, Name: "deck"}}},
		{Number: 3, Name: "Harbour-Down", Type: "integer", Means: config.RateDown, Unit: 1},
		{Number: 4, Name: "Harbour-Up", Type: "integer64", Means: config.RateUp},
		{Number: 5, Name: "Harbour-Gate", Type: "ipv4addr"},
	}}
var wide = &config.Vendor{Name: "Wide", Number: 99999, TypeOctets: 2, LengthOctets: 2,
	Attributes: []config.VendorAttribute{{Number: 258, Name: "Wide-Key", Type: "octets"}}}
var endless = &config.Vendor{Name: "Endless", Number: 99998, TypeOctets: 4,
	Attributes: []config.VendorAttribute{{Number: 1, Name: "Endless-Note", Type: "text"}}}

func compile(t *testing.T, p *config.Pass) (*Reply, []config.Problem) {
	t.Helper()
	vendors := []*config.Vendor{harbour, wide, endless}
	dictionary, problems := Dictionary(vendors)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return Compile(p, dictionary, vendors)
}

func spelled(texts []results.Text) string {
	var out []string
	for _, a := range texts {
		out = append(out, a.Name+"="+a.Value+":"+a.Hex)
	}
	return strings.Join(out, "; ")
}

func TestCompile(t *testing.T) {
	long := "permit in ip from any to " + strings.Repeat("x", 245)
	for _, c := range []struct {
		pass config.Pass
		want string
	}{
		{config.Pass{}, ""},
		{config.Pass{VLAN: "20"}, "Tunnel-Type=VLAN:40 06 0000000D; Tunnel-Medium-Type=IEEE-802:41 06 00000006; " +
			"Tunnel-Private-Group-ID=20:51 04 3230"},
		{config.Pass{VLAN: "crew"}, "Tunnel-Type=VLAN:40 06 0000000D; Tunnel-Medium-Type=IEEE-802:41 06 00000006; " +
			"Tunnel-Private-Group-ID=crew:51 06 63726577"},
		{config.Pass{SessionTimeout: 3600, Role: "x"}, "Session-Timeout=3600:1B 06 00000E10; Filter-Id=x:0B 03 78"},
		{config.Pass{SessionTimeout: 60, AtTimeout: config.SignInAgain, IdleTimeout: 5},
			"Session-Timeout=60:1B 06 0000003C; Termination-Action=RADIUS-Request:1D 06 00000001; Idle-Timeout=5:1C " +
				"06 00000005"},
		{config.Pass{Address: "192.0.2.9", ReportName: "a", Class: "b"},
			"Framed-IP-Address=192.0.2.9:08 06 C0000209; User-Name=a:01 03 61; Class=b:19 03 62"},
		{config.Pass{Address: "2001:db8::9"}, "Framed-IPv6-Address=2001:db8::9:A8 12 20010DB8000000000000000000000009"},
		{config.Pass{AccessRules: []string{"a", "b"}}, "NAS-Filter-Rule=0x610062:5C 05 610062"},
		{config.Pass{RateDown: 2000, RateUp: 1}, "Harbour-Down=2000:1A 0C 00007ED9 03 06 000007D0; " +
			"Harbour-Up=1000:1A 10 00007ED9 04 0A 00000000000003E8"},
		{config.Pass{Attributes: []config.Attribute{{Name: "class", Value: "a"}, {Name: "Class", Value: "b"}}},
			"Class=a:19 03 61; Class=b:19 03 62"},
		{config.Pass{Attributes: []config.Attribute{{Name: "Vendor-Specific", Value: "32472:1:0x0a"}}},
			"Vendor-Specific=32472:1:0x0a:1A 09 00007ED8 01 03 0A"},
		{config.Pass{Attributes: []config.Attribute{{Name: "harbour-role", Value: "cook"}}},
			"Harbour-Role=cook:1A 0C 00007ED9 01 06 636F6F6B"},
		{config.Pass{Attributes: []config.Attribute{{Name: "Harbour-Level", Value: "deck"}}},
			"Harbour-Level=deck:1A 0C 00007ED9 02 06 00000007"},
		{config.Pass{Attributes: []config.Attribute{{Name: "Wide-Key", Value: "0x0a0b"}}},
			"Wide-Key=0x0a0b:1A 0C 0001869F 0102 0006 0A0B"},
		{config.Pass{Attributes: []config.Attribute{{Name: "Endless-Note", Value: "ab"}}},
			"Endless-Note=ab:1A 0C 0001869E 00000001 6162"},
	} {
		reply, problems := compile(t, &c.pass)
		if got := spelled(reply.Texts()); got != c.want || len(problems) > 0 {
			t.Errorf("%+v becomes\n%s\nwanted\n%s\n%v", c.pass, got, c.want, problems)
		}
	}
	reply, _ := compile(t, &config.Pass{AccessRules: []string{long, "deny in ip from any to any"}})
	list, _ := reply.For(&facts.Facts{})
	if len(list) != 2 || len(list[0].Value) != 253 || string(list[0].Value)+string(list[1].Value) != long+
		"\x00deny in ip from any to any" {
		t.Errorf("long rules come apart as %q", list)
	}
}

func TestTemplates(t *testing.T) {
	p := &config.Pass{VLAN: "{{person.vlan}}", ReportName: `{{person.mail or "nobody"}}`,
		Address: `{{person.ip or 192.0.2.1}}`, Role: "site-{{client.site}}-{{ssid}}",
		Attributes: []config.Attribute{{Name: "Harbour-Level", Value: "{{person.level or 7}}"}, {Name: "Reply-Message",
			Value: "Welcome {{person}}"}}}
	reply, problems := compile(t, p)
	if len(problems) > 0 || !reply.Dynamic() {
		t.Fatal(problems)
	}
	f := &facts.Facts{SSID: "LF-Crew", ClientTags: map[string]string{"site": "heron"},
		Person: &facts.Person{Name: "s.lodge", Attributes: map[string][]string{"vlan": {"20", "30"}, "level": {"3"}}}}
	if got, want := spelled(reply.TextsFor(f)), "Tunnel-Type=VLAN:40 06 0000000D; Tunnel-Medium-Type=IEEE-802:41 06 "+
		"00000006; Tunnel-Private-Group-ID=20:51 04 3230; Filter-Id=site-heron-LF-Crew:0B 14 "+
		"736974652D6865726F6E2D4C462D43726577; "+
		"Framed-IP-Address=192.0.2.1:08 06 C0000201; User-Name=nobody:01 08 6E6F626F6479; Harbour-Level=3:1A 0C "+
		"00007ED9 02 06 00000003; Reply-Message=Welcome s.lodge:12 11 57656C636F6D6520732E6C6F646765"; got != want {
		t.Errorf("filled:\n%s\nwanted\n%s", got, want)
	}
	for what, person := range map[string]*facts.Person{
		"person.vlan of {{person.vlan}} has no value": {Name: "x"},
		"VLAN 5000 does not exist":                    {Name: "x", Attributes: map[string][]string{"vlan": {"5000"}}},
		"is not an address": {Name: "x", Attributes: map[string][]string{"vlan": {"1"},
			"ip": {"here"}}},
		"holds at most 253": {Name: strings.Repeat("x", 300),
			Attributes: map[string][]string{"vlan": {"1"}}},
	} {
		f.Person = person
		if list, err := reply.For(f); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("wanted %q: %v, %v", what, list, err)
		}
	}
}

func TestFaultsOfPasses(t *testing.T) {
	for _, c := range []struct {
		pass          config.Pass
		field, says   string
		columnOrEmpty int
	}{
		{config.Pass{Role: "{{persn.mail}}"}, "role", "there is no field", 3},
		{config.Pass{Role: "a{{person.mail"}, "role", "not closed", 2},
		{config.Pass{Role: "{{person.mail and x}}"}, "role", "only the word or", 15},
		{config.Pass{Role: "{{}}"}, "role", "a field was expected", 3},
		{config.Pass{Address: "nowhere"}, "address", "is not an address", 0},
		{config.Pass{RateDown: 1 << 40}, "rateDown", "takes a number", 0},
		{config.Pass{Attributes: []config.Attribute{{Name: "Harbour-Rule", Value: "x"}}}, "attributes[0].name",
			"there is no attribute", 0},
		{config.Pass{Attributes: []config.Attribute{{Name: "Harbour-Level", Value: "captain"}}}, "attributes[0].value",
			"has no value called", 0},
		{config.Pass{Attributes: []config.Attribute{{Name: "Harbour-Role", Value: strings.Repeat("x", 248)}}},
			"attributes[0].value", "at most 247", 0},
		{config.Pass{Attributes: []config.Attribute{{Name: "User-Password", Value: "x"}}}, "attributes[0].name",
			"is not allowed", 0},
		{config.Pass{VLAN: "7", Attributes: []config.Attribute{{Name: "Tunnel-Type", Value: "VLAN"}}},
			"attributes[0].name", "is made from the VLAN", 0},
		{config.Pass{IdleTimeout: 7, Attributes: []config.Attribute{{Name: "Idle-Timeout", Value: "9"}}},
			"attributes[0].name", "is made from the idle time-out", 0},
	} {
		_, problems := compile(t, &c.pass)
		if len(problems) != 1 || problems[0].Field != c.field || !strings.Contains(problems[0].Message, c.says) ||
			problems[0].Column != c.columnOrEmpty || problems[0].Remedy == "" {
			t.Errorf("%+v: %+v", c.pass, problems)
		}
	}
	_, problems := Dictionary([]*config.Vendor{{Name: "Sly", Number: 7, TypeOctets: 1, LengthOctets: 1,
		Attributes: []config.VendorAttribute{{Number: 1, Name: "Filter-Id", Type: "text"}}}})
	if len(problems) != 1 || problems[0].Field != "attributes[0].name" {
		t.Errorf("a vendor's attribute takes a standard name: %v", problems)
	}
}

func FuzzOpenVendor(f *testing.F) {
	dictionary, _ := Dictionary([]*config.Vendor{harbour, wide, endless})
	f.Add([]byte{0, 0, 0x7e, 0xd9, 1, 6, 'c', 'o', 'o', 'k'})
	f.Add([]byte{0, 1, 0x86, 0x9f, 1, 2, 0, 6, 1, 2})
	f.Add([]byte{0, 1, 0x86, 0x9e, 0, 0, 0, 1, 'a'})
	f.Fuzz(func(t *testing.T, value []byte) {
		parts, ok := dictionary.Open(value)
		if ok != (len(parts) > 0) || len(parts) > len(value) {
			t.Fatalf("%x: %v %v", value, parts, ok)
		}
		dictionary.Spell(dict.VendorSpecific, value)
	})
}

func BenchmarkFor(b *testing.B) {
	dictionary, _ := Dictionary([]*config.Vendor{harbour})
	for name, p := range map[string]*config.Pass{"fixed": {VLAN: "20", SessionTimeout: 3600}, "template": {VLAN: "20",
		ReportName: "{{person}}"}} {
		reply, _ := Compile(p, dictionary, nil)
		f := &facts.Facts{Person: &facts.Person{Name: "s.lodge"}}
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if _, err := reply.For(f); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
