package netlogon

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
)

// Channel seals and opens packets of one connection (MS-NRPC section 3.3.4.2). One counter serves both directions.
type Channel struct {
	secret  *Secret
	counter uint64
}

// NewChannel begins the secure channel of one connection.
func NewChannel(s *Secret) *Channel { return &Channel{secret: s} }

const tokenSize = 56

// signature begins every token: HMAC-SHA256, AES-128, no flags.
var signature = [8]byte{0x13, 0, 0x1a, 0, 0xff, 0xff, 0, 0}

func (c *Channel) sequence(client bool) (out [8]byte) {
	binary.BigEndian.PutUint32(out[:], uint32(c.counter))
	binary.BigEndian.PutUint32(out[4:], uint32(c.counter>>32))
	if client {
		out[4] |= 0x80
	}
	c.counter++
	return out
}

func twice(b [8]byte) (out [16]byte) {
	copy(out[:], b[:])
	copy(out[8:], b[:])
	return out
}

func (c *Channel) sealKey() (key [16]byte) {
	for i, b := range c.secret.key {
		key[i] = b ^ 0xf0
	}
	return key
}

func (c *Channel) checksum(confounder, data []byte) (out [8]byte) {
	mac := hmac.New(sha256.New, c.secret.key[:])
	mac.Write(signature[:])
	mac.Write(confounder)
	mac.Write(data)
	copy(out[:], mac.Sum(nil))
	return out
}

// Request seals a call.
func (c *Channel) Request(call uint32, op uint16, stub []byte) []byte {
	pad := -len(stub) & 15
	data := append(append([]byte(nil), stub...), make([]byte, pad)...)
	var confounder [8]byte
	rand.Read(confounder[:])
	sum := c.checksum(confounder[:], data)
	sequence := c.sequence(true)
	sealed := cfb8(c.sealKey(), twice(sequence), append(confounder[:], data...), true)
	hidden := cfb8(c.secret.key, twice(sum), sequence[:], true)
	b := header(kindRequest, flagFirst|flagLast, call)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(stub)))
	b = binary.LittleEndian.AppendUint16(b, 0)
	b = binary.LittleEndian.AppendUint16(b, op)
	b = append(b, sealed[8:]...)
	b = append(b, authNetlogon, authPrivacy, byte(pad), 0, 0, 0, 0, 0)
	b = append(append(append(append(b, signature[:]...), hidden...), sum[:]...), sealed[:8]...)
	return finish(append(b, make([]byte, 24)...), tokenSize)
}

var errSeal = errors.New("the answer of the domain controller is not sealed by it")

// Open opens a fragment of a reply.
func (c *Channel) Open(r Reply) ([]byte, error) {
	if r.auth < 32 || len(r.packet) < requestSize+trailerSize+r.auth {
		return nil, errSeal
	}
	token := r.packet[len(r.packet)-r.auth:]
	trailer := r.packet[len(r.packet)-r.auth-trailerSize:]
	var sum [8]byte
	copy(sum[:], token[16:])
	want := c.sequence(false)
	if got := cfb8(c.secret.key, twice(sum), token[8:16], false); !hmac.Equal(got, want[:]) {
		return nil, errSeal
	}
	plain := cfb8(c.sealKey(), twice(want), append(append([]byte(nil), token[24:32]...), r.Stub...), false)
	confounder, data := plain[:8], plain[8:]
	if got := c.checksum(confounder, data); !hmac.Equal(got[:], sum[:]) {
		return nil, errSeal
	}
	pad := int(trailer[2])
	if pad > len(data) {
		return nil, errSeal
	}
	return data[:len(data)-pad], nil
}
