package e2e

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/tacacs"
)

func TestSigningInToGear(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	for _, single := range []bool{false, true} {
		g := w.device(single)
		for _, method := range trial.GearMethods {
			w.asks(g, trial.GearAsk{Ask: "login", Method: method, User: "ann", Password: "rope-and-anchor",
				Port: "vty0", Remote: "192.0.2.77", Level: 1}, "PASS")
			w.asks(g, trial.GearAsk{Ask: "login", Method: method, User: "ann", Password: "rope"}, "FAIL")
		}
		for _, name := range []string{"ann@lanternferries.example", `LANTERN\ann`} {
			w.asks(g, trial.GearAsk{Ask: "login", User: name, Password: "rope-and-anchor"}, "PASS")
		}
		w.asks(g, trial.GearAsk{Ask: "login", User: "ann@elsewhere.example", Password: "rope-and-anchor"}, "FAIL")
		w.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: ""}, "FAIL")
		if r := w.asks(g, trial.GearAsk{Ask: "login", User: "con", Password: "crane-and-dock"},
			"FAIL"); r.Message != "Ask the harbour office." {
			t.Errorf("the policy's message is %q", r.Message)
		}
		w.asks(g, trial.GearAsk{Ask: "enable", User: "ann", Password: "rope-and-anchor", Level: 15}, "PASS")
		w.asks(g, trial.GearAsk{Ask: "enable", User: "lou", Password: "look-and-see-1", Level: 1}, "PASS")
		if r := w.asks(g, trial.GearAsk{Ask: "enable", User: "lou", Password: "look-and-see-1", Level: 15},
			"FAIL"); r.Message != "This privilege level is not yours." {
			t.Errorf("too high a level says %q", r.Message)
		}
	}
	refused := w.attempts("reason=level.too-high", 2)[0]
	if want := "Privilege level 15 was asked for, and pass looker gives level 1"; !strings.Contains(
		w.road(refused.ID).Sentence, want) {
		t.Errorf("%q lacks %q", w.road(refused.ID).Sentence, want)
	}
	// The dialogue asks for the name if the device sends none.
	asked := []string{}
	reply, err := w.device(false).Authenticate(context.Background(), tacacs.Start{Action: tacacs.Login,
		Kind: tacacs.ASCII, Service: tacacs.ServiceLogin}, func(a tacacs.AuthenReply) (string, bool) {
		asked = append(asked, fmt.Sprintf("%s %s %d", a.Status, a.Message, a.Flags))
		return map[tacacs.AuthenStatus]string{tacacs.AuthenGetUser: "ann",
			tacacs.AuthenGetPass: "rope-and-anchor"}[a.Status], false
	})
	if err != nil || reply.Status != tacacs.AuthenPass || !slices.Equal(asked, []string{"GETUSER Username:  0",
		"GETPASS Password:  1"}) {
		t.Errorf("%s, %v after %q", reply.Status, err, asked)
	}
	// Somebody who goes away is recorded, and nothing is answered.
	w.device(false).Authenticate(context.Background(), tacacs.Start{Action: tacacs.Login, Kind: tacacs.ASCII,
		Service: tacacs.ServiceLogin, User: []byte("ann")}, func(tacacs.AuthenReply) (string, bool) { return "", true })
	if a := w.attempts("reason=dialogue.aborted", 1); a[0].User != "ann" {
		t.Errorf("aborted by %q", a[0].User)
	}
	e := w.entries("kind=login&user=ann&verdict=admitted", 12)[11]
	if e.Client != "hh-router-1" || e.Person != "Person ann" || e.From != "192.0.2.77" || e.Port != "vty0" ||
		e.Pass != "admin" {
		t.Errorf("the journal has %+v", e)
	}
}

