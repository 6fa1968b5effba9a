// Package netlogon speaks what a member of a domain needs to have challenges checked by a domain controller: remote
// procedure calls over TCP (C706, MS-RPCE), the endpoint mapper, and the Netlogon calls with their secure channel
// (MS-NRPC). Bytes and values only; the connections are elsewhere.
package netlogon

import (
	"encoding/binary"
	"errors"
	"fmt"

	"tollgate.example/key/internal/wire/mschap"
)

// Kinds of packets (C706 section 12.6.4).
const (
	kindRequest  = 0
	kindResponse = 2
	kindFault    = 3
	kindBind     = 11
	kindBindAck  = 12
	kindBindNak  = 13

	headerSize  = 16
	requestSize = 24
	flagFirst   = 1
	flagLast    = 2
	trailerSize = 8

	// MaxFragment bounds one packet of either direction.
	MaxFragment = 5840
	// MaxReply bounds a reply put together from fragments.
	MaxReply = 1 << 20
)

// Interface is a remote interface with its version.
type Interface struct {
	uuid    [16]byte
	version uint32
}

// The interfaces that are called. Numbers of UUIDs are in the little-endian order of the wire.
var (
	Mapper = Interface{[16]byte{0x08, 0x83, 0xaf, 0xe1, 0x1f, 0x5d, 0xc9, 0x11, 0x91, 0xa4, 0x08, 0x00, 0x2b, 0x14,
		0xa0, 0xfa}, 3}
	Netlogon = Interface{[16]byte{0x78, 0x56, 0x34, 0x12, 0x34, 0x12, 0xcd, 0xab, 0xef, 0x00, 0x01, 0x23, 0x45, 0x67,
		0xcf, 0xfb}, 1}
	ndr = Interface{[16]byte{0x04, 0x5d, 0x88, 0x8a, 0xeb, 0x1c, 0xc9, 0x11, 0x9f, 0xe8, 0x08, 0x00, 0x2b, 0x10,
		0x48, 0x60}, 2}
)

var (
	errShort = errors.New("a packet of the remote procedure call is cut short")
	errNak   = errors.New("the domain controller refuses the binding")
)

// Fault is an error of the call itself (C706 appendix E).
type Fault uint32

func (f Fault) Error() string {
	if f == 0x721 {
		return "fault 0x721: the secure channel is not the current one"
	}
	return fmt.Sprintf("the call ended with fault 0x%x", uint32(f))
}

func header(kind byte, flags byte, call uint32) []byte {
	b := []byte{5, 0, kind, flags, 0x10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}
	binary.LittleEndian.PutUint32(b[12:], call)
	return b
}

func finish(b []byte, auth int) []byte {
	binary.LittleEndian.PutUint16(b[8:], uint16(len(b)))
	binary.LittleEndian.PutUint16(b[10:], uint16(auth))
	return b
}

// Bind opens an interface. domain and computer begin the secure channel of a machine account on it; without them the
// calls go in clear.
func Bind(i Interface, call uint32, domain, computer string) []byte {
	b := header(kindBind, flagFirst|flagLast, call)
	b = binary.LittleEndian.AppendUint16(b, MaxFragment)
	b = binary.LittleEndian.AppendUint16(b, MaxFragment)
	b = append(b, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0)
	b = append(b, i.uuid[:]...)
	b = binary.LittleEndian.AppendUint32(b, i.version)
	b = append(b, ndr.uuid[:]...)
	b = binary.LittleEndian.AppendUint32(b, ndr.version)
	if domain == "" {
		return finish(b, 0)
	}
	// NL_AUTH_MESSAGE (MS-NRPC section 2.2.1.3.1): a request with the names of domain and computer.
	token := append([]byte{0, 0, 0, 0, 3, 0, 0, 0}, domain...)
	token = append(append(append(token, 0), computer...), 0)
	b = append(b, authNetlogon, authPrivacy, 0, 0, 0, 0, 0, 0)
	return finish(append(b, token...), len(token))
}

// Authentication of packets (MS-RPCE section 2.2.1.1.7 and 8).
const (
	authNetlogon = 68
	authPrivacy  = 6
)

