package accounting

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

// request builds an Accounting-Request of attributes in text form.
func request(t testing.TB, attributes ...string) radius.Packet {
	t.Helper()
	b := radius.NewRequest(radius.AccountingRequest, 1, [16]byte{}, false)
	for _, a := range attributes {
		name, value, _ := strings.Cut(a, "=")
		octets, err := dict.ByName(name).Encode(value)
		if err != nil {
			t.Fatal(err)
		}
		b.Add(dict.ByName(name).Type, octets)
	}
	data, err := b.SignFixed(radius.NewKey([]byte("x")))
	if err != nil {
		t.Fatal(err)
	}
	p, err := radius.Decode(data)
	if err != nil || !radius.NewKey([]byte("x")).VerifyFixed(&p) || radius.NewKey([]byte("y")).VerifyFixed(&p) {
		t.Fatalf("the request does not verify: %v", err)
	}
	return p
}

func TestRead(t *testing.T) {
	from, now := netip.MustParseAddr("192.0.2.1"), time.Now()
	for _, c := range []struct {
		attributes []string
		want       string
	}{
		{[]string{"Acct-Status-Type=Start", "Acct-Session-Id=s1", "User-Name=K.Nance", "NAS-Port-Type=Wireless-802.11",
			"Called-Station-Id=02-00-5E-10-00-01:LF-Crew", "Calling-Station-Id=0200.5e10.4c9d", "NAS-Identifier=wlan",
			"NAS-IP-Address=192.0.2.9", "Framed-IP-Address=192.0.2.77"},
			"start s1 K.Nance wlan LF-Crew 02-00-5E-10-4C-9D 192.0.2.77  0 0 0 0s"},
		{[]string{"Acct-Status-Type=Interim-Update", "Acct-Session-Id=s1", "NAS-IP-Address=192.0.2.9", "NAS-Port=7",
			"Acct-Session-Time=60", "Acct-Input-Octets=5", "Acct-Input-Gigawords=1", "Acct-Output-Octets=6",
			"Acct-Delay-Time=9", "Framed-IPv6-Address=2001:db8::7", "Tunnel-Private-Group-ID=3:40"},
			"interim s1  192.0.2.9 7  2001:db8::7 40 60 4294967301 6 9s"},
		{[]string{"Acct-Status-Type=Stop", "Acct-Session-Id=s1", "NAS-Port-Id=1/0/8",
			"Framed-IPv6-Prefix=2001:db8:7::/64",
			"Framed-IP-Address=0.0.0.0", "Acct-Delay-Time=4294967295"},
			"stop s1  192.0.2.1 1/0/8  2001:db8:7::/64  0 0 0 24h0m0s"},
		{[]string{"Acct-Status-Type=Accounting-On"}, "on   192.0.2.1     0 0 0 0s"},
		{[]string{"Acct-Session-Id=s1"}, "no Acct-Status-Type"},
		{[]string{"Acct-Status-Type=Start"}, "no Acct-Session-Id"},
		{[]string{"Acct-Status-Type=99", "Acct-Session-Id=s1"}, "Acct-Status-Type 99 is not known"},
	} {
		p := request(t, c.attributes...)
		got := ""
		if r, err := Read(&p, &config.Client{Name: "c"}, nil, from, now); err != nil {
			got = err.Error()
		} else {
			got = fmt.Sprint(r.Kind, " ", r.Session, " ", r.Who, " ", r.NAS, " ", r.Place, " ", r.MAC, " ", r.Address,
				" ",
				r.Applied, " ", r.Seconds, " ", r.In, " ", r.Out, " ", now.Sub(r.At))
		}
		if got != c.want {
			t.Errorf("%v gives\n%s\nwanted\n%s", c.attributes, got, c.want)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, list := range [][]string{{"Acct-Status-Type=Start", "Acct-Session-Id=s1",
		"Framed-IPv6-Prefix=2001:db8:7::/64"},
		{"Acct-Status-Type=Stop", "Acct-Session-Id=s1", "Class=0x746b00", "Tunnel-Private-Group-ID=3:40"}} {
		p := request(f, list...)
		f.Add(p.Raw())
	}
	client, from := &config.Client{Name: "c"}, netip.MustParseAddr("192.0.2.1")
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := radius.Decode(data)
		if err != nil {
			return
		}
		r, err := Read(&p, client, nil, from, time.Now())
		if err != nil {
			return
		}
		if len(r.Classes) > maxClasses || r.Seconds < 0 || r.In < 0 || len(r.Attributes) > 64<<10 ||
			r.At.After(time.Now()) {
			t.Errorf("%+v", r)
		}
		var list []map[string]string
		if err := json.Unmarshal(r.Attributes, &list); err != nil || len(list) > maxAttributes {
			t.Errorf("%d attributes: %v", len(list), err)
		}
	})
}
