package e2e

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
)

// away is a service, a VPN gateway and a traveller: the last two each in a network namespace of its own. One cable
// joins the service with the gateway, another the gateway with the traveller.
type away struct {
	*world
	gateway, traveller string // the namespaces
	inside             string // the gateway's address towards the service
}

const (
	gatewayOutside = "198.51.100.1"
	gatewayName    = "vpn.lanternferries.example"
)

// afar lays the cables and starts a service with a lane for the gateway.
func afar(t *testing.T, n int, methods ...string) *away {
	t.Helper()
	need(t, "ip", "/dev/net/tun")
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	name := fmt.Sprintf("tk%d%c", os.Getpid(), 'f'+n)
	// by the process, so that the cable of a run that was killed is not in the way
	subnet := (os.Getpid() + n) % 64 * 4
	a := &away{gateway: name + "g", traveller: name + "t", inside: fmt.Sprintf("203.0.113.%d", subnet+2)}
	ours := fmt.Sprintf("203.0.113.%d", subnet+1)
	ip := func(args string) {
		t.Helper()
		if out, err := exec.Command("ip", strings.Fields(args)...).CombinedOutput(); err != nil {
			t.Fatalf("ip %s: %v %s", args, err, out)
		}
	}
	for _, ns := range []string{a.gateway, a.traveller} {
		ip("netns add " + ns)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
		ip("-n " + ns + " link set lo up")
	}
	ip("link add " + name + " type veth peer name inside netns " + a.gateway)
	t.Cleanup(func() { exec.Command("ip", "link", "del", name).Run() })
	ip("addr add " + ours + "/30 dev " + name)
	ip("link set " + name + " up")
	ip("-n " + a.gateway + " addr add " + a.inside + "/30 dev inside")
	ip("-n " + a.gateway + " link set inside up")
	ip("-n " + a.gateway + " link add outside type veth peer name wan netns " + a.traveller)
	ip("-n " + a.gateway + " addr add " + gatewayOutside + "/24 dev outside")
	ip("-n " + a.gateway + " link set outside up")
	ip("-n " + a.gateway + " addr add 10.9.0.1/24 dev lo") // the network behind the gateway
	ip("-n " + a.traveller + " addr add 198.51.100.2/24 dev wan")
	ip("-n " + a.traveller + " link set wan up")
	ip("-n " + a.traveller + " route add default via " + gatewayOutside)
	a.world = &world{t: t, dir: t.TempDir(), beside: ours}
	a.first()
	a.lane(methods)
	a.certificate()
	return a
}

// lane configures the gateway, its people and what they get.
func (a *away) lane(methods []string) {
	a.t.Helper()
	a.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "hh-vpn-1", Enabled: true, Addresses: []string{a.inside},
			MessageAuthenticator: "auto", Sessions: config.ClientSessions{ChangePort: 3799}}}, nil)
	a.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "here", Forms: []config.Form{{Kind: config.Bare}},
		Lookup: []config.Lookup{{Store: "local", Unreachable: config.Refuse}}}, nil)
	a.do(http.MethodPost, "/pools", apitype.PoolFields{Name: "afar", Ranges: []string{"192.0.2.64/28"}}, nil)
	a.do(http.MethodPost, "/passes", apitype.PassFields{Name: "remote crew", Role: "crew", Pool: "afar",
		SessionTimeout: 3600}, nil)
	a.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "VPN", When: "client is hh-vpn-1", Methods: methods,
		Policies: []*config.Policy{{Name: "Crew", Enabled: true, When: "group is Crew", Outcome: config.Admit,
			Pass: "remote crew"}}}, nil)
	a.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: "gangway-and-rope",
		AccountFields: apitype.AccountFields{Name: "k.nance", Groups: []string{"Crew"}, Enabled: true,
			Keeps: "password"}}, nil)
	a.publish()
}

