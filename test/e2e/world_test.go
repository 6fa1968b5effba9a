// Package e2e tests the real service on loopback: through its network protocols, its API and command line, and its
// console, against independent clients and a real directory server.
package e2e

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var binaries string // where the built commands are

// quick is what hashes of passwords cost in this process, which else would do little besides: usual ones were three
// quarters of its work. Services that run by themselves make the usual ones.
var quick = password.Cost{Passes: 1, Memory: 64}

func TestMain(m *testing.M) {
	slog.SetDefault(slog.New(slog.DiscardHandler))
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "tollgate-e2e")
		if err != nil {
			fmt.Println(err)
			return 1
		}
		defer os.RemoveAll(dir)
		binaries = dir
		build := exec.Command("go", "build", "-o", dir+"/", "./cmd/...")
		build.Dir = root()
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Printf("building the commands: %v\n%s", err, out)
			return 1
		}
		defer func() { os.RemoveAll(provisioned.dir) }()
		quick.Take()
		return m.Run()
	}())
}

func root() string {
	dir, _ := filepath.Abs("../..")
	return dir
}

// need skips a test whose outside program is not installed; in CI that is a failure.
func need(t testing.TB, paths ...string) {
	t.Helper()
	for _, path := range paths {
		if _, err := exec.LookPath(path); err == nil {
			continue
		}
		if _, err := os.Stat(path); err == nil {
			continue
		}
		if os.Getenv("CI") != "" {
			t.Fatalf("%s is not installed", path)
		}
		t.Skipf("%s is not installed; run test/tools.sh as root", path)
	}
}

// world is one service with an operator signed in.
type world struct {
	// mail is a server for mail, "" for none.
	mail string
	// how sets further options, nil for none.
	how               func(o *app.Options)
	asked             int // attempts made by vlan
	t                 testing.TB
	app               *app.App
	api               *client.Client
	dir               string
	radius            string
	tacacs, tacacsTLS string
	ldaps             string
	ldap              string
	ca                *lab.Authority
	// join is the invitation of another node.
	join   string
	beside string // one more address for authentication and accounting, for devices in another namespace
	// web is where the console is served instead of loopback, by TLS with an authority of its own.
	web *web
}

// start starts a service with nothing configured.
func start(t testing.TB) *world {
	t.Helper()
	w := &world{t: t, dir: t.TempDir()}
	w.first()
	return w
}

// first boots an empty service and signs its first operator in.
func (w *world) first() {
	w.t.Helper()
	w.boot()
	w.do(http.MethodPost, "/setup", apitype.SetupInput{Code: w.app.SetupCode, Name: "o.brandt",
		Password: "lantern-demo-2026"}, nil)
	var signed apitype.SignedIn
	w.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "o.brandt", Password: "lantern-demo-2026",
		TokenName: "test"}, &signed)
	w.api.Token = signed.Token
}

func (w *world) boot() {
	w.t.Helper()
	w.bootAt("127.0.0.1:0")
}

// bootAt starts the service with an address for accounting.
func (w *world) bootAt(accounting string) {
	w.t.Helper()
	radius, accounts, leases := []string{"127.0.0.1:0", "[::1]:0"}, []string{accounting}, []string{"127.0.0.1:0"}
	if w.beside != "" {
		radius, accounts, leases = append(radius, w.beside+":0"), append(accounts, w.beside+":0"),
			append(leases, w.beside+":0")
	}
	console := cmp.Or(w.web, &web{address: "127.0.0.1:0"})
	options := app.Options{Data: w.dir, HTTP: console.address,
		TLSCert: console.certificate, TLSKey: console.key,
		RADIUS: radius, Accounting: accounts,
		RADIUSTLS: []string{"127.0.0.1:0"}, RADIUSDTLS: []string{"127.0.0.1:0"},
		TACACS: []string{
			"127.0.0.1:0",
		}, TACACSTLS: []string{"127.0.0.1:0"}, Portal: "127.0.0.1:0",
		Mail: w.mail, MailFrom: "network@lanternferries.example",
		DHCP: leases, SyslogUDP: []string{"127.0.0.1:0"},
		SyslogTCP: []string{
			"127.0.0.1:0",
		}, SyslogTLS: []string{"127.0.0.1:0"}, NodeAddress: "127.0.0.1:0", Join: w.join,
		Engine: []string{filepath.Join(binaries, "tollgated"), app.EngineFlag}}
	if w.how != nil {
		w.how(&options)
	}
	a, err := app.Start(context.Background(), options)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(a.Stop)
	token := ""
	if w.api != nil {
		token = w.api.Token
	}
	w.app, w.radius, w.api = a, a.RADIUS[0].String(), &client.Client{URL: a.URL, Token: token, HTTP: console.client}
	w.tacacs, w.tacacsTLS = a.TACACS[0].String(), a.TACACSTLS[0].String()
}

