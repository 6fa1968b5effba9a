package radius

import (
	"bytes"
	"testing"
)

func TestMPPEKeys(t *testing.T) {
	key, request := NewKey([]byte("s3cret")), [16]byte{1, 2, 3}
	for _, n := range []int{1, 15, 16, 31, 32, 64} {
		secret := bytes.Repeat([]byte{byte(n)}, n)
		b := NewReply(nil, AccessAccept, 1)
		b.AddMPPEKey(key, MSMPPESendKey, secret, request, [2]byte{0, 1})
		b.AddMPPEKey(key, MSMPPERecvKey, secret, request, [2]byte{0, 2})
		data, err := b.SignReply(key, request)
		if err != nil {
			t.Fatal(err)
		}
		p, _ := Decode(data)
		if bytes.Contains(data, secret) && n > 2 {
			t.Errorf("a key of %d octets is sent in clear", n)
		}
		got, err := key.OpenMPPEKey(p.Vendor(Vendor2548, MSMPPESendKey), request)
		if err != nil || !bytes.Equal(got, secret) {
			t.Errorf("a key of %d octets came back as %x: %v", n, got, err)
		}
		if bytes.Equal(p.Vendor(Vendor2548, MSMPPESendKey)[2:], p.Vendor(Vendor2548, MSMPPERecvKey)[2:]) {
			t.Error("the salt changes nothing")
		}
	}
	for _, wrong := range [][]byte{nil, {0x80}, {0x80, 1}, make([]byte, 18), append([]byte{0x80, 1},
		make([]byte, 15)...)} {
		if got, err := key.OpenMPPEKey(wrong, request); err == nil {
			t.Errorf("%x opens to %x", wrong, got)
		}
	}
}

func TestVendorAttributes(t *testing.T) {
	b := NewRequest(AccessRequest, 1, [16]byte{}, false)
	b.Add(VendorSpecific, []byte{0, 0, 1})                               // too short
	b.Add(VendorSpecific, []byte{0, 0, 1, 55, 11, 0, 9})                 // lies about its length
	b.Add(VendorSpecific, []byte{0, 0, 0x7e, 0xd9, 11, 3, 1})            // another vendor
	b.Add(VendorSpecific, []byte{0, 0, 1, 55, 25, 4, 5, 6, 11, 4, 7, 8}) // two in one
	data, _ := b.SignRequest(NewKey(nil))
	p, err := Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	if got := p.Vendor(Vendor2548, MSCHAPChallenge); !bytes.Equal(got, []byte{7, 8}) {
		t.Errorf("found %x", got)
	}
	if got := p.Vendor(Vendor2548, MSCHAP2Response); !bytes.Equal(got, []byte{5, 6}) {
		t.Errorf("found %x", got)
	}
}

func TestEAPIsSplitAndJoined(t *testing.T) {
	for _, n := range []int{4, 253, 254, 1400} {
		packet := bytes.Repeat([]byte{byte(n)}, n)
		b := NewRequest(AccessRequest, 1, [16]byte{}, true)
		b.AddEAP(packet)
		b.AddText(UserName, "between")
		data, _ := b.SignRequest(NewKey(nil))
		p, _ := Decode(data)
		if !bytes.Equal(p.EAP(), packet) {
			t.Errorf("%d octets came back as %d", n, len(p.EAP()))
		}
	}
	b := NewRequest(AccessRequest, 1, [16]byte{}, true)
	b.Add(EAPMessage, nil)
	data, _ := b.SignRequest(NewKey(nil))
	if p, _ := Decode(data); p.EAP() == nil {
		t.Error("an empty EAP-Message, which asks us to begin, is taken for none")
	}
}

func FuzzMPPEKey(f *testing.F) {
	f.Add([]byte{0x80, 1, 2, 3})
	key := NewKey([]byte("s"))
	f.Fuzz(func(t *testing.T, value []byte) { key.OpenMPPEKey(value, [16]byte{}) })
}
