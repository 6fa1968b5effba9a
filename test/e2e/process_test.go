package e2e

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// process is a service of its own, which can be killed, and have a file system of its own.
type process struct {
	*world
	cmd *exec.Cmd
	log bytes.Buffer
	// accounting is its address for accounting.
	accounting string
}

// run starts the service in the data directory of a world. The script, if it is not empty, prepares the mounts of the
// process, with the directory in $DIR.
func (p *process) run(script string) {
	p.t.Helper()
	args := fmt.Sprintf("exec %s -data %s -http 127.0.0.1:0 -radius 127.0.0.1:0 -accounting 127.0.0.1:0 "+
		"-radius-tls none -radius-dtls none "+
		"-tacacs 127.0.0.1:0 -tacacs-tls "+
		"127.0.0.1:0",
		filepath.Join(binaries, "tollgated"), p.dir)
	p.cmd = exec.Command("sh", "-c", args)
	if script != "" {
		p.cmd = exec.Command("unshare", "--mount", "sh", "-c", "DIR="+p.dir+"; "+script+" && "+args)
	}
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	p.log.Reset()
	p.cmd.Stderr = &p.log
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		p.t.Fatal(err)
	}
	if err := p.cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	token, code := "", ""
	if p.api != nil {
		token = p.api.Token
	}
	lines := bufio.NewScanner(out)
	p.tacacs = ""
	for (p.tacacs == "" || token == "" && code == "") && lines.Scan() {
		field, value, _ := strings.Cut(strings.TrimSpace(lines.Text()), " ")
		value = strings.TrimSpace(value)
		switch {
		case field == "Console":
			p.api = &client.Client{URL: value, Token: token}
		case field == "RADIUS" && strings.HasSuffix(value, "for accounting"):
			p.accounting, _, _ = strings.Cut(value, " ")
		case field == "RADIUS":
			p.radius = value
		case field == "TACACS+" && p.tacacs == "":
			p.tacacs = value
		case strings.Contains(value, "setup code"):
			code = value[strings.LastIndex(value, " ")+1:]
		}
	}
	go func() {
		for lines.Scan() {
		}
	}()
	if p.tacacs == "" {
		p.cmd.Wait()
		p.t.Fatalf("the service did not start: %s", p.log.String())
	}
	if code != "" {
		p.do(http.MethodPost, "/setup", apitype.SetupInput{Code: code, Name: "o.brandt",
			Password: "lantern-demo-2026"}, nil)
		p.signIn()
	}
}

// signIn signs in anew.
func (p *process) signIn() {
	p.t.Helper()
	var signed apitype.SignedIn
	p.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "o.brandt", Password: "lantern-demo-2026",
		TokenName: "test"}, &signed)
	p.api.Token = signed.Token
}

func (p *process) end(how syscall.Signal) {
	p.cmd.Process.Signal(how)
	p.cmd.Wait()
}

// wait waits until Now says something, or does not any more.
func (p *process) wait(code string, there bool) apitype.Now {
	p.t.Helper()
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		var now apitype.Now
		p.do(http.MethodGet, "/now", nil, &now)
		found := false
		for _, a := range now.Attention {
			found = found || a.Code == code
		}
		if found == there {
			return now
		}
		if time.Now().After(deadline) {
			p.t.Fatalf("%s is there: %v; %+v; the log: %s", code, found, now.Attention, p.log.String())
		}
	}
}

// reports begins sessions, eight at a time, until a moment and a little longer, so that the last are cut off, and
// returns those that were acknowledged.
func (p *process) reports(round string, until time.Time) (out []string) {
	var mu sync.Mutex
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for n := 0; time.Now().Before(until); n++ {
				session := fmt.Sprintf("%s-%d-%d", round, i, n)
				r := trial.Report{Server: p.accounting, Secret: secret, Timeout: time.Second, Tries: 1,
					Attributes: []results.Attribute{{Name: "Acct-Status-Type", Value: "Start"},
						{Name: "User-Name", Value: "ann"},
						{Name: "Acct-Session-Id", Value: session}}}
				if r.Send(context.Background()) == nil {
					mu.Lock()
					out = append(out, session)
					mu.Unlock()
				}
			}
		})
	}
	all.Wait()
	return out
}

