package access

import (
	"fmt"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

// request builds an Access-Request of attributes in text form.
func request(t testing.TB, attributes ...string) radius.Packet {
	t.Helper()
	b := radius.NewRequest(radius.AccessRequest, 1, [16]byte{1}, true)
	for _, a := range attributes {
		name, value, _ := strings.Cut(a, "=")
		entry := dict.ByName(name)
		octets, err := entry.Encode(value)
		if err != nil {
			t.Fatal(err)
		}
		b.Add(entry.Type, octets)
	}
	data, err := b.SignRequest(radius.NewKey([]byte("x")))
	if err != nil {
		t.Fatal(err)
	}
	p, err := radius.Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestFactsOfARequest(t *testing.T) {
	client := &config.Client{Name: "np-wlan-1", Tags: map[string]string{"site": "north-pier"}}
	cases := []struct {
		attributes []string
		want       string
	}{
		{[]string{"User-Name=s.lodge", "User-Password=xxxxxxxxxxxxxxxx", "NAS-Port-Type=Wireless-802.11",
			"Called-Station-Id=02-00-5E-10-00-01:LF-Crew", "Calling-Station-Id=02:00:5e:10:4c:9d"},
			"service=network method=pap port.type=Wireless-802.11 port= ssid=LF-Crew mac=02-00-5E-10-4C-9D " +
				"attributes=[]"},
		{[]string{"User-Name=s.lodge", "NAS-Port-Type=Wireless-802.11", "Called-Station-Id=02:00:5e:10:00:01:LF:Deck"},
			"service=network method= port.type=Wireless-802.11 port= ssid=LF:Deck mac= attributes=[]"},
		{[]string{"User-Name=x", "NAS-Port-Type=Ethernet", "Called-Station-Id=02-00-5E-10-00-01:LF-Crew",
			"NAS-Port=50008"}, "service=network method= port.type=Ethernet port=50008 ssid= mac= " +
			"attributes=[{NAS-Port 50008}]"},
		{[]string{"User-Name=x", "NAS-Port-Id=1/0/8", "NAS-Port=8", "Service-Type=Administrative",
			"CHAP-Password=0x0102"}, "service=device-login method=chap port.type= port=1/0/8 ssid= mac= " +
			"attributes=[{NAS-Port 8} {Service-Type Administrative}]"},
		{[]string{"User-Name=x", "Service-Type=Call-Check", "EAP-Message=0x02010004", "User-Password=xxxxxxxxxxxxxxxx",
			"Calling-Station-Id=+44 555 0100"}, "service=call-check method=eap port.type= port= ssid= mac= " +
			"attributes=[{Service-Type Call-Check} {Calling-Station-Id +44 555 0100}]"},
		{[]string{"User-Name=x", "Proxy-State=p", "State=s", "Vendor-Specific=32473:1:deck",
			"NAS-IPv6-Address=2001:db8::1"}, "service=network method= port.type= port= ssid= mac= " +
			"attributes=[{Vendor-Specific 32473:1:deck} {NAS-IPv6-Address 2001:db8::1}]"},
	}
	for _, c := range cases {
		p := request(t, c.attributes...)
		var f facts.Facts
		Facts(&p, client, nil, &f)
		got := fmt.Sprintf("service=%s method=%s port.type=%s port=%s ssid=%s mac=%s attributes=%v", f.Service,
			f.Method, f.PortType, f.Port, f.SSID, f.MAC, f.Attributes)
		if got != c.want || f.Client != "np-wlan-1" || f.ClientTags["site"] != "north-pier" {
			t.Errorf("%v gives\n%s\nwanted\n%s", c.attributes, got, c.want)
		}
	}
}

func TestCredentialsAreNoFacts(t *testing.T) {
	p := request(t, "User-Name=x", "User-Password=very-secret-1234", "CHAP-Password=0x736563726574",
		"CHAP-Challenge=0x736563726574", "EAP-Message=0x736563726574", "Tunnel-Password=0x736563726574")
	var f facts.Facts
	Facts(&p, &config.Client{}, nil, &f)
	if text := string(f.AppendJSON(nil)); strings.Contains(text, "secret") || strings.Contains(text, "736563") ||
		len(f.Attributes) != 0 {
		t.Errorf("recorded %s", text)
	}
}

func TestRecordedAttributesAreBounded(t *testing.T) {
	list := []string{"User-Name=x"}
	for range 300 {
		list = append(list, "Class=0x01")
	}
	p := request(t, list...)
	var f facts.Facts
	Facts(&p, &config.Client{}, nil, &f)
	if len(f.Attributes) != maxAttributes {
		t.Errorf("%d attributes are recorded", len(f.Attributes))
	}
}

func TestReadable(t *testing.T) {
	for text, want := range map[string]bool{"arctangent": true, "pässword": true, "": true, "a\x01b": false,
		"\xff\xfe": false, "tab\t": false, "del\x7f": false} {
		if Readable([]byte(text)) != want {
			t.Errorf("%q is readable: %v", text, !want)
		}
	}
	// A password opened with the wrong secret is noise; nearly always it shows.
	hits := 0
	right, auth := radius.NewKey([]byte("right")), [16]byte{}
	for i := range 500 {
		auth[0], auth[1] = byte(i), byte(i>>8)
		hidden, _ := right.HidePassword([]byte("gangway-and-rope"), auth)
		clear, _ := radius.NewKey([]byte("wrong")).OpenPassword(nil, hidden, auth)
		if Readable(clear) {
			hits++
		}
	}
	if hits > 10 {
		t.Errorf("%d of 500 wrong secrets go unnoticed", hits)
	}
}

func FuzzFacts(f *testing.F) {
	for _, list := range [][]string{{"User-Name=s.lodge", "NAS-Port-Type=Wireless-802.11",
		"Called-Station-Id=02-00-5E-10-00-01:LF-Crew"}, {"Service-Type=99", "Class=0x00ff"}} {
		p := request(f, list...)
		f.Add(p.Raw())
	}
	client := &config.Client{Name: "c"}
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := radius.Decode(data)
		if err != nil {
			return
		}
		var got facts.Facts
		Facts(&p, client, nil, &got)
		if len(got.Attributes) > maxAttributes || len(got.AppendJSON(nil)) > 64<<10 {
			t.Errorf("%d attributes, %d octets of facts", len(got.Attributes), len(got.AppendJSON(nil)))
		}
	})
}
