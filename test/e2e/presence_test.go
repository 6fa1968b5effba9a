package e2e

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/web/feed"
)

// accounted sends a record of accounting of a session.
func (w *world) accounted(status, session, user, address, mac string, class ...string) {
	w.t.Helper()
	r := trial.Report{
		Server:  w.app.Accounting[0].String(),
		From:    must("127.0.10.99"),
		Timeout: 2 * time.Second,
		Tries:   5,
		Secret:  "gangway-and-bollard-99",
		Attributes: []results.Attribute{{Name: "Acct-Status-Type", Value: status},
			{Name: "Acct-Session-Id", Value: session}, {Name: "User-Name", Value: user}},
	}
	for _, value := range class {
		r.Attributes = append(r.Attributes, results.Attribute{Name: "Class", Value: value})
	}
	if address != "" {
		r.Attributes = append(r.Attributes, results.Attribute{Name: "Framed-IP-Address", Value: address})
	}
	if mac != "" {
		r.Attributes = append(r.Attributes, results.Attribute{Name: "Calling-Station-Id", Value: mac})
	}
	if err := r.Send(w.t.Context()); err != nil {
		w.t.Fatal(err)
	}
}

// subscribe adds a subscriber, and returns its token.
func (w *world) subscribe(name string, groups ...string) string {
	w.t.Helper()
	if groups == nil {
		groups = []string{}
	}
	var saved apitype.Saved[apitype.Subscriber]
	w.do(
		http.MethodPost,
		"/subscribers?publish=true",
		apitype.SubscriberInput{SubscriberFields: apitype.SubscriberFields{
			Name: name, Enabled: true, Groups: groups, From: []string{}, Networks: []string{}}},
		&saved,
	)
	return saved.Secret
}

// tokenOf makes another token for a source.
func (w *world) tokenOf(f apitype.SourceFields) string {
	w.t.Helper()
	f.Enabled, f.From, f.Readers = true, []string{}, []config.SourceReader{}
	var saved apitype.Saved[apitype.Source]
	w.do(
		http.MethodPut,
		"/sources/"+f.Name+"?publish=true",
		apitype.SourceInput{SourceFields: f, NewToken: true},
		&saved,
		client.IfMatch("*"),
	)
	return saved.Secret
}

// follow has a firewall follow presence until the test ends.
func (w *world) follow(token string, url func() string) *lab.Firewall {
	f := &lab.Firewall{Token: token, URL: func(int) string { return url() }}
	go f.Follow(w.t.Context())
	return f
}

func (w *world) eventually(what string, is func() bool) {
	w.t.Helper()
	for end := time.Now().Add(30 * time.Second); !is(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			w.t.Fatalf("it never came about that %s:\n%s", what, w.wants(0, []string{"presence", "state"}))
		}
	}
}

// get fetches something as a subscriber.
func (w *world) get(path, token, tag string) (*http.Response, string) {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet, w.app.URL+path, nil)
	if err != nil {
		w.t.Fatal(err)
	}
	if token != "" {
		req.SetBasicAuth("any", token)
	}
	if tag != "" {
		req.Header.Set("If-None-Match", tag)
	}
	r, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return r, string(text)
}

