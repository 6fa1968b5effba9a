package server

import (
	"crypto/tls"
	"encoding/json"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/proof"
)

// told is a second node that hears what the first one tells.
func (w *world) told(t *testing.T) *world {
	other := &world{authority: w.authority, settings: w.settings, sessions: NewSessions(100), fragment: w.fragment}
	tell := func(to *world) func(Told) {
		return func(told Told) {
			text, err := json.Marshal(told)
			var heard Told
			if err == nil {
				err = json.Unmarshal(text, &heard)
			}
			if err != nil {
				t.Error(err)
			}
			to.sessions.Heard(heard)
		}
	}
	w.sessions.Tell(tell(other))
	other.sessions.Tell(tell(w))
	return other
}

// Who was proven at one node resumes at another one, and each ticket is taken once.
func TestResumptionAtAnotherNode(t *testing.T) {
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		for _, method := range []string{"eap-tls", "peap-mschapv2", "ttls-pap", "teap-mschapv2"} {
			one := newWorld(t)
			two := one.told(t)
			s := one.peer(t, method)
			s.MinTLS, s.MaxTLS, s.Binding, s.Sessions = version, version, true, tls.NewLRUClientSessionCache(1)
			for round, w := range []*world{one, two, two, one} {
				a := w.asker()
				answer, _, err := w.run(t, a, s)
				if err != nil || !answer.OK() || a.name != personName || a.record.Resumed != (round > 0) {
					t.Fatalf("%s %s round %d: %v ok %v %s %q, resumed %v", tls.VersionName(version), method, round, err,
						answer.OK(), a.code, a.name, a.record.Resumed)
				}
			}
			if one.sessions.Len() != 1 || two.sessions.Len() != 1 {
				t.Errorf("%s %s: %d and %d sessions are kept", tls.VersionName(version), method, one.sessions.Len(),
					two.sessions.Len())
			}
		}
	}
}

// What failed at one node is told to none, and what another node tells may be anything.
func TestToldSessions(t *testing.T) {
	one := newWorld(t)
	two := one.told(t)
	s := one.peer(t, "peap-mschapv2")
	s.Sessions, s.Password = tls.NewLRUClientSessionCache(1), "wrong"
	one.run(t, one.asker(), s)
	if two.sessions.Len() != 0 {
		t.Error("a session of a conversation that failed was told")
	}
	before := []proof.Before{{Method: "peap-mschapv2", Inner: "somebody"}}
	for _, told := range []Told{{}, {Handle: make([]byte, 31), State: []byte("x"), Before: before},
		{Handle: make([]byte, 32), State: []byte("x")},
		{Handle: make([]byte, 32), State: []byte("x"), Before: append(before, before[0], before[0])}} {
		two.sessions.Heard(told)
	}
	if two.sessions.Len() != 0 {
		t.Error("what is no session is kept")
	}
	scope := two.settings.Scope + "PEAP"
	h := make([]byte, 32)
	two.sessions.Heard(Told{h, []byte("no state"), scope, -time.Hour, before})
	if e := two.sessions.entries[handle(h)]; e == nil || time.Until(e.at) > time.Second {
		t.Errorf("a session of the future: %+v", e)
	}
	two.sessions.Heard(Told{h, []byte("another"), scope, 0, before})
	if string(two.sessions.entries[handle(h)].state) != "no state" {
		t.Error("a session was replaced")
	}
	two.sessions.Heard(Told{Handle: h})
	if two.sessions.Len() != 0 {
		t.Error("what was resumed at another node is kept")
	}
	for n := range 300 {
		h[0], h[1] = byte(n), byte(n>>8)
		two.sessions.Heard(Told{h, []byte("no state"), scope, 0, before})
	}
	if n := two.sessions.Len(); n != 100 {
		t.Errorf("%d sessions are kept", n)
	}
}