// certificate writes authority.pem, and private/gateway.key and gateway.pem of the gateway.
func (a *away) certificate() {
	a.t.Helper()
	ca, err := lab.NewAuthority("Gateway authority")
	if err != nil {
		a.t.Fatal(err)
	}
	c, err := ca.Server(time.Now().AddDate(1, 0, 0), gatewayName)
	if err != nil {
		a.t.Fatal(err)
	}
	key, err := x509.MarshalPKCS8PrivateKey(c.Certificates[0].PrivateKey)
	if err != nil {
		a.t.Fatal(err)
	}
	a.write("authority.pem", ca.PEM)
	a.write("gateway.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: c.Certificates[0].Certificate[0]})))
	a.write("gateway.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})))
}

// in runs a program in a namespace with a /run of its own, until the test ends, and returns the file it writes to.
func (a *away) in(ns, log string, env []string, args ...string) string {
	a.t.Helper()
	out, err := os.Create(filepath.Join(a.dir, log))
	if err != nil {
		a.t.Fatal(err)
	}
	cmd := exec.Command("ip", append([]string{"netns", "exec", ns, "sh", "-c",
		`mount -t tmpfs tmpfs /run && exec "$@"`, "sh"}, args...)...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		a.t.Fatal(err)
	}
	a.t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
		out.Close()
		if a.t.Failed() {
			a.t.Logf("%s:\n%s", log, tail(read(out.Name()), 80))
		}
	})
	return out.Name()
}

// A real IPsec gateway, and a traveller with a real IKEv2 client: EAP-MSCHAPv2 without a tunnel, whose key both check,
// an address of our pool, accounting from the beginning to the end, and a Disconnect-Request that the gateway follows.
func TestARealIPsecGateway(t *testing.T) {
	t.Parallel()
	need(t, "swanctl", "/usr/lib/ipsec/charon", "/usr/lib/ipsec/plugins/libstrongswan-eap-radius.so",
		"/usr/lib/ipsec/plugins/libstrongswan-eap-mschapv2.so")
	a := afar(t, 0, "eap-mschapv2", "eap-gtc", "eap-md5")
	g := a.charon(a.gateway, "gateway", fmt.Sprintf(`eap-radius {
		accounting = yes
		accounting_interval = 1
		servers {
			tollgate {
				address = %s
				auth_port = %d
				acct_port = %d
				secret = %s
				nas_identifier = hh-vpn-1
			}
		}
		dae {
			enable = yes
			listen = %s
			port = 3799
			secret = %[4]s
		}
	}`, a.beside, a.app.RADIUS[2].Port(), a.app.Accounting[1].Port(), secret, a.inside))
	g.load(`connections {
			road {
				version = 2
				local_addrs = ` + gatewayOutside + `
				pools = radius
				local {
					auth = pubkey
					certs = ` + a.dir + `/gateway.pem
					id = ` + gatewayName + `
				}
				remote {
					auth = eap-radius
					eap_id = %any
				}
				children {
					net {
						local_ts = 10.9.0.0/24
					}
				}
			}
		}`)
	home := a.charon(a.traveller, "traveller", "")
	signIn := func(password, method string) (string, error) {
		home.load(`connections {
			home {
				version = 2
				remote_addrs = ` + gatewayOutside + `
				vips = 0.0.0.0
				local {
					auth = ` + method + `
					eap_id = k.nance
				}
				remote {
					auth = pubkey
					id = ` + gatewayName + `
					cacerts = ` + a.dir + `/authority.pem
				}
				children {
					net {
						remote_ts = 10.9.0.0/24
					}
				}
			}
		}
		secrets {
			eap-k {
				id = k.nance
				secret = "` + password + `"
			}
		}`)
		return home.control("--initiate", "--child", "net", "--timeout", "10")
	}
	if out, err := signIn("wrong", "eap-mschapv2"); err == nil {
		t.Errorf("a wrong password is taken: %s", out)
	}
	// such clients go away with the failure instead of acknowledging it
	waitFor(t, "the refusal", func() bool { return len(a.recorded()) == 1 })
	if got := a.newest(1); got.Verdict != "refused" || got.Reason != "password.wrong" ||
		got.Facts.Method != "eap-mschapv2" {
		t.Errorf("a wrong password is recorded as %+v by %s", got.Attempt, got.Facts.Method)
	}
	for i, method := range []string{"eap-mschapv2", "eap-gtc"} {
		if out, err := signIn("gangway-and-rope", method); err != nil {
			t.Fatalf("%s: %v %s", method, err, out)
		}
		if got := a.newest(2 + i); got.Verdict != "admitted" || got.Facts.Method != method ||
			got.Pass != "remote crew" {
			t.Errorf("%s is recorded as %+v by %s", method, got.Attempt, got.Facts.Method)
		}
		s := a.through(method)
		if answer := a.askSession(s.ID, apitype.SessionAsk{Action: "disconnect"}); !answer.Done {
			t.Errorf("the gateway answers a Disconnect-Request with %+v", answer)
		}
		waitFor(t, "the end of the session", func() bool { return a.openSessions("").Open == 0 })
		waitFor(t, "the end of the tunnel", func() bool {
			out, _ := home.control("--list-sas")
			return !strings.Contains(out, "ESTABLISHED")
		})
	}
}

