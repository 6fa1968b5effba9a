package netlogon

import (
	"bytes"
	"crypto/rc4"
	"encoding/binary"
	"testing"
	"time"

	"tollgate.example/key/internal/wire/mschap"
)

// The answer to a challenge is what its receiver computes from the password (MS-NLMP section 3.3.2).
func TestNTLMAnswer(t *testing.T) {
	challenge, target := []byte{1, 2, 3, 4, 5, 6, 7, 8}, []byte{2, 0, 2, 0, 'L', 0, 0, 0, 0, 0}
	token, key := ntlmAnswer(challenge, target, "LANTERN", "tollgate1$", "machine-password", time.Unix(1_790_000_000,
		0))
	field := func(at int) []byte {
		return token[binary.LittleEndian.Uint32(token[at+4:]):][:binary.LittleEndian.Uint16(token[at:])]
	}
	response, hidden := field(20), field(52)
	hash := mschap.NTHash("machine-password")
	own := hmacMD5(hash[:], mschap.UTF16("TOLLGATE1$LANTERN"))
	if proof := hmacMD5(own, challenge, response[16:]); !bytes.Equal(proof, response[:16]) {
		t.Error("the proof does not fit")
	}
	if !bytes.Contains(response, target) || string(field(36)) != string(mschap.UTF16("tollgate1$")) {
		t.Error("the target or the name is missing")
	}
	cipher, _ := rc4.NewCipher(hmacMD5(own, response[:16]))
	got := make([]byte, 16)
	if cipher.XORKeyStream(got, hidden); !bytes.Equal(got, key[:]) {
		t.Error("the session key does not come out")
	}
}

// What one side seals, the other opens; what was touched, it does not.
func TestNTLMSession(t *testing.T) {
	client, _ := newSession([16]byte{1, 2, 3})
	server, _ := newSession([16]byte{1, 2, 3})
	server.out, server.in, server.outSign, server.inSign = server.in, server.out, server.inSign, server.outSign
	for i := range 3 {
		packet := client.Request(uint32(i), 55, []byte("a call with parameters"))
		packet[2] = kindResponse
		clear := append([]byte(nil), packet...)
		clear[2] = kindRequest
		r := Reply{Stub: packet[requestSize : len(packet)-macSize-trailerSize], packet: clear, auth: macSize}
		stub, err := server.Open(r)
		if err != nil || string(stub) != "a call with parameters" {
			t.Fatalf("call %d: %q, %v", i, stub, err)
		}
	}
	packet := client.Request(4, 55, []byte("another"))
	packet[requestSize] ^= 1
	if _, err := server.Open(Reply{Stub: packet[requestSize : len(packet)-macSize-trailerSize], packet: packet,
		auth: macSize}); err == nil {
		t.Error("a packet that was touched is opened")
	}
}

func FuzzBoundNTLM(f *testing.F) {
	f.Add([]byte{5, 0, 12, 3, 16, 0, 0, 0, 60, 0, 48, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) < headerSize {
			return
		}
		BoundNTLM(b, 1, "LANTERN", "TOLLGATE1$", "x", time.Unix(0, 0))
		s, _ := newSession([16]byte{})
		if r, err := ParseReply(b); err == nil {
			s.Open(r)
		}
		ChangeReply(b)
	})
}
