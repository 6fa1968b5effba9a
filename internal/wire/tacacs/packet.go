// Package tacacs is the TACACS+ protocol (RFC 8907): headers, bodies, arguments and the obfuscation of bodies. It holds
// no connection and no state.
package tacacs

import (
	"crypto/md5"
	"encoding/binary"
	"errors"
	"fmt"
)

// Type is the type of a packet (RFC 8907 section 4.1).
type Type byte

const (
	Authentication Type = 1
	Authorization  Type = 2
	Accounting     Type = 3
)

func (t Type) String() string {
	switch t {
	case Authentication:
		return "authentication"
	case Authorization:
		return "authorization"
	case Accounting:
		return "accounting"
	}
	return fmt.Sprintf("type %d", byte(t))
}

// Flags of a header.
const (
	// Plain says that the body is not obfuscated.
	Plain byte = 0x01
	// Single asks for, or agrees to, many sessions on one connection.
	Single byte = 0x04
)

const (
	// HeaderSize is the length of a header in octets.
	HeaderSize = 12
	// MaxBody bounds a body; RFC 8907 section 4.1 asks for a limit and suggests this one.
	MaxBody = 1 << 16
	// VersionDefault and VersionOne are the versions: the first for ASCII dialogues and everything but authentication,
	// the second for authentication by PAP, CHAP and MS-CHAP (section 5.4.2).
	VersionDefault byte = 0xc0
	VersionOne     byte = 0xc1
)

// Header is the header of a packet. It is never obfuscated.
type Header struct {
	Version byte
	Type    Type
	// Seq is odd from the client and even from the server, and begins with 1.
	Seq     byte
	Flags   byte
	Session uint32
	// Length of the body in octets.
	Length uint32
}

// Errors of headers and bodies.
var (
	ErrVersion = errors.New("the major version is not 12")
	ErrType    = errors.New("the type is none of TACACS+")
	ErrLength  = fmt.Errorf("the body is longer than %d octets", MaxBody)
	// ErrShape is a body whose lengths do not add up, which is what a wrong key looks like.
	ErrShape = errors.New("the lengths in the body do not add up")
)

// ParseHeader reads the header.
func ParseHeader(b *[HeaderSize]byte) (Header, error) {
	h := Header{Version: b[0], Type: Type(b[1]), Seq: b[2], Flags: b[3], Session: binary.BigEndian.Uint32(b[4:]),
		Length: binary.BigEndian.Uint32(b[8:])}
	switch {
	case h.Version>>4 != VersionDefault>>4:
		return h, ErrVersion
	case h.Type < Authentication || h.Type > Accounting:
		return h, ErrType
	case h.Length > MaxBody:
		return h, ErrLength
	}
	return h, nil
}

// Append appends the header.
func (h *Header) Append(b []byte) []byte {
	b = append(b, h.Version, byte(h.Type), h.Seq, h.Flags)
	b = binary.BigEndian.AppendUint32(b, h.Session)
	return binary.BigEndian.AppendUint32(b, h.Length)
}

// Obfuscate obfuscates a body with a key, or shows it again: both are the same (RFC 8907 section 4.5). It works in
// place and does not allocate for keys of up to 100 octets.
func (h *Header) Obfuscate(body, key []byte) {
	var space [4 + 128 + 2 + md5.Size]byte
	in := binary.BigEndian.AppendUint32(space[:0], h.Session)
	in = append(append(in, key...), h.Version, h.Seq)
	fixed := len(in)
	var pad [md5.Size]byte
	for at := 0; at < len(body); at += md5.Size {
		if at > 0 {
			in = append(in[:fixed], pad[:]...)
		}
		pad = md5.Sum(in)
		for i := range min(md5.Size, len(body)-at) {
			body[at+i] ^= pad[i]
		}
	}
}

// Packet makes a whole packet of a body; a nil key leaves it plain, and says so.
func (h Header) Packet(body, key []byte) []byte {
	h.Length = uint32(len(body))
	if h.Flags &^= Plain; key == nil {
		h.Flags |= Plain
	}
	out := append(h.Append(make([]byte, 0, HeaderSize+len(body))), body...)
	if key != nil {
		h.Obfuscate(out[HeaderSize:], key)
	}
	return out
}

// reader takes fields off a body.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) octets(n int) []byte {
	if n > len(r.b) {
		r.bad = true
		return nil
	}
	out := r.b[:n:n]
	r.b = r.b[n:]
	return out
}

func (r *reader) octet() byte {
	if b := r.octets(1); b != nil {
		return b[0]
	}
	return 0
}

func (r *reader) number() int {
	if b := r.octets(2); b != nil {
		return int(binary.BigEndian.Uint16(b))
	}
	return 0
}

// end reports what is wrong: too little, or something left over.
func (r *reader) end() error {
	if r.bad || len(r.b) > 0 {
		return ErrShape
	}
	return nil
}