// through sends something through the tunnel, and looks at the one session.
func (a *away) through(method string) (s apitype.Session) {
	a.t.Helper()
	waitFor(a.t, "octets in the session by "+method, func() bool {
		if out, err := exec.Command("ip", "netns", "exec", a.traveller, "bash", "-c",
			"echo ahoy > /dev/udp/10.9.0.1/9").CombinedOutput(); err != nil {
			a.t.Logf("through the tunnel: %v %s", err, out)
		}
		open := a.openSessions("").Items
		if len(open) == 1 {
			s = open[0]
		}
		return len(open) == 1 && s.In > 0
	})
	var leases apitype.Page[apitype.Lease]
	a.do(http.MethodGet, "/leases", nil, &leases)
	if s.User != "k.nance" || s.Client != "hh-vpn-1" || s.Pass != "remote crew" || len(leases.Items) != 1 ||
		s.Address != leases.Items[0].Address.String() {
		a.t.Errorf("the session by %s is %+v, of the pool are taken %+v", method, s, leases.Items)
	}
	return s
}

// charonPlugins are what the daemon needs on a kernel without IPsec: packets are encrypted in the daemon itself.
var charonPlugins = []string{"random", "nonce", "openssl", "md5", "hmac", "kdf", "pem", "x509", "pkcs1", "pkcs8",
	"pubkey", "constraints", "socket-default", "kernel-libipsec", "kernel-netlink", "vici", "eap-identity",
	"eap-mschapv2",
	"eap-gtc", "eap-radius"}

// charon is one IKE daemon.
type charon struct {
	a        *away
	ns, name string
}

func (a *away) charon(ns, name, plugin string) *charon {
	a.t.Helper()
	c := &charon{a: a, ns: ns, name: name}
	home := filepath.Join(a.dir, name)
	if err := os.MkdirAll(filepath.Join(home, "private"), 0o700); err != nil {
		a.t.Fatal(err)
	}
	if name == "gateway" {
		a.write("gateway/private/gateway.key", read(filepath.Join(a.dir, "gateway.key")))
	}
	conf := a.write(name+".conf", `charon {
	load = `+strings.Join(charonPlugins, " ")+`
	filelog {
		stderr {
			default = 1
			flush_line = yes
		}
	}
	plugins {
		vici {
			socket = unix://`+home+`/vici
		}
		`+plugin+`
	}
}
`)
	a.in(ns, name+".log", []string{"STRONGSWAN_CONF=" + conf}, "/usr/lib/ipsec/charon")
	waitFor(a.t, "the IKE daemon of the "+name, func() bool {
		_, err := os.Stat(home + "/vici")
		return err == nil
	})
	return c
}

func (c *charon) control(args ...string) (string, error) {
	out, err := exec.Command("swanctl", append(args, "--uri", "unix://"+filepath.Join(c.a.dir, c.name, "vici"))...).
		CombinedOutput()
	return string(out), err
}

func (c *charon) load(text string) {
	c.a.t.Helper()
	file := c.a.write(c.name+"/swanctl.conf", text) // keys are looked for beside it
	if out, err := c.control("--load-all", "--clear", "--file", file); err != nil {
		c.a.t.Fatalf("loading the %s's configuration: %v\n%s", c.name, err, out)
	}
}

