package radius

import (
	"crypto/md5"
	"encoding/binary"
	"errors"
)

// Vendor2548 is the vendor number under which RFC 2548 keeps the MS-CHAP and MPPE attributes.
const Vendor2548 = 311

// Attributes of RFC 2548.
const (
	MSCHAPResponse   = 1
	MSCHAPError      = 2
	MSMPPEEncPolicy  = 7
	MSMPPEEncTypes   = 8
	MSCHAPDomain     = 10
	MSCHAPChallenge  = 11
	MSCHAPMPPEKeys   = 12
	MSMPPESendKey    = 16
	MSMPPERecvKey    = 17
	MSCHAP2Response  = 25
	MSCHAP2Success   = 26
	mppeKeyAttribute = 4 + 2 + 2 // vendor, type and length, salt
)

// Vendor returns the value of the first attribute of that vendor and type (RFC 2865 section 5.26), nil if there is
// none. One Vendor-Specific may hold several; what does not fit that form is passed over.
func (p *Packet) Vendor(vendor uint32, t byte) []byte {
	for kind, value := range p.Attributes() {
		if kind != VendorSpecific || len(value) < 6 || binary.BigEndian.Uint32(value) != vendor {
			continue
		}
		for rest := value[4:]; len(rest) >= 2 && rest[1] >= 2 && int(rest[1]) <= len(rest); rest = rest[rest[1]:] {
			if rest[0] == t {
				return rest[2:rest[1]]
			}
		}
	}
	return nil
}

// AddVendor appends one attribute of a vendor.
func (b *Builder) AddVendor(vendor uint32, t byte, value []byte) {
	if len(value) > 247 {
		b.err = errors.New("a vendor attribute holds at most 247 octets")
		return
	}
	out := binary.BigEndian.AppendUint32(make([]byte, 0, 6+len(value)), vendor)
	b.Add(VendorSpecific, append(append(out, t, byte(len(value)+2)), value...))
}

// EAP joins the EAP-Message attributes of a packet (RFC 3579 section 3.1). nil means there is none; an empty one
// comes out as an empty slice that is not nil.
func (p *Packet) EAP() []byte {
	var out []byte
	for t, value := range p.Attributes() {
		if t == EAPMessage {
			if out == nil {
				out = make([]byte, 0, len(value))
			}
			out = append(out, value...)
		}
	}
	return out
}

// AddEAP splits an EAP packet over as many EAP-Message attributes as it needs.
func (b *Builder) AddEAP(packet []byte) {
	for len(packet) > 0 {
		n := min(253, len(packet))
		b.Add(EAPMessage, packet[:n])
		packet = packet[n:]
	}
}

// AddMPPEKey appends an MS-MPPE-Send-Key or MS-MPPE-Recv-Key, encrypted with the shared secret, the authenticator of
// the request and a salt (RFC 2548 section 2.4.2). The first bit of the salt is set here; salts of one packet differ.
func (b *Builder) AddMPPEKey(k *Key, t byte, key []byte, request [16]byte, salt [2]byte) {
	if k.clear {
		b.AddVendor(Vendor2548, t, key)
		return
	}
	salt[0] |= 0x80
	plain := make([]byte, (1+len(key)+15)/16*16)
	plain[0] = byte(len(key))
	copy(plain[1:], key)
	value := append(make([]byte, 0, 2+len(plain)), salt[:]...)
	before := append(append([]byte(nil), request[:]...), salt[:]...)
	for i := 0; i < len(plain); i += 16 {
		pad := md5.Sum(append(append([]byte(nil), k.secret...), before...))
		for j := range pad {
			value = append(value, plain[i+j]^pad[j])
		}
		before = value[len(value)-16:]
	}
	b.AddVendor(Vendor2548, t, value)
}

// OpenMPPEKey decrypts what AddMPPEKey wrote.
func (k *Key) OpenMPPEKey(value []byte, request [16]byte) ([]byte, error) {
	if k.clear {
		return value, nil
	}
	if len(value) < mppeKeyAttribute-4 || (len(value)-2)%16 != 0 || value[0]&0x80 == 0 {
		return nil, errors.New("an MPPE key is a salt with its first bit set, and blocks of 16 octets")
	}
	before := append(append([]byte(nil), request[:]...), value[:2]...)
	var plain []byte
	for rest := value[2:]; len(rest) > 0; rest = rest[16:] {
		pad := md5.Sum(append(append([]byte(nil), k.secret...), before...))
		for j := range pad {
			plain = append(plain, rest[j]^pad[j])
		}
		before = rest[:16]
	}
	if len(plain) == 0 || int(plain[0]) > len(plain)-1 {
		return nil, errors.New("an MPPE key lies about its length: the shared secrets differ")
	}
	return plain[1 : 1+plain[0]], nil
}
