package tacacs

import (
	"context"
	"fmt"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/tacacs"
)

// login is an authentication under way.
type login struct {
	facts facts.Facts
	// signing tells that the asker was told of the sign-in, asked that somebody is waited for, answer who takes what is
	// typed.
	signing bool
	asked   bool
	answer  func(ctx context.Context, text string, begun time.Time) []byte
	// came is what the password came to, while a one-time code is asked for.
	came reason.Code
	// old and next are the passwords of a change, tries how often the new ones differed.
	old, next string
	tries     int
}

// maxTyped bounds a name and a password, in octets.
const maxTyped = 255

// maxTries bounds how often the new password may be typed differently.
const maxTries = 3

func (s *Session) start(ctx context.Context, start *tacacs.Start, begun time.Time) ([]byte, error) {
	s.login.facts = s.begin(start.User, start.Port, start.Remote, begun)
	f := &s.login.facts
	f.Gear.Asks, f.Gear.Level = facts.AsksLogin, int(start.Level)
	if start.Service == tacacs.ServiceEnable {
		f.Gear.Asks = facts.AsksEnable
	}
	if start.Action == tacacs.ChangePassword {
		f.Gear.Asks = facts.AsksPassword
	}
	f.Method = methods[start.Kind]
	switch {
	case start.Action != tacacs.Login && start.Action != tacacs.ChangePassword:
		return s.unspoken(tacacs.AuthenError, "action %d of an authentication is not spoken here", start.Action)
	case f.Method == "" || start.Action == tacacs.ChangePassword && start.Kind != tacacs.ASCII:
		return s.unspoken(tacacs.AuthenRestart, "authentication type %d is not spoken here for action %d", start.Kind,
			start.Action)
	case start.Kind != tacacs.ASCII:
		return s.prove(ctx, start.Kind, start.Data, begun), nil
	case f.Sent == "":
		return s.prompt(tacacs.AuthenGetUser, "Username: ", 0, s.user), nil
	}
	return s.first(), nil
}

// unspoken ends a session that asks for what is not spoken here; the device may try another type after a RESTART (RFC
// 8907 section 5.2), on the same connection.
func (s *Session) unspoken(status tacacs.AuthenStatus, format string, args ...any) ([]byte, error) {
	s.over = true
	detail := fmt.Sprintf(format, args...)
	return (&tacacs.AuthenReply{Status: status, Message: []byte(detail)}).Append(nil), &Fault{Detail: detail,
		Mild: true}
}

// signIn tells the asker who signs in.
func (s *Session) signIn(ctx context.Context, begun time.Time) {
	s.signing = true
	s.ask.SignIn(ctx, s.login.facts, begun)
}

// prove checks a credential that came with the START (RFC 8907 section 5.4.2).
func (s *Session) prove(ctx context.Context, kind tacacs.Kind, data []byte, begun time.Time) []byte {
	s.signIn(ctx, begun)
	switch {
	case kind == tacacs.PAP:
		s.ask.Typed(ctx, string(data))
	case kind == tacacs.CHAP && len(data) > 17:
		s.ask.CHAP(ctx, data[0], data[1:len(data)-16], data[len(data)-16:])
	case kind == tacacs.MSCHAP || kind == tacacs.MSCHAPv2:
		challenge, response, ok := readMSCHAP(kind, data, s.login.facts.Sent)
		if !ok {
			s.ask.Unreadable(wrongLength)
			break
		}
		s.ask.MSCHAP(ctx, challenge, response)
	default:
		s.ask.Unreadable(wrongLength)
	}
	return s.end(ctx, "")
}

const wrongLength = "the challenge and response do not have the length that the type asks for"

// readMSCHAP reads the data of a START: an identifier, the challenge and the response (RFC 8907 sections 5.4.2.4 and
// 5.4.2.5).
func readMSCHAP(kind tacacs.Kind, data []byte, name string) (challenge [8]byte, response [24]byte, ok bool) {
	size := 8
	if kind == tacacs.MSCHAPv2 {
		size = 16
	}
	if len(data) != 1+size+mschap.ValueSize {
		return challenge, response, false
	}
	asked, value := data[1:1+size], data[1+size:]
	if kind == tacacs.MSCHAPv2 {
		r, err := mschap.ParseValueV2(value)
		return mschap.Challenge(r.Peer, [16]byte(asked), name), r.NT, err == nil
	}
	r, err := mschap.ParseValueV1(value)
	return [8]byte(asked), r.NT, err == nil && r.Flags&1 == 1
}

// prompt asks for something, and remembers who takes it.
func (s *Session) prompt(status tacacs.AuthenStatus, prompt string, flags byte, answer func(context.Context, string,
	time.Time) []byte) []byte {
	s.asked, s.answer = true, answer
	return (&tacacs.AuthenReply{Status: status, Flags: flags, Message: []byte(prompt)}).Append(nil)
}

// first asks for the first password.
func (s *Session) first() []byte {
	if s.login.facts.Gear.Asks == facts.AsksPassword { // here GETDATA asks for the old one, GETPASS for the new
		return s.prompt(tacacs.AuthenGetData, "Old password: ", tacacs.NoEcho, s.password)
	}
	return s.prompt(tacacs.AuthenGetPass, "Password: ", tacacs.NoEcho, s.password)
}

