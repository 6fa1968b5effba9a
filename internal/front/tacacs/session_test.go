package tacacs

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/tacacs"
	"tollgate.example/key/test/transcript"
)

// script answers what a session asks, and writes down what it was asked.
type script struct {
	// password and code are the right ones; came is what the right password comes to.
	password, code string
	came           reason.Code
	needsCode      bool
	// grant are the arguments of a shell; fault stands for a journal that cannot be written.
	grant []pass.Argument
	fault error

	asked []string
	state reason.Code
	facts facts.Facts
}

func (s *script) note(format string, args ...any) {
	s.asked = append(s.asked, fmt.Sprintf(format, args...))
}

func (s *script) SignIn(_ context.Context, f facts.Facts, _ time.Time) {
	s.facts = f
	s.note("sign-in %s %s", f.Sent, f.Method)
}

func (s *script) Password(_ context.Context, clear string) reason.Code {
	s.note("password")
	if s.state = reason.PasswordWrong; clear == s.password {
		s.state = s.came
	}
	return s.state
}

func (s *script) Typed(ctx context.Context, typed string) { s.Password(ctx, typed) }

func (s *script) CHAP(_ context.Context, identifier byte, challenge, response []byte) {
	s.note("chap")
	if s.state = reason.PasswordWrong; mschap.CHAP(identifier, s.password, challenge) == [16]byte(response) {
		s.state = s.came
	}
}

func (s *script) MSCHAP(context.Context, [8]byte, [24]byte) { s.note("mschap") }

func (s *script) NeedsFactor() bool { return s.needsCode }

func (s *script) Question(bool) string { return "One-time code: " }

func (s *script) Code(_ context.Context, code string) reason.Code {
	s.note("code")
	if code != s.code {
		s.state = reason.FactorWrong
		return s.state
	}
	return reason.OK
}

func (s *script) Change(_ context.Context, _, next string) (reason.Code, string) {
	s.note("change")
	if len(next) < 8 {
		s.state = reason.PasswordRejected
		return s.state, "too short"
	}
	s.state = reason.OK
	return reason.OK, ""
}

func (s *script) Unreadable(string) { s.note("unreadable"); s.state = reason.PasswordUnreadable }

func (s *script) Abort(string) { s.note("abort"); s.state = reason.DialogueAborted }

func (s *script) OtherType() bool { return s.state == reason.MethodNotAllowed }

func (s *script) End() gate.Answer {
	s.note("end")
	if s.fault != nil {
		return gate.Answer{Err: s.fault}
	}
	if s.state == reason.OK {
		return gate.Answer{Verdict: results.Admitted, Reason: reason.OK}
	}
	return gate.Answer{Verdict: results.Refused, Reason: s.state}
}

func (s *script) Broken(facts.Facts, time.Time) { s.note("broken") }

func (s *script) Authorize(_ context.Context, f facts.Facts, _ time.Time) gate.Grant {
	s.facts = f
	s.note("authorize %s %s", f.Gear.Asks, f.Gear.Command)
	if f.Credential != "" || f.Gear.Command == "reload" {
		return gate.Grant{Answer: gate.Answer{Verdict: results.Refused, Reason: reason.CommandRefused}}
	}
	return gate.Grant{Answer: gate.Answer{Verdict: results.Admitted, Err: s.fault}, Args: s.grant}
}

func (s *script) Report(_ context.Context, r gate.Report, _ time.Time) error {
	s.note("report %s %s %s", r.Event, r.Task, r.Command)
	return s.fault
}

// talk plays a dialogue: the START, and what is typed. It returns the replies.
func talk(t *testing.T, ask Asker, start tacacs.Start, typed ...string) []tacacs.AuthenReply {
	t.Helper()
	s := newSession(ask, peer{client: &config.Client{Name: "hh-router-1"}, address: netip.MustParseAddr("192.0.2.7"),
		tried: "somebody"}, tacacs.Authentication)
	var out []tacacs.AuthenReply
	body, seq := start.Append(nil), byte(1)
	for {
		reply, err := s.Step(context.Background(), tacacs.Header{Type: tacacs.Authentication, Seq: seq}, body)
		if fault := (*Fault)(nil); err != nil && !errors.As(err, &fault) {
			t.Fatal(err)
		}
		r, err := tacacs.ParseAuthenReply(reply)
		if err != nil {
			t.Fatalf("the reply %x: %v", reply, err)
		}
		out = append(out, r)
		if s.Over() || len(typed) == 0 {
			return out
		}
		body, seq, typed = (&tacacs.Continue{Message: []byte(typed[0])}).Append(nil), seq+2, typed[1:]
	}
}

