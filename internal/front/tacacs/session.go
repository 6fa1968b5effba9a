package tacacs

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/wire/tacacs"
)

// Asker answers what a session asks about people and policies. A session itself knows neither; it knows the order in
// which RFC 8907 lets things be asked.
type Asker interface {
	// SignIn begins an authentication: the lane is chosen and the person looked up.
	SignIn(ctx context.Context, f facts.Facts, begun time.Time)
	// Password checks a password; password.expired and password.must-change may be followed by Change.
	Password(ctx context.Context, clear string) reason.Code
	// Typed checks a password that a one-time code may follow at once, as PAP hands it over.
	Typed(ctx context.Context, typed string)
	CHAP(ctx context.Context, identifier byte, challenge, response []byte)
	MSCHAP(ctx context.Context, challenge [8]byte, response [24]byte)
	// NeedsFactor reports whether the second factor has to be asked for, which Code checks; Question is what the person
	// reads, whether the password was right or not.
	NeedsFactor() bool
	Question(right bool) string
	// Code checks what was typed then, unless the password was wrong.
	Code(ctx context.Context, code string) reason.Code
	Change(ctx context.Context, old, next string) (reason.Code, string)
	// Unreadable notes a credential that cannot be read, Abort that the dialogue was broken off.
	Unreadable(detail string)
	Abort(detail string)
	// OtherType reports whether another authentication type would be allowed.
	OtherType() bool
	// End decides and records the authentication; Broken records one that ended before anything was checked.
	End() gate.Answer
	Broken(f facts.Facts, begun time.Time)
	Authorize(ctx context.Context, f facts.Facts, begun time.Time) gate.Grant
	Report(ctx context.Context, r gate.Report, at time.Time) error
}

// peer is who asks.
type peer struct {
	client  *config.Client
	address netip.Addr
	// tried is the operator who tries this out, "" for a real device.
	tried string
}

// Session is one session. It is used by one goroutine at a time.
type Session struct {
	ask  Asker
	peer peer
	kind tacacs.Type
	// due is the sequence number that has to come.
	due  int
	over bool
	login
}

// maxRounds bounds a dialogue; three wrong tries to type a new password twice need eleven.
const maxRounds = 12

func newSession(ask Asker, peer peer, kind tacacs.Type) *Session {
	return &Session{ask: ask, peer: peer, kind: kind, due: 1}
}

// Over reports that the session has ended.
func (s *Session) Over() bool { return s.over }

// Fault is what breaks the rules of the protocol. The session is over, and the reply says so.
type Fault struct {
	Detail string
	// Mild tells that the connection may go on.
	Mild bool
}

func (f *Fault) Error() string { return f.Detail }

// Step answers one packet. The error is a *Fault; there is a reply with it too.
func (s *Session) Step(ctx context.Context, h tacacs.Header, body []byte) (reply []byte, err error) {
	begun := time.Now()
	fail := func(format string, args ...any) ([]byte, error) {
		s.over = true
		detail := fmt.Sprintf(format, args...)
		return Refusal(s.kind, detail), &Fault{Detail: detail}
	}
	switch {
	case h.Type != s.kind:
		return fail("a session of %s goes on with %s", s.kind, h.Type)
	case int(h.Seq) != s.due:
		return fail("sequence number %d came where %d was due", h.Seq, s.due)
	case s.due > 2*maxRounds:
		return fail("the dialogue has more than %d rounds", maxRounds)
	}
	s.due += 2
	switch s.kind {
	case tacacs.Authorization:
		q, err := tacacs.ParseRequest(body)
		if err != nil {
			return fail("an authorization request cannot be read: %v", err)
		}
		s.over = true
		return s.authorize(ctx, &q, begun), nil
	case tacacs.Accounting:
		r, err := tacacs.ParseRecord(body)
		if err != nil {
			return fail("an accounting request cannot be read: %v", err)
		}
		s.over = true
		return s.account(ctx, &r, begun), nil
	}
	if h.Seq == 1 {
		start, err := tacacs.ParseStart(body)
		if err != nil {
			return fail("an authentication start cannot be read: %v", err)
		}
		return s.start(ctx, &start, begun)
	}
	c, err := tacacs.ParseContinue(body)
	if err != nil {
		return fail("an authentication continue cannot be read: %v", err)
	}
	return s.typed(ctx, &c, begun), nil
}

