package access

import (
	"unicode/utf8"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/radius"
)

// attributeMTU is the number of Framed-MTU (RFC 2865 section 5.12).
const attributeMTU = 12

// EAP reads the EAP message of a request and what says whose conversation it belongs to (RFC 3579); nil without one.
func EAP(p *radius.Packet) *gate.EAP {
	if !p.Has(radius.EAPMessage) {
		return nil
	}
	mtu, _ := p.Integer(attributeMTU)
	return &gate.EAP{Message: p.EAP(), State: p.Get(radius.State), Station: string(p.Get(radius.CallingStationID)),
		MTU: int(min(mtu, 65535))}
}

// Credential reads what a request without EAP shows as proof. signed tells that a Message-Authenticator proved the key;
// only without one can an unreadable password mean that the secrets differ. A clear password is written into space.
func Credential(p *radius.Packet, key *radius.Key, signed bool, f *facts.Facts, space []byte) gate.Credential {
	switch f.Method {
	case facts.MACBypass:
		return gate.Credential{}
	case "chap":
		return chap(p, key)
	case "mschapv2":
		return mschapv2(p, f.Sent)
	case "mschap":
		return mschapv1(p)
	}
	clear, err := key.OpenPassword(space[:0], p.Get(radius.UserPassword), p.Authenticator)
	if err != nil || !signed && !Readable(clear) {
		return gate.Credential{Unreadable: true}
	}
	return gate.Credential{Password: clear, State: p.Get(radius.State)}
}

// chap reads CHAP-Password (RFC 2865 section 5.3); the challenge is an attribute, or else the request authenticator,
// which RADIUS/1.1 does not have (RFC 9765 section 5.1.2).
func chap(p *radius.Packet, key *radius.Key) gate.Credential {
	value := p.Get(radius.CHAPPassword)
	challenge := p.Get(radius.CHAPChallenge)
	switch {
	case challenge == nil && key.Clear():
		return gate.Credential{Unreadable: true, Detail: "CHAP-Password without CHAP-Challenge in RADIUS/1.1"}
	case challenge == nil:
		challenge = p.Authenticator[:]
	}
	if len(value) != 17 {
		return gate.Credential{Unreadable: true, Detail: "CHAP-Password has not 17 octets"}
	}
	return gate.Credential{CHAP: server.CHAP{Identifier: value[0], Challenge: challenge, Response: value[1:]}}
}

// responseV2 reads MS-CHAP2-Response and its challenge (RFC 2548 sections 2.3.2 and 2.1.2).
func responseV2(p *radius.Packet) (response mschap.Response, challenge [16]byte, ok bool) {
	response, err := mschap.ParseV2(p.Vendor(radius.Vendor2548, radius.MSCHAP2Response))
	octets := p.Vendor(radius.Vendor2548, radius.MSCHAPChallenge)
	if err != nil || len(octets) != 16 {
		return response, challenge, false
	}
	return response, [16]byte(octets), true
}

func mschapv2(p *radius.Packet, name string) gate.Credential {
	response, challenge, ok := responseV2(p)
	if !ok {
		return misshapen
	}
	return gate.Credential{MSCHAP: server.MSCHAP{Challenge: mschap.Challenge(response.Peer, challenge, name),
		NT: response.NT}}
}

// mschapv1 reads MS-CHAP-Response (RFC 2548 section 2.1.3).
func mschapv1(p *radius.Packet) gate.Credential {
	response, err := mschap.ParseV1(p.Vendor(radius.Vendor2548, radius.MSCHAPResponse))
	challenge := p.Vendor(radius.Vendor2548, radius.MSCHAPChallenge)
	if err != nil || len(challenge) != 8 || response.Flags&1 == 0 {
		return misshapen
	}
	return gate.Credential{MSCHAP: server.MSCHAP{Challenge: [8]byte(challenge), NT: response.NT}}
}

var misshapen = gate.Credential{Unreadable: true,
	Detail: "the MS-CHAP challenge or response has the wrong length, or there is no NT response"}

// Readable reports whether a decrypted password looks like one: valid UTF-8 without control characters. Decrypted
// with the wrong secret it is 16 random octets, which pass with a chance of less than one in a hundred.
func Readable(clear []byte) bool {
	if !utf8.Valid(clear) {
		return false
	}
	for _, c := range clear {
		if c < 0x20 || c == 0x7f {
			return false
		}
	}
	return true
}
