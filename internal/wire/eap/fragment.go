package eap

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Flags of the TLS-based methods (RFC 5216 section 3.1); the low three bits are the version of PEAP, TTLS and TEAP.
const (
	flagLength  = 0x80
	flagMore    = 0x40
	flagStart   = 0x20
	flagOuter   = 0x10 // TEAP: outer TLVs follow (RFC 7170 section 4.1)
	versionMask = 0x07
)

// MaxMessage bounds one message of TLS records that is put together from fragments. The longest useful one is a chain
// of certificates.
const MaxMessage = 64 << 10

// Fragment is the data of one packet of a TLS-based method.
type Fragment struct {
	Version byte
	Start   bool
	More    bool
	// Total is the length of the whole message, 0 if the packet does not say.
	Total int
	// Outer are the outer TLVs of TEAP.
	Outer []byte
	Data  []byte
}

// ErrTooLong is returned for a message that would pass MaxMessage.
var ErrTooLong = fmt.Errorf("the TLS message is longer than %d octets", MaxMessage)

var errFragment = errors.New("a fragment of TLS data is cut short")

// ParseFragment reads the data of a packet after the type octet.
func ParseFragment(b []byte) (Fragment, error) {
	var f Fragment
	if len(b) < 1 {
		return f, errFragment
	}
	flags := b[0]
	f.Version, f.Start, f.More = flags&versionMask, flags&flagStart != 0, flags&flagMore != 0
	b = b[1:]
	if flags&flagLength != 0 {
		if len(b) < 4 {
			return f, errFragment
		}
		total := binary.BigEndian.Uint32(b)
		if total > MaxMessage {
			return f, ErrTooLong
		}
		f.Total, b = int(total), b[4:]
	}
	if flags&flagOuter != 0 {
		if len(b) < 4 {
			return f, errFragment
		}
		n := binary.BigEndian.Uint32(b)
		if uint64(n) > uint64(len(b)-4) {
			return f, errFragment
		}
		f.Outer = b[len(b)-int(n):]
		b = b[4 : len(b)-int(n)]
	}
	f.Data = b
	return f, nil
}

// Append writes the fragment.
func (f Fragment) Append(b []byte) []byte {
	flags := f.Version & versionMask
	if f.Start {
		flags |= flagStart
	}
	if f.More {
		flags |= flagMore
	}
	if f.Total > 0 {
		flags |= flagLength
	}
	if len(f.Outer) > 0 {
		flags |= flagOuter
	}
	b = append(b, flags)
	if f.Total > 0 {
		b = binary.BigEndian.AppendUint32(b, uint32(f.Total))
	}
	if len(f.Outer) > 0 {
		b = binary.BigEndian.AppendUint32(b, uint32(len(f.Outer)))
	}
	b = append(b, f.Data...)
	return append(b, f.Outer...)
}

// Assembly puts a message together.
type Assembly struct {
	data  []byte
	total int
}

// Add takes the next fragment. It returns the whole message with the last one, otherwise nil.
func (a *Assembly) Add(f Fragment) ([]byte, error) {
	if f.Total > 0 && len(a.data) == 0 {
		a.total = f.Total
	}
	if len(a.data)+len(f.Data) > MaxMessage {
		return nil, ErrTooLong
	}
	a.data = append(a.data, f.Data...)
	switch {
	case a.total > 0 && len(a.data) > a.total, !f.More && a.total > len(a.data):
		err := fmt.Errorf("the fragments hold %d octets, %d were announced", len(a.data), a.total)
		*a = Assembly{}
		return nil, err
	case f.More && len(f.Data) == 0:
		return nil, errors.New("an empty fragment announces more")
	case f.More:
		return nil, nil
	}
	whole := a.data
	*a = Assembly{}
	if whole == nil {
		whole = []byte{}
	}
	return whole, nil
}

// Pending reports whether a message has begun and is not complete.
func (a *Assembly) Pending() bool { return len(a.data) > 0 }

// Len is how many octets of it have come.
func (a *Assembly) Len() int { return len(a.data) }

// Outgoing hands a message out in fragments.
type Outgoing struct {
	rest  []byte
	total int
	first bool
}

// NewOutgoing begins a message.
func NewOutgoing(message []byte) Outgoing {
	return Outgoing{rest: message, total: len(message), first: true}
}

// Next returns the next fragment of at most size octets of data. Only the first of several says how long it all is
// (RFC 5216 section 2.1.5).
func (o *Outgoing) Next(size int) Fragment {
	n := min(size, len(o.rest))
	f := Fragment{Data: o.rest[:n], More: n < len(o.rest)}
	if o.first && f.More {
		f.Total = o.total
	}
	o.rest, o.first = o.rest[n:], false
	return f
}

// Left is how many octets are still to be sent.
func (o *Outgoing) Left() int { return len(o.rest) }
