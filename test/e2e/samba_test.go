package e2e

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

const (
	controller = "127.0.0.54"
	domainBase = "DC=lantern,DC=example"
	adminPass  = "Harbour-Master-77"
)

// realController is a real domain controller; stop and start act like a restart.
type realController struct {
	address, dir string
	ca           *lab.Authority
	cmd          *exec.Cmd
	stdin        io.Closer
}

// provisioned is a domain that was made once for all tests; each starts from a copy of it.
var provisioned struct {
	sync.Once
	dir string
	err error
}

func provision() {
	dir, err := os.MkdirTemp("/tmp", "dc") // short, for the paths of its sockets
	if err != nil {
		provisioned.err = err
		return
	}
	provisioned.dir = dir
	os.MkdirAll(filepath.Join(dir, "private"), 0o700)
	for _, sub := range []string{"state", "cache", "lock", "run"} {
		os.MkdirAll(filepath.Join(dir, sub), 0o755)
	}
	file := controllerConf(dir, controller)
	if out, err := exec.Command("samba-tool", "domain", "provision", "--quiet", "-s", file, "--realm=LANTERN.EXAMPLE",
		"--domain=LANTERN", "--server-role=dc", "--host-name=dc1",
		"--host-ip="+controller, "--dns-backend=SAMBA_INTERNAL", "--adminpass="+
			adminPass).CombinedOutput(); err != nil {
		provisioned.err = fmt.Errorf("provisioning: %v\n%s", err, out)
	}
}

// controllerConf writes smb.conf and returns its path.
func controllerConf(dir, address string) string {
	var conf strings.Builder
	fmt.Fprintf(&conf, "[global]\nrealm=LANTERN.EXAMPLE\nworkgroup=LANTERN\nnetbios name=DC1\nserver role=active "+
		"directory domain controller\ninterfaces=%s/8\nbind interfaces only=yes\n", address)
	for name, sub := range map[string]string{"private dir": "private", "state directory": "state",
		"cache directory": "cache", "lock directory": "lock", "pid directory": "run", "ncalrpc dir": "run/ncalrpc",
		"winbindd socket directory": "run/winbindd", "ntp signd socket directory": "run/ntp", "binddns dir": "bind"} {
		fmt.Fprintf(&conf, "%s=%s/%s\n", name, dir, sub)
	}
	fmt.Fprintf(&conf, "posix:eadb=%[1]s/private/eadb.tdb\nntlm auth=mschapv2-and-ntlmv2-only\nserver services=rpc, "+
		"ldap, cldap, kdc, dns\ndns forwarder=\ndns update command=/bin/true\nspn update command=/bin/true\ngpo "+
		"update command=/bin/true\nnsupdate "+
		"command=/bin/true\n[sysvol]\npath=%[1]s/state/sysvol\n[netlogon]\n"+
		"path=%[1]s/state/sysvol/lantern.example/scripts\n", dir)
	file := filepath.Join(dir, "smb.conf")
	if err := os.WriteFile(file, []byte(conf.String()), 0o600); err != nil {
		provisioned.err = err
	}
	return file
}

// startController starts a real domain controller with a new domain. It ends when the test does.
func startController(t *testing.T) *lab.Authority {
	t.Helper()
	return newController(t).ca
}

func newController(t *testing.T) *realController {
	t.Helper()
	need(t, "samba", "samba-tool")
	if os.Getuid() != 0 {
		t.Skip("a domain controller listens on port 389, which needs root")
	}
	if provisioned.Do(provision); provisioned.err != nil {
		t.Fatal(provisioned.err)
	}
	ca, err := lab.NewAuthority("Test authority")
	if err != nil {
		t.Fatal(err)
	}
	return clone(t, provisioned.dir, controller, ca)
}

// clone starts a controller with a copy of the files of another, which is not running, under its own address.
func clone(t *testing.T, from, address string, ca *lab.Authority) *realController {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "dc")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if out, err := exec.Command("cp", "-a", from+"/.", dir).CombinedOutput(); err != nil {
		t.Fatalf("copying a domain controller: %s", out)
	}
	os.RemoveAll(filepath.Join(dir, "run"))
	os.MkdirAll(filepath.Join(dir, "run"), 0o755)
	keys := filepath.Join(dir, "private/tls")
	os.RemoveAll(keys)
	os.MkdirAll(keys, 0o700)
	pemFiles(t, keys, ca, "dc1.lantern.example", address)
	controllerConf(dir, address)
	c := &realController{address: address, dir: dir, ca: ca}
	c.start(t)
	t.Cleanup(c.stop)
	return c
}

