package supplicant

import (
	"crypto/rand"
	"errors"
	"fmt"

	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/radius"
)

// innerKey is the key that an inner method made, nil if it makes none.
func (l *layer) innerKey() []byte {
	switch m := l.current.(type) {
	case *mschapv2:
		return m.msk
	case *tlsMethod:
		return m.key
	}
	return nil
}

// peap is the inside of PEAP version 0.
type peap struct {
	m     *tlsMethod
	layer *layer
}

func (p *peap) take(plain []byte) ([]byte, error) {
	packet, err := eap.Decode(plain)
	if err == nil && packet.Type == eap.Extensions {
		return p.result(packet)
	}
	packet = eap.Packet{Code: eap.Request, Type: eap.Type(plain[0]), Data: plain[1:]}
	reply, err := p.layer.answer(packet)
	if err != nil {
		return nil, err
	}
	return reply.Encode()[4:], nil
}

func (p *peap) result(packet eap.Packet) ([]byte, error) {
	list, err := eap.ParseTLVs(packet.Data)
	if err != nil {
		return nil, err
	}
	result, _ := eap.FindTLV(list, eap.TLVResult)
	value := result.Number()
	data := eap.Number(eap.TLVResult, value).Append(nil)
	if tlv, has := eap.FindTLV(list, eap.TLVCryptoBinding); has && p.m.p.settings.Binding {
		keys := eap.NewPEAPKeys(p.m.key, p.layer.innerKey(), p.m.tunnel.State().DidResume)
		binding, err := keys.Open(tlv)
		if err != nil {
			return nil, err
		}
		binding.Response = true
		data = keys.TLV(binding).Append(data)
		msk := keys.MSK()
		p.m.p.Result.MSK = msk[:]
	}
	p.m.p.Result.Protected = value == eap.ResultSuccess
	p.m.p.say("server", "protected result: %s", map[bool]string{true: "success",
		false: "failure"}[value == eap.ResultSuccess])
	return eap.Packet{Code: eap.Response, Identifier: packet.Identifier, Type: eap.Extensions, Data: data}.Encode(), nil
}

// ttls is the inside of TTLS.
type ttls struct {
	m     *tlsMethod
	inner string
	layer *layer
	proof string
	sent  bool
}

func (t *ttls) take(plain []byte) ([]byte, error) {
	if t.sent {
		return t.answer(plain)
	}
	t.sent = true
	s := t.m.p.settings
	name := eap.AVP{Code: radius.UserName, Mandatory: true, Value: []byte(s.Identity)}.Append(nil)
	t.m.p.say("peer", "inside the tunnel: %s of %s", t.inner, s.Identity)
	switch t.inner {
	case "pap":
		padded := make([]byte, (len(s.Password)+15)/16*16)
		copy(padded, s.Password)
		return eap.AVP{Code: radius.UserPassword, Mandatory: true, Value: padded}.Append(name), nil
	case "chap":
		c, err := t.m.tunnel.Export("ttls challenge", nil, 17)
		if err != nil {
			return nil, err
		}
		sum := mschap.CHAP(c[16], s.Password, c[:16])
		out := eap.AVP{Code: radius.CHAPPassword, Mandatory: true, Value: append([]byte{c[16]}, sum[:]...)}.Append(name)
		return eap.AVP{Code: radius.CHAPChallenge, Mandatory: true, Value: c[:16]}.Append(out), nil
	case "mschap":
		c, err := t.m.tunnel.Export("ttls challenge", nil, 9)
		if err != nil {
			return nil, err
		}
		r := mschap.Response{Identifier: c[8], NT: mschap.NTHash(s.Password).V1([8]byte(c))}
		return t.microsoft(name, c[:8], radius.MSCHAPResponse, r.V1()), nil
	case "mschapv2":
		c, err := t.m.tunnel.Export("ttls challenge", nil, 17)
		if err != nil {
			return nil, err
		}
		hash, challenge := mschap.NTHash(s.Password), [16]byte(c)
		r := mschap.Response{Identifier: c[16]}
		rand.Read(r.Peer[:])
		r.NT = hash.V2(r.Peer, challenge, s.Identity)
		t.proof = mschap.AuthenticatorResponse(hash.Again(), r.NT, r.Peer, challenge, s.Identity)
		return t.microsoft(name, c[:16], radius.MSCHAP2Response, r.V2()), nil
	}
	t.layer = innerLayer(t.m.p, t.inner)
	if t.layer.make == nil {
		return nil, fmt.Errorf("%s is no method inside TTLS", t.inner)
	}
	return t.wrap(eap.Packet{Code: eap.Response, Type: eap.Identity, Data: []byte(s.Identity)}), nil
}

func (t *ttls) microsoft(out, challenge []byte, code uint32, response []byte) []byte {
	out = eap.AVP{Code: radius.MSCHAPChallenge, Vendor: radius.Vendor2548, Mandatory: true,
		Value: challenge}.Append(out)
	return eap.AVP{Code: code, Vendor: radius.Vendor2548, Mandatory: true, Value: response}.Append(out)
}