// Request makes a call in clear.
func Request(call uint32, op uint16, stub []byte) []byte {
	b := header(kindRequest, flagFirst|flagLast, call)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(stub)))
	b = binary.LittleEndian.AppendUint16(b, 0)
	b = binary.LittleEndian.AppendUint16(b, op)
	return finish(append(b, stub...), 0)
}

// Size returns the length of the packet that begins with a header of 16 octets.
func Size(head []byte) (int, error) {
	if len(head) < headerSize || head[0] != 5 {
		return 0, errShort
	}
	n := int(binary.LittleEndian.Uint16(head[8:]))
	if n < headerSize || n > 4*MaxFragment {
		return 0, errShort
	}
	return n, nil
}

// Bound reads the answer to Bind.
func Bound(packet []byte) error {
	if len(packet) < headerSize+10 {
		return errShort
	}
	if packet[2] == kindBindNak {
		return errNak
	}
	if packet[2] != kindBindAck {
		return fmt.Errorf("a packet of kind %d answers the binding", packet[2])
	}
	at := headerSize + 8
	at += 2 + int(binary.LittleEndian.Uint16(packet[at:])) // the secondary address
	at = (at + 3) &^ 3
	if len(packet) < at+8 {
		return errShort
	}
	if result := binary.LittleEndian.Uint16(packet[at+4:]); packet[at] != 1 || result != 0 {
		return fmt.Errorf("%w: result %d", errNak, result)
	}
	return nil
}

// Reply is one fragment of a reply.
type Reply struct {
	Last bool
	Stub []byte
	// sealed is the packet around it, for the secure channel.
	packet []byte
	auth   int
}

// ParseReply reads a fragment of a reply; a fault comes back as an error.
func ParseReply(packet []byte) (Reply, error) {
	if len(packet) < requestSize {
		return Reply{}, errShort
	}
	r := Reply{Last: packet[3]&flagLast != 0, packet: packet, auth: int(binary.LittleEndian.Uint16(packet[10:]))}
	switch packet[2] {
	case kindResponse:
	case kindFault:
		if len(packet) < requestSize+4 {
			return r, errShort
		}
		return r, Fault(binary.LittleEndian.Uint32(packet[requestSize:]))
	default:
		return r, fmt.Errorf("a packet of kind %d answers the call", packet[2])
	}
	end := len(packet)
	if r.auth > 0 {
		if end -= r.auth + trailerSize; end < requestSize {
			return r, errShort
		}
	}
	r.Stub = packet[requestSize:end]
	return r, nil
}

// writer writes parameters in NDR (C706 chapter 14).
type writer struct {
	b    []byte
	refs uint32
}

func (w *writer) align(n int) {
	for len(w.b)%n != 0 {
		w.b = append(w.b, 0)
	}
}

func (w *writer) u16(v uint16) {
	w.align(2)
	w.b = binary.LittleEndian.AppendUint16(w.b, v)
}

func (w *writer) u32(v uint32) {
	w.align(4)
	w.b = binary.LittleEndian.AppendUint32(w.b, v)
}

// pointer writes the mark of a pointer that is not null.
func (w *writer) pointer() {
	w.refs++
	w.u32(0x20000 + 4*w.refs)
}

// text writes a string with a zero at its end, as conformant varying array.
func (w *writer) text(s string) {
	units := append(mschap.UTF16(s), 0, 0)
	w.u32(uint32(len(units) / 2))
	w.u32(0)
	w.u32(uint32(len(units) / 2))
	w.b = append(w.b, units...)
}

// array writes counted octets or characters of a size without a zero at the end.
func (w *writer) array(octets []byte, size int) {
	n := uint32(len(octets) / size)
	w.u32(n)
	w.u32(0)
	w.u32(n)
	w.b = append(w.b, octets...)
}

// counted writes the length, the room and the pointer of a string or octets; the octets follow later.
func (w *writer) counted(octets []byte) {
	w.u16(uint16(len(octets)))
	w.u16(uint16(len(octets)))
	w.pointer()
}
