package server

import (
	"bytes"
	"context"
	"crypto/hmac"
	"fmt"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/radius"
)

// ttlsPhase is the inside of EAP-TTLS (RFC 5281 section 11): the peer speaks first, in attribute-value pairs.
type ttlsPhase struct {
	m     *tlsMethod
	inner *layer
	// waiting is who is proven once the peer acknowledges our proof of MS-CHAPv2.
	waiting []proof.Proof
}

func (p *ttlsPhase) begin(_ context.Context, resumed bool) step {
	if !resumed {
		return step{}
	}
	return p.settle(p.m.proofs...)
}

// avps are the pairs that matter.
type avps struct {
	name, password, chap, chapChallenge, challenge, v1, v2 []byte
	eap                                                    []byte
}

func (p *ttlsPhase) take(ctx context.Context, plain []byte) step {
	c := p.m.c
	if p.waiting != nil {
		if len(plain) > 0 {
			return c.fail(reason.EAPMalformed, "%d octets where our proof was to be acknowledged", len(plain))
		}
		return c.succeeded(nil, p.waiting...)
	}
	if len(plain) == 0 {
		return step{} // nothing said yet; the peer goes on
	}
	var a avps
	for avp, err := range eap.AVPs(plain) {
		if err != nil {
			return c.fail(reason.EAPMalformed, "%v", err)
		}
		if wrong := a.take(avp); wrong != "" {
			return c.fail(reason.EAPMalformed, "%s", wrong)
		}
	}
	return p.check(ctx, &a)
}

// take keeps a pair, and says what is wrong with it, "" for nothing. Of two that differ nobody could say which counts,
// and one that has to be understood and is not ends the conversation (RFC 5281 section 10.1).
func (a *avps) take(avp eap.AVP) string {
	var to *[]byte
	switch {
	case avp.Vendor == radius.Vendor2548 && avp.Code == radius.MSCHAPChallenge:
		to = &a.challenge
	case avp.Vendor == radius.Vendor2548 && avp.Code == radius.MSCHAPResponse:
		to = &a.v1
	case avp.Vendor == radius.Vendor2548 && avp.Code == radius.MSCHAP2Response:
		to = &a.v2
	case avp.Vendor != 0:
	case avp.Code == radius.UserName:
		to = &a.name
	case avp.Code == radius.UserPassword:
		to = &a.password
	case avp.Code == radius.CHAPPassword:
		to = &a.chap
	case avp.Code == radius.CHAPChallenge:
		to = &a.chapChallenge
	case avp.Code == radius.EAPMessage:
		a.eap = append(a.eap, avp.Value...)
		return ""
	}
	switch {
	case to == nil && avp.Mandatory:
		return fmt.Sprintf("the pair %d inside the tunnel is mandatory, and is not known here", avp.Code)
	case to == nil:
		return ""
	case *to != nil:
		return fmt.Sprintf("the pair %d comes twice inside the tunnel", avp.Code)
	}
	if *to = avp.Value; avp.Value == nil {
		*to = []byte{}
	}
	return ""
}

func (p *ttlsPhase) check(ctx context.Context, a *avps) step {
	c := p.m.c
	if a.eap != nil {
		return p.message(ctx, a.eap)
	}
	if p.inner != nil { // one method for one conversation (RFC 5281 section 11)
		return c.fail(reason.EAPMalformed, "another method inside the tunnel after EAP had begun there")
	}
	name := string(a.name)
	if len(name) > maxIdentity || !validName(name) {
		return c.fail(reason.EAPMalformed, "the name inside the tunnel is not readable text")
	}
	c.peer("name inside the tunnel: %s", name)
	switch {
	case a.password != nil:
		return p.password(ctx, name, a.password)
	case a.chap != nil:
		return p.chap(ctx, name, a)
	case a.v2 != nil:
		return p.mschapv2(ctx, name, a)
	case a.v1 != nil:
		return p.mschapv1(ctx, name, a)
	}
	return c.fail(reason.EAPMalformed, "there is no credential inside the tunnel")
}

func (p *ttlsPhase) settle(proofs ...proof.Proof) step {
	if s := p.m.c.succeeded(nil, proofs...); !s.ok() || p.m.c.asker.Settle(proofs...) {
		return s
	}
	return failed
}

// agreed tells which method it is, or ends if the lane does not allow it.
func (p *ttlsPhase) agreed(name, words string) (step, bool) {
	if !p.m.c.allows(name) {
		return p.m.c.refuseInner(insideTTLS, words), false
	}
	p.m.c.asker.Method(name)
	p.m.c.peer("sends %s", words)
	return step{}, true
}

