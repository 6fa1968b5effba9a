// Package mschap computes the challenge-response proofs of CHAP (RFC 1994), MS-CHAP (RFC 2433) and MS-CHAPv2
// (RFC 2759), the keys that follow from them (RFC 3079), and the attributes that carry both over RADIUS (RFC 2548).
// The old primitives in it, MD4, MD5 and DES, are what these protocols are made of.
package mschap

import (
	"crypto/des"
	"crypto/md5"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"strings"
	"unicode/utf16"

	//lint:ignore SA1019 MS-CHAP is defined with MD4 (RFC 2759 section 8.3)
	"golang.org/x/crypto/md4"
)

// Hash is the NT hash of a password: MD4 over UTF-16LE (RFC 2433 appendix A). Whoever holds it can sign in with every
// MS-CHAP method, so it is worth as much as the password there.
type Hash [16]byte

// NTHash hashes a password.
func NTHash(password string) Hash { return md4Sum(UTF16(password)) }

// UTF16 writes a text as UTF-16LE without a byte order mark.
func UTF16(text string) []byte {
	units := utf16.Encode([]rune(text))
	out := make([]byte, 0, 2*len(units))
	for _, u := range units {
		out = append(out, byte(u), byte(u>>8))
	}
	return out
}

func md4Sum(b []byte) (out Hash) {
	h := md4.New()
	h.Write(b)
	h.Sum(out[:0])
	return out
}

// Again is the hash of the hash, from which session keys are made (PasswordHashHash of RFC 2759 section 8.4).
func (h Hash) Again() Hash { return md4Sum(h[:]) }

// V1 is the NT-Response to a challenge of 8 octets (ChallengeResponse, RFC 2759 section 8.5).
func (h Hash) V1(challenge [8]byte) (out [24]byte) {
	var key [21]byte
	copy(key[:], h[:])
	for i := range 3 {
		block, err := des.NewCipher(spread(key[i*7 : i*7+7]))
		if err != nil {
			panic("mschap: a DES key of the wrong length: " + err.Error())
		}
		block.Encrypt(out[i*8:], challenge[:])
	}
	return out
}

// spread makes a DES key of eight octets, with room for parity, out of seven.
func spread(b []byte) []byte {
	return []byte{b[0], b[0]<<7 | b[1]>>1, b[1]<<6 | b[2]>>2, b[2]<<5 | b[3]>>3, b[3]<<4 | b[4]>>4, b[4]<<3 | b[5]>>5,
		b[5]<<2 | b[6]>>6, b[6] << 1}
}

// Challenge is what both sides of MS-CHAPv2 contributed, hashed to 8 octets (ChallengeHash, RFC 2759 section 8.2). The
// name goes in without a DOMAIN\ before it.
func Challenge(peer, authenticator [16]byte, name string) (out [8]byte) {
	if at := strings.LastIndexByte(name, '\\'); at >= 0 {
		name = name[at+1:]
	}
	h := sha1.New()
	h.Write(peer[:])
	h.Write(authenticator[:])
	h.Write([]byte(name))
	copy(out[:], h.Sum(nil))
	return out
}

// V2 is the NT-Response of MS-CHAPv2 (GenerateNTResponse, RFC 2759 section 8.1).
func (h Hash) V2(peer, authenticator [16]byte, name string) [24]byte {
	return h.V1(Challenge(peer, authenticator, name))
}

// Equal compares two responses in constant time.
func Equal(a, b [24]byte) bool { return subtle.ConstantTimeCompare(a[:], b[:]) == 1 }

// AuthenticatorResponse proves to the peer that the server knows the password too (RFC 2759 section 8.7): "S=" and 40
// hexadecimal digits. again is Hash.Again.
func AuthenticatorResponse(again Hash, response [24]byte, peer, authenticator [16]byte, name string) string {
	h := sha1.New()
	h.Write(again[:])
	h.Write(response[:])
	h.Write([]byte("Magic server to client signing constant"))
	digest := h.Sum(nil)
	challenge := Challenge(peer, authenticator, name)
	h = sha1.New()
	h.Write(digest)
	h.Write(challenge[:])
	h.Write([]byte("Pad to make it do more than one iteration"))
	return "S=" + strings.ToUpper(hex.EncodeToString(h.Sum(nil)))
}

// Keys are the two MPPE keys of MS-CHAPv2 (RFC 3079 section 3.3), as the server sees them.
type Keys struct{ Send, Receive [16]byte }

// KeysV2 derives the keys of 128 bits.
func KeysV2(again Hash, response [24]byte) Keys {
	h := sha1.New()
	h.Write(again[:])
	h.Write(response[:])
	h.Write([]byte("This is the MPPE Master Key"))
	master := h.Sum(nil)[:16]
	return Keys{Send: startKey(master, magic3), Receive: startKey(master, magic2)}
}

