package e2e

import (
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/upstream/trial"
)

// tacacsPerl signs in as a client program of another author does, in the ways that it knows.
const tacacsPerl = `
use Authen::TacacsPlus;
use Digest::MD5 'md5';
my ($port, $key, $user, $password) = @ARGV;
for my $try (['ascii', $password, 1], ['pap', $password, 2],
    ['chap', "\x07" . "0123456789abcdef" . md5("\x07" . $password . "0123456789abcdef"), 3]) {
  my $tac = Authen::TacacsPlus->new(Host => '127.0.0.1', Key => $key, Port => $port, Timeout => 5) or die "new: " . Authen::TacacsPlus::errmsg();
  print "$try->[0] ", ($tac->authen($user, $try->[1], $try->[2]) ? 'in' : 'out'), "\n";
  $tac->close();
}
`

// tacacsPython speaks all three kinds with the packets of another author.
const tacacsPython = `
import socket, sys
import scapy.contrib.tacacs as t
port, t.SECRET = int(sys.argv[1]), sys.argv[2]
def ask(conn, packet):
    conn.sendall(bytes(packet))
    head = conn.recv(12, socket.MSG_WAITALL)
    return t.TacacsHeader(head + conn.recv(int.from_bytes(head[8:12], 'big'), socket.MSG_WAITALL))
def args(body, list):
    for a in list:
        body = body / t.TacacsPacketArguments(data=a)
    return body
conn = socket.create_connection(('127.0.0.1', port))
r = ask(conn, t.TacacsHeader(type=1, seq=1, session_id=7) / t.TacacsAuthenticationStart(action=1, priv_lvl=1, authen_type=1, authen_service=1, user='ann', port='tty1', rem_addr='192.0.2.60'))
print('authentication', r.status, r[t.TacacsAuthenticationReply].flags, r[t.TacacsAuthenticationReply].server_msg.decode())
r = ask(conn, t.TacacsHeader(type=1, seq=3, session_id=7) / t.TacacsAuthenticationContinue(flags=0, user_msg='rope-and-anchor'))
print('authentication', r.status)
conn = socket.create_connection(('127.0.0.1', port))
a = [b'service=shell', b'cmd=show', b'cmd-arg=version', b'cmd-arg=<cr>']
r = ask(conn, t.TacacsHeader(type=2, seq=1, session_id=8) / args(t.TacacsAuthorizationRequest(authen_method=6, priv_lvl=15, authen_type=1, authen_service=1, user='ann', port='tty1', rem_addr='192.0.2.60', arg_len_list=[len(x) for x in a]), a))
print('authorization', r.status)
conn = socket.create_connection(('127.0.0.1', port))
a = [b'service=shell', b'cmd=']
r = ask(conn, t.TacacsHeader(type=2, seq=1, session_id=9) / args(t.TacacsAuthorizationRequest(authen_method=6, priv_lvl=1, authen_type=1, authen_service=1, user='ann', arg_len_list=[len(x) for x in a]), a))
list = []
p = r[t.TacacsPacketArguments]
while isinstance(p, t.TacacsPacketArguments):
    list.append(p.data.decode())
    p = p.payload
print('shell', r.status, ' '.join(list))
conn = socket.create_connection(('127.0.0.1', port))
a = [b'task_id=5', b'service=shell']
r = ask(conn, t.TacacsHeader(type=3, seq=1, session_id=10) / args(t.TacacsAccountingRequest(flags=2, authen_method=6, authen_type=1, authen_service=1, user='ann', arg_len_list=[len(x) for x in a]), a))
print('accounting', r.status)
`