// A real SSL VPN server and its client: PAP, an address of our pool, and accounting that has to be answered before the
// server lets anybody in.
func TestARealSSLGateway(t *testing.T) {
	t.Parallel()
	need(t, "ocserv", "openconnect", "/etc/radcli/dictionary")
	a := afar(t, 1, "pap")
	a.write("servers", a.beside+" "+secret+"\n")
	radcli := a.write("radcli.conf", fmt.Sprintf("nas-identifier hh-vpn-1\nauthserver %s:%d\nacctserver %[1]s:%[3]d\n"+
		"servers %[4]s/servers\ndictionary /etc/radcli/dictionary\nradius_timeout 3\nradius_retries 2\nbindaddr *\n",
		a.beside, a.app.RADIUS[2].Port(), a.app.Accounting[1].Port(), a.dir))
	conf := a.write("ocserv.conf", strings.NewReplacer("RADCLI", radcli, "DIR", a.dir).Replace(`
auth = "radius[config=RADCLI,groupconfig=true]"
acct = "radius[config=RADCLI]"
stats-report-time = 1
tcp-port = 4443
socket-file = DIR/ocserv.sock
server-cert = DIR/gateway.pem
server-key = DIR/gateway.key
device = vpns
ipv4-network = 10.88.0.0/24
route = 10.9.0.0/24
max-clients = 16
keepalive = 30
cookie-timeout = 30
rekey-time = 3600
isolate-workers = false
`))
	log := a.in(a.gateway, "ocserv.log", nil, "ocserv", "-f", "-d", "1", "-c", conf)
	waitFor(t, "the SSL VPN server", func() bool { return strings.Contains(read(log), "sec-mod initialized") })
	script := a.write("connected.sh", "#!/bin/sh\n[ \"$reason\" = connect ] || exit 0\n"+
		"ip link set $TUNDEV up && ip addr add $INTERNAL_IP4_ADDRESS/32 dev $TUNDEV && "+
		"ip route add 10.9.0.0/24 dev $TUNDEV\n")
	if err := os.Chmod(script, 0o700); err != nil {
		t.Fatal(err)
	}
	client := func(password string) (*exec.Cmd, string) {
		cmd := exec.Command("ip", "netns", "exec", a.traveller, "openconnect", "--passwd-on-stdin", "--no-dtls",
			"--non-inter", "-u", "k.nance", "--cafile", a.dir+"/authority.pem", "--resolve",
			gatewayName+":"+gatewayOutside, "--script", script, "https://"+gatewayName+":4443")
		cmd.Stdin = strings.NewReader(password + "\n")
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		out, err := os.Create(filepath.Join(a.dir, "openconnect.log"))
		if err != nil {
			t.Fatal(err)
		}
		cmd.Stdout, cmd.Stderr = out, out
		t.Cleanup(func() { out.Close() })
		return cmd, out.Name()
	}
	cmd, out := client("wrong")
	if err := cmd.Run(); err == nil {
		t.Errorf("a wrong password is taken:\n%s", read(out))
	}
	if got := a.newest(1); got.Reason != "password.wrong" || got.Facts.Method != "pap" {
		t.Errorf("a wrong password is recorded as %+v", got.Attempt)
	}
	cmd, out = client("gangway-and-rope")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		if t.Failed() {
			t.Logf("openconnect:\n%s", read(out))
		}
	})
	s := a.through("pap")
	if got := a.newest(2); got.Verdict != "admitted" || got.Session == nil || got.Session.Address != s.Address {
		t.Errorf("the attempt is %+v with the session %+v", got.Attempt, got.Session)
	}
	cmd.Process.Signal(syscall.SIGINT) // signs off
	cmd.Wait()
	waitFor(t, "the end of the session", func() bool { return a.openSessions("").Open == 0 })
	if ended := a.openSessions("state=ended").Items; len(ended) != 1 || ended[0].Cause != "User-Request" {
		t.Errorf("ended are %+v", ended)
	}
}
