package config

import (
	"slices"
	"strings"
	"testing"
)

// pemText is a certificate that only tests know, of an authority named "Lantern test authority".
const pemText = `-----BEGIN CERTIFICATE-----
MIIBljCCAT2gAwIBAgIUTH5B25Vo7/04aNvSYc/je/9s208wCgYIKoZIzj0EAwIw
ITEfMB0GA1UEAwwWTGFudGVybiB0ZXN0IGF1dGhvcml0eTAeFw0yNjExMjMxMDM5
MDdaFw00NjExMTgxMDM5MDdaMCExHzAdBgNVBAMMFkxhbnRlcm4gdGVzdCBhdXRo
b3JpdHkwWTATBgcqhkjOPQIBBggqhkjOPQMBBwNCAAQeHQbJgiqLUdfr00PW+Xbr
hOzrzg9c8SUtb0mR3iteqp73Z6xpUvHNm10ZUrqMr0LKpIxfKuPWGfkwCHJcT7Nc
o1MwUTAdBgNVHQ4EFgQU/7vdKXGBdhtAUjlEwqyDxlOQEu0wHwYDVR0jBBgwFoAU
/7vdKXGBdhtAUjlEwqyDxlOQEu0wDwYDVR0TAQH/BAUwAwEB/zAKBggqhkjOPQQD
AgNHADBEAiASkwpG+TAAIt872NF5ODMbWrY+P1DakHcnhtuNTqNgMgIgLpKw+4oU
bae4eOIJHqD8qZ/vskV+s/OBXTCAjYLfbYE=
-----END CERTIFICATE-----`

// tunnelled is a valid configuration whose lane shows a certificate.
func tunnelled() Config {
	c := valid()
	c.Authorities = []*Authority{{ID: "u1", Name: "Lantern", Certificate: pemText, Key: "k"}}
	c.Certificates = []*Certificate{{ID: "s1", Name: "radius", Chain: pemText, Key: "k"}}
	c.Trusts = []*Trust{{ID: "t1", Name: "laptops", Authorities: []string{"lantern"}}}
	c.Realms[0].Lookup = []Lookup{{Store: LocalStore}}
	c.Lanes[0].Methods = []string{"eap-tls", "peap-mschapv2"}
	c.Normalise()
	return c
}

func TestCertificatesAreChecked(t *testing.T) {
	base := tunnelled()
	if problems := base.Check(); len(problems) > 0 {
		t.Fatalf("the valid configuration has %v", problems)
	}
	cases := []struct {
		field, says string
		warning     bool
		change      func(*Config)
	}{
		{"tls.certificate", "there is none", false, func(c *Config) { c.Certificates = nil }},
		{"tls.certificate", `no certificate "other"`, false, func(c *Config) { c.Lanes[0].TLS.Certificate = "other" }},
		{"tls.trust", "there is no trust list for them", false, func(c *Config) { c.Trusts = nil }},
		{"tls.trust", `no trust list "other"`, false, func(c *Config) { c.Lanes[0].TLS.Trust = "other" }},
		{"tls.minimum", `"0.9" is not known`, false, func(c *Config) { c.Lanes[0].TLS.Minimum = "0.9" }},
		{"tls.minimum", "TLS 1.0 is allowed", true, func(c *Config) { c.Lanes[0].TLS.Minimum = "1.0" }},
		{"tls.older[0]", "no-extended-master-secret is allowed", true, func(c *Config) {
			c.Lanes[0].TLS.Older = []string{NoExtendedMasterSecret}
		}},
		{"tls.older[0]", "not an allowance", false, func(c *Config) { c.Lanes[0].TLS.Older = []string{"everything"} }},
		{"tls.binding", "not known", false, func(c *Config) { c.Lanes[0].TLS.Binding = "maybe" }},
		{"tls.prove", "not known", false, func(c *Config) { c.Lanes[0].TLS.Prove = "dog" }},
		{"tls.resumeMinutes", "out of range", false, func(c *Config) { c.Lanes[0].TLS.ResumeMinutes = -1 }},
		{"chain", "cannot be read", false, func(c *Config) {
			c.Certificates[0].Chain = strings.Replace(pemText, "MII", "MIA", 1)
		}},
		{"chain", "there is no certificate", false, func(c *Config) { c.Certificates[0].Chain = "" }},
		{"chain", "not been answered", true, func(c *Config) {
			c.Certificates[0].Chain, c.Certificates[0].Request = "",
				"x"
		}},
		{"key", "no private key", false, func(c *Config) { c.Certificates[0].Key = "" }},
		{"certificate", "one certificate and its key", false, func(c *Config) { c.Authorities[0].Certificate = "" }},
		{"authorities", "empty", false, func(c *Config) { c.Trusts[0].Authorities = nil }},
		{"authorities[0]", `no authority "x"`, false, func(c *Config) { c.Trusts[0].Authorities = []string{"x"} }},
		{"identity[0]", "not a field", false, func(c *Config) { c.Trusts[0].Identity = []string{"face"} }},
		{"unanswered", "neither", false, func(c *Config) { c.Trusts[0].Unanswered = "shrug" }},
		{"crls[0]", "neither an http address nor a file", false, func(c *Config) {
			c.Trusts[0].CRLs = []string{"ftp://x"}
		}},
		{"ocsp", "not an http address", false, func(c *Config) { c.Trusts[0].OCSP = "x" }},
		{"crls", "no revocation source", true, func(c *Config) { c.Trusts[0].PEM = pemText }},
		{"methods[1]", "cannot be checked for people of directory LANTERN", true, func(c *Config) {
			c.Realms[0].Lookup = []Lookup{{Store: "LANTERN", Unreachable: Refuse}}
		}},
	}
	for _, tc := range cases {
		c := tunnelled()
		tc.change(&c)
		if !slices.ContainsFunc(c.Check(), func(p Problem) bool {
			return p.Field == tc.field && strings.Contains(p.Message, tc.says) && p.Remedy != "" &&
				p.Warning == tc.warning
		}) {
			t.Errorf("wanted %s to say %q (warning %v), got %v", tc.field, tc.says, tc.warning, c.Check())
		}
	}
}

