package e2e

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
)

// perl signs in by PAP as a client program of another author does, and prints code and attributes.
const perl = `
use Authen::Radius;
my ($host, $secret, $user, $password) = @ARGV;
my $r = Authen::Radius->new(Host => $host, Secret => $secret, TimeOut => 3, Rfc3579MessageAuth => $ENV{SIGN}) or die "new: " . Authen::Radius->strerror;
$r->clear_attributes;
$r->add_attributes({Name => 1, Value => $user, Type => 'string'}, {Name => 2, Value => $password, Type => 'string'}, {Name => 61, Value => 15, Type => 'integer'},
  {Name => 33, Value => 'through-a-proxy', Type => 'string'});
$r->send_packet(ACCESS_REQUEST) or die "send: " . $r->strerror;
my $code = $r->recv_packet();
die "receive: " . $r->strerror unless defined $code;
print "code $code\n";
for my $a ($r->get_attributes) { print "$a->{Code}=", unpack('H*', $a->{RawValue}), "\n" }
`

func TestPerlClient(t *testing.T) {
	t.Parallel()
	need(t, "perl", "/usr/share/perl5/Authen/Radius.pm")
	w := start(t)
	w.basic("off", "127.0.0.1")
	server := recorded(t, "udp", w.radius, "Authen::Radius; k.nance by PAP, without and with Message-Authenticator. "+
		"Secret: "+secret, "front", "radius", "access", "testdata", "perl.txt")
	run := func(password, sign string) string {
		cmd := exec.Command("perl", "-e", perl, server, secret, "k.nance", password)
		cmd.Env = append(os.Environ(), "SIGN="+sign)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		return string(out)
	}
	for _, sign := range []string{"0", "1"} {
		out := run("gangway-and-rope", sign)
		for _, want := range []string{"code 2\n", "64=0000000d", "65=00000006", "81=3330", "27=00000e10",
			"11=63726577", "33=" + fmt.Sprintf("%x", "through-a-proxy")} {
			if !strings.Contains(out, want) {
				t.Errorf("signed %s: %q is missing in\n%s", sign, want, out)
			}
		}
		if lines := strings.Split(out, "\n"); !strings.HasPrefix(lines[1], "80=") {
			t.Errorf("signed %s: Message-Authenticator is not the first attribute:\n%s", sign, out)
		}
	}
	if out := run("wrong", "1"); !strings.Contains(out, "code 3\n") {
		t.Errorf("a wrong password gives\n%s", out)
	}
	long := strings.Repeat("a long password ", 8)
	w.account("long", long, "Crew")
	if out := run(long[:100], "1"); !strings.Contains(out, "code 3") {
		t.Errorf("part of a long password gives\n%s", out)
	}
}

// pam defines a service of PAM that asks w, and returns its name.
func (w *world) pam() string {
	t := w.t
	t.Helper()
	need(t, "pamtester")
	modules, _ := filepath.Glob("/*lib*/*/security/pam_radius_auth.so")
	more, _ := filepath.Glob("/usr/lib/*/security/pam_radius_auth.so")
	if modules = append(modules, more...); len(modules) == 0 {
		need(t, "/usr/lib/security/pam_radius_auth.so")
	}
	if os.Getuid() != 0 {
		t.Skip("a PAM service is defined in /etc/pam.d, which needs root")
	}
	conf, service := filepath.Join(t.TempDir(), "servers"), fmt.Sprintf("tollgate-test-%d-%d", os.Getpid(),
		services.Add(1))
	os.WriteFile(conf, []byte(fmt.Sprintf("%s %s 3\n", neighbours(t.(*testing.T), w), secret)), 0o600)
	path := "/etc/pam.d/" + service
	if err := os.WriteFile(path,
		[]byte(fmt.Sprintf("auth required pam_radius_auth.so conf=%[1]s\naccount required pam_permit.so\n"+
			"session required pam_radius_auth.so conf=%[1]s\n", conf)),
		0o644); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.Remove(path) })
	return service
}

