// Package radius turns RADIUS packets into values and back: RFC 2865 with Message-Authenticator (RFC 3579) and
// Status-Server (RFC 5997). It holds no socket and no state.
package radius

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
)

// Code is the first octet of a packet (RFC 2865 section 3).
type Code byte

const (
	AccessRequest      Code = 1
	AccessAccept       Code = 2
	AccessReject       Code = 3
	AccountingRequest  Code = 4
	AccountingResponse Code = 5
	AccessChallenge    Code = 11
	StatusServer       Code = 12

	// Changes of authorization (RFC 5176 section 2.3).
	DisconnectRequest Code = 40
	DisconnectACK     Code = 41
	DisconnectNAK     Code = 42
	CoARequest        Code = 43
	CoAACK            Code = 44
	CoANAK            Code = 45
)

var codes = map[Code]string{AccessRequest: "Access-Request", AccessAccept: "Access-Accept",
	AccessReject: "Access-Reject", AccountingRequest: "Accounting-Request", AccountingResponse: "Accounting-Response",
	AccessChallenge: "Access-Challenge", StatusServer: "Status-Server", DisconnectRequest: "Disconnect-Request",
	DisconnectACK: "Disconnect-ACK", DisconnectNAK: "Disconnect-NAK", CoARequest: "CoA-Request", CoAACK: "CoA-ACK",
	CoANAK: "CoA-NAK"}

func (c Code) String() string {
	if name, ok := codes[c]; ok {
		return name
	}
	return fmt.Sprintf("code %d", byte(c))
}

// Attribute numbers that the code itself works with.
const (
	UserName             = 1
	UserPassword         = 2
	CHAPPassword         = 3
	NASIPAddress         = 4
	NASPort              = 5
	ServiceType          = 6
	FramedIPAddress      = 8
	FilterID             = 11
	ReplyMessage         = 18
	State                = 24
	Class                = 25
	VendorSpecific       = 26
	SessionTimeout       = 27
	CalledStationID      = 30
	CallingStationID     = 31
	NASIdentifier        = 32
	ProxyState           = 33
	AcctStatusType       = 40
	AcctDelayTime        = 41
	AcctInputOctets      = 42
	AcctOutputOctets     = 43
	AcctSessionID        = 44
	AcctSessionTime      = 46
	AcctInputPackets     = 47
	AcctOutputPackets    = 48
	AcctTerminateCause   = 49
	AcctMultiSessionID   = 50
	AcctInputGigawords   = 52
	AcctOutputGigawords  = 53
	EventTimestamp       = 55
	CHAPChallenge        = 60
	NASPortType          = 61
	TunnelType           = 64
	TunnelMediumType     = 65
	EAPMessage           = 79
	MessageAuthenticator = 80
	TunnelPrivateGroupID = 81
	NASPortID            = 87
	NASIPv6Address       = 95
	FramedIPv6Prefix     = 97
	ErrorCause           = 101
	FramedIPv6Address    = 168
)

const (
	// HeaderSize is code, identifier, length and authenticator.
	HeaderSize = 20
	// MaxSize is the longest packet (RFC 2865 section 3).
	MaxSize = 4096
)

// Packet is a decoded packet. It points into the octets it was decoded from.
type Packet struct {
	Code          Code
	Identifier    byte
	Authenticator [16]byte
	// raw is the whole packet without octets past its length.
	raw []byte
}

var (
	errShort  = errors.New("shorter than the 20 octets of a header")
	errLength = errors.New("the length field lies")
	errLong   = errors.New("longer than 4096 octets")
)