const (
	magic2 = "On the client side, this is the send key; on the server side, it is the receive key."
	magic3 = "On the client side, this is the receive key; on the server side, it is the send key."
)

func startKey(master []byte, magic string) (out [16]byte) {
	var pad1, pad2 [40]byte
	for i := range pad2 {
		pad2[i] = 0xf2
	}
	h := sha1.New()
	h.Write(master)
	h.Write(pad1[:])
	h.Write([]byte(magic))
	h.Write(pad2[:])
	copy(out[:], h.Sum(nil))
	return out
}

// MSK is the master session key that EAP-MSCHAPv2 hands to the tunnel around it: the peer's send key, then its receive
// key, each of 16 octets; zeros follow up to 64 where a method needs them.
func (k Keys) MSK() (out [64]byte) {
	copy(out[:], k.Receive[:])
	copy(out[16:], k.Send[:])
	return out
}

// CHAP is MD5(identifier, password, challenge): CHAP of RFC 1994 section 4.1 and EAP-MD5 of RFC 3748 section 5.4.
func CHAP(identifier byte, password string, challenge []byte) [16]byte {
	b := append([]byte{identifier}, password...)
	return md5.Sum(append(b, challenge...))
}

// Response is a parsed MS-CHAP-Response or MS-CHAP2-Response, 50 octets (RFC 2548 sections 2.1.3 and 2.3.2).
type Response struct {
	Identifier byte
	Flags      byte
	// Peer is the peer's challenge of MS-CHAPv2.
	Peer [16]byte
	// NT is the NT-Response. LM responses of MS-CHAPv1 are not looked at.
	NT [24]byte
}

// ResponseSize is the length of both attributes.
const ResponseSize = 50

var errResponse = errors.New("an MS-CHAP response has 50 octets")

// ParseV2 reads an MS-CHAP2-Response.
func ParseV2(b []byte) (Response, error) {
	var r Response
	if len(b) != ResponseSize {
		return r, errResponse
	}
	r.Identifier, r.Flags = b[0], b[1]
	copy(r.Peer[:], b[2:])
	copy(r.NT[:], b[26:])
	return r, nil
}

// ParseV1 reads an MS-CHAP-Response. Flags 1 says that the NT-Response is to be used; a peer that sends only the LM
// response, which is hardly better than clear text, is refused by the caller.
func ParseV1(b []byte) (Response, error) {
	var r Response
	if len(b) != ResponseSize {
		return r, errResponse
	}
	r.Identifier, r.Flags = b[0], b[1]
	copy(r.NT[:], b[26:])
	return r, nil
}

// ValueSize is the length of a response by itself, as EAP and TACACS+ carry it.
const ValueSize = 49

var errValue = errors.New("the value of an MS-CHAP response has 49 octets")

// ParseValueV2 reads the value of an MS-CHAPv2 response: the peer's challenge, 8 reserved octets, the NT-Response,
// flags (RFC 2759 section 4).
func ParseValueV2(b []byte) (Response, error) {
	var r Response
	if len(b) != ValueSize {
		return r, errValue
	}
	copy(r.Peer[:], b)
	copy(r.NT[:], b[24:])
	r.Flags = b[48]
	return r, nil
}

// ParseValueV1 reads the value of an MS-CHAPv1 response: the LM response, the NT-Response, and a flag that says that
// the NT-Response is to be used (RFC 2433 section 4).
func ParseValueV1(b []byte) (Response, error) {
	var r Response
	if len(b) != ValueSize {
		return r, errValue
	}
	copy(r.NT[:], b[24:])
	r.Flags = b[48]
	return r, nil
}

// AppendValueV2 appends the value of an MS-CHAPv2 response.
func (r Response) AppendValueV2(b []byte) []byte {
	b = append(append(b, r.Peer[:]...), make([]byte, 8)...)
	return append(append(b, r.NT[:]...), r.Flags)
}

// AppendValueV1 appends the value of an MS-CHAPv1 response that holds only the NT-Response.
func (r Response) AppendValueV1(b []byte) []byte {
	b = append(append(b, make([]byte, 24)...), r.NT[:]...)
	return append(b, 1)
}

// V2 writes the attribute of the response.
func (r Response) V2() []byte {
	b := make([]byte, ResponseSize)
	b[0], b[1] = r.Identifier, r.Flags
	copy(b[2:], r.Peer[:])
	copy(b[26:], r.NT[:])
	return b
}

// V1 writes the attribute of an MS-CHAPv1 response that holds only the NT-Response.
func (r Response) V1() []byte {
	b := make([]byte, ResponseSize)
	b[0], b[1] = r.Identifier, 1
	copy(b[26:], r.NT[:])
	return b
}