// Whatever gear was told is in the journal, and whatever was shown is still there, when the service is killed in the
// middle, again and again.
func TestKilledAgainAndAgain(t *testing.T) {
	t.Parallel()
	p := &process{world: &world{t: t, dir: t.TempDir()}}
	p.run("")
	defer func() { p.end(syscall.SIGKILL) }()
	p.gear()
	told, shown, acknowledged := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for round := range 10 {
		stop := time.Now().Add(300 * time.Millisecond)
		reported := make(chan []string)
		go func() { reported <- p.reports(fmt.Sprint(round), stop.Add(100*time.Millisecond)) }()
		g := p.device(false)
		for i := 0; time.Now().Before(stop); i++ {
			task := fmt.Sprintf("%d-%d", round, i)
			reply, err := g.Try(t.Context(), trial.GearAsk{Ask: "start", User: "ann", Args: []string{"service=shell",
				"task_id=" + task}})
			if err != nil || reply.Status != "SUCCESS" {
				t.Fatalf("%+v, %v", reply, err)
			}
			told[task] = true
			if i%3 == 0 {
				p.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: "rope"}, "FAIL")
			}
		}
		var page apitype.Page[apitype.Attempt]
		p.do(http.MethodGet, "/attempts?limit=500", nil, &page)
		for _, a := range page.Items {
			shown[a.ID] = true
		}
		p.end(syscall.SIGKILL)
		for _, one := range <-reported {
			acknowledged[one] = true
		}
		p.run("")
	}
	if open := p.openSessions("").Open; open < len(acknowledged) {
		t.Errorf("%d sessions are open, and %d were acknowledged", open, len(acknowledged))
	}
	for path, want := range map[string]map[string]bool{"/journal?kind=start": told, "/attempts?": shown,
		"/sessions?": acknowledged} {
		got, next := map[string]bool{}, ""
		for {
			var page apitype.Page[struct {
				ID      string `json:"id"`
				Task    string `json:"task"`
				Session string `json:"session"`
			}]
			p.do(http.MethodGet, path+"&limit=500&before="+next, nil, &page)
			for _, r := range page.Items {
				got[r.ID], got[r.Task], got[r.Session] = true, true, true
			}
			if next = page.Next; next == "" {
				break
			}
		}
		missing := 0
		for one := range want {
			if !got[one] {
				missing++
			}
		}
		if missing > 0 || len(want) < 5 {
			t.Errorf("%s: %d of %d are missing", path, missing, len(want))
		}
	}
}

// A disk that fills up is said; the oldest attempts make room, operators sign in and devices are answered even when
// nothing is left at all, and when there is room again the message goes.
func TestAFullDisk(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs root for a file system of its own")
	}
	t.Parallel()
	p := &process{world: &world{t: t, dir: t.TempDir()}}
	p.run("mount -t tmpfs -o size=100m tmpfs $DIR")
	defer func() { p.end(syscall.SIGTERM) }()
	p.basic("require", "127.0.0.1")
	signIn := func() {
		t.Helper()
		if reply, err := p.ask(nil); err != nil || !reply.Accepted {
			t.Fatalf("%+v, %v; the log: %s", reply, err, p.log.String())
		}
	}
	for range 300 {
		signIn()
	}
	p.wait("disk.low", false)
	inside := filepath.Join("/proc", fmt.Sprint(p.cmd.Process.Pid), "root", p.dir)
	fill := func(leave int64) {
		t.Helper()
		var s syscall.Statfs_t
		if err := syscall.Statfs(inside, &s); err != nil {
			t.Fatal(err)
		}
		more := int64(s.Bavail)*s.Bsize - leave
		f, err := os.OpenFile(filepath.Join(inside, "filler"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		block := make([]byte, 1<<16)
		for ; more > 0; more -= int64(len(block)) {
			if _, err := f.Write(block[:min(more, int64(len(block)))]); err != nil {
				return
			}
		}
	}
	fill(10 << 20)
	p.wait("disk.low", true)
	fill(1 << 20)
	p.wait("disk.sheds", true)
	fill(0)
	time.Sleep(1500 * time.Millisecond)
	fill(0) // and once more, when what was held for this is given up
	p.signIn()
	for range 200 {
		signIn()
	}
	var now apitype.Now
	p.do(http.MethodGet, "/now", nil, &now)
	if now.Lost > 0 {
		t.Errorf("%d are lost while the queue had room", now.Lost)
	}
	if n := strings.Count(p.log.String(), "\n"); n > 60 {
		t.Errorf("the log has %d lines: %s", n, p.log.String())
	}
	if err := os.Remove(filepath.Join(inside, "filler")); err != nil {
		t.Fatal(err)
	}
	p.wait("disk.sheds", false)
	p.wait("records.fail", false)
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		var page apitype.Page[apitype.Attempt]
		p.do(http.MethodGet, "/attempts?limit=500", nil, &page)
		if len(page.Items) >= 200 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d attempts are recorded; the log: %s", len(page.Items), p.log.String())
		}
	}
	p.signIn()
}
