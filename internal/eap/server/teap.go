package server

import (
	"context"
	"crypto/rand"
	"strings"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
)

// teapPhase is the inside of TEAP (RFC 7170 section 3.3): one inner method for each of whom the lane wants proven, the
// computer first, each confirmed with an Intermediate-Result and a Crypto-Binding, and a Result at the end. The
// binding is made of the master session keys of the inner methods (the MSK compound MAC of section 5.3).
type teapPhase struct {
	m     *tlsMethod
	keys  *eap.TEAPKeys
	nonce [32]byte
	// subjects are still to be proven; the first is under way.
	subjects []proof.Subject
	inner    *layer
	// password tells that a Basic-Password-Auth was asked for instead of EAP.
	password bool
	// begun tells that the peer has answered for the first subject; from then on it cannot choose another.
	begun bool
	// proofs are who was proven, each by an inner method of its own.
	proofs []proof.Proof
	ending bool
	ok     bool
	// mixed tells that a crypto-binding is due, after an inner method (intermediate) or at the end.
	mixed, intermediate bool
}

func (p *teapPhase) begin(_ context.Context, resumed bool) step {
	c := p.m.c
	p.keys = eap.NewTEAPKeys(p.m.msk, p.m.tunnel.TEAPPRF())
	if resumed {
		if err := p.keys.Mix(nil); err != nil {
			return c.fail(reason.TLSFailed, "%v", err)
		}
		p.proofs = p.m.proofs
		return step{data: p.result(p.settle(), nil)}
	}
	switch c.settings.Machine {
	case ProveMachine:
		p.subjects = []proof.Subject{proof.Machine}
	case ProveBoth:
		p.subjects = []proof.Subject{proof.Machine, proof.User}
	default:
		p.subjects = []proof.Subject{proof.User}
	}
	return step{data: p.ask(nil)}
}

// settle decides by policy about who was proven.
func (p *teapPhase) settle() bool { return len(p.proofs) > 0 && p.m.c.asker.Settle(p.proofs...) }

// identity is the value of the Identity-Type TLV for a subject (RFC 7170 section 4.2.3).
func identity(s proof.Subject) uint16 {
	if s == proof.Machine {
		return eap.IdentityMachine
	}
	return eap.IdentityUser
}

// ask begins the next inner method, behind what goes before.
func (p *teapPhase) ask(before []byte) []byte {
	c := p.m.c
	subject := p.subjects[0]
	p.inner, p.password, p.begun = nil, false, false
	out := eap.Number(eap.TLVIdentityType, identity(subject)).Append(before)
	offers := c.offers(insideTEAP)
	if subject == proof.User && (len(offers) == 0 || p.passwordFirst()) {
		return p.askPassword(out)
	}
	p.inner = &layer{c: c, offers: offers, inside: true, subject: subject}
	c.server("asks for the %s", subjectName(subject))
	return eap.TLV{Type: eap.TLVEAPPayload, Mandatory: true, Value: p.inner.ask().Encode()}.Append(out)
}

func (p *teapPhase) askPassword(before []byte) []byte {
	p.password = true
	p.m.c.server("asks for name and password of the user")
	return eap.TLV{Type: eap.TLVPasswordReq, Mandatory: true, Value: []byte("Password: ")}.Append(before)
}

func subjectName(subject proof.Subject) string {
	if subject == proof.Machine {
		return "computer"
	}
	return "user"
}

// passwordFirst reports whether the lane prefers the plain password to the EAP methods inside TEAP.
func (p *teapPhase) passwordFirst() bool {
	for _, name := range p.m.c.settings.Methods {
		if strings.HasPrefix(name, "teap-") {
			return name == "teap-pap"
		}
	}
	return false
}