// typed takes a CONTINUE.
func (s *Session) typed(ctx context.Context, c *tacacs.Continue, begun time.Time) []byte {
	if c.Flags&tacacs.Abort != 0 {
		detail := "the device aborted the dialogue"
		if len(c.Data) > 0 {
			detail += ": " + facts.Readable(string(c.Data))
		}
		s.abort(ctx, detail, begun)
		return nil // RFC 8907 section 5.4.3: no reply
	}
	if !s.asked {
		s.over = true
		return Refusal(tacacs.Authentication, "nothing was asked")
	}
	s.asked = false
	if len(c.Message) > maxTyped {
		s.over = true
		return Refusal(tacacs.Authentication, "what was typed is too long")
	}
	return s.answer(ctx, string(c.Message), begun)
}

func (s *Session) user(_ context.Context, text string, _ time.Time) []byte {
	s.login.facts.Sent = text
	return s.first()
}

func (s *Session) password(ctx context.Context, text string, begun time.Time) []byte {
	s.login.facts.At = begun
	s.signIn(ctx, begun)
	s.old = text
	return s.factor(ctx, s.ask.Password(ctx, text))
}

// factor asks for the second factor where it is needed, whatever the password came to: nobody learns that it was right.
func (s *Session) factor(ctx context.Context, came reason.Code) []byte {
	if !s.ask.NeedsFactor() {
		return s.proven(ctx, came)
	}
	s.came = came
	return s.prompt(tacacs.AuthenGetData, s.ask.Question(taken(came)), 0, s.code)
}

// taken tells that a password was taken, be it one that has to be changed.
func taken(came reason.Code) bool {
	return came == reason.OK || came == reason.PasswordExpired || came == reason.PasswordMustChange
}

func (s *Session) code(ctx context.Context, text string, _ time.Time) []byte {
	if came := s.ask.Code(ctx, text); taken(s.came) && came != reason.OK {
		return s.end(ctx, "")
	}
	return s.proven(ctx, s.came)
}

// proven goes on when everything was typed that proves the person.
func (s *Session) proven(ctx context.Context, came reason.Code) []byte {
	changes := s.login.facts.Gear.Asks == facts.AsksPassword
	switch came {
	case reason.OK:
		if changes {
			return s.prompt(tacacs.AuthenGetPass, "New password: ", tacacs.NoEcho, s.newPassword)
		}
	case reason.PasswordExpired, reason.PasswordMustChange:
		prompt := "New password: "
		if !changes {
			prompt = "Your password has to be changed.\n" + prompt
		}
		return s.prompt(s.newStatus(), prompt, tacacs.NoEcho, s.newPassword)
	}
	return s.end(ctx, "")
}

func (s *Session) newPassword(_ context.Context, text string, _ time.Time) []byte {
	s.next = text
	return s.prompt(s.newStatus(), "New password, once more: ", tacacs.NoEcho, s.again)
}

// newStatus is how a new password is asked for.
func (s *Session) newStatus() tacacs.AuthenStatus {
	if s.login.facts.Gear.Asks == facts.AsksPassword {
		return tacacs.AuthenGetPass
	}
	return tacacs.AuthenGetData
}

func (s *Session) again(ctx context.Context, text string, _ time.Time) []byte {
	if text != s.next {
		if s.tries++; s.tries < maxTries {
			return s.prompt(s.newStatus(), "They differ.\nNew password: ", tacacs.NoEcho, s.newPassword)
		}
		s.ask.Abort("the new password was typed differently three times")
		return s.end(ctx, "The password was not changed.")
	}
	if code, detail := s.ask.Change(ctx, s.old, text); code != reason.OK {
		return s.end(ctx, "The password was not changed: "+detail)
	}
	return s.end(ctx, "The password was changed.")
}

// end decides, and makes the last reply. message is for the person.
func (s *Session) end(ctx context.Context, message string) []byte {
	s.over, s.old, s.next = true, "", ""
	out := s.ask.End()
	reply := tacacs.AuthenReply{Status: tacacs.AuthenPass}
	switch {
	case out.Err != nil:
		return Refusal(tacacs.Authentication, "the journal cannot be written")
	case out.Verdict == results.Admitted:
	case out.Message != "":
		reply.Status, message = tacacs.AuthenFail, out.Message
	default:
		if reply.Status = tacacs.AuthenFail; s.ask.OtherType() {
			reply.Status = tacacs.AuthenRestart
		}
		if message == "" {
			message = refusals[out.Reason]
		}
		if message == "" {
			message = "Access denied."
		}
	}
	if reply.Status == tacacs.AuthenFail && s.peer.tried == "" { // as the lane says, so that nobody guesses quickly
		select {
		case <-time.After(out.Delay):
		case <-ctx.Done():
		}
	}
	reply.Message = []byte(message)
	return reply.Append(nil)
}

// refusals are reasons that whoever gets to them may know.
var refusals = map[reason.Code]string{
	reason.PasswordExpired:    "Your password has expired.",
	reason.PasswordMustChange: "Your password has to be changed.", reason.LevelTooHigh: "This privilege level is " +
		"not yours.",
	reason.MethodNotAllowed:  "This type of authentication is not allowed here.",
	reason.FactorNotEnrolled: "You have no second factor yet. Ask the people who run this network.",
	reason.FactorLocked:      "Too many wrong codes. Try again later.",
}

// abort records a dialogue that was broken off.
func (s *Session) abort(ctx context.Context, detail string, begun time.Time) {
	s.over, s.old, s.next = true, "", ""
	if !s.signing {
		f := s.login.facts
		if f.Sent == "" { // somebody looked at the prompt and left
			return
		}
		f.At, f.Credential, f.CredentialDetail = begun, reason.DialogueAborted, detail
		s.ask.Broken(f, begun)
		return
	}
	s.ask.Abort(detail)
	s.ask.End()
}