// services counts those that were defined.
var services atomic.Int32

// A server that people sign in to by PAM asks for the code, and takes it.
func TestPAMClientAsksForTheCode(t *testing.T) {
	t.Parallel()
	w := start(t)
	service := w.pam()
	w.basic("off", "127.0.0.1")
	w.wants(0, []string{"lane", "change", "Wired", "-when", "always", "-second-factor", "code", "-factor-text",
		"Code of your phone: ", "-publish"}, "revision")
	nance, _ := w.enrol("k.nance")
	for _, c := range []struct{ password, code, want string }{
		{"gangway-and-rope", "000000", "Authentication failure"},
		{"gangway-and-rope", nance.next(), "successfully authenticated"},
		{"wrong", nance.next(), "Authentication failure"},
	} {
		cmd := exec.Command("pamtester", service, "k.nance", "authenticate")
		cmd.Stdin = strings.NewReader(c.password + "\n" + c.code + "\n")
		out, _ := cmd.CombinedOutput()
		if !strings.Contains(string(out), c.want) || !strings.Contains(string(out), "Code of your phone:") {
			t.Errorf("%+v: %s", c, out)
		}
	}
}

func TestPAMClient(t *testing.T) {
	t.Parallel()
	w := start(t)
	service := w.pam()
	w.basic("off", "127.0.0.1")
	w.wants(0, []string{"lane", "change", "Wired", "-when", "always", "-publish"})
	for password, want := range map[string]string{"gangway-and-rope": "successfully authenticated",
		"wrong": "Authentication failure"} {
		cmd := exec.Command("pamtester", service, "k.nance", "authenticate")
		cmd.Stdin = strings.NewReader(password + "\n")
		out, _ := cmd.CombinedOutput()
		if !strings.Contains(string(out), want) {
			t.Errorf("%s: %s", password, out)
		}
	}
	a := w.attempts("user=k.nance&verdict=admitted", 1)[0]
	if a.Client != "np-switch-1" {
		t.Errorf("recorded %+v", a)
	}
	if out, err := exec.Command("pamtester", service, "k.nance", "open_session",
		"close_session").CombinedOutput(); err !=
		nil {
		t.Errorf("the session: %s", out)
	}
	if ended := w.openSessions("state=ended").Items; len(ended) != 1 || ended[0].User != "k.nance" {
		t.Errorf("the sessions of PAM are %+v", ended)
	}
}

// neighbours passes two ports that follow each other on to authentication and accounting, as old clients want them.
func neighbours(t *testing.T, w *world) string {
	t.Helper()
	for range 50 {
		first, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		if err != nil {
			t.Fatal(err)
		}
		at := first.LocalAddr().(*net.UDPAddr)
		second, err := net.ListenUDP("udp", &net.UDPAddr{IP: at.IP, Port: at.Port + 1})
		if err != nil {
			first.Close()
			continue
		}
		relay(t, first, w.radius)
		relay(t, second, w.app.Accounting[0].String())
		return at.String()
	}
	t.Fatal("no two free ports follow each other")
	return ""
}

// relay passes datagrams on, and what is answered to the last who asked.
func relay(t *testing.T, socket *net.UDPConn, to string) {
	t.Helper()
	out, err := net.Dial("udp", to)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { socket.Close(); out.Close() })
	var last atomic.Value
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := socket.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			last.Store(from)
			out.Write(buf[:n])
		}
	}()
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := out.Read(buf)
			if err != nil {
				return
			}
			socket.WriteToUDPAddrPort(buf[:n], last.Load().(netip.AddrPort))
		}
	}()
}