func (p *teapPhase) take(ctx context.Context, plain []byte) step {
	c := p.m.c
	if len(plain) == 0 {
		if p.ending && !p.ok {
			return failed
		}
		return c.fail(reason.EAPDeclined, "an empty message inside TEAP")
	}
	list, err := eap.ParseTLVs(plain)
	if err != nil {
		return c.fail(reason.EAPMalformed, "%v", err)
	}
	if p.mixed {
		if s, ok := p.confirmed(list); !ok {
			return s
		}
	}
	confirmed := p.mixed
	p.mixed = false
	if p.ending {
		return p.finished(list)
	}
	if len(p.subjects) == 0 {
		return c.fail(reason.EAPMalformed, "an answer where nothing was asked inside TEAP")
	}
	if _, has := eap.FindTLV(list, eap.TLVResult); has {
		return c.fail(reason.EAPDeclined, "it sent a result before ours")
	}
	if result, has := eap.FindTLV(list, eap.TLVIntermediate); has && !confirmed &&
		result.Number() != eap.ResultSuccess {
		return c.fail(reason.EAPDeclined, "it gave the method up")
	}
	if kind, has := eap.FindTLV(list, eap.TLVIdentityType); has && kind.Number() != identity(p.subjects[0]) ||
		hasNak(list) {
		if p.begun {
			return c.fail(reason.EAPMalformed, "it changed the identity while that of the %s was being proven",
				subjectName(p.subjects[0]))
		}
		return p.unwilling(kind.Number())
	}
	if p.password {
		return p.passwordAnswer(ctx, list)
	}
	payload, has := eap.FindTLV(list, eap.TLVEAPPayload)
	if !has {
		if confirmed && !p.begun { // it only confirmed, and waits
			return step{data: p.ask(nil)}
		}
		return c.fail(reason.EAPMalformed, "no EAP payload inside TEAP")
	}
	packet, err := eap.Decode(payload.Value)
	if err != nil || packet.Code != eap.Response || p.inner == nil {
		return c.fail(reason.EAPMalformed, "the EAP payload inside TEAP is no response to us")
	}
	p.begun = true
	if !p.inner.expects(packet) {
		return step{silent: true}
	}
	reply, s := p.inner.take(ctx, packet)
	switch {
	case s.silent:
		return s
	case s.end && !s.ok() && p.inner.stage == offered && c.allows("teap-pap") && p.subjects[0] == proof.User:
		p.inner = nil
		return step{data: p.askPassword(nil)} // it has no EAP method for us, but may have a password
	case s.end:
		return p.after(s.proofs, s.msk)
	}
	return step{data: eap.TLV{Type: eap.TLVEAPPayload, Mandatory: true, Value: reply.Encode()}.Append(nil)}
}

func hasNak(list []eap.TLV) bool {
	_, has := eap.FindTLV(list, eap.TLVNak)
	return has
}

// unwilling works on a peer that cannot prove what was asked: where both are wanted, the computer alone will do at the
// login screen, and policies see that there is no person.
func (p *teapPhase) unwilling(has uint16) step {
	c := p.m.c
	c.peer("cannot prove the %s", subjectName(p.subjects[0]))
	if c.settings.Machine == ProveBoth && len(p.subjects) == 2 && has != eap.IdentityMachine {
		p.subjects = p.subjects[1:]
		return step{data: p.ask(nil)}
	}
	if len(p.proofs) > 0 {
		return p.end()
	}
	return c.fail(reason.EAPDeclined, "it cannot prove the %s", subjectName(p.subjects[0]))
}

// passwordAnswer reads a Basic-Password-Auth-Resp TLV (RFC 7170 section 4.2.15): two texts, each behind its length.
func (p *teapPhase) passwordAnswer(ctx context.Context, list []eap.TLV) step {
	c := p.m.c
	answer, has := eap.FindTLV(list, eap.TLVPasswordResp)
	name, rest, ok := cut(answer.Value)
	clear, _, ok2 := cut(rest)
	if !has || !ok || !ok2 || !validName(name) {
		return c.fail(reason.EAPMalformed, "the name and password inside TEAP cannot be read")
	}
	p.begun = true
	c.asker.Method("teap-pap")
	c.peer("name and password of %s", name)
	claim, code := c.asker.Password(ctx, p.subjects[0], name, clear)
	if code != reason.OK {
		return p.after(nil, nil)
	}
	return p.after([]proof.Proof{claim.Finish("teap-pap")}, nil)
}