func TestRenamingFollowsCertificates(t *testing.T) {
	c := tunnelled()
	c.Lanes[0].TLS.Certificate, c.Lanes[0].TLS.Trust = "radius", "laptops"
	c.Rename("certificate", "Radius", "new")
	c.Rename("trust", "laptops", "phones")
	c.Rename("authority", "Lantern", "Ferry")
	if c.Lanes[0].TLS.Certificate != "new" || c.Lanes[0].TLS.Trust != "phones" ||
		c.Trusts[0].Authorities[0] != "Ferry" {
		t.Errorf("%+v %+v", c.Lanes[0].TLS, c.Trusts[0])
	}
}

func TestDiffNamesCertificates(t *testing.T) {
	from, to := tunnelled(), tunnelled()
	to.Certificates[0].Chain = ""
	to.Certificates[0].Key = "other"
	to.Lanes[0].TLS.Minimum = "1.3"
	text := ""
	for _, change := range Diff(&from, &to) {
		text += change.Object + ": " + strings.Join(change.Lines, "; ") + "\n"
	}
	if !strings.Contains(text, "CN=Lantern test authority (serial") || !strings.Contains(text, "key changed") ||
		!strings.Contains(text, "TLS minimum 1.3") {
		t.Errorf("the difference reads\n%s", text)
	}
}

func TestMethods(t *testing.T) {
	if len(Methods) != len(AllMethods()) || FindMethod("pap").Exposed == "" || FindMethod("eap-tls").Exposed != "" ||
		FindMethod("nothing") != nil || Title("ttls-pap") != "EAP-TTLS with PAP" || Title("eap") != "EAP" {
		t.Error("the table of methods is not what it was")
	}
	for _, c := range []struct {
		keeps Keeps
		needs Needs
		want  bool
	}{{KeepsHash, NeedsPassword, true}, {KeepsHash, NeedsNTHash, false}, {KeepsNTHash, NeedsNTHash, true},
		{KeepsNTHash, NeedsClear, false}, {KeepsPassword, NeedsClear, true}, {"", NeedsCertificate, true},
		{"", NeedsNTHash, false}} {
		if c.keeps.Serves(c.needs) != c.want {
			t.Errorf("%s serves %s: %v", c.keeps, c.needs, !c.want)
		}
	}
	if text := KeepsHash.Usable(); !strings.Contains(text, "EAP-TTLS with PAP") || strings.Contains(text, "CHAP") {
		t.Errorf("with a hash %s can be used", text)
	}
}
