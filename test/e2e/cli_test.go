package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestCommandLineFromNothing configures a whole service by the command line alone and signs somebody in.
func TestCommandLineFromNothing(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.directory()
	ca := filepath.Join(t.TempDir(), "ca.pem")
	if err := os.WriteFile(ca, []byte(w.ca.PEM), 0o600); err != nil {
		t.Fatal(err)
	}
	piped := func(stdin string, args ...string) string {
		t.Helper()
		out, code := w.run(stdin+"\n", append([]string{"tollgate"}, args...)...)
		if code != 0 {
			t.Fatalf("tollgate %s: %d\n%s", strings.Join(args, " "), code, out)
		}
		return out
	}
	piped(secret, "client", "add", "np-switch-1", "-address", "127.0.0.1,192.0.2.0/24", "-tag", "site=north-pier",
		"-secret")
	piped("wrong-password", "directory", "add", "LANTERN", "-kind", "active-directory", "-server", w.ldaps, "-ca", ca,
		"-bind", `LANTERN\svc-tollgate`, "-password")
	w.wants(1, []string{"directory", "test", "LANTERN"}, "/ Protect the connection",
		"- Sign in with the service account", "Type the password again")
	piped("beacon-and-buoy", "directory", "change", "LANTERN", "-password")
	w.wants(0, []string{"directory", "test", "LANTERN", "-person", "s.lodge"}, "Sunniva Lodge", "Shore Staff", "61",
		"named by the server")
	w.wants(0, []string{"directory", "groups", "LANTERN", "ticket"}, "Ticketing")
	w.wants(0, []string{"directory", "find", "LANTERN", "s.lodge"}, "Harbour Office", "s.lodge@lanternferries.example")
	w.wants(1, []string{"directory", "find", "LANTERN", "nobody"}, "not found in")
	piped("lighthouse-2026", "account", "add", "night.watch", "-group", "Ticketing", "-person", "Night Watch")
	w.wants(0, []string{"realm", "add", "shore", "-form", "@lanternferries.example", "-form", `LANTERN\`, "-form",
		"bare", "-lookup", "LANTERN?,local"})
	w.wants(0, []string{"pass", "add", "ticketing", "-vlan", "20", "-role", "ticketing", "-attr", "Idle-Timeout=900"})
	w.wants(0, []string{"lane", "add", "Wired ports", "-when", "port.type is Ethernet", "-realm", "shore",
		"-reject-delay", "0"})
	w.wants(0, []string{"policy", "add", "Wired ports", "Ticketing", "-when",
		"group is Ticketing and client.site is north-pier", "-pass", "ticketing"})
	w.wants(0, []string{"draft", "show"}, "Running revision 0, 5 changes", "added lane")
	w.wants(0, []string{"draft", "diff"}, `policy "Ticketing" added`, "bind password changed")
	w.wants(0, []string{"draft", "publish", "-note", "from nothing"}, "Published as revision 1")

	try := []string{"try", "-secret", secret, "-attr", "NAS-Port-Type=Ethernet", w.radius}
	w.wants(0, append(try, "-user", "s.lodge", "-password", "harbour-s.lodge"), "Access-Accept",
		"Tunnel-Private-Group-ID    20", "Idle-Timeout               900")
	w.wants(0, append(try, "-user", "night.watch", "-password", "lighthouse-2026"), "Access-Accept")
	w.wants(1, append(try, "-user", "s.lodge", "-password", "wrong"), "Access-Reject")
	w.wants(1, append(try, "-user", `LANTERN\b.tulloch`, "-password", "harbour-b.tulloch"), "Access-Reject")
	w.attempts("", 4)
	w.wants(0, []string{"attempt", "list"}, "s.lodge", "refused", "pap", "ticketing, VLAN 20")
	w.wants(0, []string{"attempt", "list", "-user", "S.LODGE", "-verdict", "admitted"}, "admitted")
	w.wants(0, []string{"attempt", "explain"}, "is disabled in LANTERN", "X Directory", "found   person.disabled",
		"remedy")
	w.wants(0, []string{"status"}, "revision 1", "signed in as o.brandt")
	out := w.wants(0, []string{"attempt", "list", "-json", "-limit", "1"})
	var list []map[string]any
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 1 ||
		list[0]["reason"] != "person.disabled" {
		t.Errorf("JSON: %v in %s", err, out)
	}
}

func TestCommandLineOrdersAndEdits(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"policy", "add", "Wired", "Guests", "-refuse", "-message", "Ask at the desk.", "-at", "1"})
	w.wants(0, []string{"policy", "list", "Wired"}, "1  Guests", "2  Crew")
	w.wants(0, []string{"policy", "change", "Wired", "Guests", "-at", "2", "-when", "group is Guests"})
	w.wants(0, []string{"policy", "list", "Wired"}, "1  Crew", "2  Guests", "group is Guests")
	w.wants(0, []string{"policy", "change", "Wired", "Guests", "-off"})
	w.wants(0, []string{"policy", "change", "Wired", "Crew", "-group", "Crew=crew", "-group", "Deck Officers=crew"},
		"changed")
	w.wants(0, []string{"lane", "show", "Wired"}, "by group, 2 rows", "Deck Officers", "Guests (off)")
	w.wants(0, []string{"lane", "add", "Rest", "-realm", "here"})
	w.wants(0, []string{"lane", "move", "Rest", "-at", "1"}, "moved to place 1", "draft")
	w.wants(0, []string{"lane", "list"}, "1  Rest", "2  Wired")
	w.wants(0, []string{"draft", "diff"}, "place 1 of 2")
	w.wants(2, []string{"lane", "move", "Rest", "-at", "9"}, "from 1 to 2")
	w.wants(1, []string{"policy", "change", "Wired", "Nobody"}, `no policy "Nobody"`)
	w.wants(1, []string{"policy", "add", "Wired", "Bad", "-when", "grup is x", "-pass", "crew"}, "column 1",
		"Did you mean group?")
	w.wants(0, []string{"policy", "remove", "Wired", "Guests"})
	w.wants(0, []string{"client", "change", "np-switch-1", "-tag", "floor=2", "-untag", "site", "-address",
		"127.0.0.1,127.0.0.2"}, "changed in the draft")
	w.wants(0, []string{"client", "show", "np-switch-1"}, "floor=2", "127.0.0.2", "message-authenticator  require")
	w.wants(0, []string{"account", "change", "k.nance", "-expires", "2027-03-01"}, "until 2027-03-01")
	w.wants(0, []string{"account", "change", "k.nance", "-off"}, "disabled")
	w.wants(0, []string{"account", "remove", "k.nance"})
	w.wants(0, []string{"draft", "discard"})
	w.wants(0, []string{"draft", "diff"}, "No difference")
}

func TestCommandLineExitCodes(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.wants(0, []string{"help"}, "Usage: tollgate NOUN VERB", "Exit codes")
	w.wants(0, []string{"client", "-h"}, "client add NAME")
	w.wants(0, []string{"client", "add", "-h"}, "-address", "Usage: tollgate client add")
	w.wants(0, []string{"completion"}, "complete -F _tollgate tollgate")
	w.wants(2, []string{"nothing"}, "tollgate help")
	w.wants(2, []string{"client", "nothing"}, "no verb")
	w.wants(2, []string{"client", "add"}, "give one name")
	w.wants(2, []string{"client", "list", "-colour"}, "not defined")
	w.wants(2, []string{"try", "127.0.0.1:1"}, "-user")
	w.wants(1, []string{"client", "show", "nothing"}, `no client "nothing"`)
	w.wants(3, []string{"status", "-url", "http://127.0.0.1:1"}, "cannot be reached", "-url")
	w.wants(0, []string{"token", "add", "laptop"}, "tk_")
	token := w.api.Token
	w.api.Token = "tk_wrong"
	w.wants(1, []string{"client", "list"}, "not signed in", "tollgate sign-in")
	w.api.Token = token
	out, code := w.run("lantern-demo-2026\n", "tollgate", "sign-in", "-name", "o.brandt")
	if code != 0 || !strings.Contains(out, "Signed in as o.brandt") {
		t.Errorf("sign-in: %d %s", code, out)
	}
	w.api.Token = ""
	w.wants(0, []string{"status"}, "signed in as o.brandt") // with the token that was kept
	for _, line := range strings.Split(w.wants(0, []string{"help"})+w.wants(0, []string{"token", "list"}), "\n") {
		if len([]rune(line)) > 100 {
			t.Errorf("a line has more than 100 columns: %s", line)
		}
	}
}