// lantern starts a service with the demo's configuration and its stand-in directory.
func lantern(t testing.TB) *world {
	t.Helper()
	w := &world{t: t, dir: t.TempDir()}
	w.boot()
	w.directory()
	if err := lab.SetUp(context.Background(), w.api, w.app.SetupCode, lab.Outside{Servers: []string{w.ldaps},
		Authority: w.ca.PEM}); err != nil {
		t.Fatal(err)
	}
	return w
}

// directory starts the stand-in directory.
func (w *world) directory() {
	w.t.Helper()
	ca, err := lab.NewAuthority("Test authority")
	if err != nil {
		w.t.Fatal(err)
	}
	certificate, err := ca.Server(time.Now().AddDate(1, 0, 0), "dc1."+lab.Domain, "127.0.0.1")
	if err != nil {
		w.t.Fatal(err)
	}
	d := lab.NewDirectory(certificate)
	w.ca, w.ldaps, w.ldap = ca, freePort(w.t), freePort(w.t)
	for address, secure := range map[string]bool{w.ldaps: true, w.ldap: false} {
		if err := d.Serve(address, secure); err != nil {
			w.t.Fatal(err)
		}
	}
	w.t.Cleanup(d.Close)
}

// ports counts those that were given away. They lie below those that the system gives to connections, so that nobody
// else takes one between here and its use.
var ports atomic.Int32

func freePort(t testing.TB) string {
	t.Helper()
	for range 1000 {
		address := fmt.Sprintf("127.0.0.1:%d", 20_000+(os.Getpid()+int(ports.Add(1)))%10_000)
		if l, err := net.Listen("tcp", address); err == nil {
			l.Close()
			return address
		}
	}
	t.Fatal("no port is free")
	return ""
}

// do calls the API and fails the test on any error.
func (w *world) do(method, path string, in, out any, options ...client.Option) {
	w.t.Helper()
	if err := w.api.Do(context.Background(), method, path, in, out, options...); err != nil {
		w.t.Fatalf("%s %s: %v", method, path, err)
	}
}

// refused calls the API and wants a problem of that status whose text holds all the parts.
func (w *world) refused(status int, method, path string, in any, parts ...string) *apitype.Problem {
	w.t.Helper()
	err := w.api.Do(context.Background(), method, path, in, nil)
	p, ok := err.(*apitype.Problem)
	if !ok || p.Status != status {
		w.t.Fatalf("%s %s gives %v, wanted status %d", method, path, err, status)
	}
	text := p.Detail + " " + p.Remedy
	for _, f := range p.Errors {
		text += "\n" + f.String()
	}
	for _, part := range parts {
		if !strings.Contains(text, part) {
			w.t.Errorf("%s %s says\n%s\nwhich does not hold %q", method, path, text, part)
		}
	}
	return p
}

// matchAny overwrites whatever is there.
var matchAny = client.IfMatch("*")

func (w *world) publish() {
	w.t.Helper()
	w.do(http.MethodPost, "/draft/publish", map[string]string{"note": "test"}, nil)
}

const secret = "quay-light-and-bollard"

// basic configures one client, local accounts, one realm, one lane and one pass, and publishes.
func (w *world) basic(mode string, addresses ...string) {
	w.t.Helper()
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: addresses,
			MessageAuthenticator: mode, Tags: map[string]string{"site": "north-pier"}}}, nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "here", Forms: []config.Form{{Kind: config.Bare}},
		Lookup: []config.Lookup{{Store: "local", Unreachable: config.Refuse}}}, nil)
	w.do(
		http.MethodPost,
		"/passes",
		apitype.PassFields{Name: "crew", VLAN: "30", SessionTimeout: 3600, Role: "crew"},
		nil,
	)
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Wired", When: "port.type is Ethernet",
		Methods: []string{"pap"}, RejectDelayMillis: 50,
		Policies: []*config.Policy{{Name: "Crew", Enabled: true, When: "group is Crew", Outcome: config.Admit,
			Pass: "crew"}}}, nil)
	w.account("k.nance", "gangway-and-rope", "Crew")
	w.publish()
}

