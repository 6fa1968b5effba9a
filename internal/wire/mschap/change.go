package mschap

import (
	"crypto/des"
	"crypto/rand"
	"crypto/rc4"
	"encoding/binary"
	"fmt"
)

// Change is what a peer sends to change an expired password (RFC 2759 section 7): the new password encrypted with the
// old hash, the old hash encrypted with the new one, and the response that the new password gives to the challenge of
// the failure before.
type Change struct {
	Password [516]byte
	Hash     [16]byte
	Peer     [16]byte
	NT       [24]byte
}

// changeSize is the size of a change without its opcode and length.
const changeSize = 516 + 16 + 16 + 8 + 24 + 2

// ParseChange reads a change.
func ParseChange(b []byte) (c Change, err error) {
	if len(b) != changeSize {
		return c, fmt.Errorf("a change of password has %d octets, not %d", len(b), changeSize)
	}
	copy(c.Password[:], b)
	copy(c.Hash[:], b[516:])
	copy(c.Peer[:], b[532:])
	copy(c.NT[:], b[556:])
	return c, nil
}

// Append writes a change.
func (c *Change) Append(b []byte) []byte {
	b = append(append(append(b, c.Password[:]...), c.Hash[:]...), c.Peer[:]...)
	b = append(b, make([]byte, 8)...)
	return append(append(b, c.NT[:]...), 0, 0)
}

// NewChange makes the change from an old password to a new one, in answer to a challenge (RFC 2759 sections 8.9 to
// 8.13).
func NewChange(old, next, name string, challenge [16]byte) (c Change) {
	oldHash, newHash := NTHash(old), NTHash(next)
	text := UTF16(next)
	var clear [516]byte
	rand.Read(clear[:512])
	copy(clear[512-len(text):], text)
	binary.LittleEndian.PutUint32(clear[512:], uint32(len(text)))
	cipher, err := rc4.NewCipher(oldHash[:])
	if err != nil {
		panic("mschap: an RC4 key of the wrong length: " + err.Error())
	}
	cipher.XORKeyStream(c.Password[:], clear[:])
	c.Hash = hide(oldHash, newHash)
	rand.Read(c.Peer[:])
	c.NT = newHash.V2(c.Peer, challenge, name)
	return c
}

// hide encrypts a hash with another as key (RFC 2759 section 8.13).
func hide(hash, key Hash) (out [16]byte) {
	for half := range 2 {
		block, err := des.NewCipher(spread(key[7*half : 7*half+7]))
		if err != nil {
			panic("mschap: a DES key of the wrong length: " + err.Error())
		}
		block.Encrypt(out[8*half:], hash[8*half:8*half+8])
	}
	return out
}