func TestTACACSClientsOfOtherAuthors(t *testing.T) {
	t.Parallel()
	need(t, "perl", "/usr/bin/python3", "/usr/lib/python3/dist-packages/scapy/contrib/tacacs.py")
	if found, _ := filepath.Glob("/usr/lib/*/perl5/*/Authen/TacacsPlus.pm"); len(found) == 0 {
		need(t, "libauthen-tacacsplus-perl")
	}
	w := start(t)
	w.gear()
	_, port, _ := net.SplitHostPort(recorded(t, "tcp", w.tacacs, "Authen::TacacsPlus; ann with the right password, "+
		"then with a wrong one. Key: "+gearSecret, "front", "tacacs", "testdata", "perl.txt"))
	_, scapy, _ := net.SplitHostPort(recorded(t, "tcp", w.tacacs, "scapy; ann signs in, asks for a command and a "+
		"shell, and reports. Key: "+gearSecret, "front", "tacacs", "testdata", "scapy.txt"))
	for _, password := range []string{"rope-and-anchor", "wrong"} {
		want := map[string]string{"rope-and-anchor": "ascii in\npap in\nchap in\n",
			"wrong": "ascii out\npap out\nchap out\n"}[password]
		out, err := exec.Command("perl", "-e", tacacsPerl, port, gearSecret, "ann", password).CombinedOutput()
		if err != nil || string(out) != want {
			t.Errorf("Perl with %q: %v\n%s", password, err, out)
		}
	}
	out, err := exec.Command("/usr/bin/python3", "-c", tacacsPython, scapy, gearSecret).CombinedOutput()
	want := "authentication 5 1 Password: \nauthentication 1\nauthorization 1\nshell 1 priv-lvl=15 timeout=61 " +
		"idletime=10 acl=7 hint*ann@lanternferries.example\naccounting 1\n"
	if err != nil || string(out) != want {
		t.Errorf("scapy: %v\n%s, want\n%s", err, out, want)
	}
	if e := w.entries("task=5", 1)[0]; e.Kind != "start" || e.User != "ann" {
		t.Errorf("what scapy reported is %+v", e)
	}
	if e := w.entries("kind=command&user=ann", 1)[0]; e.Command != "show version" || e.From != "192.0.2.60" {
		t.Errorf("what scapy asked is %+v", e)
	}
}

// dissector is how the decoder calls this protocol.
const dissector = "tacp" + "lus"

// An independent decoder, given the key, finds every packet whole, and reads in it what was said.
func TestTACACSAsTsharkSeesIt(t *testing.T) {
	need(t, "tshark")
	w := start(t)
	w.gear()
	_, port, _ := net.SplitHostPort(w.tacacs)
	file := filepath.Join(t.TempDir(), "gear.pcapng")
	capture := exec.Command("tshark", "-q", "-i", "lo", "-f", "tcp port "+port, "-w", file)
	if err := capture.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2500 * time.Millisecond)
	g := w.device(true)
	for _, method := range trial.GearMethods {
		w.asks(g, trial.GearAsk{Ask: "login", Method: method, User: "ann", Password: "rope-and-anchor"}, "PASS")
	}
	w.asks(g, trial.GearAsk{Ask: "password", User: "ann", Password: "rope-and-anchor", New: "another-rope-1"}, "PASS")
	w.asks(g, trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	w.asks(g, trial.GearAsk{Ask: "command", User: "lou", Command: "reload"}, "FAIL")
	w.asks(g, trial.GearAsk{Ask: "start", User: "ann", Args: []string{"task_id=5"}}, "SUCCESS")
	w.asks(w.device(false), trial.GearAsk{Ask: "login", User: "ann", Password: "wrong"}, "FAIL")
	time.Sleep(500 * time.Millisecond)
	capture.Process.Signal(os.Interrupt)
	capture.Wait()
	read := func(filter string) string {
		out, err := exec.Command("tshark", "-r", file, "-d", "tcp.port=="+port+","+dissector, "-o", dissector+".key:"+
			gearSecret, "-Y", filter, "-V").Output()
		if err != nil {
			t.Fatalf("tshark: %v", err)
		}
		return string(out)
	}
	if bad := read("_ws.malformed || " + dissector + " && _ws.expert.severity == error"); bad != "" {
		t.Errorf("tshark finds faults:\n%.3000s", bad)
	}
	all := read(dissector)
	if n := strings.Count(all, "Type: Authentication (1)"); n < 20 {
		t.Errorf("%d packets of authentication were seen", n)
	}
	for _, want := range []string{"priv-lvl=15", "Authentication Passed", "Authentication Failed", "Send Password",
		"task_id=5", "Single Connection"} {
		if !strings.Contains(all, want) {
			t.Errorf("tshark does not see %q", want)
		}
	}
}

