package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// receiver is a real receiver of syslog, which writes what it made of each message into a file, as one line of JSON.
type receiver struct {
	t             *testing.T
	dir           string
	udp, tcp, tls string
	cmd           *exec.Cmd
}

func (r *receiver) start() {
	r.t.Helper()
	conf := fmt.Sprintf(`global(workDirectory="%[1]s" maxMessageSize="16k"
  defaultNetstreamDriverCAFile="%[1]s/ca.pem" defaultNetstreamDriverCertFile="%[1]s/own.pem"
  defaultNetstreamDriverKeyFile="%[1]s/own.key")
module(load="imudp")
module(load="imtcp")
template(name="line" type="list" option.jsonf="on") {
  property(name="msg" format="jsonf" outname="msg")
  property(name="msgid" format="jsonf" outname="msgid")
  property(name="app-name" format="jsonf" outname="app")
  property(name="pri" format="jsonf" outname="pri")
  property(name="structured-data" format="jsonf" outname="data")
  property(name="timereported" dateFormat="rfc3339" format="jsonf" outname="at")
  property(name="inputname" format="jsonf" outname="input")
}
ruleset(name="keep") { action(type="omfile" file="%[1]s/got" template="line" flushOnTXEnd="on") }
input(type="imudp" address="127.0.0.1" port="%[2]s" ruleset="keep" name="udp")
input(type="imtcp" address="127.0.0.1" port="%[3]s" ruleset="keep" name="tcp")
input(type="imtcp" address="127.0.0.1" port="%[4]s" ruleset="keep" name="tls" streamDriver.name="ossl"
  streamDriver.mode="1" streamDriver.authMode="anon")
`, r.dir, port(r.udp), port(r.tcp), port(r.tls))
	if err := os.WriteFile(filepath.Join(r.dir, "conf"), []byte(conf), 0o600); err != nil {
		r.t.Fatal(err)
	}
	r.cmd = exec.Command("rsyslogd", "-n", "-f", filepath.Join(r.dir, "conf"), "-i", filepath.Join(r.dir, "pid"))
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := r.cmd.Start(); err != nil {
		r.t.Fatal(err)
	}
	r.t.Cleanup(r.stop)
	for range 200 {
		if conn, err := net.Dial("tcp", r.tls); err == nil {
			conn.Close()
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	r.t.Fatal("the receiver does not start")
}

func (r *receiver) stop() {
	if r.cmd != nil {
		r.cmd.Process.Signal(syscall.SIGTERM)
		r.cmd.Wait()
		r.cmd = nil
	}
}

func port(address string) string {
	_, port, _ := net.SplitHostPort(address)
	return port
}

// logged is what the receiver made of one.
type logged struct{ Msg, Msgid, App, Pri, Data, At, Input string }

// got waits until a message holds all the parts in its data or text, and returns those that do.
func (r *receiver) got(parts ...string) []logged {
	r.t.Helper()
	var all []logged
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		all = all[:0]
		var fit []logged
		text, _ := os.ReadFile(filepath.Join(r.dir, "got"))
		lines := bufio.NewScanner(strings.NewReader(string(text)))
		for lines.Scan() {
			var m logged
			if json.Unmarshal(lines.Bytes(), &m) != nil {
				continue
			}
			all = append(all, m)
			holds := true
			for _, part := range parts {
				holds = holds && strings.Contains(m.Data+" "+m.Msg+" "+m.Input, part)
			}
			if holds {
				fit = append(fit, m)
			}
		}
		if len(fit) > 0 {
			return fit
		}
	}
	r.t.Fatalf("nothing with %q came among %+v", parts, all)
	return nil
}

func newReceiver(t *testing.T) *receiver {
	t.Helper()
	need(t, "/usr/sbin/rsyslogd")
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin")
	r := &receiver{t: t, dir: t.TempDir(), udp: freePort(t), tcp: freePort(t), tls: freePort(t)}
	return r
}

// Records reach a real receiver over UDP, TCP and TLS, each as its filter says, and what was recorded while it was down
// comes later.
func TestFeedsToARealReceiver(t *testing.T) {
	r := newReceiver(t)
	w := start(t)
	w.basic("require", "127.0.0.1")
	_, _, authority := w.overTLS()
	var issued apitype.NewlyIssued
	w.do(http.MethodPost, "/authorities/Gear/issue", apitype.IssueInput{Make: apitype.Make{
		Names: []string{"logs.example"}}}, &issued)
	for name, text := range map[string]string{"ca.pem": authority, "own.pem": issued.Chain, "own.key": issued.Key} {
		if err := os.WriteFile(filepath.Join(r.dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	serve := serverOf(t, "logs.example", r.dir)
	r.start()
	w.wants(0, []string{"feed", "add", "plain", "-to", "syslog-udp", "-address", r.udp, "-record", "attempts",
		"-verdict", "refused"}, "in clear", "added")
	w.wants(0, []string{"feed", "add", "stream", "-to", "syslog-tcp", "-address", r.tcp, "-record", "attempts",
		"-record", "accounting", "-facility", "17"}, "added")
	w.wants(0, []string{"feed", "add", "sealed", "-to", "syslog-tls", "-address", r.tls, "-ca", serve, "-server-name",
		"logs.example", "-record", "attempts", "-who", "k.*"}, "added")
	w.wants(0, []string{"feed", "test", "sealed"}, "An event was sent by way of sealed.")
	if m := r.got("a test of the feed sealed by o.brandt")[0]; m.Input != "tls" || m.Msgid != "test" {
		t.Errorf("%+v", m)
	}
	w.wants(0, []string{"feed", "list"}, "not in effect")
	w.publish()
	w.signIn("s-1", "00-00-5e-00-53-07").must("Start")
	w.ask(func(q *trial.Request) { q.User, q.Password = "a]\"b\\c", "wrong" })
	for _, input := range []string{"udp", "tcp"} {
		m := r.got(input, `user="a\]\"b\\c"`, `verdict="refused"`)[0]
		if m.App != "tollgated" || m.Msgid != "attempt" || !strings.Contains(m.Msg, "was refused at np-switch-1") {
			t.Errorf("%+v", m)
		}
		if _, err := time.Parse(time.RFC3339Nano, m.At); err != nil {
			t.Errorf("the time is %q", m.At)
		}
	}
	if m := r.got("tcp", `session="s-1"`)[0]; m.Msgid != "accounting" || m.Pri != fmt.Sprint(17*8+6) {
		t.Errorf("%+v", m)
	}
	r.got("tls", `user="k.nance"`, `verdict="admitted"`)
	w.wants(0, []string{"feed", "show", "plain"}, "1 sent", "1 not selected")
	// The receiver goes away, and comes back.
	r.stop()
	for i := range 3 {
		w.ask(func(q *trial.Request) { q.User = fmt.Sprint("k.away", i) })
	}
	w.attempts("", 5)
	time.Sleep(600 * time.Millisecond)
	w.wants(0, []string{"feed", "list"}, "STUCK")
	r.start()
	for i := range 3 {
		for _, input := range []string{"tcp", "tls"} {
			r.got(input, fmt.Sprintf(`user="k.away%d"`, i))
		}
	}
}

// serverOf makes a certificate for a receiver, writes it where that looks, and returns the file of its authority.
func serverOf(t *testing.T, name, dir string) string {
	t.Helper()
	for _, args := range [][]string{
		{"req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "2", "-subj",
			"/CN=" + name, "-addext", "subjectAltName=DNS:" + name, "-keyout", "own.key", "-out", "own.pem"},
	} {
		cmd := exec.Command("openssl", args...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	return filepath.Join(dir, "own.pem")
}

// A file goes on where it was after a restart, loses and repeats nothing, and is continued as another one when it is
// full.
func TestFeedIntoFiles(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.do(http.MethodPost, "/feeds", apitype.FeedFields{Name: "Everything", Enabled: true, To: config.FeedFile,
		Records: []string{config.FeedAttempts, config.FeedAccounting, config.FeedJournal}}, nil)
	w.do(http.MethodPost, "/feeds", apitype.FeedFields{Name: "Deeds", Enabled: true, To: config.FeedFile,
		Records: []string{config.FeedAudit}}, nil)
	w.refused(422, http.MethodPost, "/feeds", apitype.FeedFields{Name: "Elsewhere", Enabled: true,
		To: config.FeedFile, File: "../../etc/passwd"}, "is not a name of a file")
	w.refused(422, http.MethodPost, "/feeds", apitype.FeedFields{Name: "Again", Enabled: true, To: config.FeedFile,
		File: "everything"}, `feed "Everything" writes into everything already`)
	w.refused(422, http.MethodPost, "/feeds", apitype.FeedFields{Name: "Nowhere", Enabled: true, To: config.FeedTLS,
		Address: "logs example", Records: []string{"diary"}}, "is not a host with a port", "is not what can be sent on")
	w.publish()
	path := filepath.Join(w.dir, "feeds", "everything.jsonl")
	in := func(path string, n int) (out []map[string]any) {
		t.Helper()
		for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(
			20 * time.Millisecond) {
			out = nil
			text, _ := os.ReadFile(path)
			for line := range strings.Lines(string(text)) {
				var one map[string]any
				if err := json.Unmarshal([]byte(line), &one); err != nil {
					t.Fatalf("%q: %v", line, err)
				}
				out = append(out, one)
			}
			if len(out) >= n {
				return out
			}
		}
		var f apitype.Feed
		w.do(http.MethodGet, "/feeds/Everything", nil, &f)
		t.Fatalf("%d lines, wanted %d: %v; %+v", len(out), n, out, f.States)
		return nil
	}
	lines := func(n int) []map[string]any { return in(path, n) }
	ask := func(user string) { w.ask(func(q *trial.Request) { q.User = user }) }
	ask("k.nance")
	ask("first")
	first := lines(2)[0]
	if first["kind"] != "attempt" || first["user"] != "k.nance" || first["verdict"] != "admitted" ||
		first["revision"] != 2.0 {
		t.Errorf("%v", first)
	}
	time.Sleep(1500 * time.Millisecond) // the position is kept
	w.app.Stop()
	// Half a line, as after a power cut.
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString(`{"kind":"att`)
	f.Close()
	w.boot()
	// The audit goes on in its own file, and no number of a line is missing.
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{AccountFields: apitype.AccountFields{Name: "h.doyle"},
		Password: "quay-light-7"}, nil)
	var deeds []map[string]any
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		deeds = in(filepath.Join(w.dir, "feeds", "deeds.jsonl"), 1)
		if deeds[len(deeds)-1]["call"] == "add-account" {
			break
		}
	}
	before := 0.0
	for _, one := range deeds {
		number := one["number"].(float64)
		if one["kind"] != "audit" || before > 0 && number != before+1 {
			t.Errorf("after line %v: %v", before, one)
		}
		before = number
	}
	if last := deeds[len(deeds)-1]; last["call"] != "add-account" || last["name"] != "h.doyle" ||
		last["operator"] == "" || last["result"] != "done" {
		t.Errorf("%v", last)
	}
	ask("second")
	ask("third")
	seen := map[string]bool{}
	for _, one := range lines(4) {
		id := one["id"].(string)
		if seen[id] {
			t.Errorf("%v stands there twice", one)
		}
		seen[id] = true
	}
	w.wants(0, []string{"feed", "show", "Everything"}, "file everything.jsonl", "10 of 100 MB", "2 sent")
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	w.wants(0, []string{"feed", "change", "Everything", "-enabled=false", "-publish"}, "published")
	ask("unseen")
	w.wants(0, []string{"feed", "list"}, "off")
	// What was recorded while it was off is sent when it is on again.
	w.wants(0, []string{"feed", "change", "Everything", "-enabled", "-publish"}, "published")
	if last := lines(5)[4]; last["user"] != "unseen" {
		t.Errorf("%v", last)
	}
}

// Accounting of a lane that forwards is kept here and forwarded, also what came while the other side was down and this
// one was restarted.
func TestForwardedAccounting(t *testing.T) {
	t.Parallel()
	near, far := start(t), start(t)
	near.basic("require", "127.0.0.1")
	far.basic("require", "127.0.0.1")
	_, accounting, _ := net.SplitHostPort(far.app.Accounting[0].String())
	if out, code := near.run(secret+"\n", "tollgate", "remote", "add", "harbour", "-server", far.radius, "-secret",
		"-timeout", "1500", "-tries", "1", "-grant", "*", "-accounting", "-accounting-port", accounting, "-rule",
		"request: rewrite NAS-Identifier ~ (.*)-1 = $1-one", "-rule", "request: drop NAS-Port-Id", "-rule",
		"answer: drop Session-Timeout", "-rule", "answer: add Idle-Timeout = 600"); code != 0 {
		t.Fatal(out)
	}
	near.wants(0, []string{"lane", "change", "Wired", "-forward", "harbour"}, "changed")
	near.publish()
	reply, err := near.ask(nil)
	if err != nil || !reply.Accepted || values(reply, "Idle-Timeout") != "600" || values(reply,
		"Session-Timeout") != "" {
		t.Fatalf("the rules: %+v, %v", reply, err)
	}
	if f := far.newest(1).Facts; f.NAS != "" || f.Port != "" {
		t.Errorf("there: %+v", f)
	}
	d := near.signIn("s-1", "00-00-5e-00-53-07")
	d.must("Start")
	there := func(n int, query string) []apitype.Session {
		t.Helper()
		var page apitype.SessionPage
		for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(
			50 * time.Millisecond) {
			if page = far.openSessions(query); len(page.Items) == n {
				return page.Items
			}
		}
		t.Fatalf("there are %+v, wanted %d", page.Items, n)
		return nil
	}
	one := there(1, "")[0]
	if one.NAS != "np-switch-one" || one.Session != "s-1" || one.Place == "1/0/8" {
		t.Errorf("there: %+v", one)
	}
	if here := near.openSessions(""); len(here.Items) != 1 || here.Items[0].NAS != "np-switch-1" {
		t.Errorf("here: %+v", here.Items)
	}
	near.wants(0, []string{"remote", "show", "harbour"}, "1 sent", "request: drop NAS-Port-Id")
	// The other side is down, then this one too.
	listening := far.app.Accounting[0].String()
	far.app.Stop()
	d.must("Interim-Update", "Acct-Session-Time=60")
	near.signIn2("s-2", d).must("Start")
	time.Sleep(3 * time.Second)
	near.wants(0, []string{"remote", "show", "harbour"}, "nothing since")
	near.app.Stop()
	far.bootAt(listening)
	near.boot()
	there(2, "")
	d.w = near
	d.must("Stop", "Acct-Session-Time=90")
	there(1, "")
	near.wants(0, []string{"remote", "show", "harbour"}, "3 sent")
}

// signIn2 is another session of the same device, without signing in.
func (w *world) signIn2(session string, d *device) *device {
	other := *d
	other.session, other.w = session, w
	return &other
}