func TestDialogues(t *testing.T) {
	login := tacacs.Start{Action: tacacs.Login, Kind: tacacs.ASCII, Level: 1, Service: 1, User: []byte("ann")}
	nameless, change := login, login
	nameless.User = nil
	change.Action = tacacs.ChangePassword
	for _, c := range []struct {
		name  string
		ask   script
		start tacacs.Start
		typed []string
		// prompts are what the person reads; status is the last one; asked is what the gate was asked.
		prompts, asked string
		status         tacacs.AuthenStatus
	}{
		{"right", script{}, login, []string{"rope"}, "Password: |", "sign-in ann pap,password,end", tacacs.AuthenPass},
		{"wrong", script{}, login, []string{"knot"}, "Password: |Access denied.", "sign-in ann pap,password,end",
			tacacs.AuthenFail},
		{"the name is asked for", script{}, nameless, []string{"ann", "rope"}, "Username: |Password: |",
			"sign-in ann pap,password,end", tacacs.AuthenPass},
		{"a code too", script{needsCode: true}, login, []string{"rope", "123456"}, "Password: |One-time code: |",
			"sign-in ann pap,password,code,end", tacacs.AuthenPass},
		{"a code is asked for whatever the password", script{needsCode: true}, login, []string{"knot", "123456"},
			"Password: |One-time code: |Access denied.", "sign-in ann pap,password,code,end", tacacs.AuthenFail},
		{"an expired password", script{came: reason.PasswordExpired}, login, []string{"rope", "new-rope-1",
			"new-rope-1"},
			"Password: |Your password has to be changed.\nNew password: |New password, once more: |The password was " +
				"changed.",
			"sign-in ann pap,password,change,end", tacacs.AuthenPass},
		{"three times different", script{}, change, []string{"rope", "a", "b", "c", "d", "e", "f"},
			"Old password: |New password: |New password, once more: |They differ.\nNew password: |New password, once " +
				"more: |" +
				"They differ.\nNew password: |New password, once more: |The password was not changed.",
			"sign-in ann pap,password,abort,end", tacacs.AuthenFail},
		{"a password that the store rejects", script{}, change, []string{"rope", "short", "short"},
			"Old password: |New password: |New password, once more: |The password was not changed: too short",
			"sign-in ann pap,password,change,end", tacacs.AuthenFail},
		{"no record, no answer", script{fault: errors.New("disk")}, login, []string{"rope"},
			"Password: |the journal cannot be written", "sign-in ann pap,password,end", tacacs.AuthenError},
		{"too long", script{}, login, []string{strings.Repeat("x", 256)}, "Password: |what was typed is too long", "",
			tacacs.AuthenError},
	} {
		t.Run(c.name, func(t *testing.T) {
			ask := c.ask
			ask.password, ask.code = "rope", "123456"
			if ask.came == "" {
				ask.came = reason.OK
			}
			replies := talk(t, &ask, c.start, c.typed...)
			var prompts []string
			for _, r := range replies {
				prompts = append(prompts, string(r.Message))
			}
			if got := strings.Join(prompts, "|"); got != c.prompts {
				t.Errorf("the person reads %q, wanted %q", got, c.prompts)
			}
			if got := strings.Join(ask.asked, ","); got != c.asked {
				t.Errorf("asked %s, wanted %s", got, c.asked)
			}
			if last := replies[len(replies)-1]; last.Status != c.status {
				t.Errorf("it ends with %v, wanted %v", last.Status, c.status)
			}
		})
	}
}