func (t *ttls) wrap(packet eap.Packet) []byte {
	return eap.AVP{Code: radius.EAPMessage, Mandatory: true, Value: packet.Encode()}.Append(nil)
}

func (t *ttls) answer(plain []byte) ([]byte, error) {
	for avp, err := range eap.AVPs(plain) {
		switch {
		case err != nil:
			return nil, err
		case avp.Vendor == radius.Vendor2548 && avp.Code == radius.MSCHAP2Success:
			if len(avp.Value) < 1 || string(avp.Value[1:]) != t.proof {
				return nil, errors.New("the server does not know the password: its proof is wrong")
			}
			t.m.p.say("server", "MS-CHAPv2 success, with its proof")
		case avp.Vendor == 0 && avp.Code == radius.EAPMessage && t.layer != nil:
			packet, err := eap.Decode(avp.Value)
			if err != nil {
				return nil, err
			}
			reply, err := t.layer.answer(packet)
			if err != nil {
				return nil, err
			}
			return t.wrap(reply), nil
		}
	}
	return nil, nil
}

// teap is the inside of TEAP.
type teap struct {
	m       *tlsMethod
	inner   string
	layer   *layer
	subject uint16
	keys    *eap.TEAPKeys
}

func (t *teap) take(plain []byte) ([]byte, error) {
	list, err := eap.ParseTLVs(plain)
	if err != nil {
		return nil, err
	}
	if t.keys == nil {
		t.keys = eap.NewTEAPKeys(t.m.key, t.m.tunnel.TEAPPRF())
	}
	s := t.m.p.settings
	var out []byte
	if tlv, has := eap.FindTLV(list, eap.TLVCryptoBinding); has {
		if out, err = t.bind(list, tlv); err != nil {
			return nil, err
		}
	} else if intermediate, has := eap.FindTLV(list, eap.TLVIntermediate); has {
		out = eap.Number(eap.TLVIntermediate, intermediate.Number()).Append(nil)
	}
	if result, has := eap.FindTLV(list, eap.TLVResult); has {
		t.m.p.Result.Protected = result.Number() == eap.ResultSuccess
		msk, err := t.keys.MSK()
		t.m.p.Result.MSK = msk[:]
		return eap.Number(eap.TLVResult, result.Number()).Append(out), err
	}
	if subject, has := eap.FindTLV(list, eap.TLVIdentityType); has {
		t.subject = subject.Number()
		machine := t.subject == eap.IdentityMachine
		if machine && s.MachineIdentity == "" || !machine && s.Identity == "" {
			t.m.p.say("peer", "has no such identity")
			return eap.Number(eap.TLVIdentityType, eap.IdentityUser+eap.IdentityMachine-t.subject).Append(out), nil
		}
		t.layer = innerLayer(t.m.p, t.inner)
		if machine {
			t.layer.name = s.MachineIdentity
		}
		if machine && s.Machine != nil {
			t.layer.kind = eap.TLS
			t.layer.make = func() method {
				m := newTLS(t.m.p, eap.TLS, "", s)
				m.inside, m.cert = true, s.Machine
				return m
			}
		}
	}
	if _, has := eap.FindTLV(list, eap.TLVPasswordReq); has {
		t.m.p.say("peer", "sends name and password")
		value := append([]byte{byte(len(s.Identity))}, s.Identity...)
		value = append(append(value, byte(len(s.Password))), s.Password...)
		return eap.TLV{Type: eap.TLVPasswordResp, Mandatory: true, Value: value}.Append(out), nil
	}
	payload, has := eap.FindTLV(list, eap.TLVEAPPayload)
	if !has || t.layer == nil {
		return out, nil
	}
	packet, err := eap.Decode(payload.Value)
	if err != nil {
		return nil, err
	}
	reply, err := t.layer.answer(packet)
	if err != nil {
		return nil, err
	}
	return eap.TLV{Type: eap.TLVEAPPayload, Mandatory: true, Value: reply.Encode()}.Append(out), nil
}

// bind verifies the server's crypto-binding after an inner method and answers it.
func (t *teap) bind(list []eap.TLV, tlv eap.TLV) ([]byte, error) {
	var key []byte
	if t.layer != nil {
		key = t.layer.innerKey()
	}
	if err := t.keys.Mix(key); err != nil {
		return nil, err
	}
	binding, err := t.keys.Open(t.m.tunnel.Hash(), tlv, t.m.outer)
	if err != nil {
		return nil, err
	}
	binding.Response = true
	binding.Nonce[31] |= 1
	var out []byte
	if intermediate, has := eap.FindTLV(list, eap.TLVIntermediate); has {
		out = eap.Number(eap.TLVIntermediate, intermediate.Number()).Append(out)
	}
	return t.keys.TLV(t.m.tunnel.Hash(), binding, t.m.outer).Append(out), nil
}
