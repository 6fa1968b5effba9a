package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/upstream/trial"
)

// counters are what is counted of clients while the service runs.
var counters = regexp.MustCompile(`(good|dropped):\d+ |lastSeen:\S+ `)

// snapshotOf reads everything that a backup must bring back, through the API.
func snapshotOf(w *world) map[string]string {
	w.t.Helper()
	out := map[string]string{}
	for _, call := range []string{"/clients", "/directories", "/realms", "/lanes", "/passes", "/accounts", "/devices",
		"/revisions", "/authorities", "/certificates", "/attempts?limit=500", "/journal?limit=500", "/expectations",
		"/command-lists", "/operators"} {
		var raw any
		w.do(http.MethodGet, call, nil, &raw)
		out[call] = counters.ReplaceAllString(fmt.Sprint(raw), "")
	}
	return out
}

// A backup that is made while devices sign in and gear is administered restores into an empty directory; everything is
// as it was, value by value, and people sign in.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	login := trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor"}
	w.asks(w.device(false), login, "PASS")
	dir := t.TempDir()
	file, passphrase := filepath.Join(dir, "all.backup"), "lantern-and-rope"
	stop := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
				w.app.Attempts.Add(&store.Attempt{At: time.Now(), Verdict: "refused", Reason: "person.unknown",
					Client: "np-switch-1", Who: fmt.Sprint("x", i), Facts: []byte("{}")})
				time.Sleep(50 * time.Microsecond)
			}
		}
	}()
	out, code := w.run(passphrase+"\n", "tollgate", "backup", "create", file)
	close(stop)
	<-ended
	if code != 0 || !strings.Contains(out, "is whole") || !strings.Contains(out, "tollgate.db") ||
		!strings.Contains(out,
			"tollgated -data DIR -restore") {
		t.Fatalf("making a backup: %d, %s", code, out)
	}
	want := snapshotOf(w)
	if out, code := w.run(passphrase+"\n", "tollgate", "backup", "create", file); code == 0 || !strings.Contains(out,
		"exists") {
		t.Errorf("over a file that exists: %s", out)
	}
	if out, code := w.run("short\n", "tollgate", "backup", "create", file+"2"); code == 0 || !strings.Contains(out,
		"at least 12 characters") {
		t.Errorf("with a short passphrase: %s", out)
	}
	if out, code := w.run(passphrase+"\n", "tollgate", "backup", "verify", file); code != 0 || !strings.Contains(out,
		"attempts, ") {
		t.Errorf("verifying: %s", out)
	}
	if out, code := w.run("another-passphrase\n", "tollgate", "backup", "verify", file); code == 0 ||
		!strings.Contains(out,
			"not the one that the backup was made with") {
		t.Errorf("with another passphrase: %s", out)
	}
	damaged(t, w, file, passphrase)

	restored := filepath.Join(dir, "restored")
	if out, err := restoreCommand(passphrase, restored, file); err != nil || !strings.Contains(out, "Restored into") {
		t.Fatalf("restoring: %s, %v", out, err)
	}
	if out, err := restoreCommand(passphrase, restored, file); err == nil || !strings.Contains(out, "is not empty") {
		t.Errorf("over what is there: %s", out)
	}
	other := &world{t: t, dir: restored, api: w.api}
	other.boot()
	got := snapshotOf(other)
	for call := range want {
		if call != "/attempts?limit=500" && got[call] != want[call] {
			t.Errorf("%s was\n%s\nand is\n%s", call, want[call], got[call])
		}
	}
	if n := other.app.Attempts.Len(); n == 0 || n > w.app.Attempts.Len() {
		t.Errorf("%d attempts are there of %d", n, w.app.Attempts.Len())
	}
	other.asks(other.device(false), login, "PASS") // its secrets open, and its people sign in
}

// damaged tries backups that are cut short, altered, of another kind, or without the key.
func damaged(t *testing.T, w *world, file, passphrase string) {
	t.Helper()
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	flipped := bytes.Clone(whole)
	flipped[len(flipped)-100] ^= 1
	for name, content := range map[string][]byte{"cut": whole[:len(whole)/2], "shorter": whole[:len(whole)-1],
		"flipped": flipped, "another": []byte("-----BEGIN CERTIFICATE-----"), "empty": nil} {
		path, into := filepath.Join(t.TempDir(), name), filepath.Join(t.TempDir(), "into")
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		if out, code := w.run(passphrase+"\n", "tollgate", "backup", "verify", path); code == 0 ||
			!strings.Contains(out, "no whole backup") {
			t.Errorf("%s: %s", name, out)
		}
		out, err := restoreCommand(passphrase, into, path)
		if left, _ := os.ReadDir(into); err == nil || !strings.Contains(out, "no whole backup") || len(left) != 0 {
			t.Errorf("restoring %s: %s; %v is left", name, out, left)
		}
	}
	without := filepath.Join(t.TempDir(), "without.backup")
	if out, code := w.run(passphrase+"\n", "tollgate", "backup", "create", without, "-without-key"); code != 0 ||
		!strings.Contains(out, "The key file is not in it") {
		t.Errorf("without the key: %s", out)
	}
	into := filepath.Join(t.TempDir(), "into")
	if out, err := restoreCommand(passphrase, into, without); err == nil || !strings.Contains(out, "-restore-key") {
		t.Errorf("restoring without the key: %s", out)
	}
	if out, err := restoreCommand(passphrase, into, without, "-restore-key", filepath.Join(w.dir, "key")); err != nil {
		t.Errorf("with the key from elsewhere: %s", out)
	}
}

func restoreCommand(passphrase, dir, file string, more ...string) (string, error) {
	cmd := exec.Command(filepath.Join(binaries, "tollgated"), append([]string{"-data", dir, "-restore", file},
		more...)...)
	cmd.Stdin = strings.NewReader(passphrase + "\n")
	out, err := cmd.CombinedOutput()
	return string(out), err
}
