package server

import (
	"context"
	"crypto/rand"
	"strings"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/mschap"
)

// md5Method is EAP-MD5 (RFC 3748 section 5.4), also as switches use it for MAC authentication bypass.
type md5Method struct {
	l         *layer
	name      string
	challenge [16]byte
}

func (m *md5Method) begin() []byte {
	m.l.c.asker.Method(m.name)
	rand.Read(m.challenge[:])
	return eap.AppendValue(nil, m.challenge[:], "")
}

func (m *md5Method) respond(ctx context.Context, data []byte) step {
	c := m.l.c
	value, _, err := eap.Value(data)
	if err != nil || len(value) != 16 {
		return c.fail(reason.EAPMalformed, "the response of EAP-MD5 has not 16 octets")
	}
	c.peer("answers the challenge")
	claim, code := c.asker.CHAP(ctx, m.l.subject, m.l.name, CHAP{m.l.id, m.challenge[:], value})
	if code != reason.OK {
		return failed
	}
	return c.proven(m.l, claim.Finish(m.name), nil)
}

// proven ends a method that has proven its name: outside a tunnel policies decide at once, inside the tunnel does so.
func (c *Conversation) proven(l *layer, p proof.Proof, msk []byte) step {
	if !l.inside && p.Finished() && !c.asker.Settle(p) {
		return failed
	}
	return c.succeeded(msk, p)
}

// gtcMethod is EAP-GTC (RFC 3748 section 5.6), which hands over the password, and then the one-time code where the lane
// asks for one.
type gtcMethod struct {
	l    *layer
	name string
	// asked tells that the password was given, and something else was asked for; claim is nil where it was wrong.
	asked    bool
	password string
	claim    *proof.Claim
}

func (m *gtcMethod) begin() []byte {
	m.l.c.asker.Method(m.name)
	return []byte("Password: ")
}

func (m *gtcMethod) respond(ctx context.Context, data []byte) step {
	c := m.l.c
	clear := strings.TrimRight(string(data), "\x00")
	if len(clear) > 256 {
		return c.fail(reason.EAPMalformed, "an answer of %d octets", len(clear))
	}
	if m.asked {
		c.peer("answers the question")
		if m.claim != nil {
			c.asker.Second(ctx, m.password, clear)
		}
		return m.end()
	}
	c.peer("sends the password")
	var question string
	if m.claim, question = c.asker.Asked(ctx, m.l.subject, m.l.name, clear); question == "" {
		return m.end()
	}
	m.asked, m.password, c.thinking = true, clear, true
	c.server("asks: %s", question)
	return step{data: []byte(question)}
}

func (m *gtcMethod) end() step {
	if m.claim == nil {
		return failed
	}
	return m.l.c.proven(m.l, m.claim.Finish(m.name), nil)
}

// mschapMethod is EAP-MSCHAPv2: MS-CHAPv2 (RFC 2759) in EAP, inside tunnels, and without one as clients of IKEv2 use
// it.
type mschapMethod struct {
	l         *layer
	name      string
	challenge [16]byte
	msk       []byte
	stage     eap.Opcode
	// claim is who gave a right response; it is proven when the peer has accepted our own proof.
	claim *proof.Claim
	// expired tells that the peer may answer the failure with a new password.
	expired bool
	// peer is the name in the response, which challenges are hashed with.
	peer string
}

// serverName is what MS-CHAPv2 and EAP-MD5 challenges call us.
const serverName = "tollgate"

func (m *mschapMethod) begin() []byte {
	m.l.c.asker.Method(m.name)
	rand.Read(m.challenge[:])
	m.stage = eap.OpChallenge
	return eap.Exchange{Opcode: eap.OpChallenge, Identifier: m.l.id + 1, Challenge: m.challenge,
		Text: serverName}.Append(nil)
}

func (m *mschapMethod) respond(ctx context.Context, data []byte) step {
	c := m.l.c
	x, err := eap.ParseExchange(data)
	if err != nil {
		return c.fail(reason.EAPMalformed, "%v", err)
	}
	switch {
	case m.stage == eap.OpChallenge && x.Opcode == eap.OpResponse:
		return m.check(ctx, x)
	case m.stage == eap.OpSuccess && x.Opcode == eap.OpSuccess:
		c.peer("accepts our proof")
		return c.proven(m.l, m.claim.Finish(m.name), m.msk)
	case m.stage == eap.OpSuccess && x.Opcode == eap.OpFailure:
		return c.fail(reason.EAPDeclined, "it does not accept our proof of knowing the password")
	case m.stage == eap.OpFailure && m.expired && x.Opcode == eap.OpChange:
		return m.change(ctx, x)
	case m.stage == eap.OpFailure:
		return failed
	}
	return c.fail(reason.EAPMalformed, "EAP-MSCHAPv2 opcode %d is not expected here", x.Opcode)
}