// TestDecoderFindsNothingWrong captures traffic and has an independent decoder check every packet and authenticator.
func TestDecoderFindsNothingWrong(t *testing.T) {
	need(t, "tshark")
	if os.Getuid() != 0 {
		t.Skip("capturing needs root")
	}
	w := start(t)
	w.basic("off", "127.0.0.1")
	switches, err := lab.TakeChanges("127.0.0.1:0", secret, lab.Willing)
	if err != nil {
		t.Fatal(err)
	}
	defer switches.Close()
	w.changeable(switches, nil)
	var ports, decoded []string
	for _, port := range []uint16{netip.MustParseAddrPort(w.radius).Port(), w.app.Accounting[0].Port(),
		switches.Address().Port()} {
		ports = append(ports, fmt.Sprintf("udp port %d", port))
		decoded = append(decoded, "-d", fmt.Sprintf("udp.port==%d,radius", port))
	}
	file := filepath.Join(t.TempDir(), "traffic.pcapng")
	capture := exec.Command("tshark", "-q", "-i", "lo", "-f", strings.Join(ports, " or "), "-w", file)
	if err := capture.Start(); err != nil {
		t.Fatal(err)
	}
	w.eventually("the capture begins", func() bool {
		info, err := os.Stat(file)
		return err == nil && info.Size() > 0
	})
	time.Sleep(500 * time.Millisecond)
	w.wants(0, []string{"pass", "change", "crew", "-attr", "Idle-Timeout=900", "-attr",
		"Vendor-Specific=32473:1:0x0a0b", "-attr", "Class=crew", "-attr", "Framed-IPv6-Prefix=2001:db8:7::/64",
		"-attr", "Framed-IP-Address=192.0.2.77", "-attr", "Reply-Message=Welcome aboard", "-attr",
		"Tunnel-Assignment-ID=3:deck", "-publish"})
	w.ask(nil)
	w.wants(0, []string{"try", "-status", "-secret", secret, w.radius})
	w.wants(1, []string{"try", "-secret", secret, "-user", "nobody", "-password", "x", "-attr",
		"NAS-Port-Type=Ethernet", w.radius})
	w.wants(0, []string{"try", "-unsigned", "-secret", secret, "-user", "k.nance", "-password", "gangway-and-rope",
		"-attr", "NAS-Port-Type=Ethernet", w.radius}, "Vendor-Specific", "32473:1:0x0a0b")
	d := &device{w: w, session: "s-1", mac: "00-00-5E-00-53-07"}
	d.must("Start")
	d.must("Interim-Update", "Acct-Session-Time=60", "Acct-Input-Gigawords=1", "Framed-IPv6-Address=2001:db8::7")
	id := w.openSessions("").Items[0].ID
	for _, action := range []string{"change", "reauthenticate", "disconnect"} {
		w.askSession(id, apitype.SessionAsk{Action: action, Pass: "crew"})
		switches.Open("s-1", nil) // the first is refused
	}
	time.Sleep(time.Second)
	capture.Process.Signal(os.Interrupt)
	capture.Wait()
	read := func(filter string) string {
		out, err := exec.Command("tshark", append(decoded, "-r", file, "-o", "radius.shared_secret:"+secret, "-o",
			"radius.validate_authenticator:TRUE", "-Y", filter, "-V")...).Output()
		if err != nil {
			t.Fatalf("tshark: %v", err)
		}
		return string(out)
	}
	all := read("radius")
	if n := strings.Count(all, "RADIUS Protocol"); n != 18 {
		t.Errorf("%d packets were captured, wanted 18", n)
	}
	for _, want := range []string{"Tunnel-Private-Group-Id", "Idle-Timeout", "2001:db8:7::/64", "Status-Server",
		"Access-Reject", "Accounting-Response", "CoA-NAK", "CoA-ACK", "Disconnect-ACK", "Session-Context-Not-Found"} {
		if !strings.Contains(all, want) {
			t.Errorf("the decoder does not see %s", want)
		}
	}
	const faults = "radius.authenticator.invalid==1 or _ws.malformed or _ws.expert.severity >= 6291456"
	if wrong := read(faults); wrong != "" {
		t.Errorf("the decoder finds wrong:\n%s", wrong)
	}
}
