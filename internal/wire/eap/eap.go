// Package eap turns the packets of the Extensible Authentication Protocol (RFC 3748) and what travels inside them into
// values and back: the fragments of the TLS-based methods (RFC 5216, 5281, 7170, 9190), EAP-MSCHAPv2, the TLVs of PEAP
// and TEAP, the attribute-value pairs of TTLS, and the keys that follow. It holds no state of a conversation.
package eap

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Code is the first octet of a packet (RFC 3748 section 4).
type Code byte

const (
	Request  Code = 1
	Response Code = 2
	Success  Code = 3
	Failure  Code = 4
)

func (c Code) String() string {
	switch c {
	case Request:
		return "Request"
	case Response:
		return "Response"
	case Success:
		return "Success"
	case Failure:
		return "Failure"
	}
	return fmt.Sprintf("code %d", byte(c))
}

// Type is a method or one of the special types (RFC 3748 section 5).
type Type byte

const (
	None         Type = 0
	Identity     Type = 1
	Notification Type = 2
	Nak          Type = 3
	MD5          Type = 4
	GTC          Type = 6
	TLS          Type = 13
	TTLS         Type = 21
	PEAP         Type = 25
	MSCHAPv2     Type = 26
	// Extensions carries the TLVs of PEAP.
	Extensions Type = 33
	TEAP       Type = 55
	Expanded   Type = 254
)

// titles are the types in words, with common ones that are not spoken here.
var titles = map[Type]string{Identity: "Identity", Notification: "Notification", Nak: "Nak", MD5: "EAP-MD5",
	5: "EAP-OTP", GTC: "EAP-GTC", TLS: "EAP-TLS", 17: "LEAP", 18: "EAP-SIM", TTLS: "EAP-TTLS", 23: "EAP-AKA",
	PEAP: "PEAP", MSCHAPv2: "EAP-MSCHAPv2", Extensions: "EAP-Extensions", 43: "EAP-FAST", 47: "EAP-PSK",
	48: "EAP-SAKE", 49: "EAP-IKEv2", 50: "EAP-AKA'", 51: "EAP-GPSK", 52: "EAP-pwd", 53: "EAP-EKE",
	TEAP: "TEAP", Expanded: "an expanded type"}

func (t Type) String() string {
	if title, ok := titles[t]; ok {
		return title
	}
	return fmt.Sprintf("EAP type %d", byte(t))
}

// Packet is a decoded packet. Data follows the type octet, and points into what was decoded.
type Packet struct {
	Code       Code
	Identifier byte
	Type       Type
	Data       []byte
}

// MaxSize bounds a packet that we send or take: more does not fit into one RADIUS packet.
const MaxSize = 4000

var (
	errShort  = errors.New("an EAP packet has at least 4 octets")
	errLength = errors.New("the length of the EAP packet lies")
	errType   = errors.New("an EAP request or response without a type")
	errCode   = errors.New("not an EAP request, response, success or failure")
)

// Decode reads a packet; octets past its length are ignored (RFC 3748 section 4).
func Decode(b []byte) (Packet, error) {
	if len(b) < 4 {
		return Packet{}, errShort
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n < 4 || n > len(b) {
		return Packet{}, errLength
	}
	p := Packet{Code: Code(b[0]), Identifier: b[1]}
	switch p.Code {
	case Success, Failure:
		return p, nil
	case Request, Response:
	default:
		return p, errCode
	}
	if n < 5 {
		return p, errType
	}
	p.Type, p.Data = Type(b[4]), b[5:n]
	return p, nil
}

// Encode writes a packet.
func (p Packet) Encode() []byte {
	n := 4
	if p.Code == Request || p.Code == Response {
		n = 5 + len(p.Data)
	}
	b := make([]byte, 4, n)
	b[0], b[1] = byte(p.Code), p.Identifier
	binary.BigEndian.PutUint16(b[2:], uint16(n))
	if n > 4 {
		b = append(append(b, byte(p.Type)), p.Data...)
	}
	return b
}

// Wanted lists the methods that a Nak asks for instead (RFC 3748 section 5.3.1), at most eight; 0, which means that no
// other will do, is left out.
func (p Packet) Wanted() []Type {
	var out []Type
	for _, b := range p.Data {
		if b != 0 && len(out) < 8 {
			out = append(out, Type(b))
		}
	}
	return out
}

// Value reads the value of an EAP-MD5 challenge or response (RFC 3748 section 5.4): a length, the value, a name.
func Value(data []byte) (value, name []byte, err error) {
	if len(data) < 1 || int(data[0]) > len(data)-1 || data[0] == 0 {
		return nil, nil, errors.New("the value of EAP-MD5 lies about its length")
	}
	return data[1 : 1+data[0]], data[1+data[0]:], nil
}

// AppendValue writes the value and name of EAP-MD5.
func AppendValue(b, value []byte, name string) []byte {
	return append(append(append(b, byte(len(value))), value...), name...)
}