func (w *world) account(name, password string, groups ...string) {
	w.t.Helper()
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: password,
		AccountFields: apitype.AccountFields{Name: name, Groups: groups, Enabled: true}}, nil)
}

// ask sends a request as the basic client does.
func (w *world) ask(change func(*trial.Request)) (results.Reply, error) {
	r := trial.Request{Server: w.radius, Secret: secret, User: "k.nance", Password: "gangway-and-rope",
		Timeout: 10 * time.Second, Tries: 1, // a loaded machine is slow; who expects silence waits for less
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"},
			{Name: "NAS-Port-Id", Value: "1/0/8"}, {Name: "Calling-Station-Id", Value: "00:00:5e:00:53:07"}}}
	if change != nil {
		change(&r)
	}
	return trial.Send(context.Background(), r)
}

// recorded are the attempts so far.
func (w *world) recorded() []apitype.Attempt {
	w.t.Helper()
	var page apitype.Page[apitype.Attempt]
	w.do(http.MethodGet, "/attempts?limit=500", nil, &page)
	return page.Items
}

// attempts waits until that many attempts are recorded and returns them, the newest first.
func (w *world) attempts(query string, n int) []apitype.Attempt {
	w.t.Helper()
	var page apitype.Page[apitype.Attempt]
	for range 100 {
		w.do(http.MethodGet, "/attempts?limit=500&"+query, nil, &page)
		if len(page.Items) >= n {
			return page.Items
		}
		time.Sleep(20 * time.Millisecond)
	}
	w.t.Fatalf("%d attempts with %s, wanted %d", len(page.Items), query, n)
	return nil
}

// contact waits for a problem of an address.
func (w *world) contact(address netip.Addr, fault string) apitype.Contact {
	w.t.Helper()
	var page apitype.Page[apitype.Contact]
	for range 100 {
		w.do(http.MethodGet, "/contacts", nil, &page)
		for _, c := range page.Items {
			if c.Address == address.String() && c.Fault == fault {
				return c
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	w.t.Fatalf("no %s of %s among %+v", fault, address, page.Items)
	return apitype.Contact{}
}

// run runs one of the built commands.
func (w *world) run(stdin string, args ...string) (out string, code int) {
	w.t.Helper()
	cmd := exec.Command(filepath.Join(binaries, args[0]), args[1:]...)
	cmd.Stdin = strings.NewReader(stdin)
	cmd.Env = append(os.Environ(), "TOLLGATE_URL="+w.api.URL, "TOLLGATE_TOKEN="+w.api.Token, "HOME="+w.dir,
		"XDG_CONFIG_HOME="+w.dir)
	text, err := cmd.CombinedOutput()
	if exit, ok := err.(*exec.ExitError); ok {
		return string(text), exit.ExitCode()
	} else if err != nil {
		w.t.Fatal(err)
	}
	return string(text), 0
}

// wants runs a command and wants its exit code and texts in its output.
func (w *world) wants(code int, args []string, texts ...string) string {
	w.t.Helper()
	out, got := w.run("", append([]string{"tollgate"}, args...)...)
	if got != code {
		w.t.Errorf("tollgate %s ends with %d, wanted %d:\n%s", strings.Join(args, " "), got, code, out)
	}
	for _, text := range texts {
		if !strings.Contains(out, text) {
			w.t.Errorf("tollgate %s says\n%s\nwhich does not hold %q", strings.Join(args, " "), out, text)
		}
	}
	return out
}

// stream posts to a call that answers with events and returns them.
func (w *world) stream(path string, in any) []map[string]any {
	w.t.Helper()
	var out []map[string]any
	if err := w.api.Stream(context.Background(), http.MethodPost, path, in, func(e client.Event) bool {
		var v map[string]any
		if json.Unmarshal(e.Data, &v) == nil {
			out = append(out, v)
		}
		return true
	}); err != nil {
		w.t.Fatal(err)
	}
	return out
}