func (p *ttlsPhase) password(ctx context.Context, name string, value []byte) step {
	if s, ok := p.agreed("ttls-pap", "the password (PAP)"); !ok {
		return s
	}
	clear := string(bytes.TrimRight(value, "\x00")) // padded to hide its length (RFC 5281 section 11.2.5)
	if len(clear) > 256 {
		return p.m.c.fail(reason.EAPMalformed, "a password of %d octets", len(clear))
	}
	claim, code := p.m.c.asker.Password(ctx, proof.Anybody, name, clear)
	if code != reason.OK {
		return failed
	}
	return p.settle(claim.Finish("ttls-pap"))
}

// material is the implicit challenge, which both sides take from the tunnel (RFC 5281 section 11.1).
func (p *ttlsPhase) material(n int) ([]byte, error) {
	return p.m.tunnel.Export("ttls challenge", nil, n)
}

func (p *ttlsPhase) chap(ctx context.Context, name string, a *avps) step {
	if s, ok := p.agreed("ttls-chap", "CHAP"); !ok {
		return s
	}
	want, err := p.material(17)
	if err != nil || len(a.chap) != 17 || !hmac.Equal(a.chapChallenge, want[:16]) || a.chap[0] != want[16] {
		return p.m.c.fail(reason.EAPMalformed, "the CHAP challenge is not the one of this tunnel")
	}
	claim, code := p.m.c.asker.CHAP(ctx, proof.Anybody, name, CHAP{a.chap[0], want[:16], a.chap[1:]})
	if code != reason.OK {
		return failed
	}
	return p.settle(claim.Finish("ttls-chap"))
}

func (p *ttlsPhase) mschapv1(ctx context.Context, name string, a *avps) step {
	if s, ok := p.agreed("ttls-mschap", "MS-CHAP"); !ok {
		return s
	}
	want, err := p.material(9)
	r, wrong := mschap.ParseV1(a.v1)
	if err != nil || wrong != nil || !hmac.Equal(a.challenge, want[:8]) || r.Identifier != want[8] || r.Flags&1 == 0 {
		return p.m.c.fail(reason.EAPMalformed, "the MS-CHAP challenge is not the one of this tunnel, or there is no "+
			"NT response")
	}
	claim, _, code := p.m.c.asker.MSCHAP(ctx, proof.Anybody, name, MSCHAP{[8]byte(want), r.NT})
	if code != reason.OK {
		return failed
	}
	return p.settle(claim.Finish("ttls-mschap"))
}

func (p *ttlsPhase) mschapv2(ctx context.Context, name string, a *avps) step {
	c := p.m.c
	if s, ok := p.agreed("ttls-mschapv2", "MS-CHAPv2"); !ok {
		return s
	}
	want, err := p.material(17)
	r, wrong := mschap.ParseV2(a.v2)
	if err != nil || wrong != nil || !hmac.Equal(a.challenge, want[:16]) || r.Identifier != want[16] {
		return c.fail(reason.EAPMalformed, "the MS-CHAPv2 challenge is not the one of this tunnel")
	}
	challenge := [16]byte(want)
	claim, again, code := c.asker.MSCHAP(ctx, proof.Anybody, name, MSCHAP{mschap.Challenge(r.Peer, challenge, name),
		r.NT})
	if code != reason.OK {
		return failed
	}
	s := p.settle(claim.Finish("ttls-mschapv2"))
	if !s.ok() {
		return s
	}
	p.waiting = s.proofs
	proof := mschap.AuthenticatorResponse(again, r.NT, r.Peer, challenge, name)
	c.server("MS-CHAPv2 success, with our proof")
	return step{data: eap.AVP{Code: radius.MSCHAP2Success, Vendor: radius.Vendor2548, Mandatory: true,
		Value: append([]byte{r.Identifier}, proof...)}.Append(nil)}
}

// message runs EAP inside; the first message is the identity, unasked (RFC 5281 section 11.2.1).
func (p *ttlsPhase) message(ctx context.Context, data []byte) step {
	c := p.m.c
	packet, err := eap.Decode(data)
	if err != nil || packet.Code != eap.Response {
		return c.fail(reason.EAPMalformed, "what is inside the tunnel is no EAP response")
	}
	if p.inner == nil {
		p.inner = &layer{c: c, offers: c.offers(insideTTLS), inside: true, id: packet.Identifier}
	}
	if !p.inner.expects(packet) {
		return step{silent: true}
	}
	reply, s := p.inner.take(ctx, packet)
	switch {
	case s.silent:
		return s
	case s.ok():
		return p.settle(s.proofs...)
	case s.end:
		return failed
	}
	return step{data: eap.AVP{Code: radius.EAPMessage, Mandatory: true, Value: reply.Encode()}.Append(nil)}
}
