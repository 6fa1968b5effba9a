package e2e

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// output collects what a process writes.
type output struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.String()
}

// TestDemoFromAFreshClone does what the README says, in a clone, with ports of its own, twice.
func TestDemoFromAFreshClone(t *testing.T) {
	t.Parallel()
	need(t, "git", "npm", "make")
	dir := filepath.Join(t.TempDir(), "clone")
	if out, err := exec.Command("git", "clone", "-q", root(), dir).CombinedOutput(); err != nil {
		t.Fatalf("cloning: %v\n%s", err, out)
	}
	web, ldaps, ldap := freePort(t), freePort(t), freePort(t)
	radius := freePort(t)
	// another demo may run beside this one
	others := " -dhcp " + freePort(t) + " -syslog " + freePort(t) + " -accounting " + freePort(
		t,
	) + " -radius-tls " + freePort(
		t,
	) + " -logs " + freePort(
		t,
	) + " -mail " + freePort(
		t,
	) + " -dns " +
		freePort(
			t,
		) + " -partner " + freePort(
		t,
	) + " -provider " + freePort(
		t,
	) + " -tacacs " + freePort(
		t,
	) +
		" -tacacs-tls " + freePort(
		t,
	) + " -portal " + freePort(
		t,
	)
	for round := range 2 {
		out := &output{}
		cmd := exec.Command("make", "demo", "DEMO_FLAGS=-http "+web+" -radius "+radius+" -ldaps "+ldaps+" -ldap "+
			ldap+others+" -every 50ms")
		cmd.Dir = dir
		cmd.Stdout, cmd.Stderr = out, out
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		stop := func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }
		deadline := time.Now().Add(6 * time.Minute)
		for !strings.Contains(out.String(), "Lantern Ferries is open") {
			select {
			case err := <-ended:
				t.Fatalf("round %d: the demo ended by itself: %v\n%s", round+1, err, out)
			case <-time.After(100 * time.Millisecond):
			}
			if time.Now().After(deadline) {
				stop()
				t.Fatalf("round %d: the demo does not start:\n%s", round+1, out)
			}
		}
		playDemo(t, dir, web)
		stop()
		select {
		case <-ended:
		case <-time.After(15 * time.Second):
			syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
			t.Fatalf("round %d: the demo does not end", round+1)
		}
		if !strings.Contains(out.String(), "The demo has ended.") {
			t.Errorf("round %d ends with\n%s", round+1, out)
		}
		if resp, err := http.Get("http://" + web + "/"); err == nil {
			resp.Body.Close()
			t.Errorf("round %d: the service still answers", round+1)
		}
	}
	status, err := exec.Command("git", "-C", dir, "status", "--porcelain").Output()
	if err != nil || len(status) > 0 {
		t.Errorf("building and running leaves files that git does not ignore: %s %v", status, err)
	}
}

// playDemo sources .demo/env in a shell, as a person would, signs somebody in, and reads the attempt and the page.
func playDemo(t *testing.T, dir, web string) {
	t.Helper()
	shell := func(script string) string {
		t.Helper()
		cmd := exec.Command("sh", "-c", ". .demo/env; "+script)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "HOME="+dir)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", script, err, out)
		}
		return string(out)
	}
	out := shell(
		`bin/tollgate try -user "$DEMO_USER" -password "$DEMO_PASSWORD" -secret "$DEMO_CLIENT_SECRET" -from "$DEMO_CLIENT_ADDR" -attr NAS-Port-Type=Ethernet "$DEMO_RADIUS"`,
	)
	if !strings.Contains(out, "Access-Accept") || !strings.Contains(out, "Tunnel-Private-Group-ID    20") {
		t.Errorf("the person of the demo gets\n%s", out)
	}
	if out := shell("bin/tollgate attempt follow -count 3"); strings.Count(out, "\n") < 3 {
		t.Errorf("following shows\n%s", out)
	}
	if out := shell("bin/tollgate directory test LANTERN -person s.lodge"); !strings.Contains(
		out,
		"Sunniva Lodge",
	) {
		t.Errorf("the directory test says\n%s", out)
	}
	token := strings.TrimSpace(shell(`printf %s "$TOLLGATE_TOKEN"`))
	c := &client.Client{URL: "http://" + web, Token: token}
	var now apitype.Now
	for range 100 {
		var err error
		if now, err = client.Get[apitype.Now](context.Background(), c, "/now"); err != nil {
			t.Fatal(err)
		}
		if now.Admitted > 5 && now.Refused > 1 && len(now.Attention) >= 2 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if now.Admitted <= 5 || now.Refused <= 1 || len(now.Attention) < 2 {
		t.Errorf("the demo shows %d admitted, %d refused, attention %+v", now.Admitted, now.Refused, now.Attention)
	}
	resp, err := http.Get("http://" + web + "/attempts")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	page, _ := io.ReadAll(resp.Body)
	if !strings.Contains(string(page), "/assets/index-") {
		t.Errorf("the console is not built into the service:\n%s", page)
	}
}
