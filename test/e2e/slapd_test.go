package e2e

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

const people = `dn: dc=lanternferries,dc=example
objectClass: dcObject
objectClass: organization
o: Lantern Ferries
dc: lanternferries

dn: ou=people,dc=lanternferries,dc=example
objectClass: organizationalUnit
ou: people

dn: ou=groups,dc=lanternferries,dc=example
objectClass: organizationalUnit
ou: groups

dn: cn=tollgate,dc=lanternferries,dc=example
objectClass: organizationalRole
objectClass: simpleSecurityObject
cn: tollgate
userPassword: beacon-and-buoy

dn: uid=s.lodge,ou=people,dc=lanternferries,dc=example
objectClass: inetOrgPerson
objectClass: posixAccount
uid: s.lodge
cn: Sunniva Lodge
sn: Lodge
mail: s.lodge@lanternferries.example
departmentNumber: 20
uidNumber: 1001
gidNumber: 500
homeDirectory: /home/s.lodge
userPassword: harbour-s.lodge

dn: uid=k.nance,ou=people,dc=lanternferries,dc=example
objectClass: inetOrgPerson
objectClass: shadowAccount
uid: k.nance
cn: Kaia (Nance) * \5C
sn: Nance
shadowExpire: 100
userPassword: harbour-k.nance

dn: uid=n.nobody,ou=people,dc=lanternferries,dc=example
objectClass: inetOrgPerson
uid: n.nobody
cn: Nobody
sn: Nobody

dn: uid=twin1,ou=people,dc=lanternferries,dc=example
objectClass: inetOrgPerson
uid: twin1
cn: Twin
sn: Twin
mail: twin@lanternferries.example

dn: uid=twin2,ou=people,dc=lanternferries,dc=example
objectClass: inetOrgPerson
uid: twin2
cn: Twin
sn: Twin
mail: twin@lanternferries.example

dn: cn=Ticketing,ou=groups,dc=lanternferries,dc=example
objectClass: groupOfNames
cn: Ticketing
member: uid=s.lodge,ou=people,dc=lanternferries,dc=example

dn: cn=Shore Staff,ou=groups,dc=lanternferries,dc=example
objectClass: groupOfNames
cn: Shore Staff
member: cn=Ticketing,ou=groups,dc=lanternferries,dc=example
member: cn=Ring,ou=groups,dc=lanternferries,dc=example

dn: cn=Ring,ou=groups,dc=lanternferries,dc=example
objectClass: groupOfUniqueNames
cn: Ring
uniqueMember: cn=Shore Staff,ou=groups,dc=lanternferries,dc=example

dn: cn=watch,ou=groups,dc=lanternferries,dc=example
objectClass: posixGroup
cn: watch
gidNumber: 700
memberUid: s.lodge

dn: cn=main,ou=groups,dc=lanternferries,dc=example
objectClass: posixGroup
cn: main
gidNumber: 500
`

// slapd is a real directory server.
type slapd struct {
	ldap, ldaps string
	ca          *lab.Authority
	cmd         *exec.Cmd
}

// pemFiles writes ca.pem, cert.pem and key.pem of a server into a directory.
func pemFiles(t *testing.T, dir string, ca *lab.Authority, names ...string) {
	t.Helper()
	certificate, err := ca.Server(time.Now().AddDate(1, 0, 0), names...)
	if err != nil {
		t.Fatal(err)
	}
	key, err := x509.MarshalPKCS8PrivateKey(certificate.Certificates[0].PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string][]byte{"ca.pem": []byte(ca.PEM),
		"cert.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
			Bytes: certificate.Certificates[0].Certificate[0]}),
		"key.pem": pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

func startSlapd(t *testing.T) *slapd { return startSlapdWith(t, "", "") }

