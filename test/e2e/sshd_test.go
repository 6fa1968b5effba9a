package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/approval"
)

// sshd serves SSH with the PAM service of that name: the server asks for the service that it is itself called by.
func sshd(t *testing.T, service string) string {
	t.Helper()
	const server = "/usr/sbin/sshd"
	need(t, server)
	need(t, "ssh")
	need(t, "ssh-keygen")
	dir := t.TempDir()
	text, err := os.ReadFile(server)
	if err != nil {
		t.Fatal(err)
	}
	program, key := filepath.Join(dir, service), filepath.Join(dir, "key")
	if err := os.WriteFile(program, text, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("making a host key: %s", out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			file, err := conn.(*net.TCPConn).File()
			conn.Close()
			if err != nil {
				continue
			}
			cmd := exec.Command(program, "-i", "-e", "-f", "/dev/null", "-h", key, "-o", "UsePAM=yes", "-o",
				"KbdInteractiveAuthentication=yes", "-o", "AuthenticationMethods=keyboard-interactive", "-o",
				"PasswordAuthentication=no", "-o", "PubkeyAuthentication=no")
			cmd.Stdin, cmd.Stdout = file, file
			go func() {
				defer file.Close()
				cmd.Run() // what it says is of the client
			}()
		}
	}()
	return l.Addr().String()
}

// ssh signs in to a server as a system user, with what is typed at each prompt; it returns what the client says.
func ssh(t *testing.T, server, answers string) string {
	t.Helper()
	dir := t.TempDir()
	asked := filepath.Join(dir, "answers")
	if err := os.WriteFile(asked, []byte("#!/bin/sh\n"+answers), 0o755); err != nil {
		t.Fatal(err)
	}
	host, port, _ := net.SplitHostPort(server)
	cmd := exec.Command("ssh", "-v", "-F", "/dev/null", "-o", "PreferredAuthentications=keyboard-interactive", "-o",
		"NumberOfPasswordPrompts=1", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o",
		"ConnectTimeout=20", "-p", port, "games@"+host, "true")
	cmd.Env = append(os.Environ(), "SSH_ASKPASS="+asked, "SSH_ASKPASS_REQUIRE=force", "DISPLAY=none")
	out, _ := cmd.CombinedOutput() // the shell of that user lets nobody in
	return string(out)
}

// A server that people sign in to by SSH asks for the password, and then for the code, or shows the number for the
// phone (RFC 4256).
func TestSSHAsksForTheSecondFactor(t *testing.T) {
	t.Parallel()
	w := start(t)
	service := w.pam()
	server := sshd(t, service)
	w.basic("off", "127.0.0.1")
	w.account("games", wadePassword, "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-when", "always", "-second-factor", "any", "-factor-text",
		"Code, or {number} on the phone: ", "-publish"}, "revision")
	games, _ := w.enrol("games")
	const in = "Authenticated to 127.0.0.1"
	for _, c := range []struct {
		code string
		in   bool
	}{{"000000", false}, {games.next(), true}} {
		out := ssh(t, server, fmt.Sprintf(`case "$1" in *"on the phone"*) echo %s;; *) echo %s;; esac`, c.code,
			wadePassword))
		if strings.Contains(out, in) != c.in {
			t.Errorf("with the code %s:\n%s", c.code, out)
		}
	}
	if a := w.newest(2); a.Facts.Factor.By != "code" {
		t.Errorf("recorded: %+v", a.Facts.Factor)
	}
	wade := w.phoneOf("games", wadePassword, "phone")
	shown := filepath.Join(t.TempDir(), "shown")
	came := make(chan string, 1)
	go func() {
		came <- ssh(t, server, fmt.Sprintf(`case "$1" in *"on the phone"*) echo "$1" > %s; echo y;; *) echo %s;; esac`,
			shown, wadePassword))
	}()
	ask := waits(t, wade)
	number := 0
	end := time.Now().Add(30 * time.Second)
	for ; number == 0 && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		text, _ := os.ReadFile(shown)
		_, after, _ := strings.Cut(string(text), "Code, or ") // the client puts the address before
		number, _ = strconv.Atoi(shownNumber.FindString(after))
	}
	says(t, wade, ask, approval.Approved, number, approval.Approved)
	if out := <-came; !strings.Contains(out, in) {
		t.Errorf("approved on the phone:\n%s", out)
	}
	if a := w.newest(3); a.Facts.Factor.By != "approval" {
		t.Errorf("recorded: %+v", a.Facts.Factor)
	}
}
