package access

import (
	"crypto/rand"
	"encoding/binary"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/radius"
)

// Code is the code of the reply for an answer.
func Code(out *gate.Answer) radius.Code {
	switch {
	case out.Challenge:
		return radius.AccessChallenge
	case out.Verdict != results.Admitted:
		return radius.AccessReject
	}
	return radius.AccessAccept
}

// Fill adds the attributes of an answer to the reply to p, whose secrets are hidden with key: what the pass grants,
// what the method needs, and the Proxy-States of the request, unmodified and in order (RFC 2865 section 5.33).
func Fill(b *radius.Builder, p *radius.Packet, key *radius.Key, out *gate.Answer) {
	if out.Verdict == results.Admitted {
		for _, attribute := range out.Reply {
			b.Add(attribute.Type, attribute.Value)
		}
	}
	if out.Forwarded != nil {
		for _, attribute := range out.Forwarded.Attributes {
			b.Add(attribute.Type, attribute.Value)
		}
	}
	if out.Class != nil {
		b.Add(radius.Class, out.Class)
	}
	if out.Wait > 0 { // in a challenge: when the client sends it to the device again (RFC 3580 section 3.17)
		b.Add(radius.SessionTimeout, binary.BigEndian.AppendUint32(nil, uint32(out.Wait/time.Second)))
	}
	if out.State != nil {
		b.Add(radius.State, out.State)
	}
	b.AddEAP(out.EAP)
	receive, send := sessionKeys(out)
	if out.MSCHAP != nil {
		receive, send = addMSCHAP(b, p, key, out)
	}
	addKeys(b, p, key, receive, send)
	if out.Message != "" && out.EAP == nil { // RFC 3579 section 2.6.5: never beside an EAP message
		b.AddText(radius.ReplyMessage, out.Message)
	}
	for t, value := range p.Attributes() {
		if t == radius.ProxyState {
			b.Add(t, value)
		}
	}
}

// sessionKeys are the keys for both directions: halves of the master session key (RFC 2548 section 2.4, RFC 5216
// section 2.3), or what a remote server sent.
func sessionKeys(out *gate.Answer) (receive, send []byte) {
	switch {
	case len(out.MSK) >= 32: // halves of at most 32 octets: EAP-MSCHAPv2 makes 16 each, like MS-CHAPv2
		n := min(len(out.MSK)/2, 32)
		return out.MSK[:n], out.MSK[n : 2*n]
	case out.Forwarded != nil:
		return out.Forwarded.ReceiveKey, out.Forwarded.SendKey
	}
	return nil, nil
}

func addKeys(b *radius.Builder, p *radius.Packet, key *radius.Key, receive, send []byte) {
	if receive == nil {
		return
	}
	var salt [2]byte
	rand.Read(salt[:])
	b.AddMPPEKey(key, radius.MSMPPERecvKey, receive, p.Authenticator, salt)
	salt[1] ^= 1
	b.AddMPPEKey(key, radius.MSMPPESendKey, send, p.Authenticator, salt)
}

// What MPPE may use: encryption is allowed, with keys of 40 or 128 bits (RFC 2548 sections 2.4.4 and 2.4.5).
var (
	encryptionAllowed = []byte{0, 0, 0, 1}
	encryptionTypes   = []byte{0, 0, 0, 6}
)

// addMSCHAP adds our own proof, or an error, and returns the MPPE keys of MS-CHAPv2.
func addMSCHAP(b *radius.Builder, p *radius.Packet, key *radius.Key, out *gate.Answer) (receive, send []byte) {
	add := func(t byte, value []byte) { b.AddVendor(radius.Vendor2548, t, value) }
	if response, challenge, ok := responseV2(p); ok {
		if out.Verdict != results.Admitted {
			add(radius.MSCHAPError, mschapError(response.Identifier, out))
			return nil, nil
		}
		proof := mschap.AuthenticatorResponse(*out.MSCHAP, response.NT, response.Peer, challenge,
			string(p.Get(radius.UserName)))
		add(radius.MSCHAP2Success, append([]byte{response.Identifier}, proof...))
		add(radius.MSMPPEEncPolicy, encryptionAllowed)
		add(radius.MSMPPEEncTypes, encryptionTypes)
		keys := mschap.KeysV2(*out.MSCHAP, response.NT)
		return keys.Receive[:], keys.Send[:]
	}
	if out.Verdict != results.Admitted {
		if response, err := mschap.ParseV1(p.Vendor(radius.Vendor2548, radius.MSCHAPResponse)); err == nil {
			add(radius.MSCHAPError, mschapError(response.Identifier, out))
		}
		return nil, nil
	}
	// RFC 2548 section 2.4.1: 8 octets of LM key, which we do not have, 16 of NT key, then padding, hidden like a
	// password.
	plain := append(make([]byte, 8, 32), out.MSCHAP[:]...)
	if hidden, err := key.HidePassword(plain[:24], p.Authenticator); err == nil {
		add(radius.MSCHAPMPPEKeys, hidden)
		add(radius.MSMPPEEncPolicy, encryptionAllowed)
		add(radius.MSMPPEEncTypes, encryptionTypes)
	}
	return nil, nil
}

// mschapError is the value of MS-CHAP-Error (RFC 2548 section 2.1.5).
func mschapError(identifier byte, out *gate.Answer) []byte {
	var challenge [16]byte
	rand.Read(challenge[:])
	return append([]byte{identifier}, mschap.Failure(server.ErrorCode(out.Reason), challenge, "Access denied")...)
}
