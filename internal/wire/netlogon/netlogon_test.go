package netlogon

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"strings"
	"testing"

	"tollgate.example/key/internal/wire/mschap"
)

func unhex(t testing.TB, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// The vector of NIST SP 800-38A section F.3.7: AES-128 in CFB8 mode.
func TestCFB8(t *testing.T) {
	key, iv := [16]byte(unhex(t, "2b7e151628aed2a6abf7158809cf4f3c")),
		[16]byte(unhex(t, "000102030405060708090a0b0c0d0e0f"))
	plain, cipher := unhex(t, "6bc1bee22e409f96e93d7e117393172aae2d"), unhex(t, "3b79424c9c0dd436bace9e0ed4586a4f32b9")
	if got := cfb8(key, iv, plain, true); !bytes.Equal(got, cipher) {
		t.Errorf("encrypted to %x", got)
	}
	if got := cfb8(key, iv, cipher, false); !bytes.Equal(got, plain) {
		t.Errorf("decrypted to %x", got)
	}
}

func secrets() *Secret {
	return NewSecret("LANTERN", "TOLLGATE1", "machine-password", [8]byte{1}, [8]byte{2})
}

// sealedReply seals as a domain controller does: its packets carry the counter without the client's mark.
func sealedReply(t *testing.T, s *Secret, counter uint64, stub []byte) []byte {
	t.Helper()
	c := &Channel{secret: s, counter: counter}
	pad := -len(stub) & 15
	data := append(append([]byte(nil), stub...), make([]byte, pad)...)
	confounder := []byte{1, 2, 3, 4, 5, 6, 7, 8}
	sum := c.checksum(confounder, data)
	sequence := c.sequence(false)
	sealed := cfb8(c.sealKey(), twice(sequence), append(append([]byte(nil), confounder...), data...), true)
	hidden := cfb8(s.key, twice(sum), sequence[:], true)
	b := append(header(kindResponse, flagFirst|flagLast, 2), 0, 0, 0, 0, 0, 0, 0, 0)
	b = append(b, sealed[8:]...)
	b = append(b, authNetlogon, authPrivacy, byte(pad), 0, 0, 0, 0, 0)
	b = append(append(append(append(b, signature[:]...), hidden...), sum[:]...), sealed[:8]...)
	return finish(append(b, make([]byte, 24)...), tokenSize)
}

func TestChannel(t *testing.T) {
	s := secrets()
	for _, n := range []int{0, 1, 15, 16, 17, 500} {
		c := NewChannel(s)
		stub := bytes.Repeat([]byte{byte(n)}, n)
		request := c.Request(2, OpSamLogonEx, stub)
		if n > 10 && bytes.Contains(request, stub[:10]) {
			t.Errorf("%d octets go in clear", n)
		}
		if size, err := Size(request); err != nil || size != len(request) {
			t.Errorf("the packet says it has %d of %d octets: %v", size, len(request), err)
		}
		packet := sealedReply(t, s, 1, stub) // the counter counts both directions
		r, err := ParseReply(packet)
		if err != nil || !r.Last {
			t.Fatal(err)
		}
		got, err := c.Open(r)
		if err != nil || !bytes.Equal(got, stub) {
			t.Errorf("%d octets came back as %x: %v", n, got, err)
		}
		if _, err := c.Open(r); err == nil {
			t.Error("a replayed answer is taken")
		}
	}
	for name, change := range map[string]func(p []byte){"data": func(p []byte) { p[requestSize] ^= 1 },
		"checksum": func(p []byte) { p[len(p)-tokenSize+16] ^= 1 }, "sequence": func(p []byte) {
			p[len(p)-tokenSize+8] ^= 1
		}, "confounder": func(p []byte) { p[len(p)-tokenSize+24] ^= 1 }} {
		packet := sealedReply(t, s, 0, []byte("validation"))
		change(packet)
		r, err := ParseReply(packet)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := NewChannel(s).Open(r); err == nil {
			t.Errorf("a changed %s is taken", name)
		}
	}
	other := NewSecret("LANTERN", "TOLLGATE1", "another-password", [8]byte{1}, [8]byte{2})
	r, _ := ParseReply(sealedReply(t, other, 0, []byte("x")))
	if _, err := NewChannel(s).Open(r); err == nil {
		t.Error("an answer under another key is taken")
	}
	if _, err := NewChannel(s).Open(Reply{}); err == nil {
		t.Error("an answer in clear is taken")
	}
}

func TestEstablishing(t *testing.T) {
	s := secrets()
	credential := s.credential([8]byte{2})
	stub := append(credential[:], make([]byte, 12)...)
	if err := s.Authenticated(stub, [8]byte{2}); err != nil {
		t.Errorf("the right credential: %v", err)
	}
	stub[0] ^= 1
	if err := s.Authenticated(stub, [8]byte{2}); err == nil {
		t.Error("a wrong credential is taken")
	}
	binary.LittleEndian.PutUint32(stub[16:], uint32(StatusAccessDenied))
	var status Status
	if err := s.Authenticated(stub, [8]byte{2}); !errors.As(err, &status) || status != StatusAccessDenied ||
		!strings.Contains(err.Error(), "password of our machine account") {
		t.Errorf("access denied: %v", err)
	}
	if got, err := ChallengeReply([]byte{1, 2, 3, 4, 5, 6, 7, 8, 0, 0, 0, 0}); err != nil || got[7] != 8 {
		t.Errorf("challenge %x %v", got, err)
	}
	for _, short := range [][]byte{nil, make([]byte, 11)} {
		if _, err := ChallengeReply(short); err == nil {
			t.Error("a short challenge is taken")
		}
		if err := s.Authenticated(short, [8]byte{}); err == nil {
			t.Error("a short answer is taken")
		}
	}
}

func TestMapper(t *testing.T) {
	stub := append(make([]byte, 60), 1, 0, 0x07, 2, 0, 0xc0, 0x01, 1, 0, 9)
	if port, err := MapReply(stub); err != nil || port != 49153 {
		t.Errorf("port %d: %v", port, err)
	}
	for _, wrong := range [][]byte{nil, {1, 0, 7, 2, 0}, {1, 0, 7, 2, 0, 1}} {
		if _, err := MapReply(wrong); err == nil {
			t.Errorf("%x names a port", wrong)
		}
	}
	if b := MapRequest(Netlogon); len(b)%4 != 0 || !bytes.Contains(b, Netlogon.uuid[:]) {
		t.Errorf("asked with %x", b)
	}
}

func TestLogonReply(t *testing.T) {
	stub := make([]byte, sessionKey+16+40)
	stub[0], stub[4] = 6, 1
	want := mschap.NTHash("x").Again()
	copy(stub[sessionKey:], want[:])
	if key, status, err := LogonReply(stub); err != nil || status != StatusOK || key != want {
		t.Errorf("%x %v %v", key, status, err)
	}
	refused := make([]byte, 20)
	binary.LittleEndian.PutUint32(refused[16:], uint32(StatusLocked))
	if _, status, err := LogonReply(refused); err != nil || status != StatusLocked {
		t.Errorf("%v %v", status, err)
	}
	for _, wrong := range [][]byte{nil, make([]byte, 15), make([]byte, 40)} { // success without a validation
		if _, _, err := LogonReply(wrong); err == nil {
			t.Errorf("%d octets are taken", len(wrong))
		}
	}
	l := Logon{Domain: "LANTERN", User: "s.lodge", Workstation: "TOLLGATE1", Challenge: [8]byte{7}}
	if a, b := l.SamLogonEx("dc1", "TOLLGATE1"), (&Logon{Domain: "LANTERN", User: "s.lodge", Workstation: "TOLLGATE1",
		Challenge: [8]byte{7}, Machine: true}).SamLogonEx("dc1", "TOLLGATE1"); bytes.Equal(a, b) || !bytes.Contains(a,
		mschap.UTF16("s.lodge")) {
		t.Error("the parameters do not go into the call")
	}
}

func TestPackets(t *testing.T) {
	fault := append(header(kindFault, 3, 1), make([]byte, 12)...)
	binary.LittleEndian.PutUint32(fault[24:], 0x721)
	var f Fault
	if _, err := ParseReply(fault); !errors.As(err, &f) || f != 0x721 || !strings.Contains(err.Error(),
		"secure channel") {
		t.Errorf("fault: %v", err)
	}
	for _, wrong := range [][]byte{nil, make([]byte, 23), header(kindRequest, 3, 1), append(header(kindFault, 3, 1),
		make([]byte, 8)...)} {
		if _, err := ParseReply(wrong); err == nil {
			t.Errorf("%x is a reply", wrong)
		}
	}
	ack := append(header(kindBindAck, 3, 1), 0xd0, 0x16, 0xd0, 0x16, 0, 0, 0, 0, 4, 0, '1', '3', '5', 0, 0, 0, 1, 0, 0,
		0, 0, 0, 0, 0)
	if err := Bound(ack); err != nil {
		t.Errorf("acknowledged: %v", err)
	}
	ack[36] = 2
	if err := Bound(ack); !errors.Is(err, errNak) {
		t.Errorf("refused: %v", err)
	}
	for _, wrong := range [][]byte{nil, header(kindBindNak, 3, 1), append(header(kindBindNak, 3, 1),
		make([]byte, 10)...), append(header(kindBindAck, 3, 1), 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff)} {
		if err := Bound(wrong); err == nil {
			t.Errorf("%x binds", wrong)
		}
	}
	for _, wrong := range [][]byte{nil, make([]byte, 16), {5, 0, 0, 0, 0, 0, 0, 0, 15, 0, 0, 0, 0, 0, 0, 0},
		{5, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 0, 0, 0, 0, 0, 0}} {
		if n, err := Size(wrong); err == nil {
			t.Errorf("%x has size %d", wrong, n)
		}
	}
}

func FuzzReplies(f *testing.F) {
	s := secrets()
	f.Add(NewChannel(s).Request(2, OpSamLogonEx, []byte("x")))
	f.Add(append(header(kindBindAck, 3, 1), 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff))
	f.Fuzz(func(t *testing.T, packet []byte) {
		Size(packet)
		Bound(packet)
		MapReply(packet)
		LogonReply(packet)
		ChallengeReply(packet)
		s.Authenticated(packet, [8]byte{})
		if r, err := ParseReply(packet); err == nil {
			NewChannel(s).Open(r)
		}
	})
}
