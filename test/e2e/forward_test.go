package e2e

import (
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// forwarding starts two services: the near one forwards everything to the far one.
func forwarding(t *testing.T) (near, far *world) {
	t.Helper()
	far = start(t)
	far.basic("require", "127.0.0.1")
	near = start(t)
	near.basic("require", "127.0.0.1")
	if out, code := near.run(secret+"\n", "tollgate", "remote", "add", "port-authority", "-server", far.radius,
		"-secret", "-timeout", "1000", "-tries", "2", "-grant", "*"); code != 0 {
		t.Fatal(out)
	}
	near.wants(0, []string{"lane", "change", "Wired", "-forward", "port-authority"}, "changed",
		"warnings: policies")
	near.publish()
	return near, far
}

func TestALaneForwards(t *testing.T) {
	t.Parallel()
	near, far := forwarding(t)
	far.wants(0, []string{"pass", "change", "crew", "-vlan", "77", "-publish"}, "revision 2")
	reply, err := near.ask(nil)
	if err != nil || !reply.Accepted || values(reply, "Tunnel-Private-Group-ID") != "77" {
		t.Fatalf("%+v, %v", reply, err)
	}
	a := near.newest(1)
	if a.Reason != "ok" || a.Facts.Forwarded == nil || a.Facts.Forwarded.Server != "port-authority" ||
		a.VLAN != "77" || len(a.Trace.Reply) == 0 {
		t.Errorf("%+v", a.Facts.Forwarded)
	}
	near.wants(0, []string{"attempt", "explain", a.ID}, "Remote server", "port-authority", "admitted")
	if there := far.newest(1); there.Facts.Person == nil || there.Facts.Person.Name != "k.nance" {
		t.Errorf("there: %+v", there.Facts)
	}
	for what, change := range map[string]func(*trial.Request){
		"a wrong password": func(q *trial.Request) { q.Password = "not-this" },
		"nobody":           func(q *trial.Request) { q.User = "nobody" },
	} {
		if r, err := near.ask(change); err != nil || r.Accepted {
			t.Errorf("%s: %+v, %v", what, r, err)
		}
	}
	if a := near.newest(3); a.Reason != "remote.refused" {
		t.Errorf("%+v", a.Attempt)
	}
	near.wants(0, []string{"remote", "list"}, "port-authority", "Wired")
	near.wants(0, []string{"lane", "list"}, "DECIDED BY", "port-authority")
	near.wants(0, []string{"attempt", "dry-run", "-user", "k.nance", "-client", "np-switch-1", "-attr",
		"NAS-Port-Type=Ethernet"}, "its answer is not known")
	near.wants(0, []string{"remote", "remove", "port-authority"}, "removed")
	near.refused(422, http.MethodPost, "/draft/publish", map[string]string{},
		`there is no remote server "port-authority"`)
}

// Methods with challenges and keys go through: CHAP whose challenge was the authenticator, and PEAP with its keys
// hidden anew.
func TestForwardedMethods(t *testing.T) {
	t.Parallel()
	near, far := forwarding(t)
	far.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: "bridge-and-beam",
		AccountFields: apitype.AccountFields{Name: "m.mate", Groups: []string{"Crew"}, Enabled: true,
			Keeps: "password"}}, nil)
	far.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Harbour",
		Make: &apitype.Make{Subject: "Harbour"}}, nil)
	far.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "radius", Authority: "Harbour",
		Make: &apitype.Make{Subject: "radius.ships.example", Names: []string{"radius.ships.example"}}}, nil)
	var lane apitype.Lane
	far.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	lane.Methods = []string{"pap", "chap", "mschapv2", "peap-mschapv2"}
	far.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*"))
	far.publish()
	for _, method := range []string{"chap", "mschapv2", "peap-mschapv2"} {
		reply, err := near.ask(func(q *trial.Request) {
			q.Method, q.User, q.Password = method, "m.mate", "bridge-and-beam"
			q.Supplicant = supplicant.Settings{Outer: "m.mate", Binding: true}
		})
		if err != nil || !reply.Accepted || method == "peap-mschapv2" && reply.Keys != "match" {
			t.Errorf("%s: %+v, %v", method, reply, err)
		}
	}
	if near.newest(3).Facts.Forwarded.Answer != "accept" {
		t.Error("the last was not accepted there")
	}
}

