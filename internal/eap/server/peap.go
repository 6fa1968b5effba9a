package server

import (
	"context"
	"crypto/rand"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
)

// peapPhase is the inside of PEAP version 0: EAP packets without their header, then Result TLVs both ways, with a
// crypto-binding if wanted.
type peapPhase struct {
	m      *tlsMethod
	inner  *layer
	id     byte
	ending bool
	ok     bool
	// proofs are who was proven inside; they count when the peer has confirmed our result.
	proofs []proof.Proof
	keys   eap.PEAPKeys
	nonce  [32]byte
	bound  bool
}

const headerSize = 4

func (p *peapPhase) begin(_ context.Context, resumed bool) step {
	c := p.m.c
	if resumed {
		return p.result(p.m.proofs, nil, true)
	}
	p.inner = &layer{c: c, offers: c.offers(insidePEAP), inside: true}
	return step{data: p.inner.ask().Encode()[headerSize:]}
}

func (p *peapPhase) take(ctx context.Context, plain []byte) step {
	c := p.m.c
	if len(plain) == 0 {
		return step{silent: true}
	}
	if p.ending {
		return p.finished(plain)
	}
	packet, ok := p.packet(plain)
	if !ok {
		return c.fail(reason.EAPMalformed, "what is inside the tunnel is no EAP response")
	}
	if !p.inner.expects(packet) {
		return step{silent: true}
	}
	reply, s := p.inner.take(ctx, packet)
	switch {
	case s.silent:
		return s
	case s.end:
		return p.result(s.proofs, s.msk, false)
	}
	return step{data: reply.Encode()[headerSize:]}
}

// packet reads an inner packet. Version 0 leaves the header out; some peers send it all the same.
func (p *peapPhase) packet(plain []byte) (eap.Packet, bool) {
	if len(plain) >= 5 && plain[0] == byte(eap.Response) && int(plain[2])<<8|int(plain[3]) == len(plain) {
		packet, err := eap.Decode(plain)
		return packet, err == nil && packet.Code == eap.Response
	}
	return eap.Packet{Code: eap.Response, Identifier: p.inner.id, Type: eap.Type(plain[0]), Data: plain[1:]}, true
}

// result sends the protected outcome of what was proven, which policies have a say in.
func (p *peapPhase) result(proofs []proof.Proof, msk []byte, resumed bool) step {
	c := p.m.c
	ok := len(proofs) > 0 && c.asker.Settle(proofs...)
	p.ending, p.ok, p.proofs = true, ok, proofs
	value := uint16(eap.ResultFailure)
	word := "failure"
	if ok {
		value, word = eap.ResultSuccess, "success"
	}
	data := eap.Number(eap.TLVResult, value).Append(nil)
	if ok && c.settings.Binding != BindingOff {
		p.keys = eap.NewPEAPKeys(p.m.msk, msk, resumed)
		rand.Read(p.nonce[:])
		data = p.keys.TLV(eap.Binding{Nonce: p.nonce}).Append(data)
		p.bound = true
		word += " and crypto-binding"
	}
	c.server("result: %s", word)
	if p.inner != nil {
		p.id = p.inner.id
	}
	p.id++
	return step{data: eap.Packet{Code: eap.Request, Identifier: p.id, Type: eap.Extensions, Data: data}.Encode()}
}

func (p *peapPhase) finished(plain []byte) step {
	c := p.m.c
	packet, err := eap.Decode(plain)
	if err != nil || packet.Code != eap.Response || packet.Type != eap.Extensions {
		if !p.ok {
			return failed
		}
		return c.fail(reason.EAPDeclined, "it did not answer our result")
	}
	list, err := eap.ParseTLVs(packet.Data)
	if err != nil {
		return c.fail(reason.EAPMalformed, "%v", err)
	}
	if !p.ok {
		return failed
	}
	if result, _ := eap.FindTLV(list, eap.TLVResult); result.Number() != eap.ResultSuccess {
		return c.fail(reason.EAPDeclined, "it answered our success with failure")
	}
	binding, has := eap.FindTLV(list, eap.TLVCryptoBinding)
	switch {
	case has && p.bound:
		got, err := p.keys.Open(binding)
		if err != nil {
			return c.fail(reason.EAPBinding, "%v", err)
		}
		if !got.Response || got.Nonce != p.nonce && c.settings.Binding == BindingRequire {
			return c.fail(reason.EAPBinding, "it answers another question")
		}
		c.peer("result: success and crypto-binding")
		msk := p.keys.MSK()
		return c.succeeded(msk[:], p.proofs...)
	case c.settings.Binding == BindingRequire:
		return c.fail(reason.EAPBinding, "the device sent none, and the lane requires one")
	}
	c.peer("result: success")
	return c.succeeded(nil, p.proofs...)
}