func (c *realController) start(t *testing.T) {
	t.Helper()
	c.cmd = exec.Command("samba", "-i", "--no-process-group", "--debug-stdout", "--maximum-runtime=300", "-s",
		filepath.Join(c.dir, "smb.conf"))
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	stdin, err := c.cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	c.stdin = stdin
	if err := c.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for range 300 {
		if one, err := net.Dial("tcp", c.address+":636"); err == nil {
			one.Close()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("the domain controller did not start")
}

// signal sends a signal to all its processes.
func (c *realController) signal(s syscall.Signal) { syscall.Kill(-c.cmd.Process.Pid, s) }

// stop ends it; its children, which hold the same sockets, may end a little later.
func (c *realController) stop() {
	if c.cmd == nil {
		return
	}
	c.stdin.Close()
	c.cmd.Wait()
	for try := range 100 {
		one, err := net.Dial("tcp", c.address+":636")
		if err != nil {
			break
		}
		one.Close()
		if try == 50 {
			c.signal(syscall.SIGKILL)
		}
		time.Sleep(50 * time.Millisecond)
	}
	c.cmd = nil
}

// trusting connects to the domain controller.
func trusting(ca *lab.Authority) *tls.Config {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(ca.PEM))
	return &tls.Config{RootCAs: pool, ServerName: controller}
}

// administrator signs in at the domain controller.
func administrator(t *testing.T, ca *lab.Authority) *ldap.Conn {
	t.Helper()
	var c *ldap.Conn
	var err error
	for range 100 {
		if c, err = ldap.DialURL("ldaps://"+controller, ldap.DialWithTLSConfig(trusting(ca))); err == nil {
			if err = c.Bind("Administrator@lantern.example", adminPass); err == nil {
				break
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err != nil {
		t.Fatalf("binding as the administrator: %v", err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// quoted is a password as unicodePwd takes it.
func quoted(password string) string {
	out := ""
	for _, r := range `"` + password + `"` {
		out += string([]byte{byte(r), byte(r >> 8)})
	}
	return out
}

// addComputer adds a computer whose machine password is known.
func addComputer(t *testing.T, ca *lab.Authority, name, password string) {
	t.Helper()
	r := ldap.NewAddRequest("CN="+name+",CN=Computers,"+domainBase, nil)
	for attribute, value := range map[string]string{"objectClass": "computer", "sAMAccountName": name + "$",
		"userAccountControl": "4096", "dNSHostName": strings.ToLower(name) + ".lantern.example",
		"unicodePwd": quoted(password)} {
		r.Attribute(attribute, []string{value})
	}
	if err := administrator(t, ca).Add(r); err != nil {
		t.Fatalf("adding the computer %s: %v", name, err)
	}
}

// populate adds people and groups to the domain.
func populate(t *testing.T, ca *lab.Authority) {
	t.Helper()
	c := administrator(t, ca)
	add := func(dn string, attributes map[string]string) {
		t.Helper()
		r := ldap.NewAddRequest(dn, nil)
		for name, value := range attributes {
			r.Attribute(name, []string{value})
		}
		if err := c.Add(r); err != nil {
			t.Fatalf("adding %s: %v", dn, err)
		}
	}
	for user, more := range map[string]map[string]string{"s.lodge": {"userAccountControl": "512",
		"department": "Ticketing"}, "b.tulloch": {"userAccountControl": "514"},
		"f.oakes": {"userAccountControl": "512", "accountExpires": "133000000000000000"},
		"e.garth": {"userAccountControl": "512", "pwdLastSet": "0"}, "svc-tollgate": {"userAccountControl": "66048"}} {
		attributes := map[string]string{"objectClass": "user", "sAMAccountName": user, "userPrincipalName": user +
			"@lantern.example", "displayName": "The " + user, "unicodePwd": quoted("Harbour-" + user + "-1")}
		for name, value := range more {
			attributes[name] = value
		}
		add("CN="+user+",CN=Users,"+domainBase, attributes)
	}
	add("CN=Shore Staff,CN=Users,"+domainBase, map[string]string{"objectClass": "group",
		"sAMAccountName": "Shore Staff"})
	add("CN=Ticketing,CN=Users,"+domainBase, map[string]string{"objectClass": "group", "sAMAccountName": "Ticketing",
		"member": "CN=s.lodge,CN=Users," + domainBase})
	m := ldap.NewModifyRequest("CN=Shore Staff,CN=Users,"+domainBase, nil)
	m.Add("member", []string{"CN=Ticketing,CN=Users," + domainBase})
	if err := c.Modify(m); err != nil {
		t.Fatal(err)
	}
}

func TestRealDomainController(t *testing.T) {
	ca := startController(t)
	populate(t, ca)
	w := start(t)
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil)
	in := apitype.DirectoryInput{BindPassword: "Harbour-svc-tollgate-1",
		DirectoryFields: apitype.DirectoryFields{Name: "LANTERN", Kind: "active-directory",
			Servers: []string{controller}, TLS: "ldaps", CA: ca.PEM,
			BindName: "svc-tollgate", Attributes: []string{"department"}, TimeoutMillis: 3000}}
	for _, name := range []string{"svc-tollgate@lantern.example", `LANTERN\svc-tollgate`, "CN=svc-tollgate,CN=Users," +
		domainBase, "svc-tollgate"} {
		in.BindName = name
		if step, said, ok := w.testDirectory(in); !ok {
			t.Errorf("as %s the test fails at %s: %s", name, step, said)
		}
	}
	starttls := in
	starttls.TLS = "starttls"
	if step, said, ok := w.testDirectory(starttls); !ok {
		t.Errorf("by StartTLS the test fails at %s: %s", step, said)
	}
	plain := in
	plain.TLS = "plain"
	if step, said, _ := w.testDirectory(plain); step != "bind" || !strings.Contains(said, "ldaps or starttls") {
		t.Errorf("in clear the test says %q at %q", said, step)
	}
	w.do(http.MethodPost, "/directories", in, nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "shore", Forms: []config.Form{{Kind: config.Bare},
		{Kind: config.Prefix, Value: "LANTERN"}, {Kind: config.Suffix, Value: "lantern.example"}}, Rewrite: "{name}",
		Lookup: []config.Lookup{{Store: "LANTERN", Unreachable: config.Refuse}}}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "ticketing", VLAN: "20"}, nil)
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Wired", When: "always", Methods: []string{"pap"},
		Policies: []*config.Policy{
			{Name: "Shore", Enabled: true,
				When: `group is "Shore Staff" and group is Ticketing and group is "Domain Users" and person.department is Ticketing`, Outcome: config.Admit, Pass: "ticketing"}}}, nil)
	w.publish()
	for _, name := range []string{"s.lodge", `LANTERN\S.Lodge`, "s.lodge@lantern.example"} {
		reply, err := w.ask(func(r *trial.Request) { r.User, r.Password = name, "Harbour-s.lodge-1" })
		if err != nil || !reply.Accepted || reply.Attributes[2].Value != "20" {
			out := w.wants(0, []string{"attempt", "explain"})
			t.Fatalf("%s: %+v, %v\n%s", name, reply, err, out)
		}
	}
	for user, reason := range map[string]string{"b.tulloch": "person.disabled", "f.oakes": "person.expired",
		"e.garth": "password.must-change", "nobody": "person.unknown"} {
		if reply, err := w.ask(func(r *trial.Request) {
			r.User, r.Password = user, "Harbour-"+user+"-1"
		}); err != nil || reply.Accepted {
			t.Errorf("%s: %+v, %v", user, reply, err)
		}
		if a := w.attempts("user="+user, 1)[0]; a.Reason != reason {
			t.Errorf("%s is refused by %s, wanted %s", user, a.Reason, reason)
		}
	}
	w.ask(func(r *trial.Request) { r.User, r.Password = "s.lodge", "wrong" })
	w.attempts("reason=password.wrong", 1)
	// Gear asks somebody who must change the password for a new one, and the controller takes it or says why not.
	w.do(http.MethodPut, "/clients/np-switch-1", apitype.ClientInput{TACACSSecret: gearSecret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil, matchAny)
	w.publish()
	g := w.device(false)
	if r := w.asks(g, trial.GearAsk{Ask: "login", User: "e.garth", Password: "Harbour-e.garth-1", New: "short"},
		"FAIL"); !strings.Contains(r.Message, "breaks a rule") {
		t.Errorf("a password that is too simple: %q", r.Message)
	}
	w.asks(g, trial.GearAsk{Ask: "login", User: "e.garth", Password: "wrong", New: "Harbour-e.garth-2"}, "FAIL")
	// changed, but no policy takes the person
	w.asks(g, trial.GearAsk{Ask: "login", User: "e.garth", Password: "Harbour-e.garth-1", New: "Harbour-e.garth-2"},
		"FAIL")
	if a := w.attempts("reason=policy.none", 1)[0]; a.User != "e.garth" {
		t.Errorf("refused is %s", a.User)
	}
	if reply, err := w.ask(func(r *trial.Request) {
		r.User, r.Password = "e.garth", "Harbour-e.garth-2"
	}); err != nil || reply.Accepted {
		t.Errorf("%+v, %v", reply, err)
	}
	w.attempts("reason=policy.none", 2)
}