// A device that signs people in by a type which does not go here is told to try another (RFC 8907 section 5.2), on the
// connection that it has; who sent what is seen.
func TestGearMayTryAnotherType(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.wants(0, []string{"lane", "change", "Gear", "-method", "pap"}, "changed")
	w.publish()
	g := w.device(true)
	for _, method := range []string{"chap", "mschap", "mschapv2"} {
		if r := w.asks(g, trial.GearAsk{Ask: "login", Method: method, User: "ann", Password: "rope-and-anchor"},
			"RESTART"); r.Message != "This type of authentication is not allowed here." {
			t.Errorf("%s: %q", method, r.Message)
		}
	}
	w.asks(g, trial.GearAsk{Ask: "login", Method: "pap", User: "ann", Password: "rope-and-anchor"}, "PASS")
	w.attempts("reason=method.not-allowed&user=ann", 3)
	c := w.wire()
	c.send(header(tacacs.Authentication, 1, 1, tacacs.Single), (&tacacs.Start{Action: tacacs.Login, Kind: 4,
		User: []byte("ann")}).Append(nil), gearSecret)
	if _, body := c.reply(gearSecret); len(body) == 0 || tacacs.AuthenStatus(body[0]) != tacacs.AuthenRestart {
		t.Errorf("a type that is not spoken is answered with %x", body)
	}
	c.send(header(tacacs.Authentication, 1, 2, 0), asciiStart("ann"), gearSecret)
	if _, body := c.reply(gearSecret); len(body) == 0 || tacacs.AuthenStatus(body[0]) != tacacs.AuthenGetPass {
		t.Errorf("a dialogue on the same connection is answered with %x", body)
	}
	w.contact(netip.MustParseAddr("127.0.0.1"), "tacacs-malformed")
	// Where nothing else is allowed, it is a refusal.
	w.wants(0, []string{"lane", "change", "Gear", "-method", "chap"}, "changed")
	w.publish()
	w.asks(g, trial.GearAsk{Ask: "login", Method: "pap", User: "ann", Password: "rope-and-anchor"}, "FAIL")
}

func TestPasswordsAreChangedInTheDialogue(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	g := w.device(false)
	w.asks(g, trial.GearAsk{Ask: "password", User: "ann", Password: "wrong", New: "a-new-rope-2026"}, "FAIL")
	if r := w.asks(g, trial.GearAsk{Ask: "password", User: "ann", Password: "rope-and-anchor", New: "short"},
		"FAIL"); !strings.Contains(r.Message, "fewer than 8") {
		t.Errorf("a short password says %q", r.Message)
	}
	if r := w.asks(g, trial.GearAsk{Ask: "password", User: "ann", Password: "rope-and-anchor", New: "a-new-rope-2026"},
		"PASS"); r.Message != "The password was changed." {
		t.Errorf("a change says %q", r.Message)
	}
	w.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor"}, "FAIL")
	w.asks(g, trial.GearAsk{Ask: "login", Method: "chap", User: "ann", Password: "a-new-rope-2026"}, "PASS")
	n := 0
	reply, err := g.Authenticate(context.Background(), tacacs.Start{Action: tacacs.ChangePassword, Kind: tacacs.ASCII,
		Service: tacacs.ServiceLogin, User: []byte("lou")}, func(a tacacs.AuthenReply) (string, bool) {
		if n++; n == 1 {
			// the old one is asked for so (RFC 8907 section 5.4.2.7)
			return "look-and-see-1", a.Status != tacacs.AuthenGetData
		}
		return fmt.Sprintf("different-%d", n), a.Status != tacacs.AuthenGetPass
	})
	if err != nil || reply.Status != tacacs.AuthenFail || n != 7 {
		t.Errorf("three different pairs: %s %q after %d (%v)", reply.Status, reply.Message, n, err)
	}
	w.asks(g, trial.GearAsk{Ask: "login", User: "lou", Password: "look-and-see-1"}, "PASS")
}