// startSlapdWith starts it with further entries, further lines of its database, and settings of the server.
func startSlapdWith(t *testing.T, entries, lines string, settings ...string) *slapd {
	t.Helper()
	global := strings.Join(settings, "\n")
	need(t, "/usr/sbin/slapd", "/usr/sbin/slapadd")
	dir := t.TempDir()
	s := &slapd{}
	var err error
	if s.ca, err = lab.NewAuthority("Test authority"); err != nil {
		t.Fatal(err)
	}
	pemFiles(t, dir, s.ca, "localhost", "127.0.0.1")
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("people.ldif", people+"\n"+entries)
	os.Mkdir(filepath.Join(dir, "db"), 0o700)
	write("slapd.conf", fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile %[1]s/pid
%[3]s
TLSCACertificateFile %[1]s/ca.pem
TLSCertificateFile %[1]s/cert.pem
TLSCertificateKeyFile %[1]s/key.pem
database mdb
suffix "dc=lanternferries,dc=example"
directory %[1]s/db
maxsize 268435456
%[2]s
access to attrs=userPassword by anonymous auth by * none
access to dn.base="" by * read
access to * by dn.exact="cn=tollgate,dc=lanternferries,dc=example" read by * none
`, dir, lines, global))
	if out, err := exec.Command("/usr/sbin/slapadd", "-q", "-f", dir+"/slapd.conf", "-l",
		dir+"/people.ldif").CombinedOutput(); err != nil {
		t.Fatalf("slapadd: %v\n%s", err, out)
	}
	s.ldap, s.ldaps = freePort(t), freePort(t)
	s.cmd = exec.Command("/usr/sbin/slapd", "-d", "0", "-f", dir+"/slapd.conf", "-h", "ldap://"+s.ldap+" ldaps://"+
		s.ldaps)
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.cmd.Process.Kill(); s.cmd.Wait() })
	for range 200 {
		if c, err := net.Dial("tcp", s.ldaps); err == nil {
			c.Close()
			return s
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatal("slapd did not start")
	return nil
}

// input is a directory that works.
func (s *slapd) input(change func(*apitype.DirectoryInput)) apitype.DirectoryInput {
	in := apitype.DirectoryInput{BindPassword: "beacon-and-buoy",
		DirectoryFields: apitype.DirectoryFields{Name: "PIER", Kind: "generic", Servers: []string{s.ldaps},
			TLS: "ldaps", CA: s.ca.PEM,
			BindName: "cn=tollgate,dc=lanternferries,dc=example", Attributes: []string{"departmentNumber"},
			TimeoutMillis: 2000}}
	if change != nil {
		change(&in)
	}
	return in
}

func TestRealDirectory(t *testing.T) {
	s := startSlapdWith(t, "", "access to attrs=userPassword by self =xw by anonymous auth by * none\naccess to * by "+
		"* read\n")
	w := start(t)
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil)
	w.do(http.MethodPost, "/directories", s.input(nil), nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "shore", Forms: []config.Form{{Kind: config.Bare},
		{Kind: config.Suffix, Value: "lanternferries.example"}}, Rewrite: "{name}",
		Lookup: []config.Lookup{{Store: "PIER", Unreachable: config.Refuse}}}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "ticketing", VLAN: "20"}, nil)
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Wired", When: "always", Methods: []string{"pap"},
		Policies: []*config.Policy{
			{Name: "Shore", Enabled: true,
				When: `group is "Shore Staff" and group is watch and group is main and group is Ring and person.departmentNumber is 20`, Outcome: config.Admit, Pass: "ticketing"}}}, nil)
	w.publish()
	reply, err := w.ask(func(r *trial.Request) {
		r.User, r.Password = "s.lodge@lanternferries.example",
			"harbour-s.lodge"
	})
	if err != nil || !reply.Accepted || reply.Attributes[2].Value != "20" {
		w.wants(0, []string{"attempt", "explain"})
		t.Fatalf("%+v, %v", reply, err)
	}
	for _, c := range []struct{ user, password, reason string }{
		{"s.lodge", "wrong", "password.wrong"}, {"s.lodge", "", "password.empty"}, {"nobody", "x", "person.unknown"},
		{"k.nance", "harbour-k.nance", "person.expired"},
		{"n.nobody", "x", "password.wrong"}, {"*", "x", "person.unknown"}, {"s.lodge)(uid=*", "harbour-s.lodge",
			"person.unknown"}, {`s\2elodge`, "x", "realm.none"},
	} {
		if reply, err := w.ask(func(r *trial.Request) { r.User, r.Password = c.user, c.password }); err != nil ||
			reply.Accepted {
			t.Errorf("%s: %+v, %v", c.user, reply, err)
		}
		w.attempts("reason="+c.reason, 1)
	}
	w.wants(1, []string{"directory", "find", "PIER", "twin@lanternferries.example"}, "matches more than one")
	w.wants(0, []string{"directory", "find", "PIER", "s.lodge"}, "Shore Staff", "Ring", "departmentNumber")
	w.wants(0, []string{"directory", "groups", "PIER", "staff"}, "Shore Staff")
	w.wants(0, []string{"directory", "test", "PIER", "-person", "s.lodge"}, "Sunniva Lodge, 5 groups", "TLS 1.3")
	// A person changes the password from gear, by the operation of RFC 3062.
	w.do(http.MethodPut, "/clients/np-switch-1", apitype.ClientInput{TACACSSecret: gearSecret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil, matchAny)
	w.publish()
	g := w.device(false)
	w.asks(g, trial.GearAsk{Ask: "password", User: "s.lodge", Password: "wrong", New: "beacon-s.lodge"}, "FAIL")
	w.asks(g, trial.GearAsk{Ask: "password", User: "s.lodge", Password: "harbour-s.lodge", New: "beacon-s.lodge"},
		"PASS")
	w.asks(g, trial.GearAsk{Ask: "login", User: "s.lodge", Password: "harbour-s.lodge"}, "FAIL")
	w.asks(g, trial.GearAsk{Ask: "login", User: "s.lodge", Password: "beacon-s.lodge"}, "PASS")
	w.asks(g, trial.GearAsk{Ask: "password", User: "s.lodge", Password: "beacon-s.lodge", New: "harbour-s.lodge"},
		"PASS")
	// The server goes away, and comes back, between two attempts.
	s.cmd.Process.Kill()
	s.cmd.Wait()
	if reply, err := w.ask(func(r *trial.Request) {
		r.User, r.Password, r.Timeout = "s.lodge", "harbour-s.lodge",
			5*time.Second
	}); err != nil || reply.Accepted {
		t.Errorf("without the directory: %+v, %v", reply, err)
	}
	found := w.attempts("reason=directory.unreachable", 1)
	w.wants(0, []string{"attempt", "explain", found[0].ID}, "refuses the connection", "Realm shore refuses")
}

func TestDirectoryTestExplainsEachFault(t *testing.T) {
	s := startSlapd(t)
	w := start(t)
	other, err := lab.NewAuthority("Another authority")
	if err != nil {
		t.Fatal(err)
	}
	closed := freePort(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	cases := []struct {
		name, step, says string
		change           func(*apitype.DirectoryInput)
	}{
		{"works", "", "", nil},
		{"starttls", "", "", func(d *apitype.DirectoryInput) { d.TLS, d.Servers = "starttls", []string{s.ldap} }},
		{"bare bind name without rights to search", "bind", "not a DN", func(d *apitype.DirectoryInput) {
			d.BindName = "tollgate"
		}},
		{"unknown host", "resolve", "not known to DNS|did not answer", func(d *apitype.DirectoryInput) {
			d.Servers = []string{"dc9.lanternferries.example"}
		}},
		{"nothing listens", "connect", "refuses the connection", func(d *apitype.DirectoryInput) {
			d.Servers = []string{closed}
		}},
		{"silent server", "tls", "did not answer in time", func(d *apitype.DirectoryInput) {
			d.Servers, d.TimeoutMillis = []string{silent.Addr().String()}, 300
		}},
		{"ldaps to a plain port", "tls", "does not speak TLS|closed the connection", func(d *apitype.DirectoryInput) {
			d.Servers = []string{s.ldap}
		}},
		{"starttls to a TLS port", "tls", "port 389|closed", func(d *apitype.DirectoryInput) {
			d.TLS, d.Servers = "starttls", []string{s.ldaps}
		}},
		{"another authority", "tls", "is not trusted", func(d *apitype.DirectoryInput) { d.CA = other.PEM }},
		{"no authority", "tls", "is not trusted", func(d *apitype.DirectoryInput) { d.CA = "" }},
		{"nonsense authority", "tls", "not a PEM certificate", func(d *apitype.DirectoryInput) { d.CA = "hello" }},
		{"another name", "tls", "is for other names: localhost, 127.0.0.1", func(d *apitype.DirectoryInput) {
			d.ServerName = "dc1.lanternferries.example"
		}},
		{"wrong password", "bind", "name or password of cn=tollgate", func(d *apitype.DirectoryInput) {
			d.BindPassword = "wrong"
		}},
		{"unknown account", "bind", "is wrong", func(d *apitype.DirectoryInput) {
			d.BindName = "cn=x,dc=lanternferries,dc=example"
		}},
		{"base that does not exist", "base", "Use one of: dc=lanternferries,dc=example",
			func(d *apitype.DirectoryInput) { d.Base = "dc=lantern,dc=example" }},
		{"mistyped base", "base", "does not exist|not a DN", func(d *apitype.DirectoryInput) {
			d.Base = "lanternferries"
		}},
		{"port and mode", "input", "speaks plain LDAP", func(d *apitype.DirectoryInput) {
			d.Servers = []string{"127.0.0.1:389"}
		}},
	}
	for _, c := range cases {
		step, said, ok := w.testDirectory(s.input(c.change))
		if ok != (c.step == "") || step != c.step {
			t.Errorf("%s: ok %v, failed at %q saying %q; wanted %q", c.name, ok, step, said, c.step)
			continue
		}
		fits := false
		for _, part := range strings.Split(c.says, "|") {
			fits = fits || strings.Contains(said, part)
		}
		if !fits {
			t.Errorf("%s says %q, wanted %q", c.name, said, c.says)
		}
	}
}

// testDirectory runs the test of a directory as typed and returns the step that failed and what it said.
func (w *world) testDirectory(in apitype.DirectoryInput) (step, said string, ok bool) {
	w.t.Helper()
	steps := w.stream("/directory-test", apitype.DirectoryTest{DirectoryInput: in})
	for _, s := range steps {
		if s["state"] == "fail" {
			step, said = fmt.Sprint(s["key"]), fmt.Sprint(s["detail"], ". ", s["remedy"])
		}
		if v, has := s["ok"]; has {
			ok = v == true
		}
	}
	return step, said, ok
}

func TestFailoverInOrder(t *testing.T) {
	s := startSlapd(t)
	w := start(t)
	closed := freePort(t)
	w.do(http.MethodPost, "/directories", s.input(func(d *apitype.DirectoryInput) {
		d.Servers = []string{closed, s.ldaps}
	}), nil)
	w.wants(0, []string{"directory", "find", "PIER", "s.lodge"}, "Sunniva Lodge")
	out := w.wants(0, []string{"directory", "test", "PIER"}, "refuses the connection", "Count people")
	if !strings.Contains(out, "- Connect") {
		t.Errorf("the test hides the server that is down:\n%s", out)
	}
}

func TestStoredPasswordIsSentOnlyWhereItBelongs(t *testing.T) {
	s := startSlapd(t)
	w := start(t)
	var saved apitype.Saved[apitype.Directory]
	w.do(http.MethodPost, "/directories", s.input(nil), &saved)
	got := make(chan []byte, 1)
	thief, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer thief.Close()
	go func() {
		c, err := thief.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		buf := make([]byte, 1000)
		c.SetReadDeadline(time.Now().Add(time.Second))
		n, _ := c.Read(buf)
		got <- buf[:n]
	}()
	in := s.input(func(d *apitype.DirectoryInput) {
		d.BindPassword, d.TLS, d.Servers, d.TimeoutMillis = "", "plain", []string{thief.Addr().String()}, 500
	})
	w.stream("/directory-test", apitype.DirectoryTest{DirectoryInput: in, ID: saved.Object.ID})
	select {
	case data := <-got:
		if strings.Contains(string(data), "beacon-and-buoy") {
			t.Error("the stored password was sent to a server it does not belong to")
		}
	case <-time.After(time.Second):
	}
}

// A directory that closes idle connections, and a group of 50,000 members, hold nobody up.
func TestIdleConnectionsAndAHugeGroup(t *testing.T) {
	var ldif strings.Builder
	ldif.WriteString("dn: cn=Everybody,ou=groups,dc=lanternferries,dc=example\nobjectClass: groupOfNames\ncn: " +
		"Everybody\nmember: cn=Ticketing,ou=groups,dc=lanternferries,dc=example\n")
	for i := range 50_000 {
		fmt.Fprintf(&ldif, "member: uid=m%05d,ou=people,dc=lanternferries,dc=example\n", i)
	}
	s := startSlapdWith(t, ldif.String()+"\n", "index objectClass,member eq", "idletimeout 1")
	w := start(t)
	in := s.input(func(in *apitype.DirectoryInput) { in.Name = "LANTERN" })
	w.shore(in, `group is Everybody`)
	for range 3 { // slapd looks for idle connections every few seconds at most
		begun := time.Now()
		if got := w.vlan("s.lodge", "harbour-s.lodge"); got != "20" || time.Since(begun) > time.Second {
			t.Errorf("a member through a group of it: %s after %v", got, time.Since(begun))
		}
		time.Sleep(2500 * time.Millisecond)
	}
	var page apitype.Groups
	w.do(http.MethodGet, "/directories/LANTERN/groups?q=every", nil, &page)
	if len(page.Items) != 1 {
		t.Errorf("listing the groups: %+v", page)
	}
}