// From a sign-in on the network to the firewall: who is where, in which groups, until the session ends; after a restart
// of the service too, without a gap.
func TestPresenceFromTheSessionToTheFirewall(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	token := w.subscribe("hh-firewall-1")
	fire := w.follow(token, func() string { return w.app.URL })
	reply, err := w.ask(func(q *trial.Request) {
		q.User, q.Password, q.Secret, q.From = "s.lodge", "harbour-s.lodge", "gangway-and-bollard-99",
			must("127.0.10.99")
	})
	if err != nil {
		t.Fatal(err)
	}
	class := ""
	for _, a := range reply.Attributes {
		if a.Name == "Class" {
			class = a.Value
		}
	}
	const mac = "00-00-5e-00-53-07" // of the device that asked
	w.accounted("Start", "s-1", "s.lodge", "192.0.2.41", mac, class)
	// a client says so of somebody whom nobody admitted, later: who has its secret could
	w.accounted("Start", "s-x", "n.quay", "192.0.2.41", "02-00-5e-00-00-66")
	w.eventually("the firewall knows her with her groups", func() bool {
		e := fire.At("192.0.2.41")
		return e.Who == "s.lodge" && len(e.Groups) > 0
	})
	e := fire.At("192.0.2.41")
	if e.Display != "Sunniva Lodge" || e.MAC != mac || e.Source != "sessions" || e.Since == "" {
		t.Errorf("%+v", e)
	}
	w.wants(0, []string{"presence", "list"}, "192.0.2.41", "Sunniva Lodge", "1 altogether")
	w.wants(0, []string{"presence", "who", "192.0.2.41:443"}, "Sunniva Lodge is at 192.0.2.41", "counts")
	w.wants(0, []string{"presence", "who", "192.0.2.42"}, "nothing is known")
	for _, text := range []string{"192.0.2.41", "sunniva"} {
		w.wants(0, []string{"find", text}, "presence", "at 192.0.2.41")
	}

	if r, text := w.get("/presence/v1/who?address=192.0.2.41&port=443", token, ""); !strings.Contains(
		text,
		`"who":"s.lodge"`,
	) {
		t.Errorf("asked for one address: %s %s", r.Status, text)
	}
	for query, want := range map[string]int{"address=192.0.2.99": 404, "address=x": 400,
		"address=192.0.2.41&port=x": 400} {
		if r, text := w.get("/presence/v1/who?"+query, token, ""); r.StatusCode != want {
			t.Errorf("%s: %s %s", query, r.Status, text)
		}
	}
	// lists, for those that can only fetch them
	list := "/presence/v1/lists/" + strings.ReplaceAll(e.Groups[0], " ", "%20")
	r, text := w.get(list+".txt", token, "")
	if text != "192.0.2.41\n" || r.Header.Get("ETag") == "" {
		t.Errorf("the list is %q, %v", text, r.Header)
	}
	if again, _ := w.get(list+".txt", token, r.Header.Get("ETag")); again.StatusCode != http.StatusNotModified {
		t.Errorf("fetched again, the list is %s", again.Status)
	}
	if _, text = w.get(list, token, ""); !strings.Contains(text, `"addresses":["192.0.2.41"]`) {
		t.Errorf("as JSON the list is %s", text)
	}
	// a restart: the firewall goes on with what it knows, and takes everything anew
	w.app.Stop()
	w.boot()
	w.eventually("the firewall knows her from the service that was started again", func() bool {
		_, text := w.get("/presence/v1/snapshot", token, "")
		return strings.Contains(text, `"s.lodge"`) && strings.Contains(text, `"type":"end"`) &&
			fire.At("192.0.2.41").Who == "s.lodge"
	})
	// somebody else signs in at the address by a source that counts less, and loses
	w.wants(0, []string{"source", "add", "dc1", "-way", "logons", "-publish"}, "Token, shown only here")
	var saved apitype.Saved[apitype.Source]
	saved.Secret = w.tokenOf(apitype.SourceFields{Name: "dc1", Way: config.SourceLogons})
	status, answer := w.report(
		"/presence/v1/logons",
		saved.Secret,
		"application/json",
		`{"events":[{"eventId":4624,
		"logonType":3,"account":"k.oake","domain":"LANTERN","address":"192.0.2.41","logonId":"0x1"},
		{"eventId":4624,"logonType":5,"account":"svc-backup","address":"192.0.2.41"},
		{"eventId":4624,"logonType":3,"account":"HERON$","address":"192.0.2.41"}]}`,
	)
	if status != http.StatusOK || !strings.Contains(answer, `"taken":1,"leftOut":2`) {
		t.Errorf("%d %s", status, answer)
	}
	w.wants(
		0,
		[]string{"presence", "who", "192.0.2.41"},
		"Sunniva Lodge",
		"lost to s.lodge: sessions is trusted more",
	)
	w.wants(0, []string{"presence", "state"}, "conflict at 192.0.2.41: k.oake by dc1")
	if status, _ := w.report("/presence/v1/sightings", saved.Secret, "application/json", `{}`); status !=
		http.StatusForbidden {
		t.Errorf("a source of logons reports sightings: %d", status)
	}
	w.wants(
		0,
		[]string{"presence", "who", "192.0.2.41"},
		"n.quay          accounting",
		"sessions is trusted more",
	)
	// the end of the session
	before := time.Now()
	time.Sleep(5 * time.Millisecond)
	w.accounted("Stop", "s-1", "s.lodge", "192.0.2.41", mac)
	w.eventually("somebody else is there", func() bool { return fire.At("192.0.2.41").Who == "k.oake" })
	w.wants(
		0,
		[]string{"presence", "who", "-at", before.UTC().Format(time.RFC3339Nano), "192.0.2.41"},
		"Sunniva Lodge is at",
	)
	w.wants(0, []string{"presence", "history", "s.lodge"}, "signed-in", "signed-out", "bench-1")
	if n := fire.Resumed(); n != 0 {
		t.Errorf("%d connections went on with positions of a service before", n)
	}
}