func TestWhatGearIsGranted(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	g := w.device(true)
	shell := w.asks(g, trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	if want := []string{"priv-lvl=15", "timeout=61", "idletime=10", "acl=7",
		"hint*ann@lanternferries.example"}; !slices.Equal(shell.Args, want) {
		t.Errorf("the shell gets %q, want %q", shell.Args, want)
	}
	w.asks(g, trial.GearAsk{Ask: "shell", User: "ann", Args: []string{"priv-lvl*15", "acl=7", "timeout=61",
		"idletime=10"}}, "PASS_ADD")
	replaced := w.asks(g, trial.GearAsk{Ask: "shell", User: "ann", Args: []string{"priv-lvl*1", "vendor=x"}},
		"PASS_REPL")
	const want = "service=shell cmd= vendor=x priv-lvl=15 timeout=61 idletime=10 acl=7 hint*ann@lanternferries.example"
	if strings.Join(replaced.Args, " ") != want {
		t.Errorf("replaced by %q", replaced.Args)
	}
	if r := w.asks(g, trial.GearAsk{Ask: "ppp", User: "ann", Args: []string{"protocol=ip"}},
		"PASS_ADD"); !slices.Equal(r.Args, []string{"addr=192.0.2.9"}) {
		t.Errorf("ppp gets %q", r.Args)
	}
	w.asks(g, trial.GearAsk{Ask: "slip", User: "ann"}, "FAIL")
	w.asks(g, trial.GearAsk{Ask: "shell", User: "nobody"}, "FAIL")
	w.asks(g, trial.GearAsk{Ask: "shell", User: ""}, "FAIL")
	for _, c := range []struct{ user, command, status, reason string }{
		{"ann", "configure terminal", "PASS_ADD", "ok"}, {"lou", "show version", "PASS_ADD", "ok"},
		{"lou", "SHOW   clock", "PASS_ADD", "ok"}, {"lou", "show secrets all", "FAIL", "command.refused"},
		{"lou", "reload", "FAIL", "command.none"}, {"bo", "show version", "FAIL", "command.no-list"},
		{"con", "show version", "FAIL", "policy.refused"},
	} {
		w.asks(g, trial.GearAsk{Ask: "command", User: c.user, Command: c.command, Level: 15}, c.status)
		e := w.entries("kind=command&user="+c.user, 1)[0]
		if e.Reason != c.reason || e.Command != strings.Join(strings.Fields(c.command), " ") {
			t.Errorf("%+v is in the journal as %+v", c, e)
		}
	}
	e := w.entries("q=show+secrets", 1)[0]
	w.attempts("reason=command.refused", 1)
	var one apitype.JournalEntry
	w.do(http.MethodGet, "/journal/"+e.ID, nil, &one)
	d := w.road(one.Attempt)
	if !strings.Contains(d.Trace.Sentence, "Command list looking refuses show secrets all: line 1: refuse show "+
		"secrets *") || d.Facts.Gear.Command != "show secrets all" || e.Line != "line 1: refuse show secrets *" {
		t.Errorf("the road says %q, the journal %q", d.Trace.Sentence, e.Line)
	}
	if one.Sentence != d.Trace.Sentence || e.Sentence != d.Trace.Sentence || one.What != "command" {
		t.Errorf("the journal says %q", one.Sentence)
	}
	// What a list says of a refusal is what its road says, whatever it was.
	for _, a := range w.attempts("verdict=refused", 7) {
		if road := w.road(a.ID).Sentence; a.Sentence != road || strings.Contains(road, "?") {
			t.Errorf("%s: the list says %q, the road %q", a.Reason, a.Sentence, road)
		}
	}
	// A draft that would permit it shows in the rehearsal, as for any other attempt.
	w.do(http.MethodPut, "/command-lists/looking", apitype.CommandListFields{Name: "looking",
		Lines: []config.CommandLine{{Verdict: "permit", Pattern: "show *"}}}, nil, matchAny)
	out := w.wants(0, []string{"attempt", "explain", one.Attempt, "-draft"}, "admitted",
		"asked for show secrets all on hh-router-1", "line 1: permit show *")
	if strings.Contains(out, "refuse show secrets") {
		t.Error("under the draft the old line decides")
	}
	w.wants(0, []string{"draft", "rehearse"}, "command.refused")
}

func TestGearReports(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	g := w.device(true)
	for _, event := range []string{"start", "update", "stop"} {
		w.asks(g, trial.GearAsk{Ask: event, User: `LANTERN\ann`, Port: "vty3", Remote: "192.0.2.78",
			Args: []string{"service=shell", "task_id=77"}}, "SUCCESS")
	}
	w.asks(g, trial.GearAsk{Ask: "stop", User: "ann", Command: "=HYPERLINK(1) now", Args: []string{"task_id=78"}},
		"SUCCESS")
	w.asks(g, trial.GearAsk{Ask: "start", User: "ann", Args: []string{"garbage"}}, "ERROR")
	w.asks(g, trial.GearAsk{Ask: "start", User: "ann", Args: []string{"cmd=a\x07b"}}, "ERROR")
	if r, err := g.Account(context.Background(),
		tacacs.Record{Flags: tacacs.FlagStart | tacacs.FlagStop}); err != nil || r.Status != tacacs.AcctError {
		t.Errorf("start and stop at once: %s, %v", r.Status, err)
	}
	list := w.entries("task=77", 3)
	if list[0].What != "shell stop" || w.entries("task=78", 1)[0].What != "command stop" {
		t.Errorf("what was reported reads %q", list[0].What)
	}
	if list[0].Kind != "stop" || list[1].Kind != "update" || list[2].Kind != "start" || list[2].User != "ann" ||
		list[2].From != "192.0.2.78" || list[2].Verdict != "" {
		t.Errorf("recorded %+v", list)
	}
	if n := len(w.entries("kind=record", 4)); n != 4 {
		t.Errorf("%d records", n)
	}
	w.wants(0, []string{"journal", "list", "-task", "77"}, "- reported  ann", "update")
	rows, err := csv.NewReader(strings.NewReader(w.wants(0, []string{"journal", "export", "-kind",
		"record"}))).ReadAll()
	if err != nil || len(rows) != 5 || rows[4][8] != "'=HYPERLINK(1) now" || rows[1][2] != "start" {
		t.Errorf("exported %q, %v", rows, err)
	}
	var e apitype.JournalEntry
	line, _, _ := strings.Cut(w.wants(0, []string{"journal", "export", "-format", "jsonl", "-task", "78"}), "\n")
	if err := json.Unmarshal([]byte(line), &e); err != nil || e.Command != "=HYPERLINK(1) now" || e.Task != "78" {
		t.Errorf("%q: %v", line, err)
	}
	followed := make(chan string)
	go func() { followed <- w.wants(0, []string{"journal", "follow", "-count", "1", "-kind", "start"}) }()
	for i := range 50 { // until the stream is open
		w.asks(g, trial.GearAsk{Ask: "start", User: "lou", Args: []string{fmt.Sprintf("task_id=9%d", i)}}, "SUCCESS")
		select {
		case out := <-followed:
			if !strings.Contains(out, "lou") {
				t.Errorf("followed %q", out)
			}
			return
		case <-time.After(100 * time.Millisecond):
		}
	}
	t.Error("nothing was followed")
}

// RADIUS administrative logins are in the same lanes, with the level, and in the same journal.
func TestRADIUSLoginsAreInTheJournalToo(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.do(http.MethodPut, "/clients/hh-router-1", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "hh-router-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil, matchAny)
	w.publish()
	reply, err := w.ask(func(r *trial.Request) {
		r.User, r.Password, r.Attributes = "ann", "rope-and-anchor",
			[]results.Attribute{{Name: "Service-Type", Value: "Administrative"}, {Name: "Calling-Station-Id",
				Value: "192.0.2.55"}}
	})
	if err != nil || !reply.Accepted || values(reply, "Management-Privilege-Level") != "15" {
		t.Fatalf("%+v, %v", reply, err)
	}
	e := w.entries("kind=login&user=ann", 1)[0]
	if e.Verdict != "admitted" || e.Pass != "admin" || e.From != "192.0.2.55" {
		t.Errorf("the journal has %+v", e)
	}
	w.ask(nil) // for a network, which is no matter of the journal
	if list := w.entries("", 1); len(list) != 1 {
		t.Errorf("%d entries", len(list))
	}
}

func TestSecretsOfGear(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	bad := w.device(false)
	bad.Secret = "not-the-secret"
	if _, err := bad.Try(context.Background(), trial.GearAsk{Ask: "shell", User: "ann"}); err == nil {
		t.Error("a wrong secret is answered")
	}
	c := w.contact(netip.MustParseAddr("127.0.0.1"), "tacacs-secret-mismatch")
	if c.Client != "hh-router-1" || !strings.Contains(c.Sentence, "secret that does not match") {
		t.Errorf("%+v", c)
	}
	// Rotated with an overlap, both work; after it, only the new one.
	until := time.Now().Add(3 * time.Second)
	w.do(http.MethodPut, "/clients/hh-router-1", apitype.ClientInput{TACACSSecret: "a-new-mooring-line",
		KeepPreviousUntil: until, ClientFields: apitype.ClientFields{Name: "hh-router-1", Enabled: true,
			Addresses: []string{"127.0.0.1"}, MessageAuthenticator: "require"}}, nil, matchAny)
	w.publish()
	w.asks(w.device(false), trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	fresh := w.device(false)
	fresh.Secret = "a-new-mooring-line"
	w.asks(fresh, trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	// Plain bodies are refused until they are allowed.
	plain := w.device(false)
	plain.Secret = ""
	w.asks(plain, trial.GearAsk{Ask: "shell", User: "ann"}, "ERROR")
	w.contact(netip.MustParseAddr("127.0.0.1"), "tacacs-not-obfuscated")
	time.Sleep(time.Until(until))
	if _, err := w.device(false).Try(context.Background(), trial.GearAsk{Ask: "shell", User: "ann"}); err == nil {
		t.Error("the previous secret still works after its end")
	}
	w.do(http.MethodPut, "/clients/hh-router-1", apitype.ClientInput{RemoveTACACSSecret: true,
		ClientFields: apitype.ClientFields{Name: "hh-router-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require", TACACSPlain: true}}, nil, matchAny)
	w.publish()
	w.asks(plain, trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
}
