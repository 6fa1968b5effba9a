package e2e

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// A real 802.1X port: an authenticator and a supplicant at the two ends of a cable, in a network namespace of their
// own.
func TestARealPort(t *testing.T) {
	need(t, "hostapd", "wpa_supplicant", "ip")
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	w := start(t)
	w.tunnelled(nil)
	w.issue("Lantern", "k", apitype.IssueInput{UPN: "k.nance@lanternferries.example"})
	ns := fmt.Sprintf("tk%d", os.Getpid())
	ip := func(args ...string) {
		t.Helper()
		if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
			t.Fatalf("ip %s: %v %s", strings.Join(args, " "), err, out)
		}
	}
	ip("netns", "add", ns)
	t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
	ip("link", "add", ns+"a", "type", "veth", "peer", "name", ns+"b", "netns", ns)
	t.Cleanup(func() { exec.Command("ip", "link", "del", ns+"a").Run() })
	ip("link", "set", ns+"a", "up")
	ip("netns", "exec", ns, "ip", "link", "set", ns+"b", "up")
	host, port, _ := net.SplitHostPort(w.radius)
	das := int(netip.MustParseAddrPort(freePort(t)).Port())
	w.changes("np-switch-1", func(s *config.ClientSessions) { s.ChangePort = das })
	authenticator := w.write("hostapd.conf",
		fmt.Sprintf("interface=%sa\ndriver=wired\nieee8021x=1\nuse_pae_group_addr=1\nnas_identifier=np-switch-1\n"+
			"auth_server_addr=%s\nauth_server_port=%s\nauth_server_shared_secret=%s\n"+
			"radius_auth_req_attr=61:d:15\nradius_auth_req_attr=87:s:1/0/8\n"+
			"acct_server_addr=%[2]s\nacct_server_port=%[5]d\nacct_server_shared_secret=%[4]s\n"+
			"radius_acct_interim_interval=2\nradius_das_port=%[6]d\nradius_das_client=127.0.0.1 %[4]s\n"+
			"radius_das_require_event_timestamp=1\nradius_das_require_message_authenticator=1\n", ns, host, port,
			secret,
			w.app.Accounting[0].Port(), das))
	log := w.background(t, "hostapd", "-d", authenticator)
	waitFor(t, "the authenticator", func() bool { return strings.Contains(read(log), "AP-ENABLED") })
	n := 0
	for _, method := range []string{"peap-mschapv2", "eap-tls", "ttls-pap"} {
		block := strings.ReplaceAll(careful(method), "DIR", w.dir)
		conf := w.write("supplicant-"+method+".conf", "ap_scan=0\nnetwork={\n key_mgmt=IEEE8021X\n eapol_flags=0\n"+
			block+"\n}\n")
		ctx, cancel := context.WithCancel(context.Background())
		cmd := exec.CommandContext(ctx, "ip", "netns", "exec", ns, "wpa_supplicant", "-Dwired", "-i"+ns+"b", "-c"+conf)
		out, _ := os.Create(filepath.Join(w.dir, "supplicant.log"))
		cmd.Stdout, cmd.Stderr = out, out
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		waitFor(t, method+" at the port", func() bool {
			return strings.Contains(read(out.Name()), "CTRL-EVENT-CONNECTED")
		})
		n++
		if a := w.newest(n); a.Verdict != "admitted" || a.Facts.Method != method || a.Facts.NAS != "np-switch-1" ||
			a.Facts.MAC == "" || a.Where != "port 1/0/8" {
			t.Errorf("%s is recorded as %+v by %s", method, a.Attempt, a.Facts.Method)
		}
		w.portSession(t, method)
		cancel()
		cmd.Wait()
		out.Close()
	}
}

// portSession looks at the session on the port, and has it ended: hostapd takes Disconnect-Requests, and no changes.
func (w *world) portSession(t *testing.T, method string) {
	t.Helper()
	var s apitype.Session
	var open []apitype.Session
	defer func() {
		if t.Failed() {
			t.Logf("open: %+v, its story: %+v", open, w.session(s.ID).Story)
		}
	}()
	waitFor(t, "the session of "+method, func() bool {
		open = w.openSessions("").Items
		if len(open) == 1 {
			s = open[0]
		}
		return len(open) == 1 && s.Seconds >= 2 // an interim record has come
	})
	if s.Pass != "crew" || s.User != "k.nance" || s.NAS != "np-switch-1" || s.MAC == "" {
		t.Errorf("the session of %s is %+v", method, s)
	}
	if a := w.askSession(s.ID, apitype.SessionAsk{Action: "reauthenticate"}); a.Done || a.Cause != 402 &&
		a.Cause != 401 {
		t.Errorf("hostapd answers a CoA-Request with %+v", a)
	}
	if a := w.askSession(s.ID, apitype.SessionAsk{Action: "disconnect"}); !a.Done {
		t.Errorf("hostapd answers a Disconnect-Request with %+v", a)
	}
	waitFor(t, "the end of the session", func() bool {
		for _, e := range w.session(s.ID).Story {
			if e.Kind == "stop" {
				return true
			}
		}
		return false
	})
}

func read(path string) string {
	b, _ := os.ReadFile(path)
	return string(b)
}

func waitFor(t testing.TB, what string, done func() bool) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if done() {
			return
		}
	}
	t.Fatalf("waited in vain for %s", what)
}

// background runs a program until the test ends and returns the file it writes to.
func (w *world) background(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := os.Create(filepath.Join(w.dir, filepath.Base(name)+".log"))
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		out.Close()
	})
	return out.Name()
}