func TestCommandListsFromTheCommandLine(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.wants(0, []string{"command-list", "add", "ports", "-line", "permit configure terminal", "-line",
		"permit interface gi*|te*", "-line", "refuse interface gi0/1", "-extends", "looking"}, "added in the draft")
	w.wants(1, []string{"command-list", "try", "ports", "show version", "interface Gi0/1", "reload"},
		"/ admitted  show version", "line 2 of looking: show *", "/ admitted  interface Gi0/1", "line 2 of ports",
		"- refused   reload", "no line fits")
	w.wants(0, []string{"command-list", "show", "ports"}, "never decides",
		"line 3 (interface gi0/1) never decides: line 2 (interface gi*|te*) before it takes all its commands",
		"looking 2", "otherwise")
	w.wants(1, []string{"draft", "analyse"}, "never decides", "no pass uses this command list")
	w.wants(0, []string{"pass", "change", "bare", "-commands", "ports", "-level", "7", "-argument",
		"ppp:addr=192.0.2.4", "-argument", "hint*x"}, "changed")
	w.wants(0, []string{"pass", "show", "bare"}, "Management-Privilege-Level", "priv-lvl", "7", "ppp", "ports")
	w.wants(0, []string{"command-list", "change", "ports", "-name", "switch-ports"}, "changed")
	w.wants(0, []string{"pass", "show", "bare"}, "switch-ports")
	w.wants(1, []string{"command-list", "add", "faulty", "-line", "permit show a|"}, "column 7",
		"an alternative is empty")
	w.wants(2, []string{"command-list", "add", "faulty", "-line", "allow show"}, "permit or refuse")
	w.wants(1, []string{"command-list", "change", "looking", "-extends", "switch-ports"}, "refers to itself")
	w.refused(422, http.MethodPost, "/passes", map[string]any{"name": "x", "privilegeLevel": "16"}, "privilegeLevel",
		"Use 0 to 15")
	w.refused(422, http.MethodPost, "/passes", map[string]any{"name": "x", "commands": "none"},
		`there is no command list "none"`)
	w.refused(422, http.MethodPost, "/passes", map[string]any{"name": "x", "arguments": []config.Argument{{Name: "cmd",
		Value: "y"}}}, "is sent by the device")
	text := w.wants(0, []string{"config", "export"}, "commandLists:", `pattern: "interface gi*|te*"`,
		"privilegeLevel: \"7\"")
	file := filepath.Join(t.TempDir(), "all.yaml")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	w.wants(0, []string{"config", "compare", file}, "No difference")
	out := w.wants(0, []string{"try", "-protocol", "tacacs", "-user", "ann", "-password", "rope-and-anchor", "-secret",
		gearSecret, "-rounds", w.tacacs}, "PASS", "GETPASS")
	if strings.Contains(out, "rope-and-anchor") {
		t.Error("the rounds show the password")
	}
	w.wants(1, []string{"try", "-protocol", "tacacs", "-ask", "command", "-command", "reload", "-user", "lou",
		"-secret", gearSecret, w.tacacs}, "- refused", "FAIL", "Not permitted.")
	w.wants(0, []string{"try", "-protocol", "tacacs", "-ask", "shell", "-user", "ann", "-secret", gearSecret,
		w.tacacs}, "PASS_ADD", "priv-lvl=15")
	w.wants(0, []string{"try", "-protocol", "tacacs", "-ask", "start", "-arg", "task_id=3", "-user", "ann", "-secret",
		gearSecret, w.tacacs}, "SUCCESS")
	w.wants(2, []string{"try", "-protocol", "diameter", "-user", "ann", w.tacacs}, "-protocol takes")
}
