package gate

import (
	"context"
	"crypto/rand"

	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/radius"
)

// chap checks CHAP-Password (RFC 2865 section 5.3); the challenge is an attribute, or else the request authenticator.
func (v *Visit) chap(ctx context.Context, p *radius.Packet) Answer {
	value := p.Get(radius.CHAPPassword)
	challenge := p.Get(radius.CHAPChallenge)
	if challenge == nil {
		challenge = p.Authenticator[:]
	}
	if len(value) != 17 {
		v.Facts.Credential, v.Facts.CredentialDetail = reason.PasswordUnreadable, "CHAP-Password has not 17 octets"
		return v.Leave()
	}
	if v.Find(ctx) == reason.OK {
		v.CheckCHAP(ctx, server.CHAP{Identifier: value[0], Challenge: challenge, Response: value[1:]})
	}
	return v.Leave(v.finish())
}

// mschapv2 checks MS-CHAP2-Response (RFC 2548 section 2.3), and answers with our own proof and the MPPE keys.
func (v *Visit) mschapv2(ctx context.Context, p *radius.Packet) Answer {
	response, err := mschap.ParseV2(p.Vendor(radius.Vendor2548, radius.MSCHAP2Response))
	challenge := p.Vendor(radius.Vendor2548, radius.MSCHAPChallenge)
	if err != nil || len(challenge) != 16 {
		return v.misshapen()
	}
	authenticator, name := [16]byte(challenge), v.Facts.Sent
	var again mschap.Hash
	if v.Find(ctx) == reason.OK {
		again, _ = v.CheckMSCHAP(ctx, server.MSCHAP{Challenge: mschap.Challenge(response.Peer, authenticator, name), NT: response.NT})
	}
	out := v.Leave(v.finish())
	if out.Verdict != decide.Admitted {
		return v.mschapError(out, response.Identifier)
	}
	proof := mschap.AuthenticatorResponse(again, response.NT, response.Peer, authenticator, name)
	keys := mschap.KeysV2(again, response.NT)
	out.Vendor = []VendorAttribute{{radius.MSCHAP2Success, append([]byte{response.Identifier}, proof...)}, encryptionAllowed, encryptionTypes}
	out.SendKey, out.ReceiveKey = keys.Send[:], keys.Receive[:]
	return out
}

// mschapv1 checks MS-CHAP-Response (RFC 2548 section 2.1).
func (v *Visit) mschapv1(ctx context.Context, p *radius.Packet, key *radius.Key) Answer {
	response, err := mschap.ParseV1(p.Vendor(radius.Vendor2548, radius.MSCHAPResponse))
	challenge := p.Vendor(radius.Vendor2548, radius.MSCHAPChallenge)
	if err != nil || len(challenge) != 8 || response.Flags&1 == 0 {
		return v.misshapen()
	}
	var again mschap.Hash
	if v.Find(ctx) == reason.OK {
		again, _ = v.CheckMSCHAP(ctx, server.MSCHAP{Challenge: [8]byte(challenge), NT: response.NT})
	}
	out := v.Leave(v.finish())
	if out.Verdict != decide.Admitted {
		return v.mschapError(out, response.Identifier)
	}
	// RFC 2548 section 2.4.1: 8 octets of LM key, which we do not have, 16 of NT key, 8 of padding, hidden like a password.
	plain := append(make([]byte, 8, 32), again[:]...)
	if hidden, err := key.HidePassword(plain[:32], p.Authenticator); err == nil {
		out.Vendor = []VendorAttribute{{radius.MSCHAPMPPEKeys, hidden}, encryptionAllowed, encryptionTypes}
	}
	return out
}

// What MPPE may use: encryption is allowed, with keys of 40 or 128 bits (RFC 2548 sections 2.4.4 and 2.4.5).
var (
	encryptionAllowed = VendorAttribute{radius.MSMPPEEncPolicy, []byte{0, 0, 0, 1}}
	encryptionTypes   = VendorAttribute{radius.MSMPPEEncTypes, []byte{0, 0, 0, 6}}
)

func (v *Visit) misshapen() Answer {
	v.Facts.Credential, v.Facts.CredentialDetail = reason.PasswordUnreadable, "the MS-CHAP challenge or response has the wrong length, or there is no NT response"
	return v.Leave()
}

func (v *Visit) mschapError(out Answer, identifier byte) Answer {
	var challenge [16]byte
	rand.Read(challenge[:])
	text := mschap.Failure(server.ErrorCode(out.Reason), challenge, "Access denied")
	out.Vendor = []VendorAttribute{{radius.MSCHAPError, append([]byte{identifier}, text...)}}
	return out
}
