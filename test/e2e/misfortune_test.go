package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	_ "modernc.org/sqlite"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func local(n byte) netip.Addr { return netip.AddrFrom4([4]byte{127, 0, 0, n}) }

// fails starts the service in a directory, which must refuse to start and say why. The script prepares the mounts.
func fails(t *testing.T, dir, script, says string) {
	t.Helper()
	args := fmt.Sprintf("exec %s -data %s -http 127.0.0.1:0 -radius 127.0.0.1:0 -tacacs ''",
		filepath.Join(binaries, "tollgated"), dir)
	cmd := exec.Command("sh", "-c", args)
	if script != "" {
		cmd = exec.Command("unshare", "--mount", "sh", "-c", script+" && "+args)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	ended := make(chan struct{})
	go func() {
		select {
		case <-ctx.Done():
			cmd.Process.Kill()
		case <-ended:
		}
	}()
	out, err := cmd.CombinedOutput()
	close(ended)
	if err == nil || ctx.Err() != nil {
		t.Errorf("it starts: %v\n%s", err, out)
	}
	if !strings.Contains(string(out), says) || strings.Contains(string(out), "goroutine") {
		t.Errorf("it says\n%swhich does not hold %q", out, says)
	}
}

// A data directory that cannot be used stops the start with a message that says what to do, and stays as it was.
func TestStartsThatAreRefused(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	fails(t, w.dir, "", "is in use by another tollgated: stop that one first")
	w.app.Stop()
	file := filepath.Join(w.dir, "tollgate.db")
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for what, damage := range map[string]func([]byte) []byte{
		"cut in half":  func(b []byte) []byte { return b[:len(b)/2/8192*8192] },
		"of zeros":     func(b []byte) []byte { return append(bytes.Repeat([]byte{0}, 8192), b[8192:]...) },
		"another file": func([]byte) []byte { return bytes.Repeat([]byte("not a database\n"), 1000) },
	} {
		damaged := damage(bytes.Clone(whole))
		if err := os.WriteFile(file, damaged, 0o600); err != nil {
			t.Fatal(err)
		}
		fails(t, w.dir, "", "the file is damaged. Restore a backup into an empty data directory")
		if after, _ := os.ReadFile(file); len(after) < len(damaged) {
			t.Errorf("%s: the start made the file smaller", what)
		}
	}
	if err := os.WriteFile(file, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if os.Getuid() == 0 {
		fails(t, w.dir, fmt.Sprintf("mount --bind %s %s && mount -o remount,ro,bind %s", w.dir, w.dir, w.dir), w.dir)
	}
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (4000, 1)")
	if err = errors.Join(err, db.Close()); err != nil {
		t.Fatal(err)
	}
	fails(t, w.dir, "", "a newer version of the service made this file: it has schema 4000")
	if err := os.WriteFile(file, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, log := range []string{"-wal", "-shm"} {
		os.Remove(file + log)
	}
	w.boot()
	if reply, err := w.ask(nil); err != nil || reply.Code != "Access-Accept" {
		t.Errorf("with its own file again: %s, %v", reply.Code, err)
	}
}

// The clock is an hour back after a start, and a year ahead after the next: everything is recorded, found by the name
// of the person in the order it came in, and nothing of it is removed.
func TestTheClockJumpsWhileTheServiceIsStopped(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	asked := 0
	ask := func(n int) {
		t.Helper()
		for range n {
			asked++
			reply, err := w.ask(func(r *trial.Request) {
				r.Attributes[1].Value = fmt.Sprintf("1/0/%d", asked)
			})
			if err != nil || reply.Code != "Access-Accept" {
				t.Fatalf("request %d: %s, %v", asked, reply.Code, err)
			}
		}
	}
	ask(20)
	for _, by := range []time.Duration{-time.Hour, 365 * 24 * time.Hour, 0} {
		w.app.Stop()
		a, err := app.Start(context.Background(), app.Options{Data: w.dir, HTTP: "127.0.0.1:0",
			RADIUS: []string{"127.0.0.1:0"}, TACACS: []string{"127.0.0.1:0"}, KeepAttempts: 90 * 24 * time.Hour,
			Now: func() time.Time { return time.Now().Add(by) }})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(a.Stop)
		w.app, w.radius, w.api.URL = a, a.RADIUS[0].String(), a.URL
		ask(20)
		page := w.attempts("user=k.nance", asked)
		if len(page) != asked {
			t.Fatalf("with the clock moved by %v, %d of %d attempts are found", by, len(page), asked)
		}
		for i := range page {
			if want := fmt.Sprintf("1/0/%d", asked-i); !strings.Contains(page[i].Where, want) {
				t.Fatalf("with the clock moved by %v, attempt %d from the end is at %s, not %s", by, i, page[i].Where,
					want)
			}
		}
	}
}

// Nothing in the place of an object is refused, in a call as in a file.
func TestNothingInThePlaceOfAPolicy(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	lane := map[string]any{"name": "Wired", "when": "always", "methods": []string{"pap"}, "policies": []any{nil}}
	for method, path := range map[string]string{http.MethodPost: "/lanes", http.MethodPut: "/lanes/Wired"} {
		err := w.api.Do(context.Background(), method, path, lane, nil, client.IfMatch("*"))
		if p, ok := err.(*apitype.Problem); !ok || p.Status != http.StatusUnprocessableEntity {
			t.Errorf("%s %s: %v", method, path, err)
		}
	}
	w.wants(1, []string{"config", "apply", "-yes", w.write("empty.yaml", "tollgate: 1\nclients:\n-\n...\n")},
		"entry 1 of clients is empty")
	if reply, err := w.ask(nil); err != nil || reply.Code != "Access-Accept" {
		t.Errorf("after that: %s, %v", reply.Code, err)
	}
}

// Whatever is searched for, by however many, is answered or refused in words.
func TestSearchesThatAreOdd(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	if _, err := w.ask(nil); err != nil {
		t.Fatal(err)
	}
	w.attempts("", 1)
	w.refused(422, http.MethodGet, "/attempts?q="+strings.Repeat("x", 4096), nil, "q")
	w.refused(422, http.MethodGet, "/clients?q="+strings.Repeat("x", 4096), nil, "q")
	for _, q := range []string{"%", "_", "*", "user=*", `\`, "'; DROP TABLE objects; --", "\x00", "ü", "((((",
		"user="} {
		for _, path := range []string{"/attempts", "/accounts", "/devices", "/clients", "/journal"} {
			var out map[string]any
			err := w.api.Do(context.Background(), http.MethodGet, path+"?q="+url.QueryEscape(q), nil, &out)
			if p, refused := err.(*apitype.Problem); err != nil && (!refused || p.Status >= 500) {
				t.Errorf("%s, searched for %q: %v", path, q, err)
			}
		}
	}
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			var page apitype.Page[apitype.Attempt]
			if err := w.api.Do(context.Background(), http.MethodGet, "/attempts?user=zz*", nil, &page); err != nil {
				t.Errorf("one of fifty: %v", err)
			}
		})
	}
	all.Wait()
}
