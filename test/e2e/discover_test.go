package e2e

import (
	"net"
	"net/http"
	"strings"
	"testing"

	"tollgate.example/key/internal/web/apitype"
)

// A directory is connected knowing only its domain, or a server of it: the servers are found, the safest way is taken,
// the certificate is trusted by its fingerprint, and no password is sent before that.
func TestDiscoverADomain(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	w := start(t)
	out := w.wants(0, []string{"directory", "discover", "Lantern.Example", "-dns", controller},
		"1 for the domain lantern.example", "dc1.lantern.example after", "not trusted yet",
		"Active Directory kind, base DC=lantern,DC=example", "Compare the fingerprint")
	fingerprint := ""
	for line := range strings.Lines(out) {
		if after, ok := strings.CutPrefix(strings.TrimSpace(line), "SHA-256"); ok {
			fingerprint = strings.TrimSpace(after)
		}
	}
	if len(fingerprint) != 95 {
		t.Fatalf("no fingerprint in\n%s", out)
	}
	if out, code := w.run("Harbour-svc-tollgate-1\n", "tollgate", "directory", "discover", "someone@lantern.example",
		"-dns", controller, "-bind", "svc-tollgate", "-password"); code != 0 || !strings.Contains(out,
		"would learn the password") {
		t.Errorf("a server that is not trusted: %d\n%s", code, out)
	}
	w.wants(1, []string{"directory", "discover", "lantern.example", "-dns", controller, "-trust", "00:11", "-add",
		"LANTERN"}, "no server shows a certificate")
	if out, code := w.run("Harbour-svc-tollgate-1\n", "tollgate", "directory", "discover", "lantern.example", "-dns",
		controller, "-bind", `LANTERN\svc-tollgate`, "-password", "-trust", strings.ToLower(fingerprint), "-add",
		"LANTERN"); code != 0 || !strings.Contains(out, `as LANTERN\svc-tollgate`) {
		t.Errorf("trusting by fingerprint: %d\n%s", code, out)
	}
	w.wants(0, []string{"directory", "test", "LANTERN", "-person", "s.lodge"}, "The s.lodge", "named by the server")
	if out, code := w.run("wrong\n", "tollgate", "directory", "discover", "dc1.lantern.example", "-dns", controller,
		"-bind", "svc-tollgate", "-password", "-trust", fingerprint); code != 0 || !strings.Contains(out,
		"the name or password of svc-tollgate@lantern.example is wrong") {
		t.Errorf("a wrong password: %d\n%s", code, out)
	}
	w.wants(0, []string{"directory", "discover", "ldaps://" + controller + "/"}, "dc1.lantern.example",
		"Active Directory kind")
}

func TestDiscoverAServer(t *testing.T) {
	t.Parallel()
	s := startSlapd(t)
	w := start(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	closed := freePort(t)
	for _, c := range []struct {
		text string
		code int
		says []string
	}{
		{s.ldaps, 0, []string{"Try ldaps", "a directory, base dc=lanternferries,dc=example"}},
		{s.ldap, 0, []string{"Try starttls", "works, TLS 1.3", "SHA-256"}},
		{"ldap://" + strings.ToUpper("localhost") + s.ldap[strings.LastIndex(s.ldap, ":"):] + "/", 0,
			[]string{"works, TLS 1.3"}},
		{closed, 1, []string{"refuses the connection", "firewalls"}},
		{silent.Addr().String(), 1, []string{"did not answer in time"}},
		{"two words", 1, []string{"neither a host nor a domain"}},
		{"host:99999", 1, []string{"not a port"}},
		{"nowhere.lanternferries.invalid", 1, []string{"names no directory servers"}},
	} {
		out := w.wants(c.code, []string{"directory", "discover", c.text}, c.says[0])
		for _, says := range c.says[1:] {
			if !strings.Contains(out, says) {
				t.Errorf("%s does not say %q:\n%s", c.text, says, out)
			}
		}
	}
	var saved apitype.Saved[apitype.Directory]
	w.refused(422, http.MethodPost, "/directories", s.input(func(in *apitype.DirectoryInput) { in.Source = "here" }),
		"source")
	w.do(http.MethodPost, "/directories", s.input(func(in *apitype.DirectoryInput) {
		in.Source, in.DNS = "127.0.0.77", "192.0.2.53"
	}), &saved)
	if saved.Object.DNS != "192.0.2.53:53" {
		t.Errorf("the DNS server is %q", saved.Object.DNS)
	}
	w.wants(0, []string{"directory", "test", "PIER"}, "from 127.0.0.77:")
}
