package dhcp

import (
	"errors"
	"net/netip"
	"testing"
	"time"
)

// message makes a message of a device with the address 02-00-5e-00-00-01.
func message(op byte, current, given [4]byte, options ...byte) []byte {
	b := make([]byte, fixedSize)
	b[0], b[1], b[2] = op, 1, 6
	copy(b[12:], current[:])
	copy(b[16:], given[:])
	copy(b[24:], []byte{192, 0, 2, 1})
	copy(b[28:], []byte{2, 0, 0x5e, 0, 0, 1})
	return append(append(b, cookie[:]...), options...)
}

func TestMessages(t *testing.T) {
	ack, err := Parse(message(2, [4]byte{}, [4]byte{192, 0, 2, 41}, 53, 1, Ack, 0, 51, 4, 0, 0, 0x0e, 0x10, 12, 6,
		'h', 'o', 's', 't', '-', '1', 255, 9))
	if err != nil || !ack.Reply || ack.Lease != time.Hour || ack.Host != "host-1" || ack.Device[5] != 1 {
		t.Fatalf("%+v, %v", ack, err)
	}
	if a, ok := ack.Leased(); !ok || a != netip.MustParseAddr("192.0.2.41") {
		t.Errorf("leased is %v", a)
	}
	if ack.Fingerprint != "" || ack.VendorClass != "" {
		t.Errorf("a server has the traits %q and %q", ack.Fingerprint, ack.VendorClass)
	}
	renewal, err := Parse(message(1, [4]byte{192, 0, 2, 41}, [4]byte{}, 53, 1, Request, 55, 3, 1, 3, 121, 60, 5, 'p',
		' ', 1, 'n', 't', 55, 1, 9, 255))
	if renewal.Fingerprint != "1,3,121" || renewal.VendorClass != "p nt" {
		t.Errorf("a device has the traits %q and %q", renewal.Fingerprint, renewal.VendorClass)
	}
	if a, ok := renewal.Leased(); err != nil || !ok || a != netip.MustParseAddr("192.0.2.41") {
		t.Errorf("a renewal leases %v, %v", a, err)
	}
	if offer, err := Parse(message(2, [4]byte{}, [4]byte{192, 0, 2, 41}, 53, 1, Offer)); err != nil {
		t.Error(err)
	} else if _, ok := offer.Leased(); ok {
		t.Error("an offer leases an address")
	}
	for want, b := range map[error][]byte{ErrShort: make([]byte, 239), ErrLong: make([]byte, 5000),
		ErrCookie: make([]byte, 300), ErrOption: message(1, [4]byte{}, [4]byte{}, 53, 9, 1),
		ErrNoType: message(1, [4]byte{}, [4]byte{}, 255)} {
		if _, err := Parse(b); !errors.Is(err, want) {
			t.Errorf("%v instead of %v", err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(message(2, [4]byte{}, [4]byte{192, 0, 2, 41}, 53, 1, Ack, 51, 4, 0, 0, 1, 0, 255))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Parse(b)
		if (m == nil) == (err == nil) {
			t.Fatal("neither a message nor an error, or both")
		}
		if m != nil {
			m.Leased()
		}
	})
}
