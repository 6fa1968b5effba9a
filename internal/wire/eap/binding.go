package eap

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"hash"
)

// PEAPKeys are the compound keys of PEAP version 0, which bind the inner method to the tunnel around it.
type PEAPKeys struct {
	ipmk [40]byte
	cmk  [20]byte
}

// NewPEAPKeys derives them from the tunnel's key (at least 60 octets) and the inner method's master session key, of
// which 32 octets count. A resumed conversation has no inner method: its keys are the tunnel's own.
func NewPEAPKeys(tunnel, inner []byte, resumed bool) (k PEAPKeys) {
	if resumed {
		copy(k.ipmk[:], tunnel)
		copy(k.cmk[:], tunnel[40:60])
		return k
	}
	var isk [32]byte
	copy(isk[:], inner)
	out := prfPlus(tunnel[:40], "Inner Methods Compound Keys", isk[:], 60)
	copy(k.ipmk[:], out)
	copy(k.cmk[:], out[40:])
	return k
}

// MSK is the master session key of a conversation in which both sides sent a crypto-binding.
func (k *PEAPKeys) MSK() (out [64]byte) {
	copy(out[:], prfPlus(k.ipmk[:], "Session Key Generating Function", []byte{0}, 128))
	return out
}

// prfPlus is PRF+ of PEAP version 0: T1 = HMAC-SHA1(K, S|1|0|0), T2 = HMAC-SHA1(K, T1|S|2|0|0), and so on.
func prfPlus(key []byte, label string, seed []byte, n int) []byte {
	var out, last []byte
	for i := byte(1); len(out) < n; i++ {
		h := hmac.New(sha1.New, key)
		h.Write(last)
		h.Write([]byte(label))
		h.Write(seed)
		h.Write([]byte{i, 0, 0})
		last = h.Sum(nil)
		out = append(out, last...)
	}
	return out[:n]
}

const peapBindingSize = 56

// Binding is the value of PEAP's Crypto-Binding TLV.
type Binding struct {
	Response bool
	Nonce    [32]byte
	mac      [20]byte
}

// TLV writes the binding with its compound MAC.
func (k *PEAPKeys) TLV(b Binding) TLV {
	value := make([]byte, peapBindingSize)
	if b.Response {
		value[3] = 1
	}
	copy(value[4:], b.Nonce[:])
	t := TLV{Type: TLVCryptoBinding, Value: value}
	sum := k.mac(t)
	copy(value[36:], sum)
	return t
}

func (k *PEAPKeys) mac(t TLV) []byte {
	h := hmac.New(sha1.New, k.cmk[:])
	h.Write(t.Append(nil))
	h.Write([]byte{byte(PEAP)})
	return h.Sum(nil)
}

var errBinding = errors.New("the crypto-binding does not verify: the two ends of the tunnel are not those of the " +
	"inner method")

// Open reads and verifies a Crypto-Binding TLV.
func (k *PEAPKeys) Open(t TLV) (Binding, error) {
	var b Binding
	if len(t.Value) != peapBindingSize {
		return b, errBinding
	}
	b.Response = t.Value[3] == 1
	copy(b.Nonce[:], t.Value[4:])
	copy(b.mac[:], t.Value[36:])
	zeroed := TLV{Type: t.Type, Mandatory: t.Mandatory, Value: append([]byte(nil), t.Value...)}
	clear(zeroed.Value[36:])
	if subtle.ConstantTimeCompare(k.mac(zeroed), b.mac[:]) != 1 {
		return b, errBinding
	}
	return b, nil
}

// PHash is P_hash of TLS (RFC 5246 section 5): the pseudo-random function over a label and a seed.
func PHash(newHash func() hash.Hash, secret []byte, label string, seed []byte, n int) []byte {
	full := append([]byte(label), seed...)
	mac := hmac.New(newHash, secret)
	sum := func(parts ...[]byte) []byte {
		mac.Reset()
		for _, part := range parts {
			mac.Write(part)
		}
		return mac.Sum(nil)
	}
	var out []byte
	for a := sum(full); len(out) < n; a = sum(a) {
		out = append(out, sum(a, full)...)
	}
	return out[:n]
}