// Close ends a session that will not go on; one that waits for somebody to type is recorded.
func (s *Session) Close(ctx context.Context, detail string) {
	if !s.over && s.asked {
		s.abort(ctx, detail, time.Now())
	}
	s.over = true
}

// Refusal is the body that says that something was wrong, by the type of the session.
func Refusal(kind tacacs.Type, detail string) []byte {
	text := []byte(detail)
	switch kind {
	case tacacs.Authorization:
		return (&tacacs.AuthorReply{Status: tacacs.AuthorError, Message: text}).Append(nil)
	case tacacs.Accounting:
		return (&tacacs.AcctReply{Status: tacacs.AcctError, Message: text}).Append(nil)
	}
	return (&tacacs.AuthenReply{Status: tacacs.AuthenError, Message: text}).Append(nil)
}

// shaped reports whether a body looks like one: the lengths in it add up. With a wrong key they do not.
func shaped(h *tacacs.Header, body []byte) bool {
	var err error
	switch {
	case h.Type == tacacs.Authorization:
		_, err = tacacs.ParseRequest(body)
	case h.Type == tacacs.Accounting:
		_, err = tacacs.ParseRecord(body)
	case h.Seq == 1:
		_, err = tacacs.ParseStart(body)
	default:
		_, err = tacacs.ParseContinue(body)
	}
	return err == nil
}

// begin makes the first facts of a request.
func (s *Session) begin(user, port, remote []byte, begun time.Time) facts.Facts {
	f := facts.OfGear(s.peer.client.Name, s.peer.client.Tags, s.peer.address, user, port, remote, begun)
	f.Tried = s.peer.tried
	return f
}

func (s *Session) authorize(ctx context.Context, q *tacacs.Request, begun time.Time) []byte {
	f := s.begin(q.User, q.Port, q.Remote, begun)
	if detail := badArgument(q.Args); detail != "" {
		// FAIL and not ERROR: gear may permit by itself what a server in error cannot decide.
		f.Credential, f.CredentialDetail = reason.ArgumentMalformed, detail
	}
	readRequest(&f, q)
	out := s.ask.Authorize(ctx, f, begun)
	reply := tacacs.AuthorReply{Status: tacacs.AuthorFail}
	switch {
	case out.Err != nil:
		return Refusal(tacacs.Authorization, "the journal cannot be written")
	case out.Verdict != results.Admitted:
		if reply.Message = []byte(out.Message); out.Message == "" {
			reply.Message = []byte("Not permitted.")
		}
		return reply.Append(nil)
	}
	args, replace := []pass.Argument(nil), false
	if f.Gear.Asks != facts.AsksCommand {
		args, replace = join(q.Args, out.Args)
	}
	if reply.Status = tacacs.AuthorAdd; replace {
		reply.Status = tacacs.AuthorReplace
	}
	for _, a := range args {
		reply.Args = append(reply.Args, []byte(a.String()))
	}
	return reply.Append(make([]byte, 0, 64))
}

func (s *Session) account(ctx context.Context, r *tacacs.Record, begun time.Time) []byte {
	if r.Event() == "" {
		return Refusal(tacacs.Accounting, fmt.Sprintf("the flags 0x%02x are no start, stop or watchdog", r.Flags))
	}
	if detail := badArgument(r.Args); detail != "" {
		return Refusal(tacacs.Accounting, detail)
	}
	limited, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if err := s.ask.Report(limited, readRecord(r, s.peer.client.Name, s.peer.tried != ""), begun); err != nil {
		return Refusal(tacacs.Accounting, "the journal cannot be written")
	}
	return (&tacacs.AcctReply{Status: tacacs.AcctSuccess}).Append(nil)
}
