package radius

import (
	"bytes"
	"encoding/hex"
	"errors"
	"strings"
	"testing"
)

func octets(t testing.TB, text string) []byte {
	t.Helper()
	out, err := hex.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// The example of RFC 2865 section 7.1: user nemo, password arctangent, secret xyzzy5461.
const (
	exampleRequest = `01 00 00 38 0f 40 3f 94 73 97 80 57 bd 83 d5 cb 98 f4 22 7a 01 06 6e 65 6d 6f 02 12 0d be 70 8d
		93 d4 13 ce 31 96 e4 3f 78 2a 0a ee 04 06 c0 a8 01 10 05 06 00 00 00 03`
	exampleReply = `02 00 00 26 86 fe 22 0e 76 24 ba 2a 10 05 f6 bf 9b 55 e0 b2 06 06 00 00 00 01 0f 06 00 00 00 00 0e 06 c0 a8 01 03`
)

func TestRFC2865Example(t *testing.T) {
	key := NewKey([]byte("xyzzy5461"))
	p, err := Decode(octets(t, exampleRequest))
	if err != nil {
		t.Fatal(err)
	}
	if p.Code != AccessRequest || string(p.Get(UserName)) != "nemo" {
		t.Errorf("decoded %v of %q", p.Code, p.Get(UserName))
	}
	if port, ok := p.Integer(NASPort); !ok || port != 3 {
		t.Errorf("NAS-Port is %d, %v", port, ok)
	}
	clear, err := key.OpenPassword(nil, p.Get(UserPassword), p.Authenticator)
	if err != nil || string(clear) != "arctangent" {
		t.Errorf("password %q, %v", clear, err)
	}
	hidden, err := key.HidePassword([]byte("arctangent"), p.Authenticator)
	if err != nil || !bytes.Equal(hidden, p.Get(UserPassword)) {
		t.Errorf("hidden %x, %v", hidden, err)
	}
	b := begin(nil, AccessAccept, 0)
	b.AddInteger(ServiceType, 1)
	b.AddInteger(15, 0)
	b.Add(14, []byte{192, 168, 1, 3})
	reply, err := b.SignReply(key, p.Authenticator)
	if err != nil || !bytes.Equal(reply, octets(t, exampleReply)) {
		t.Errorf("reply %x, %v", reply, err)
	}
}

// The example of RFC 5997 section 6.1.
func TestRFC5997Example(t *testing.T) {
	p, err := Decode(octets(t,
		`0c da 00 26 8a 54 f4 68 6f b3 94 c5 28 66 e3 02 18 5d 06 23 50 12 5a 66 5e 2e 1e 84 11 f3 e2 43 82 20 97 c8 4f a3`))
	if err != nil {
		t.Fatal(err)
	}
	key := NewKey([]byte("xyzzy5461"))
	if p.Code != StatusServer || !key.VerifyMessageAuthenticator(&p) {
		t.Error("the Message-Authenticator of the example does not verify")
	}
	if NewKey([]byte("xyzzy5462")).VerifyMessageAuthenticator(&p) {
		t.Error("another secret verifies too")
	}
	reply, err := begin(nil, AccessAccept, 0xda).SignReply(key, p.Authenticator)
	if err != nil || !bytes.Equal(reply, octets(t, `02 da 00 14 ef 0d 55 2a 4b f2 d6 93 ec 2b 6f e8 b5 41 1d 66`)) {
		t.Errorf("reply %x, %v", reply, err)
	}
}

func TestReplyBeginsWithMessageAuthenticator(t *testing.T) {
	key := NewKey([]byte("quay-light"))
	request := [16]byte{1, 2, 3}
	for _, code := range []Code{AccessAccept, AccessReject, AccessChallenge} {
		b := NewReply(nil, code, 9)
		b.AddText(ReplyMessage, "hello")
		data, err := b.SignReply(key, request)
		if err != nil {
			t.Fatal(err)
		}
		if data[HeaderSize] != MessageAuthenticator {
			t.Errorf("%v begins with attribute %d", code, data[HeaderSize])
		}
		p, err := Decode(data)
		if err != nil {
			t.Fatal(err)
		}
		if err := key.VerifyReply(&p, request); err != nil {
			t.Errorf("%v does not verify: %v", code, err)
		}
		data[len(data)-1] ^= 1
		if err := key.VerifyReply(&p, request); !errors.Is(err, ErrReplyAuthenticator) {
			t.Errorf("a changed %v gives %v", code, err)
		}
	}
}

func TestReplyWithoutMessageAuthenticatorIsToldApart(t *testing.T) {
	key := NewKey([]byte("quay-light"))
	data, err := begin(nil, AccessAccept, 1).SignReply(key, [16]byte{})
	if err != nil {
		t.Fatal(err)
	}
	p, _ := Decode(data)
	if err := key.VerifyReply(&p, [16]byte{}); !errors.Is(err, ErrNoMessageAuth) {
		t.Errorf("got %v", err)
	}
}

func TestPasswordLengths(t *testing.T) {
	key := NewKey([]byte("a secret longer than one block of MD5, which has sixty-four octets, to be sure"))
	auth := [16]byte{7}
	for _, n := range []int{0, 1, 15, 16, 17, 31, 32, 127, 128} {
		clear := bytes.Repeat([]byte("x"), n)
		hidden, err := key.HidePassword(clear, auth)
		if err != nil || len(hidden)%16 != 0 {
			t.Fatalf("%d octets: %d, %v", n, len(hidden), err)
		}
		back, err := key.OpenPassword(nil, hidden, auth)
		if err != nil || !bytes.Equal(back, clear) {
			t.Errorf("%d octets come back as %q, %v", n, back, err)
		}
	}
	if _, err := key.HidePassword(make([]byte, 129), auth); err == nil {
		t.Error("129 octets are hidden")
	}
	hidden, _ := key.HidePassword([]byte("arctangent"), auth)
	if back, err := key.OpenPassword(nil, hidden[:10], auth); err != nil || string(back) != "arctangent" {
		t.Errorf("a value cut to its length gives %q, %v", back, err)
	}
	for _, bad := range [][]byte{nil, make([]byte, 129)} {
		if _, err := key.OpenPassword(nil, bad, auth); err == nil {
			t.Errorf("%d octets are opened", len(bad))
		}
	}
}

func TestDecodeRefuses(t *testing.T) {
	good := octets(t, exampleRequest)
	cases := map[string][]byte{
		"empty":                        {},
		"a header cut short":           good[:19],
		"a length beyond the packet":   append([]byte{1, 0, 0, 0x39}, good[4:]...),
		"a length below the header":    append([]byte{1, 0, 0, 19}, good[4:]...),
		"an attribute of length zero":  append(append([]byte{1, 0, 0, 22}, good[4:20]...), 1, 0),
		"an attribute of length one":   append(append([]byte{1, 0, 0, 22}, good[4:20]...), 1, 1),
		"an attribute past the end":    append(append([]byte{1, 0, 0, 22}, good[4:20]...), 1, 3),
		"half an attribute at the end": append(append([]byte{1, 0, 0, 21}, good[4:20]...), 1),
		"longer than allowed":          append([]byte{1, 0, 0x10, 0x01}, make([]byte, 4200)...),
	}
	for name, data := range cases {
		if _, err := Decode(data); err == nil {
			t.Errorf("%s is decoded", name)
		}
	}
	if p, err := Decode(append(good, 0, 0, 0)); err != nil || len(p.Raw()) != len(good) {
		t.Errorf("padding behind the length is not ignored: %v", err)
	}
}

func TestBuilderRefusesWhatDoesNotFit(t *testing.T) {
	b := NewReply(nil, AccessAccept, 1)
	for range 17 {
		b.Add(ReplyMessage, make([]byte, 253))
	}
	if _, err := b.SignReply(NewKey([]byte("x")), [16]byte{}); !errors.Is(err, ErrTooLong) {
		t.Errorf("4335 octets give %v", err)
	}
	b = NewReply(nil, AccessAccept, 1)
	b.Add(ReplyMessage, make([]byte, 254))
	if _, err := b.SignReply(NewKey([]byte("x")), [16]byte{}); err == nil {
		t.Error("an attribute of 254 octets is built")
	}
}

func TestMisshapenMessageAuthenticatorDoesNotVerify(t *testing.T) {
	key := NewKey([]byte("x"))
	for _, n := range []int{0, 15, 17} {
		b := begin(nil, AccessRequest, 1)
		b.Add(MessageAuthenticator, make([]byte, n))
		data, err := b.SignRequest(key)
		if err != nil {
			t.Fatal(err)
		}
		if p, err := Decode(data); err != nil || key.VerifyMessageAuthenticator(&p) {
			t.Errorf("%d octets verify (%v)", n, err)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(octets(f, exampleRequest))
	f.Add(octets(f, exampleReply))
	f.Add([]byte{1, 0, 0, 22, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 80, 18})
	key := NewKey([]byte("xyzzy5461"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Decode(data)
		if err != nil {
			return
		}
		total := HeaderSize
		for _, value := range p.Attributes() {
			total += 2 + len(value)
		}
		if total != len(p.Raw()) {
			t.Errorf("attributes take %d of %d octets", total, len(p.Raw()))
		}
		key.VerifyMessageAuthenticator(&p)
		key.OpenPassword(nil, p.Get(UserPassword), p.Authenticator)
		key.VerifyReply(&p, [16]byte{})
	})
}

func BenchmarkDecodeAndVerify(b *testing.B) {
	key := NewKey([]byte("quay-light-np-7F3q"))
	request := NewRequest(AccessRequest, 1, [16]byte{5}, true)
	request.AddText(UserName, "s.lodge")
	data, _ := request.SignRequest(key)
	b.ReportAllocs()
	for b.Loop() {
		p, err := Decode(data)
		if err != nil || !key.VerifyMessageAuthenticator(&p) {
			b.Fatal("does not verify")
		}
	}
}

func FuzzReadPacket(f *testing.F) {
	f.Add([]byte{1, 2, 0, 20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Add([]byte{1, 2, 0, 19})
	f.Fuzz(func(t *testing.T, data []byte) {
		packet, err := ReadPacket(bytes.NewReader(data), make([]byte, MaxSize))
		if err == nil && (len(packet) < HeaderSize || len(packet) > MaxSize || !bytes.HasPrefix(data, packet)) {
			t.Fatalf("%d octets of %d", len(packet), len(data))
		}
	})
}

// RADIUS/1.1 hides and signs nothing: no Message-Authenticator, no identifier, and a Token that the reply repeats.
func TestRADIUS11(t *testing.T) {
	k := NewClearKey()
	token := [16]byte{1, 2, 3, 4, 9, 9}
	b := NewRequest(AccessRequest, 7, token, true)
	hidden, err := k.HidePassword([]byte("gangway"), token)
	if err != nil || string(hidden) != "gangway" {
		t.Fatalf("%q, %v", hidden, err)
	}
	b.Add(UserPassword, hidden)
	b.AddMPPEKey(k, MSMPPESendKey, []byte("key"), token, [2]byte{1, 2})
	data, err := b.SignRequest(k)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Decode(data)
	if err != nil || p.Identifier != 0 || p.Has(MessageAuthenticator) || p.Token() != 0x01020304 ||
		p.Authenticator != [16]byte{1, 2, 3, 4} || string(p.Get(UserPassword)) != "gangway" {
		t.Fatalf("%+v, %v", p, err)
	}
	if key, err := k.OpenMPPEKey(p.Vendor(Vendor2548, MSMPPESendKey), token); err != nil || string(key) != "key" {
		t.Errorf("%q, %v", key, err)
	}
	reply := NewReply(nil, AccessAccept, p.Identifier)
	reply.AddText(ReplyMessage, "aye")
	data, err = reply.SignReply(k, p.Authenticator)
	if err != nil {
		t.Fatal(err)
	}
	q, err := Decode(data)
	if err != nil || q.Has(MessageAuthenticator) || k.VerifyReply(&q, p.Authenticator) != nil ||
		k.VerifyReply(&q, [16]byte{1, 2, 3, 5}) == nil {
		t.Errorf("%+v, %v", q, err)
	}
	fixed, err := NewRequest(AccountingRequest, 1, token, false).SignFixed(k)
	if p, _ := Decode(fixed); err != nil || p.Token() != 0x01020304 || !k.VerifyFixed(&p) {
		t.Errorf("accounting: %x, %v", fixed, err)
	}
}