// TEAPKeys walk along the inner methods of a TEAP conversation (RFC 7170 section 5.2). prf is the TLS-PRF of the
// tunnel: of its hash under TLS 1.2, its exporter under TLS 1.3 (RFC 9427 section 2.2).
type TEAPKeys struct {
	seed [40]byte
	cmk  [20]byte
	prf  PRF
}

// PRF derives n octets from a secret, a label and a seed.
type PRF func(secret []byte, label string, seed []byte, n int) ([]byte, error)

// NewTEAPKeys begins with the session_key_seed of 40 octets.
func NewTEAPKeys(seed []byte, prf PRF) *TEAPKeys {
	k := &TEAPKeys{prf: prf}
	copy(k.seed[:], seed)
	return k
}

// Mix takes in the key of the next inner method, of which 32 octets count; nil for one that makes no key.
func (k *TEAPKeys) Mix(inner []byte) error {
	var imsk [32]byte
	copy(imsk[:], inner)
	out, err := k.prf(k.seed[:], "Inner Methods Compound Keys", imsk[:], 60)
	if err != nil {
		return err
	}
	copy(k.seed[:], out)
	copy(k.cmk[:], out[40:])
	return nil
}

// MSK is the master session key of the whole conversation.
func (k *TEAPKeys) MSK() (out [64]byte, err error) {
	key, err := k.prf(k.seed[:], "Session Key Generating Function", nil, 64)
	copy(out[:], key)
	return out, err
}

// Values of the Sub-Type and Flags octet of TEAP's Crypto-Binding (RFC 7170 section 4.2.13): in the low four bits 0
// asks and 1 answers; the high four say which compound MACs are there, 2 only that of the MSK.
const (
	teapBindingSize = 76
	teapMSK         = 2 << 4
)

// TLV writes a Crypto-Binding TLV with the MSK compound MAC; outer are the outer TLVs that both sides sent first.
func (k *TEAPKeys) TLV(newHash func() hash.Hash, b Binding, outer []byte) TLV {
	value := make([]byte, teapBindingSize)
	value[1], value[2], value[3] = 1, 1, teapMSK
	if b.Response {
		value[3] |= 1
	}
	copy(value[4:], b.Nonce[:])
	t := TLV{Type: TLVCryptoBinding, Mandatory: true, Value: value}
	copy(value[56:], k.mac(newHash, t, outer))
	return t
}

// mac is Compound-MAC of RFC 7170 section 5.3, cut to 20 octets.
func (k *TEAPKeys) mac(newHash func() hash.Hash, t TLV, outer []byte) []byte {
	h := hmac.New(newHash, k.cmk[:])
	h.Write(t.Append(nil))
	h.Write([]byte{byte(TEAP)})
	h.Write(outer)
	return h.Sum(nil)[:20]
}

// Open reads and verifies TEAP's Crypto-Binding TLV.
func (k *TEAPKeys) Open(newHash func() hash.Hash, t TLV, outer []byte) (Binding, error) {
	var b Binding
	if len(t.Value) != teapBindingSize || t.Value[1] != 1 || t.Value[3]&0xf0 != teapMSK {
		return b, errBinding
	}
	b.Response = t.Value[3]&0x0f == 1
	copy(b.Nonce[:], t.Value[4:])
	zeroed := TLV{Type: t.Type, Mandatory: t.Mandatory, Value: append([]byte(nil), t.Value...)}
	clear(zeroed.Value[36:])
	if subtle.ConstantTimeCompare(k.mac(newHash, zeroed, outer), t.Value[56:]) != 1 {
		return b, errBinding
	}
	return b, nil
}

// ErrorTLV makes an Error TLV of TEAP.
func ErrorTLV(code uint32) TLV {
	return TLV{Type: TLVError, Mandatory: true, Value: binary.BigEndian.AppendUint32(nil, code)}
}
