package e2e

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// web is where a service is served beside loopback.
type web struct {
	address, certificate, key string
	authority                 string // file
	client                    *http.Client
}

// webAt makes a certificate for an address.
func webAt(t *testing.T, dir, address string) *web {
	t.Helper()
	ca, err := lab.NewAuthority("Console authority")
	if err != nil {
		t.Fatal(err)
	}
	cfg, err := ca.Server(time.Now().AddDate(1, 0, 0), address)
	if err != nil {
		t.Fatal(err)
	}
	key, err := x509.MarshalPKCS8PrivateKey(cfg.Certificates[0].PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	out := &web{address: address + ":0", certificate: filepath.Join(dir, "web.pem"),
		key: filepath.Join(dir, "web.key"), authority: filepath.Join(dir, "web-authority.pem")}
	var chain []byte
	for _, der := range cfg.Certificates[0].Certificate {
		chain = append(chain, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	for path, text := range map[string][]byte{out.certificate: chain, out.authority: []byte(ca.PEM),
		out.key: pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})} {
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(ca.PEM))
	out.client = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
	return out
}

// source adds a source, and returns its token.
func (w *world) source(f apitype.SourceFields) string {
	w.t.Helper()
	f.Enabled, f.Readers = true, []config.SourceReader{}
	if f.From == nil {
		f.From = []string{}
	}
	var saved apitype.Saved[apitype.Source]
	w.do(http.MethodPost, "/sources?publish=true", apitype.SourceInput{SourceFields: f}, &saved)
	return saved.Secret
}

// A host says who is signed in, all of them, and only of itself.
func TestHostsSpeakForThemselves(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	token, other := w.source(apitype.SourceFields{Name: "desks", Way: config.SourceHosts}),
		w.source(apitype.SourceFields{Name: "portal", Way: config.SourceReports})
	says := func(want int, body string, parts ...string) string {
		t.Helper()
		time.Sleep(300 * time.Millisecond) // what one address may report in a second is bounded
		status, text := w.report("/presence/v1/host", token, "application/json", body)
		for _, part := range parts {
			if !strings.Contains(text, part) {
				t.Errorf("%q is not in %s", part, text)
			}
		}
		if status != want {
			t.Fatalf("%d %s", status, text)
		}
		return text
	}
	here := func(want string) {
		t.Helper()
		var a apitype.PresenceAnswer
		w.do(http.MethodGet, "/presence/who?address=127.0.0.1", nil, &a)
		got := ""
		if a.Here != nil {
			got = a.Here.Who
		}
		if got != want {
			t.Errorf("%q is here, not %q: %+v", got, want, a)
		}
	}
	one := func(who, rest string) string {
		return fmt.Sprintf(`{"host":"np-desk-3","people":[{"who":%q%s}]}`, who, rest)
	}
	says(200, one(`LANTERN\s.lodge`, `,"seconds":7200`), `"taken":1`, `"address":"127.0.0.1"`, `"every":75`)
	here("s.lodge")
	// whoever is no longer named has left, and may come back, however long ago that one says to have come
	says(200, `{"host":"np-desk-3","people":[]}`)
	here("")
	says(200, one("s.lodge", `,"seconds":7200`))
	here("s.lodge")
	says(200, one("n.quay", `,"seconds":99999999999`))
	here("n.quay")
	// neither an address of another host nor anything that is not understood
	says(400, one("n.quay", `,"address":"192.0.2.1"`), "unknown field")
	says(400, `{"host":"np-desk-3","people":{}}`)
	says(200, one("n.quay", `,"ports":"9-4"`), `"index":0,"error":"ports:`)
	here("")
	says(413, `{"people":[`+strings.Repeat(`{"who":"a"},`, 1000)+`{"who":"a"}]}`, "1000 people")
	if status, text := w.report("/presence/v1/host", other, "application/json", one("n.quay", "")); status != 403 {
		t.Errorf("another kind of source: %d %s", status, text)
	}
	if status, text := w.report("/presence/v1/host", "", "application/json", one("n.quay", "")); status != 401 {
		t.Errorf("no token: %d %s", status, text)
	}
	if status, text := w.report("/presence/v1/sightings", token, "application/json",
		`{"sightings":[{"kind":"signed-in","who":"n.quay","address":"192.0.2.1"}]}`); status != 403 {
		t.Errorf("a host that speaks of others: %d %s", status, text)
	}
	// a thousand people with a block each, twice: who is not said again holds no longer than it is said
	var people []string
	for i := range 1000 {
		people = append(people, fmt.Sprintf(`{"who":"crew-%d","ports":"%d-%d"}`, i, 2000+i*40, 2039+i*40))
	}
	for range 2 {
		says(200, `{"host":"np-desk-3","people":[`+strings.Join(people, ",")+`]}`, `"taken":1000`, `"refused":[]`)
	}
	w.wants(0, []string{"presence", "who", "127.0.0.1:41999"}, "crew-999")
	says(200, `{"host":"np-desk-3","people":[`+people[7]+`]}`)
	w.wants(0, []string{"presence", "who", "127.0.0.1:41999"}, "nobody is at")
	w.wants(0, []string{"presence", "who", "127.0.0.1:2280"}, "crew-7")
	var state apitype.PresenceState
	w.do(http.MethodGet, "/presence/state", nil, &state)
	for _, s := range state.Sources {
		if s.Name == "desks" && (s.Says != "1 host reports" && s.State != "refused") {
			t.Errorf("%+v", s)
		}
	}
	// a flood is bounded, and told so
	flooded := false
	for range 20 {
		status, _ := w.report("/presence/v1/host", token, "application/json", one("n.quay", ""))
		flooded = flooded || status == http.StatusTooManyRequests
	}
	if !flooded {
		t.Error("twenty reports in a moment were all taken")
	}
}

// sharedHost is a host in a namespace of its own, with people, a login manager and a firewall outside.
type sharedHost struct {
	*world
	ns, outside, address string
	bus                  string
	people               map[string]uint32
}

// in runs a command on the host, as a person or as root.
func (h *sharedHost) in(who string, args ...string) *exec.Cmd {
	list := []string{"netns", "exec", h.ns}
	if who != "" {
		list = append(list, "setpriv", "--reuid", strconv.Itoa(int(h.people[who])), "--clear-groups")
	}
	return exec.Command("ip", append(list, args...)...)
}

// connects opens a connection from the host as somebody, and returns the port that it is seen to come from.
func (h *sharedHost) connects(who string, bind int) int {
	h.t.Helper()
	l, err := net.Listen("tcp", net.JoinHostPort(h.outside, "0"))
	if err != nil {
		h.t.Fatal(err)
	}
	defer l.Close()
	from := ""
	if bind != 0 {
		from = fmt.Sprintf(",LocalPort=>%d,ReuseAddr=>1", bind)
	}
	port := l.Addr().(*net.TCPAddr).Port
	cmd := h.in(who, "/usr/bin/perl", "-MIO::Socket::INET", "-e", fmt.Sprintf(
		`my $s = IO::Socket::INET->new(PeerAddr=>"%s",PeerPort=>%d,Timeout=>20%s) or die "$!\n"; sysread $s, my $end, 1`,
		h.outside,
		port,
		from,
	))
	var complaint strings.Builder
	cmd.Stderr = &complaint
	if err := cmd.Start(); err != nil {
		h.t.Fatal(err)
	}
	defer cmd.Wait() // it stays until the connection is closed here, so that its port is free for the next
	l.(*net.TCPListener).SetDeadline(time.Now().Add(20 * time.Second))
	c, err := l.Accept()
	if err != nil {
		cmd.Process.Kill()
		cmd.Wait()
		h.t.Fatalf("a connection of %q: %v, %s", who, err, &complaint)
	}
	defer c.Close()
	return c.RemoteAddr().(*net.TCPAddr).Port
}

// Two people on one Linux host, known to its login manager, whose connections the kernel tells apart: what the firewall
// sees coming from the host is who it is, also after the reporter was killed and when somebody tries to be somebody
// else.
func TestASharedHostOfTwoPeople(t *testing.T) {
	t.Parallel()
	// names of their own: a run that was killed may have left its people behind
	mole, pier := fmt.Sprintf("hh-mole-%d", os.Getpid()), fmt.Sprintf("hh-pier-%d", os.Getpid())
	h := newSharedHost(t, mole, pier)
	w := h.world
	login := h.logins()
	token := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(token, []byte(w.source(apitype.SourceFields{Name: "counter", Way: config.SourceHosts,
		Minutes: 1})+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	log, err := os.Create(filepath.Join(t.TempDir(), "reporter.log"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { log.Close() })
	logged := func() string {
		text, _ := os.ReadFile(log.Name())
		return string(text)
	}
	reporter := func() *exec.Cmd {
		cmd := h.in("", filepath.Join(binaries, "tollgate-reporter"), "-url", w.app.URL, "-ca", w.web.authority,
			"-token-file", token, "-host", "hh-counter-1", "-shared", "-ports", "20000-20999", "-block", "100",
			"-min-uid", "61000")
		cmd.Env = append(os.Environ(), "DBUS_SYSTEM_BUS_ADDRESS="+h.bus)
		cmd.Stderr = log
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		return cmd
	}
	running := reporter()
	t.Cleanup(func() { running.Process.Kill(); running.Wait() })
	who := func(port int) string {
		var a apitype.PresenceAnswer
		w.do(http.MethodGet, fmt.Sprintf("/presence/who?address=%s&port=%d", h.address, port), nil, &a)
		if a.Here == nil {
			return ""
		}
		return a.Here.Who
	}
	entries := func() (out []apitype.Presence) {
		var list apitype.PresencePage
		w.do(http.MethodGet, "/presence", nil, &list)
		return list.Items
	}
	first := login(mole)
	second := login(pier)
	w.eventually("two people are at the host", func() bool { return len(entries()) == 2 })
	seen := map[string]int{}
	for name := range h.people {
		seen[name] = h.connects(name, 0)
		if got := who(seen[name]); got != name {
			t.Errorf("the connection of %s from port %d counts as that of %q\n%s", name, seen[name], got, logged())
		}
	}
	// One cannot choose a port of the other, and neither can what is nobody's.
	if port := h.connects(mole, seen[pier]); who(port) != mole {
		t.Errorf("by choosing a port hh-mole is taken for %q", who(port))
	}
	if port := h.connects("", seen[pier]); who(port) != "" {
		t.Errorf("the system itself, from port %d, is taken for %q", port, who(port))
	}
	// A reporter that is killed and started again goes on with the blocks that the kernel has.
	running.Process.Kill()
	running.Wait()
	running = reporter()
	w.eventually("the reporter is back", func() bool { return strings.Count(logged(), "reporting") == 2 })
	if port := h.connects(mole, 0); who(port) != mole || port/100 != seen[mole]/100 {
		t.Errorf("afterwards hh-mole is %q at port %d, before at %d", who(port), port, seen[mole])
	}
	// Whoever signs out is nobody at once, and nobody else gets the block meanwhile.
	first()
	w.eventually("hh-mole left", func() bool { return who(seen[mole]) == "" })
	if who(seen[pier]) != pier {
		t.Errorf("hh-pier is gone as well: %+v", entries())
	}
	third := login(mole)
	w.eventually("hh-mole is back with the same ports", func() bool { return who(seen[mole]) == mole })
	// A host that says goodbye leaves nobody behind.
	running.Process.Signal(os.Interrupt)
	if err := running.Wait(); err != nil {
		t.Errorf("%v\n%s", err, logged())
	}
	if got := entries(); len(got) != 0 {
		t.Errorf("after the goodbye there are %+v\n%s", got, logged())
	}
	second()
	third()
	cmd := h.in("", filepath.Join(binaries, "tollgate-reporter"), "-remove")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("%v %s", err, out)
	}
	if out, err := h.in("", "nft", "list", "tables").CombinedOutput(); err != nil || strings.Contains(string(out),
		"tollgate") {
		t.Errorf("%v %s", err, out)
	}
}

// The reporter says what is wrong with how it is started.
func TestReporterFlags(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	token := filepath.Join(dir, "token")
	if err := os.WriteFile(token, []byte("quay\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for want, args := range map[string][]string{
		"-url is missing":        {"-token-file", token},
		"-token-file is missing": {"-url", "https://localhost"},
		"reading the token":      {"-url", "https://localhost", "-token-file", dir + "/none"},
		"over https only":        {"-url", "http://192.0.2.1", "-token-file", token},
		"have ports in common": {"-url", "https://[::1]", "-token-file", token, "-shared",
			"-ports", "20000-40000"},
		"a block has at least 4 ports": {"-url", "https://localhost", "-token-file", token, "-shared", "-block", "2"},
		"is not understood":            {"-url", "https://localhost", "now"},
		"connecting to the system bus": {"-once"},
	} {
		cmd := exec.Command(filepath.Join(binaries, "tollgate-reporter"), args...)
		cmd.Env = append(os.Environ(), "DBUS_SYSTEM_BUS_ADDRESS=unix:path="+dir+"/no-bus")
		if out, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(out), want) {
			t.Errorf("%v: %v\n%s", args, err, out)
		}
	}
}

// Policies ask where a person is already: an administrator whose password was stolen is not at the desk that it is used
// from.
func TestConditionsAskPresence(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	token := w.source(apitype.SourceFields{Name: "desks", Way: config.SourceHosts})
	says := func(people string) {
		t.Helper()
		if status, text := w.report("/presence/v1/host", token, "application/json",
			`{"host":"np-desk-3","people":[`+people+`]}`); status != 200 {
			t.Fatal(status, text)
		}
	}
	last := ""
	fits := func(want bool, from, when string) {
		t.Helper()
		if when != last {
			w.wants(0, []string{"policy", "change", "Wired", "Crew", "-when", "group is Crew and " + when,
				"-publish"}, "published")
		}
		last = when
		reply, err := w.ask(func(r *trial.Request) { r.Attributes[2].Value = from })
		if err != nil || reply.Accepted != want {
			t.Errorf("from %s, %s: %v, %v", from, when, reply.Accepted, err)
		}
	}
	says(`{"who":"k.nance"}`)
	fits(true, "127.0.0.1", "presence.from is self")
	if p := w.newest(1).Facts.Present; p == nil || p.Count != 1 || p.From != "self" || len(p.Hosts) != 1 {
		t.Errorf("recorded is %+v", p)
	}
	fits(false, "192.0.2.9", "presence.from is self")
	w.wants(0, []string{"attempt", "explain"}, "presence.from")
	fits(true, "192.0.2.9", "presence.from is nobody")
	fits(false, "00-00-5E-00-53-01", "presence.from exists")
	fits(true, "192.0.2.9", "presence.count at least 1")
	fits(true, "192.0.2.9", "presence.address within 127.0.0.0/8")
	fits(false, "192.0.2.9", "presence.address within 192.0.2.0/24")
	fits(true, "192.0.2.9", "presence.host is NP-Desk-3")
	fits(true, "192.0.2.9", "presence.source in desks, doors")
	says(`{"who":"n.quay"}`)
	fits(true, "127.0.0.1", "presence.from is other and presence.count is 0")
	fits(false, "127.0.0.1", "presence.address exists")
}