func cut(b []byte) (string, []byte, bool) {
	if len(b) < 1 || int(b[0]) > len(b)-1 {
		return "", nil, false
	}
	return string(b[1 : 1+b[0]]), b[1+b[0]:], true
}

// after confirms an inner method, and goes on to the next or to the end.
func (p *teapPhase) after(proofs []proof.Proof, msk []byte) step {
	c := p.m.c
	if s := c.succeeded(nil, proofs...); !s.ok() {
		p.ending, p.proofs = true, nil
		c.server("result: failure")
		return step{data: eap.Number(eap.TLVResult, eap.ResultFailure).Append(eap.Number(eap.TLVIntermediate,
			eap.ResultFailure).Append(nil))}
	}
	if err := p.keys.Mix(msk); err != nil {
		return c.fail(reason.TLSFailed, "%v", err)
	}
	p.proofs = append(p.proofs, proofs...)
	p.subjects = p.subjects[1:]
	p.intermediate = true
	intermediate := eap.Number(eap.TLVIntermediate, eap.ResultSuccess).Append(nil)
	if len(p.subjects) > 0 {
		c.server("%s proven, crypto-binding", subjectName(proof.Machine))
		return step{data: p.ask(p.bind(intermediate))}
	}
	return step{data: p.result(p.settle(), intermediate)}
}

func (p *teapPhase) bind(before []byte) []byte {
	rand.Read(p.nonce[:])
	p.nonce[31] &^= 1 // the lowest bit tells request from response (RFC 7170 section 4.2.13)
	p.mixed = true
	return p.keys.TLV(p.m.tunnel.Hash(), eap.Binding{Nonce: p.nonce}, p.m.outerTLVs).Append(before)
}

// end sends the result of what was proven and bound before.
func (p *teapPhase) end() step {
	p.ending, p.ok = true, p.settle()
	if !p.ok {
		return step{data: p.result(false, nil)}
	}
	p.m.c.server("result: success")
	return step{data: eap.Number(eap.TLVResult, eap.ResultSuccess).Append(nil)}
}

func (p *teapPhase) result(ok bool, before []byte) []byte {
	p.ending, p.ok = true, ok
	if !ok {
		p.m.c.server("result: failure")
		return eap.Number(eap.TLVResult, eap.ResultFailure).Append(before)
	}
	p.m.c.server("result: success and crypto-binding")
	return eap.Number(eap.TLVResult, eap.ResultSuccess).Append(p.bind(before))
}

// confirmed verifies the peer's crypto-binding.
func (p *teapPhase) confirmed(list []eap.TLV) (step, bool) {
	c := p.m.c
	if result, has := eap.FindTLV(list, eap.TLVResult); has && result.Number() != eap.ResultSuccess {
		return c.fail(reason.EAPDeclined, "it answered our success with failure"), false
	}
	intermediate, has := eap.FindTLV(list, eap.TLVIntermediate)
	// RFC 7170 section 4.2.11
	if p.intermediate && intermediate.Number() != eap.ResultSuccess || has && !p.intermediate {
		return c.fail(reason.EAPDeclined, "it did not confirm the intermediate result"), false
	}
	p.intermediate = false
	binding, has := eap.FindTLV(list, eap.TLVCryptoBinding)
	if !has {
		return c.fail(reason.EAPBinding, "the device sent none, and TEAP requires one"), false
	}
	got, err := p.keys.Open(p.m.tunnel.Hash(), binding, p.m.outerTLVs)
	want := p.nonce
	want[31] |= 1
	if err != nil || !got.Response || got.Nonce != want {
		return c.fail(reason.EAPBinding, "it does not verify"), false
	}
	return step{}, true
}

func (p *teapPhase) finished(list []eap.TLV) step {
	c := p.m.c
	if !p.ok {
		return failed
	}
	if result, _ := eap.FindTLV(list, eap.TLVResult); result.Number() != eap.ResultSuccess {
		return c.fail(reason.EAPDeclined, "it did not confirm our result")
	}
	c.peer("result: success and crypto-binding")
	msk, err := p.keys.MSK()
	if err != nil {
		return c.fail(reason.TLSFailed, "%v", err)
	}
	return c.succeeded(msk[:], p.proofs...)
}