func TestRemoteServersThatFail(t *testing.T) {
	t.Parallel()
	near, _ := forwarding(t)
	silent, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	if out, code := near.run(secret+"\n", "tollgate", "remote", "add", "silent", "-server",
		silent.LocalAddr().String(), "-secret", "-timeout", "150", "-tries", "2"); code != 0 {
		t.Fatal(out)
	}
	near.wants(0, []string{"lane", "change", "Wired", "-forward", "silent", "-forward", "port-authority"}, "changed")
	near.publish()
	begun := time.Now()
	if r, err := near.ask(nil); err != nil || !r.Accepted {
		t.Errorf("behind a silent one: %+v, %v", r, err)
	}
	first := time.Since(begun)
	begun = time.Now()
	if r, err := near.ask(nil); err != nil || !r.Accepted || time.Since(begun) > first {
		t.Errorf("a silent one is asked first again: %+v, %v, %v after %v", r, err, time.Since(begun), first)
	}
	near.wants(0, []string{"remote", "list"}, "silent")
	near.wants(0, []string{"lane", "change", "Wired", "-forward", "silent"}, "changed")
	near.publish()
	if r, err := near.ask(nil); err != nil || r.Accepted {
		t.Errorf("with a silent one only: %+v, %v", r, err)
	}
	a := near.newest(3)
	if a.Reason != "remote.unreachable" || !strings.Contains(a.Trace.Sentence,
		"no answer within 150ms, asked 2 times") {
		t.Errorf("%s: %s", a.Reason, a.Trace.Sentence)
	}
	// A wrong secret is seen as what cannot be proven.
	if out, code := near.run("another-secret-altogether\n", "tollgate", "remote", "change", "port-authority",
		"-secret"); code != 0 {
		t.Fatal(out)
	}
	near.wants(0, []string{"remote", "change", "port-authority", "-timeout", "300", "-tries", "1"}, "changed")
	near.wants(0, []string{"lane", "change", "Wired", "-forward", "port-authority"}, "changed")
	near.publish()
	if r, err := near.ask(nil); err != nil || r.Accepted {
		t.Errorf("with a wrong secret: %+v, %v", r, err)
	}
	if a := near.newest(4); a.Reason != "remote.unreachable" {
		t.Errorf("%s: %s", a.Reason, a.Trace.Sentence)
	}
	near.refused(422, http.MethodPost, "/remotes", apitype.RemoteInput{Secret: "long-enough-secret",
		RemoteFields: apitype.RemoteFields{Name: "x", Servers: []config.RemoteServer{{Address: "somewhere"}},
			Tries: 9}},
		"is not an address with a port", "9 is out of range")
	near.refused(422, http.MethodPost, "/lanes", apitype.LaneFields{Name: "y", Forward: []string{"nobody"},
		Policies: []*config.Policy{}}, `there is no remote server "nobody"`)
}

// Two servers that forward to each other do not ask each other for ever.
func TestForwardingInACircle(t *testing.T) {
	t.Parallel()
	near, far := forwarding(t)
	if out, code := far.run(secret+"\n", "tollgate", "remote", "add", "back", "-server", near.radius, "-secret",
		"-timeout", "3000", "-tries", "1"); code != 0 {
		t.Fatal(out)
	}
	far.wants(0, []string{"lane", "change", "Wired", "-forward", "back"}, "changed")
	far.publish()
	if r, err := near.ask(func(q *trial.Request) { q.Timeout = 10 * time.Second }); err != nil || r.Accepted {
		t.Fatalf("%+v, %v", r, err)
	}
	near.attempts("", 1)
	if n := len(near.attempts("", 1)); n > 8 {
		t.Errorf("the circle was gone round %d times", n)
	}
}