// Whatever breaks the rules ends the session, and proves nothing.
func TestSessionsOutOfOrder(t *testing.T) {
	start := tacacs.Start{Action: tacacs.Login, Kind: tacacs.ASCII, Service: 1, User: []byte("ann")}
	next := tacacs.Continue{Message: []byte("rope")}
	for name, c := range map[string]struct {
		seq  byte
		kind tacacs.Type
		body []byte
	}{
		"skipped":      {5, tacacs.Authentication, next.Append(nil)},
		"repeated":     {1, tacacs.Authentication, start.Append(nil)},
		"another type": {3, tacacs.Authorization, nil},
		"garbage":      {3, tacacs.Authentication, []byte{1, 2, 3}},
	} {
		ask := &script{password: "rope", came: reason.OK}
		s := newSession(ask, peer{client: &config.Client{Name: "c"}}, tacacs.Authentication)
		if _, err := s.Step(context.Background(), tacacs.Header{Type: tacacs.Authentication, Seq: 1},
			start.Append(nil)); err != nil {
			t.Fatal(err)
		}
		reply, err := s.Step(context.Background(), tacacs.Header{Type: c.kind, Seq: c.seq}, c.body)
		if fault := (*Fault)(nil); !errors.As(err, &fault) || !s.Over() || len(reply) == 0 || len(ask.asked) > 0 {
			t.Errorf("%s: %v, over %v, asked %v", name, err, s.Over(), ask.asked)
		}
	}
	ask := &script{}
	s := newSession(ask, peer{client: &config.Client{Name: "c"}}, tacacs.Authentication)
	s.Step(context.Background(), tacacs.Header{Type: tacacs.Authentication, Seq: 1}, start.Append(nil))
	if s.Close(context.Background(), "the connection ended"); strings.Join(ask.asked, ",") != "broken" {
		t.Errorf("a session that is given up asks %v", ask.asked)
	}
}

// replayKey is the secret of the recordings; see test/e2e/record_test.go.
const replayKey = "mooring-line-and-anchor"

// What clients of other authors said to the service is said again to sessions, which have to answer the same, octet by
// octet.
func TestSessionsOfRealClients(t *testing.T) {
	for file, least := range map[string]int{"perl.txt": 6, "scapy.txt": 4} {
		t.Run(file, func(t *testing.T) {
			recorded, err := transcript.Read("testdata/" + file)
			if err != nil {
				t.Fatal(err)
			}
			sessions := 0
			for _, connection := range recorded.Connections {
				sessions += replay(t, connection)
			}
			if sessions < least {
				t.Errorf("only %d sessions were replayed", sessions)
			}
		})
	}
}

// replay plays one connection, and counts its sessions.
func replay(t *testing.T, messages []transcript.Message) int {
	var fromPeer, toPeer []byte
	for _, m := range messages {
		if m.FromPeer {
			fromPeer = append(fromPeer, m.Data...)
		} else {
			toPeer = append(toPeer, m.Data...)
		}
	}
	ask := &script{password: "rope-and-anchor", came: reason.OK, grant: []pass.Argument{{Name: "priv-lvl", Value: "15"},
		{Name: "timeout", Value: "61"}, {Name: "idletime", Value: "10"}, {Name: "acl", Value: "7"},
		{Name: "hint", Value: "ann@lanternferries.example", Optional: true}}}
	var s *Session
	sessions := 0
	for len(fromPeer) > 0 {
		h, body := next(t, &fromPeer)
		if h.Seq == 1 {
			s = newSession(ask, peer{client: &config.Client{Name: "hh-router-1"}, tried: "replay"}, h.Type)
			sessions++
		}
		got, err := s.Step(context.Background(), h, body)
		if err != nil {
			t.Fatalf("packet %d of session %x: %v", h.Seq, h.Session, err)
		}
		reply, want := next(t, &toPeer)
		if reply.Seq != h.Seq+1 || string(got) != string(want) {
			t.Errorf("packet %d of a session of %s is answered with %q, recorded was %q", h.Seq, h.Type, got, want)
		}
	}
	return sessions
}

// next takes a packet off a stream, with its body in plain.
func next(t *testing.T, stream *[]byte) (tacacs.Header, []byte) {
	t.Helper()
	if len(*stream) < tacacs.HeaderSize {
		t.Fatal("a stream ends within a header")
	}
	h, err := tacacs.ParseHeader((*[tacacs.HeaderSize]byte)(*stream))
	if err != nil || len(*stream) < tacacs.HeaderSize+int(h.Length) {
		t.Fatalf("a packet cannot be read: %v", err)
	}
	body := append([]byte(nil), (*stream)[tacacs.HeaderSize:tacacs.HeaderSize+int(h.Length)]...)
	*stream = (*stream)[tacacs.HeaderSize+int(h.Length):]
	h.Obfuscate(body, []byte(replayKey))
	return h, body
}