func (m *mschapMethod) check(ctx context.Context, x eap.Exchange) step {
	c := m.l.c
	c.peer("MS-CHAPv2 response of %s", x.Text)
	// The challenge is hashed with the name of the response; that it is the identity, with or without its realm, is
	// what keeps somebody from proving one name and being taken for another.
	if !sameName(x.Text, m.l.name) {
		return c.fail(reason.EAPMalformed, "the MS-CHAPv2 response is by %q, the identity was %q", x.Text, m.l.name)
	}
	m.peer = x.Text
	return m.verify(ctx, x.Identifier, x.Response)
}

// change has an expired password changed, and goes on with the proof of the new one that came with it (RFC 2759 section
// 7).
func (m *mschapMethod) change(ctx context.Context, x eap.Exchange) step {
	c := m.l.c
	c.peer("sends a new password")
	m.expired = false
	if c.asker.ChangePassword(ctx, m.l.subject, m.l.name, x.Change) != reason.OK {
		return m.fail(x.Identifier, mschap.ErrorChange)
	}
	c.server("the password is changed")
	s := m.verify(ctx, x.Identifier, mschap.Response{Peer: x.Change.Peer, NT: x.Change.NT})
	m.expired = false // once is enough
	return s
}

// verify checks a response and answers it with our own proof, or says why not.
func (m *mschapMethod) verify(ctx context.Context, identifier byte, response mschap.Response) step {
	claim, again, code := m.l.c.asker.MSCHAP(ctx, m.l.subject, m.l.name,
		MSCHAP{mschap.Challenge(response.Peer, m.challenge, m.peer), response.NT})
	if code != reason.OK {
		m.expired = ErrorCode(code) == mschap.ErrorExpired
		return m.fail(identifier, ErrorCode(code))
	}
	m.claim = claim
	return m.succeed(identifier, again, response)
}

// fail says why, with a challenge that a change of password would answer.
func (m *mschapMethod) fail(identifier byte, code int) step {
	m.stage = eap.OpFailure
	m.l.c.parting = !m.expired // a person may be thinking of a new password
	rand.Read(m.challenge[:])
	m.l.c.server("MS-CHAPv2 failure %d", code)
	return step{data: eap.Exchange{Opcode: eap.OpFailure, Identifier: identifier, Text: mschap.Failure(code,
		m.challenge, "Access denied")}.Append(nil)}
}

func (m *mschapMethod) succeed(identifier byte, again mschap.Hash, response mschap.Response) step {
	m.stage = eap.OpSuccess
	msk := mschap.KeysV2(again, response.NT).MSK()
	m.msk = msk[:32]
	proof := mschap.AuthenticatorResponse(again, response.NT, response.Peer, m.challenge, m.peer)
	m.l.c.server("MS-CHAPv2 success, with our proof")
	return step{data: eap.Exchange{Opcode: eap.OpSuccess, Identifier: identifier, Text: proof + " M=OK"}.Append(nil)}
}

// sameName compares two forms of one name: DOMAIN\name, name@realm and name agree if the bare names do.
func sameName(a, b string) bool { return strings.EqualFold(bare(a), bare(b)) }

func bare(name string) string {
	if at := strings.LastIndexByte(name, '\\'); at >= 0 {
		name = name[at+1:]
	}
	if at := strings.LastIndexByte(name, '@'); at > 0 {
		name = name[:at]
	}
	return name
}

// ErrorCode is the error of RFC 2759 section 6 for a reason.
func ErrorCode(code reason.Code) int {
	switch code {
	case reason.PersonDisabled, reason.PersonLocked:
		return mschap.ErrorDisabled
	case reason.PasswordExpired, reason.PasswordMustChange:
		return mschap.ErrorExpired
	case reason.PersonHours:
		return mschap.ErrorHours
	case reason.PolicyNone, reason.PolicyRefused, reason.DirectoryUnreachable, reason.DirectoryBind,
		reason.DirectoryFailed, reason.DomainUnreachable, reason.DomainRefuses, reason.ClockSkew, reason.Busy,
		reason.MethodUnusable, reason.ServiceFault: // nobody has found the password wrong
		return mschap.ErrorNoAccess
	}
	return mschap.ErrorWrong
}
