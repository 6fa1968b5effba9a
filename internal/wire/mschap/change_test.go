package mschap

import (
	"crypto/des"
	"crypto/rc4"
	"encoding/binary"
	"testing"
)

func TestChangeHoldsBothPasswords(t *testing.T) {
	const old, next = "gangway-and-rope", "capstan and Tåu"
	challenge := [16]byte{1, 2, 3}
	made := NewChange(old, next, "k.nance", challenge)
	c, err := ParseChange(made.Append(nil))
	if err != nil || c != made {
		t.Fatalf("it does not come back: %v", err)
	}
	oldHash, newHash := NTHash(old), NTHash(next)
	cipher, _ := rc4.NewCipher(oldHash[:])
	var clear [516]byte
	cipher.XORKeyStream(clear[:], c.Password[:])
	n := binary.LittleEndian.Uint32(clear[512:])
	if n > 512 || string(clear[512-n:512]) != string(UTF16(next)) {
		t.Error("the new password is not under the old hash")
	}
	var back Hash
	for half := range 2 {
		block, err := des.NewCipher(spread(newHash[7*half : 7*half+7]))
		if err != nil {
			t.Fatal(err)
		}
		block.Decrypt(back[8*half:], c.Hash[8*half:8*half+8])
	}
	if back != oldHash {
		t.Error("the old hash is not under the new one")
	}
	if newHash.V2(c.Peer, challenge, "k.nance") != c.NT {
		t.Error("the response is not that of the new password")
	}
	if _, err := ParseChange(make([]byte, changeSize-1)); err == nil {
		t.Error("a change that is cut short is read")
	}
}

func TestFailureChallenge(t *testing.T) {
	challenge := [16]byte{0xab, 0xcd, 15: 0xef}
	if got, ok := FailureChallenge(Failure(ErrorExpired, challenge, "C=none")); !ok || got != challenge {
		t.Errorf("%x, %v", got, ok)
	}
	for _, text := range []string{"", "E=648 R=0", "E=648 C=12", "C=zz0102030405060708090a0b0c0d0e0f10"} {
		if _, ok := FailureChallenge(text); ok {
			t.Errorf("%q has a challenge", text)
		}
	}
}
