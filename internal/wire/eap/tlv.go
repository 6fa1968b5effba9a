package eap

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
)

// TLVs of PEAP's EAP-Extensions and of TEAP (RFC 7170 section 4.2).
const (
	TLVAuthorityID   = 1
	TLVIdentityType  = 2
	TLVResult        = 3
	TLVNak           = 4
	TLVError         = 5
	TLVEAPPayload    = 9
	TLVIntermediate  = 10
	TLVCryptoBinding = 12
	TLVPasswordReq   = 13
	TLVPasswordResp  = 14
	tlvMandatory     = 0x8000
	tlvType          = 0x3fff
)

// Values of the Result and Intermediate-Result TLVs.
const (
	ResultSuccess = 1
	ResultFailure = 2
)

// Values of the Identity-Type TLV (RFC 7170 section 4.2.3).
const (
	IdentityUser    = 1
	IdentityMachine = 2
)

// TLV is one type, length and value.
type TLV struct {
	Type      uint16
	Mandatory bool
	Value     []byte
}

var errTLV = errors.New("a TLV is cut short")

// single are the types that one message may hold once: of two that differ, nobody could say which counts.
var single = map[uint16]bool{TLVAuthorityID: true, TLVIdentityType: true, TLVResult: true, TLVNak: true,
	TLVEAPPayload: true, TLVIntermediate: true,
	TLVCryptoBinding: true, TLVPasswordReq: true, TLVPasswordResp: true}

// known are the types that may be mandatory.
func known(t uint16) bool { return single[t] || t == TLVError }

// maxTLVs bounds how many of them one message may hold.
const maxTLVs = 64

// ParseTLVs reads a row of TLVs. One that may come once and comes twice is an error, and so is an unknown one that the
// peer wants to be understood (RFC 7170 section 4.2.1).
func ParseTLVs(b []byte) ([]TLV, error) {
	var out []TLV
	for len(b) > 0 {
		if len(b) < 4 || len(out) == maxTLVs {
			return nil, errTLV
		}
		t, n := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		if n > len(b)-4 {
			return nil, errTLV
		}
		one := TLV{Type: t & tlvType, Mandatory: t&tlvMandatory != 0, Value: b[4 : 4+n]}
		if _, twice := FindTLV(out, one.Type); twice && single[one.Type] {
			return nil, fmt.Errorf("the TLV of type %d comes twice", one.Type)
		}
		if one.Mandatory && !known(one.Type) {
			return nil, fmt.Errorf("the TLV of type %d is mandatory, and is not known here", one.Type)
		}
		out = append(out, one)
		b = b[4+n:]
	}
	return out, nil
}

// Append writes the TLV.
func (t TLV) Append(b []byte) []byte {
	kind := t.Type
	if t.Mandatory {
		kind |= tlvMandatory
	}
	b = binary.BigEndian.AppendUint16(b, kind)
	b = binary.BigEndian.AppendUint16(b, uint16(len(t.Value)))
	return append(b, t.Value...)
}

// Number makes a mandatory TLV whose value is one number of two octets, such as Result.
func Number(t uint16, v uint16) TLV {
	return TLV{Type: t, Mandatory: true, Value: binary.BigEndian.AppendUint16(nil, v)}
}

// Number returns the value of such a TLV, 0 if it has another shape.
func (t TLV) Number() uint16 {
	if len(t.Value) != 2 {
		return 0
	}
	return binary.BigEndian.Uint16(t.Value)
}

// FindTLV returns the first TLV of a type.
func FindTLV(list []TLV, t uint16) (TLV, bool) {
	for _, tlv := range list {
		if tlv.Type == t {
			return tlv, true
		}
	}
	return TLV{}, false
}

// AVP is one attribute-value pair of TTLS (RFC 5281 section 10.1).
type AVP struct {
	Code      uint32
	Vendor    uint32
	Mandatory bool
	Value     []byte
}

const (
	avpVendor    = 0x80
	avpMandatory = 0x40
)

var errAVP = errors.New("an attribute-value pair is cut short")

// AVPs walks over the pairs. The second value is an error after which nothing follows.
func AVPs(b []byte) iter.Seq2[AVP, error] {
	return func(yield func(AVP, error) bool) {
		for range maxTLVs {
			if len(b) == 0 {
				return
			}
			if len(b) < 8 {
				yield(AVP{}, errAVP)
				return
			}
			a := AVP{Code: binary.BigEndian.Uint32(b), Mandatory: b[4]&avpMandatory != 0}
			head, n := 8, int(b[5])<<16|int(b[6])<<8|int(b[7])
			if b[4]&avpVendor != 0 {
				head = 12
			}
			if n < head || n > len(b) {
				yield(AVP{}, errAVP)
				return
			}
			if head == 12 {
				a.Vendor = binary.BigEndian.Uint32(b[8:])
			}
			a.Value = b[head:n]
			b = b[min(len(b), (n+3)&^3):]
			if !yield(a, nil) {
				return
			}
		}
		if len(b) > 0 {
			yield(AVP{}, errAVP)
		}
	}
}

// Append writes the pair, padded to four octets.
func (a AVP) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, a.Code)
	flags, n := byte(0), 8+len(a.Value)
	if a.Mandatory {
		flags |= avpMandatory
	}
	if a.Vendor != 0 {
		flags, n = flags|avpVendor, n+4
	}
	b = append(b, flags, byte(n>>16), byte(n>>8), byte(n))
	if a.Vendor != 0 {
		b = binary.BigEndian.AppendUint32(b, a.Vendor)
	}
	b = append(b, a.Value...)
	for range -n & 3 {
		b = append(b, 0)
	}
	return b
}
