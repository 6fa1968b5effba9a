// Package dhcp reads DHCP messages (RFC 2131, options of RFC 2132), as far as they tell which device has which address.
package dhcp

import (
	"encoding/binary"
	"errors"
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// Types of messages (RFC 2132 section 9.6).
const (
	Discover = 1
	Offer    = 2
	Request  = 3
	Decline  = 4
	Ack      = 5
	Nak      = 6
	Release  = 7
	Inform   = 8
)

// Message is what a message says. Addresses are invalid where it has none.
type Message struct {
	Reply bool // of a server
	Type  byte
	// Device is the address of the device, 6 octets.
	Device [6]byte
	// Current is the address that the device has, Given the one that the server gives, Requested the one it asks for.
	Current, Given, Requested netip.Addr
	// Lease is for how long; 0 if it does not say.
	Lease time.Duration
	Host  string
	// Fingerprint is which options the device asks for, by number in its order (section 9.8 there), VendorClass its
	// vendor class identifier (section 9.13); empty in what a server says.
	Fingerprint, VendorClass string
}

const (
	fixedSize = 236
	maxSize   = 4096
	// maxAsked bounds the options that a fingerprint has.
	maxAsked = 96
)

var cookie = [4]byte{99, 130, 83, 99} // RFC 2131 section 3

// What is wrong with a message.
var (
	ErrShort    = errors.New("it is too short to be a DHCP message")
	ErrLong     = errors.New("it is longer than any DHCP message")
	ErrCookie   = errors.New("it is no DHCP message: the options do not begin as they have to")
	ErrHardware = errors.New("the device has no address of six octets")
	ErrOption   = errors.New("an option is longer than the message")
	ErrNoType   = errors.New("it does not say which message it is")
)

// Parse reads a message.
func Parse(b []byte) (*Message, error) {
	switch {
	case len(b) < fixedSize+len(cookie):
		return nil, ErrShort
	case len(b) > maxSize:
		return nil, ErrLong
	case [4]byte(b[fixedSize:]) != cookie:
		return nil, ErrCookie
	case b[1] != 1 || b[2] != 6:
		return nil, ErrHardware
	}
	m := &Message{Reply: b[0] == 2, Device: [6]byte(b[28:34]), Current: address(b[12:16]), Given: address(b[16:20])}
	for rest := b[fixedSize+len(cookie):]; len(rest) > 0; {
		code := rest[0]
		if code == 0 { // padding
			rest = rest[1:]
			continue
		}
		if code == 255 {
			break
		}
		if len(rest) < 2 || len(rest) < 2+int(rest[1]) {
			return nil, ErrOption
		}
		m.option(code, rest[2:2+int(rest[1])])
		rest = rest[2+int(rest[1]):]
	}
	if m.Type == 0 {
		return nil, ErrNoType
	}
	return m, nil
}

func (m *Message) option(code byte, v []byte) {
	switch {
	case code == 12 && len(m.Host) == 0:
		m.Host = printable(v, '!')
	case code == 55 && !m.Reply && m.Fingerprint == "":
		m.Fingerprint = numbers(v[:min(len(v), maxAsked)])
	case code == 60 && !m.Reply && m.VendorClass == "":
		m.VendorClass = strings.TrimSpace(printable(v, ' '))
	case code == 50 && len(v) == 4:
		m.Requested = address(v)
	case code == 51 && len(v) == 4:
		m.Lease = time.Duration(binary.BigEndian.Uint32(v)) * time.Second
	case code == 53 && len(v) == 1:
		m.Type = v[0]
	}
}

func address(b []byte) netip.Addr {
	a := netip.AddrFrom4([4]byte(b))
	if a.IsUnspecified() {
		return netip.Addr{}
	}
	return a
}

// numbers writes octets as numbers with commas between.
func numbers(v []byte) string {
	out := make([]byte, 0, 4*len(v))
	for i, c := range v {
		if i > 0 {
			out = append(out, ',')
		}
		out = strconv.AppendUint(out, uint64(c), 10)
	}
	return string(out)
}

// printable keeps the visible characters of ASCII from one on.
func printable(v []byte, from byte) string {
	out := make([]byte, 0, len(v))
	for _, c := range v {
		if c >= from && c < 127 {
			out = append(out, c)
		}
	}
	return string(out)
}

// Leased is the address that the device has by this message; valid is false for a message that gives it none. Of a
// request that a relay copied nobody knows yet whether it is granted: the address is the one that it asks for.
func (m *Message) Leased() (a netip.Addr, valid bool) {
	switch m.Type {
	case Ack:
		a = m.Given
	case Request:
		if a = m.Requested; !a.IsValid() {
			a = m.Current
		}
	}
	return a, a.IsValid()
}