// Decode checks the lengths of a packet and of all its attributes. Octets past the length field are padding and are
// ignored (RFC 2865 section 3). The packet keeps pointing into data.
func Decode(data []byte) (Packet, error) {
	var p Packet
	if len(data) < HeaderSize {
		return p, errShort
	}
	length := int(binary.BigEndian.Uint16(data[2:]))
	switch {
	case length < HeaderSize || length > len(data):
		return p, errLength
	case length > MaxSize:
		return p, errLong
	}
	p.Code, p.Identifier, p.raw = Code(data[0]), data[1], data[:length]
	copy(p.Authenticator[:], data[4:20])
	for rest := data[HeaderSize:length]; len(rest) > 0; {
		if len(rest) < 2 || rest[1] < 2 || int(rest[1]) > len(rest) {
			return p, fmt.Errorf("attribute at octet %d has a wrong length", length-len(rest))
		}
		rest = rest[rest[1]:]
	}
	return p, nil
}

// Attributes walks over the attributes in order.
func (p *Packet) Attributes() iter.Seq2[byte, []byte] {
	return func(yield func(byte, []byte) bool) {
		for rest := p.raw[HeaderSize:]; len(rest) > 0; rest = rest[rest[1]:] {
			if !yield(rest[0], rest[2:rest[1]]) {
				return
			}
		}
	}
}

// Get returns the value of the first attribute of that type, nil if there is none.
func (p *Packet) Get(t byte) []byte {
	if at := p.offset(t); at >= 0 {
		return p.raw[at+2 : at+int(p.raw[at+1])]
	}
	return nil
}

// Has reports whether there is an attribute of that type, even an empty one.
func (p *Packet) Has(t byte) bool { return p.offset(t) >= 0 }

// offset returns where the first attribute of that type begins, -1 if there is none.
func (p *Packet) offset(t byte) int {
	for at := HeaderSize; at < len(p.raw); at += int(p.raw[at+1]) {
		if p.raw[at] == t {
			return at
		}
	}
	return -1
}

// Integer returns the value of an attribute of four octets.
func (p *Packet) Integer(t byte) (uint32, bool) {
	v := p.Get(t)
	if len(v) != 4 {
		return 0, false
	}
	return binary.BigEndian.Uint32(v), true
}

// Raw returns the octets of the packet.
func (p *Packet) Raw() []byte { return p.raw }

// Builder writes a packet, attribute by attribute, into one buffer.
type Builder struct {
	buf []byte
	mac int // offset of the Message-Authenticator's value, 0 if none
	err error
}

// NewReply begins a reply with Message-Authenticator as the first attribute, so that forged replies to the MD5
// response authenticator do not work.
func NewReply(buf []byte, code Code, identifier byte) *Builder {
	b := begin(buf, code, identifier)
	b.reserve()
	return b
}

// NewRequest begins a request with the given request authenticator.
func NewRequest(code Code, identifier byte, authenticator [16]byte, sign bool) *Builder {
	b := begin(nil, code, identifier)
	copy(b.buf[4:], authenticator[:])
	if sign {
		b.reserve()
	}
	return b
}

func begin(buf []byte, code Code, identifier byte) *Builder {
	b := &Builder{buf: append(buf[:0], byte(code), identifier, 0, 0)}
	b.buf = append(b.buf, make([]byte, 16)...)
	return b
}

func (b *Builder) reserve() {
	b.Add(MessageAuthenticator, make([]byte, 16))
	b.mac = len(b.buf) - 16
}

// ErrTooLong is returned when a packet would pass MaxSize.
var ErrTooLong = errors.New("the packet would be longer than 4096 octets")

// Add appends one attribute of at most 253 octets.
func (b *Builder) Add(t byte, value []byte) {
	switch {
	case len(value) > 253:
		b.err = fmt.Errorf("attribute %d of %d octets: at most 253 fit", t, len(value))
	case len(b.buf)+2+len(value) > MaxSize:
		b.err = ErrTooLong
	default:
		b.buf = append(append(b.buf, t, byte(len(value)+2)), value...)
	}
}

// AddInteger appends an attribute of four octets.
func (b *Builder) AddInteger(t byte, v uint32) {
	b.Add(t, binary.BigEndian.AppendUint32(nil, v))
}

// AddText appends a text, cut to 253 octets.
func (b *Builder) AddText(t byte, text string) { b.Add(t, []byte(text)) }
