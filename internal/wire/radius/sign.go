package radius

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"hash"
	"sync"
)

// Key is a shared secret with the running HMAC states that it needs, so that a packet costs no key set-up.
// It is safe for concurrent use.
type Key struct {
	secret []byte
	macs   sync.Pool
	clear  bool // of RADIUS/1.1
}

// NewKey prepares a shared secret.
func NewKey(secret []byte) *Key {
	k := &Key{secret: append([]byte(nil), secret...)}
	k.macs.New = func() any { return hmac.New(md5.New, k.secret) }
	return k
}

// mac computes HMAC-MD5 over the parts.
func (k *Key) mac(parts ...[]byte) (sum [16]byte) {
	h := k.macs.Get().(hash.Hash)
	h.Reset()
	for _, part := range parts {
		h.Write(part)
	}
	h.Sum(sum[:0])
	k.macs.Put(h)
	return sum
}

var zero [16]byte

// VerifyMessageAuthenticator checks a request (RFC 3579 section 3.2). A missing or misshapen attribute is false.
func (k *Key) VerifyMessageAuthenticator(p *Packet) bool {
	return k.clear || k.verifyMAC(p, p.raw[4:20])
}

func (k *Key) verifyMAC(p *Packet, authenticator []byte) bool {
	at := p.offset(MessageAuthenticator)
	if at < 0 || p.raw[at+1] != 18 {
		return false
	}
	at += 2
	sum := k.mac(p.raw[:4], authenticator, p.raw[HeaderSize:at], zero[:], p.raw[at+16:])
	return subtle.ConstantTimeCompare(sum[:], p.raw[at:at+16]) == 1
}

// SignReply completes a reply: length, Message-Authenticator over the request's authenticator, and the response
// authenticator MD5(code, identifier, length, request authenticator, attributes, secret) of RFC 2865 section 3.
func (b *Builder) SignReply(k *Key, request [16]byte) ([]byte, error) {
	if b.err != nil {
		return nil, b.err
	}
	if k.clear {
		return b.seal(request[:])
	}
	binary.BigEndian.PutUint16(b.buf[2:], uint16(len(b.buf)))
	copy(b.buf[4:], request[:])
	if b.mac > 0 {
		sum := k.mac(b.buf)
		copy(b.buf[b.mac:], sum[:])
	}
	b.buf = append(b.buf, k.secret...) // hashed behind the packet, then cut off again
	sum := md5.Sum(b.buf)
	b.buf = b.buf[:len(b.buf)-len(k.secret)]
	copy(b.buf[4:], sum[:])
	return b.buf, nil
}

// SignRequest completes a request: length and Message-Authenticator if one was asked for.
func (b *Builder) SignRequest(k *Key) ([]byte, error) {
	if b.err != nil {
		return nil, b.err
	}
	if k.clear {
		return b.seal(b.buf[4:8])
	}
	binary.BigEndian.PutUint16(b.buf[2:], uint16(len(b.buf)))
	if b.mac > 0 {
		sum := k.mac(b.buf)
		copy(b.buf[b.mac:], sum[:])
	}
	return b.buf, nil
}

// SignFixed completes a request whose authenticator follows from its octets: accounting (RFC 2866 section 3) and
// changes of authorization (RFC 5176 section 2.3). The Message-Authenticator is over zeros in its place.
func (b *Builder) SignFixed(k *Key) ([]byte, error) {
	if b.err != nil {
		return nil, b.err
	}
	if k.clear {
		return b.seal(b.buf[4:8])
	}
	return b.SignReply(k, zero)
}

// VerifyFixed checks the authenticator of such a request, and its Message-Authenticator if it has one.
func (k *Key) VerifyFixed(p *Packet) bool {
	if k.clear {
		return true
	}
	h := md5.New()
	h.Write(p.raw[:4])
	h.Write(zero[:])
	h.Write(p.raw[HeaderSize:])
	h.Write(k.secret)
	if subtle.ConstantTimeCompare(h.Sum(nil), p.Authenticator[:]) != 1 {
		return false
	}
	return !p.Has(MessageAuthenticator) || k.verifyMAC(p, zero[:])
}

// Errors of VerifyReply.
var (
	ErrReplyAuthenticator = errors.New("the response authenticator does not verify: the shared secrets differ, or " +
		"the reply is forged")
	ErrMessageAuthenticator = errors.New("the Message-Authenticator of the reply does not verify")
	ErrNoMessageAuth        = errors.New("the reply holds no Message-Authenticator")
)

// VerifyReply checks a reply against the authenticator of its request.
func (k *Key) VerifyReply(p *Packet, request [16]byte) error {
	if k.clear {
		if !p.answers(request[:]) {
			return ErrReplyAuthenticator
		}
		return nil
	}
	h := md5.New()
	h.Write(p.raw[:4])
	h.Write(request[:])
	h.Write(p.raw[HeaderSize:])
	h.Write(k.secret)
	if subtle.ConstantTimeCompare(h.Sum(nil), p.Authenticator[:]) != 1 {
		return ErrReplyAuthenticator
	}
	if !p.Has(MessageAuthenticator) {
		return ErrNoMessageAuth
	}
	if !k.verifyMAC(p, request[:]) {
		return ErrMessageAuthenticator
	}
	return nil
}

// MaxPassword is the longest User-Password (RFC 2865 section 5.2).
const MaxPassword = 128

// HidePassword encrypts a User-Password (RFC 2865 section 5.2). The empty password takes one block of zeros.
func (k *Key) HidePassword(password []byte, authenticator [16]byte) ([]byte, error) {
	if len(password) > MaxPassword {
		return nil, errors.New("a password has at most 128 octets")
	}
	if k.clear {
		return password, nil
	}
	out := make([]byte, max(16, (len(password)+15)/16*16))
	copy(out, password)
	before := authenticator[:]
	for i := 0; i < len(out); i += 16 {
		pad := k.pad(before)
		subtle.XORBytes(out[i:i+16], out[i:i+16], pad[:])
		before = out[i : i+16]
	}
	return out, nil
}

// OpenPassword appends the decrypted User-Password to dst and drops the padding of zeros. Values that are not
// multiples of 16 octets are accepted, since some devices send them: the last block is cut short.
func (k *Key) OpenPassword(dst, hidden []byte, authenticator [16]byte) ([]byte, error) {
	if len(hidden) == 0 || len(hidden) > MaxPassword {
		return dst, errors.New("User-Password needs 1 to 128 octets")
	}
	if k.clear {
		return append(dst, hidden...), nil
	}
	start := len(dst)
	before := authenticator[:]
	for i := 0; i < len(hidden); i += 16 {
		pad := k.pad(before)
		block := hidden[i:min(i+16, len(hidden))]
		for j := range block {
			dst = append(dst, block[j]^pad[j])
		}
		before = block
	}
	last := len(dst)
	for last > start && dst[last-1] == 0 {
		last--
	}
	return dst[:last], nil
}

func (k *Key) pad(before []byte) [16]byte {
	var space [256]byte
	return md5.Sum(append(append(space[:0], k.secret...), before...))
}