// report reports as a source.
func (w *world) report(path, token, kind, body string) (int, string) {
	w.t.Helper()
	req, err := http.NewRequestWithContext(
		w.t.Context(),
		http.MethodPost,
		w.app.URL+path,
		strings.NewReader(body),
	)
	if err != nil {
		w.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", kind)
	r, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return r.StatusCode, string(text)
}

const windowsEvent = `<Events><Event xmlns="http://schemas.microsoft.com/win/2004/08/events/event"><System>
	<EventID>4624</EventID><TimeCreated SystemTime="%s"/></System><EventData>
	<Data Name="TargetUserName">a.pell</Data><Data Name="TargetDomainName">LANTERN</Data><Data Name="LogonType">3</Data>
	<Data Name="IpAddress">::ffff:192.0.2.51</Data><Data Name="TargetLogonId">0x77</Data></EventData></Event></Events>`

// Sources of every way: lines of syslog from a real logger, over TCP and TLS, copies of DHCP, reports, events, and by
// hand; and what of it is out of scope, malformed or from a stranger.
func TestSourcesOfPresence(t *testing.T) {
	t.Parallel()
	need(t, "logger")
	w := lantern(t)
	w.wants(0, []string{"source", "add", "doors", "-way", "syslog", "-from", "127.0.0.1", "-reader",
		"signed-in=session opened for {who} from {address}", "-reader",
		"signed-out=session closed for {who} from {address}"})
	w.wants(0, []string{"source", "add", "relays", "-way", "dhcp", "-from", "127.0.0.1"})
	w.wants(0, []string{"source", "add", "events", "-way", "logons"}, "Token")
	w.wants(
		0,
		[]string{"scope", "add", "printers", "-leave-out", "-network", "192.0.2.128/25", "-account", "svc-*"},
	)
	w.wants(
		1,
		[]string{"source", "add", "open", "-way", "syslog", "-reader", "signed-in={who} {address}"},
		"nearly every line",
	)
	out := w.wants(
		0,
		[]string{"source", "test", "doors", "Nov 29 12:00:00 gate sshd[7]: session opened for k.oake from " +
			"192.0.2.50 port 22"},
		"form 1: signed-in, who k.oake, address 192.0.2.50",
	)
	if strings.Contains(out, "no form") {
		t.Error(out)
	}
	var made apitype.Saved[apitype.Source]
	w.do(
		http.MethodPost,
		"/sources",
		apitype.SourceInput{SourceFields: apitype.SourceFields{Name: "desks", Enabled: true,
			Way: config.SourceReports, From: []string{}, Readers: []config.SourceReader{}, Shared: true}},
		&made,
	)
	w.wants(0, []string{"draft", "publish", "-note", "sources"})

	address := w.app.Reports[1]
	if out, err := exec.CommandContext(t.Context(), "logger", "--server", address.Addr().String(), "--port",
		strconv.Itoa(int(address.Port())), "--udp", "--rfc5424", "session opened for k.oake from 192.0.2.50").
		CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	there := func(address, who string) {
		t.Helper()
		w.eventually(who+" is at "+address, func() bool {
			var a apitype.PresenceAnswer
			w.do(http.MethodGet, "/presence/who?address="+address, nil, &a)
			return a.Here != nil && a.Here.Who == who || a.Here == nil && who == ""
		})
	}
	there("192.0.2.50", "k.oake")
	// over TCP with the length before each message, and over TLS
	c, err := net.Dial("tcp", w.app.Reports[2].String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	line := "<38>Nov 29 12:00:00 gate sshd[7]: session closed for k.oake from 192.0.2.50"
	line = strings.Replace(line, "Nov 29 12:00:00", time.Now().Add(time.Second).Format(time.Stamp), 1)
	fmt.Fprintf(c, "%d %s", len(line), line)
	there("192.0.2.50", "")
	secure, err := tls.Dial("tcp", w.app.Reports[3].String(), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer secure.Close()
	fmt.Fprintf(
		secure,
		"<38>1 - gate sshd 7 - - session opened for n.quay from 192.0.2.52\n<38>1 - gate sshd 7 - - "+
			"session opened for svc-door from 192.0.2.53\n",
	)
	there("192.0.2.52", "n.quay")
	// a device gets an address, whose person is known by it
	w.accounted("Start", "s-9", "s.lodge", "", "02-00-5e-00-00-09")
	relay, err := net.Dial("udp", w.app.Reports[0].String())
	if err != nil {
		t.Fatal(err)
	}
	defer relay.Close()
	if _, err := relay.Write(dhcpAck([4]byte{192, 0, 2, 49}, [6]byte{2, 0, 0x5e, 0, 0, 9})); err != nil {
		t.Fatal(err)
	}
	there("192.0.2.49", "s.lodge")
	// events as Windows writes them
	made.Secret = w.tokenOf(apitype.SourceFields{Name: "events", Way: config.SourceLogons})
	token := made.Secret
	if status, text := w.report("/presence/v1/logons", token, "text/xml", fmt.Sprintf(windowsEvent,
		time.Now().UTC().Format(time.RFC3339Nano))); status != http.StatusOK || !strings.Contains(text, `"taken":1`) {
		t.Errorf("%d %s", status, text)
	}
	there("192.0.2.51", "a.pell")
	for body, want := range map[string]int{"<broken": http.StatusBadRequest, `<?xml version="1.0"?>`: http.StatusOK} {
		if status, text := w.report("/presence/v1/logons", token, "text/xml", body); status != want {
			t.Errorf("%q: %d %s", body, status, text)
		}
	}
	// two people on one host, by their ports
	made.Secret = w.tokenOf(apitype.SourceFields{Name: "desks", Way: config.SourceReports, Shared: true})
	status, text := w.report("/presence/v1/sightings", made.Secret, "application/json", `{"sightings":[
		{"kind":"signed-in","who":"LANTERN\\k.oake","address":"203.0.113.5","ports":"20000-20999"},
		{"kind":"signed-in","who":"n.quay","address":"203.0.113.5","ports":"21000-21999"},
		{"kind":"signed-in","who":"n.quay","address":"somewhere"},
		{"kind":"asleep","who":"n.quay","address":"192.0.2.1"},
		{"kind":"signed-in","who":"svc-desk","address":"203.0.113.5"}]}`)
	if status != http.StatusOK || !strings.Contains(text, `"taken":2,"leftOut":1`) || !strings.Contains(text,
		`"index":2,"error":"address: \"somewhere\" is no IP address"`) {
		t.Errorf("%d %s", status, text)
	}
	w.wants(0, []string{"presence", "who", "203.0.113.5:20500"}, "with the ports 20000-20999", "k.oake")
	w.wants(0, []string{"presence", "who", "203.0.113.5:21000"}, "n.quay")
	w.wants(0, []string{"presence", "who", "203.0.113.5"}, "nobody is at")
	// by hand, out of scope, and by strangers
	w.wants(
		0,
		[]string{"sighting", "add", "-who", "e.holm", "-address", "192.0.2.60", "-why", "at the quay"},
		"Taken as",
	)
	w.wants(1, []string{"sighting", "add", "-who", "e.holm", "-address", "192.0.2.200"}, "out of scope: printers")
	w.wants(1, []string{"sighting", "add", "-who", "e.holm", "-address", "upstairs"}, "address")
	from := &net.Dialer{LocalAddr: &net.UDPAddr{IP: net.IPv4(127, 0, 0, 77)}}
	stranger, err := from.Dial("udp", address.String())
	if err != nil {
		t.Fatal(err)
	}
	defer stranger.Close()
	fmt.Fprint(stranger, "<38>session opened for nobody from 192.0.2.61")
	w.eventually("the stranger is seen", func() bool {
		return strings.Contains(
			w.wants(0, []string{"presence", "state"}),
			"127.0.0.77 reports by syslog and is no source",
		)
	})
	there("192.0.2.61", "")
	for _, token := range []string{"", "wrong", made.Secret} {
		if r, text := w.get("/presence/v1/snapshot", token, ""); r.StatusCode != http.StatusUnauthorized {
			t.Errorf("with %q a snapshot is given: %s", token, text)
		}
	}
}

// dhcpAck is what a server answers to a device that asks for an address.
func dhcpAck(given [4]byte, device [6]byte) []byte {
	b := make([]byte, 240, 300)
	b[0], b[1], b[2] = 2, 1, 6
	copy(b[16:], given[:])
	copy(b[28:], device[:])
	copy(b[236:], []byte{99, 130, 83, 99})
	return append(b, 53, 1, 5, 51, 4, 0, 0, 0x0e, 0x10, 12, 6, 'd', 'e', 's', 'k', '-', '9', 255)
}

// A subscriber that stalls, one that is switched off, and one that is told of one group.
func TestSubscribersOfPresence(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	token, crew := w.subscribe("all"), w.subscribe("crew", "harbour office")
	w.accounted("Start", "s-1", "s.lodge", "192.0.2.41", "02-00-5e-00-00-01")
	w.accounted("Start", "s-2", "t.marchetti", "192.0.2.42", "02-00-5e-00-00-02")
	w.eventually("the groups are known", func() bool {
		_, all := w.get("/presence/v1/snapshot", token, "")
		_, text := w.get("/presence/v1/snapshot", crew, "")
		return strings.Contains(all, "Tobia Marchetti") && strings.Contains(text, "s.lodge") &&
			!strings.Contains(text, "t.marchetti")
	})
	r, text := w.get("/presence/v1/changes?after=elsewhere-7", token, "")
	if r.StatusCode != http.StatusGone {
		t.Errorf("after a position of another node: %s %s", r.Status, text)
	}
	_, text = w.get("/presence/v1/snapshot", token, "")
	var end feed.Event
	for line := range strings.Lines(text) {
		if err := json.Unmarshal([]byte(line), &end); err != nil {
			t.Fatal(err)
		}
	}
	if end.Type != "end" || end.Entries == nil || *end.Entries != 2 {
		t.Fatalf("the snapshot ends with %+v", end)
	}
	waiting := make(chan string, 1)
	go func() {
		_, text := w.get("/presence/v1/changes?wait=20&after="+end.Position, token, "")
		waiting <- text
	}()
	time.Sleep(50 * time.Millisecond)
	w.accounted("Stop", "s-2", "t.marchetti", "192.0.2.42", "02-00-5e-00-00-02")
	if text := <-waiting; !strings.Contains(text, `"type":"gone"`) || !strings.Contains(text, "192.0.2.42") {
		t.Errorf("whoever waits is told %s", text)
	}
	// one that reads nothing holds nobody up, and is let in four times at most
	var open []*http.Response
	for range 6 {
		req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, w.app.URL+"/presence/v1/stream", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		open = append(open, r)
	}
	for i, r := range open {
		if want := map[bool]int{true: http.StatusOK, false: http.StatusTooManyRequests}[i < 4]; r.StatusCode != want {
			t.Errorf("stream %d: %s", i, r.Status)
		}
		defer r.Body.Close()
	}
	w.wants(0, []string{"presence", "state"}, "all", "live")
	w.wants(0, []string{"subscriber", "change", "all", "-enabled=false", "-publish"}, "changed")
	var buffer bytes.Buffer
	ended := make(chan error, 1)
	go func() {
		_, err := io.Copy(&buffer, open[0].Body)
		ended <- err
	}()
	select {
	case <-ended:
	case <-time.After(15 * time.Second):
		t.Error("the stream of a subscriber that was switched off goes on")
	}
	if r, _ := w.get("/presence/v1/snapshot", token, ""); r.StatusCode != http.StatusUnauthorized {
		t.Errorf("a subscriber that was switched off is given %s", r.Status)
	}
}

// What is reported to one node is known on the other within a second; a firewall goes on at the other when its node
// dies, and the node that was away learns what it missed.
func TestPresenceOnTwoNodes(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("require", "127.0.0.1")
	b := a.second("second")
	a.witness("eye")
	a.well(3)
	b.well(3)
	token := a.subscribe("wall")
	var first atomic.Bool
	fire := a.follow(token, func() string {
		if first.Load() {
			return b.app.URL
		}
		return a.app.URL
	})
	sight := func(w *world, who, address string) {
		w.do(
			http.MethodPost,
			"/presence/sightings",
			apitype.SightingFields{Kind: "signed-in", Who: who, Address: address, Host: "desk of " + who,
				MAC: "02-00-5e-00-01-0" + address[len(address)-1:]},
			nil,
		)
	}
	seen := func(w *world, n int) {
		t.Helper()
		w.eventually(fmt.Sprint(n, " devices are seen"), func() bool {
			var list apitype.SeenDevices
			w.do(http.MethodGet, "/presence/devices?q=desk+of", nil, &list)
			return list.Found == n
		})
	}
	there := func(w *world, address, who string) {
		t.Helper()
		w.eventually(who+" is at "+address, func() bool {
			var answer apitype.PresenceAnswer
			w.do(http.MethodGet, "/presence/who?address="+address, nil, &answer)
			return answer.Here != nil && answer.Here.Who == who
		})
	}
	sight(a, "k.nance", "192.0.2.1")
	begun := time.Now()
	there(b, "192.0.2.1", "k.nance")
	if took := time.Since(begun); took > 5*time.Second {
		t.Errorf("the other node knows it after %v", took)
	}
	a.eventually("the firewall knows it", func() bool { return fire.At("192.0.2.1").Who == "k.nance" })
	seen(b, 1)
	shows := func(w *world, want ...string) {
		t.Helper()
		w.eventually(strings.Join(want, ", ")+" is shown", func() bool {
			out, _ := w.run("", "tollgate", "presence", "state")
			return !slices.ContainsFunc(want, func(text string) bool { return !strings.Contains(out, text) })
		})
	}
	shows(b, "reports at ", "live at ") // both are at the first node alone
	first.Store(true)
	a.app.Stop()
	sight(b, "d.hand", "192.0.2.2")
	b.eventually("the firewall goes on at the other node", func() bool {
		return fire.At("192.0.2.2").Who == "d.hand" && fire.At("192.0.2.1").Who == "k.nance"
	})
	a.boot()
	there(a, "192.0.2.2", "d.hand")
	there(a, "192.0.2.1", "k.nance")
	seen(a, 2)
	shows(a, "live at second")
}

// A firewall that cannot ask is told as RADIUS accounting: who comes and goes, in which groups; after it was away, and
// after a start of the service, from the beginning.
func TestPresenceAsAccounting(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	wall := start(t) // takes accounting, as a firewall does
	wall.basic("require", "127.0.0.1")
	w.accounted("Start", "s-1", "s.lodge", "192.0.2.41", "02-00-5e-00-00-01")
	w.refused(
		http.StatusUnprocessableEntity,
		http.MethodPost,
		"/subscribers?publish=true",
		apitype.SubscriberInput{
			SubscriberFields: apitype.SubscriberFields{
				Name:     "old-wall",
				Enabled:  true,
				To:       "upstairs",
				Groups:   []string{},
				From:     []string{},
				Networks: []string{},
			}},
		"not an address with a port",
		"no shared secret",
	)
	w.wants(
		0,
		[]string{"subscriber", "add", "old-wall", "-to", wall.app.Accounting[0].String(), "-secret", secret,
			"-publish"},
	)
	knows := func(list ...string) {
		t.Helper()
		w.eventually(fmt.Sprint("the firewall knows ", list), func() bool {
			var got []string
			for _, one := range wall.openSessions("").Items {
				got = append(got, one.User+" "+one.Address)
			}
			slices.Sort(got)
			return slices.Equal(got, list)
		})
	}
	knows("s.lodge 192.0.2.41")
	w.accounted("Start", "s-2", "t.marchetti", "192.0.2.42", "02-00-5e-00-00-02")
	knows("s.lodge 192.0.2.41", "t.marchetti 192.0.2.42")
	w.accounted("Stop", "s-1", "s.lodge", "192.0.2.41", "02-00-5e-00-00-01")
	knows("t.marchetti 192.0.2.42")
	w.wants(0, []string{"presence", "state"}, "old-wall", "live")
	w.app.Stop()
	w.boot()
	w.accounted("Start", "s-3", "s.lodge", "192.0.2.43", "02-00-5e-00-00-03")
	knows("s.lodge 192.0.2.43", "t.marchetti 192.0.2.42")
	wall.app.Stop() // and it does not answer any more
	w.accounted("Stop", "s-3", "s.lodge", "192.0.2.43", "02-00-5e-00-00-03")
	w.eventually("it is told that the firewall does not answer", func() bool {
		return strings.Contains(w.wants(0, []string{"presence", "state"}), "telling ")
	})
}
