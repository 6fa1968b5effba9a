package mschap

import (
	"bytes"
	"encoding/hex"
	"strings"
	"testing"
)

func unhex(t testing.TB, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// The vectors of RFC 2759 section 9.2.
const (
	vectorPassword = "clientPass"
	vectorName     = "User"
)

var (
	vectorAuthenticator = "5B 5D 7C 7D 7B 3F 2F 3E 3C 2C 60 21 32 26 26 28"
	vectorPeer          = "21 40 23 24 25 5E 26 2A 28 29 5F 2B 3A 33 7C 7E"
)

func TestRFC2759(t *testing.T) {
	authenticator, peer := [16]byte(unhex(t, vectorAuthenticator)), [16]byte(unhex(t, vectorPeer))
	if got := Challenge(peer, authenticator, vectorName); !bytes.Equal(got[:], unhex(t, "D0 2E 43 86 BC E9 12 26")) {
		t.Errorf("challenge %x", got)
	}
	if Challenge(peer, authenticator, `LANTERN\User`) != Challenge(peer, authenticator, "User") {
		t.Error("the domain before the name goes into the challenge")
	}
	hash := NTHash(vectorPassword)
	if !bytes.Equal(hash[:], unhex(t, "44 EB BA 8D 53 12 B8 D6 11 47 44 11 F5 69 89 AE")) {
		t.Errorf("NT hash %x", hash)
	}
	again := hash.Again()
	if !bytes.Equal(again[:], unhex(t, "41 C0 0C 58 4B D2 D9 1C 40 17 A2 A1 2F A5 9F 3F")) {
		t.Errorf("hash of the hash %x", again)
	}
	response := hash.V2(peer, authenticator, vectorName)
	if !bytes.Equal(response[:], unhex(t, "82 30 9E CD 8D 70 8B 5E A0 8F AA 39 81 CD 83 54 42 33 11 4A 3D 85 D6 DF")) {
		t.Errorf("response %x", response)
	}
	if got := AuthenticatorResponse(again, response, peer, authenticator,
		vectorName); got != "S=407A5589115FD0D6209F510FE9C04566932CDA56" {
		t.Errorf("authenticator response %s", got)
	}
}

// The vectors of RFC 3079 section 3.5.3: the keys of the same exchange.
func TestRFC3079(t *testing.T) {
	authenticator, peer := [16]byte(unhex(t, vectorAuthenticator)), [16]byte(unhex(t, vectorPeer))
	hash := NTHash(vectorPassword)
	keys := KeysV2(hash.Again(), hash.V2(peer, authenticator, vectorName))
	if !bytes.Equal(keys.Send[:], unhex(t, "8B 7C DC 14 9B 99 3A 1B A1 18 CB 15 3F 56 DC CB")) {
		t.Errorf("send key %x", keys.Send)
	}
	msk := keys.MSK()
	if !bytes.Equal(msk[:16], keys.Receive[:]) || !bytes.Equal(msk[16:32], keys.Send[:]) || !bytes.Equal(msk[32:],
		make([]byte, 32)) {
		t.Errorf("MSK %x", msk)
	}
}

// The vector of RFC 2433 appendix B: MS-CHAPv1.
func TestRFC2433(t *testing.T) {
	got := NTHash("MyPw").V1([8]byte(unhex(t, "10 2D B5 DF 08 5D 30 41")))
	if !bytes.Equal(got[:], unhex(t, "4E 9D 3C 8F 9C FD 38 5D 5B F4 D3 24 67 91 95 6C A4 C3 51 AB 40 9A 3D 61")) {
		t.Errorf("response %x", got)
	}
}

func TestHashOfOtherScripts(t *testing.T) {
	if NTHash("pässwörd") == NTHash("password") || NTHash("𝄞") == NTHash("?") {
		t.Error("characters beyond ASCII are lost")
	}
}

func TestAttributesRoundTrip(t *testing.T) {
	r := Response{Identifier: 7, Flags: 0, Peer: [16]byte{1, 2, 3}, NT: [24]byte{9, 8, 7}}
	if got, err := ParseV2(r.V2()); err != nil || got != r {
		t.Errorf("v2: %v %v", got, err)
	}
	r = Response{Identifier: 7, Flags: 1, NT: [24]byte{9, 8, 7}}
	if got, err := ParseV1(r.V1()); err != nil || got != r {
		t.Errorf("v1: %v %v", got, err)
	}
	for _, n := range []int{0, 1, 49, 51} {
		if _, err := ParseV2(make([]byte, n)); err == nil {
			t.Errorf("%d octets are taken for a response", n)
		}
		if _, err := ParseV1(make([]byte, n)); err == nil {
			t.Errorf("%d octets are taken for a response", n)
		}
	}
}

func TestFailure(t *testing.T) {
	text := Failure(ErrorDisabled, [16]byte{0xab}, "account disabled")
	if text != "E=647 R=0 C=AB000000000000000000000000000000 V=3 M=account disabled" ||
		ParseFailure(text) != ErrorDisabled || ParseFailure("nothing") != 0 {
		t.Errorf("%q reads as %d", text, ParseFailure(text))
	}
}

func TestCHAP(t *testing.T) {
	if CHAP(1, "a", []byte("bc")) != CHAP(1, "ab", []byte("c")) || CHAP(1, "a", []byte("b")) == CHAP(2, "a",
		[]byte("b")) {
		t.Error("CHAP is not the MD5 of identifier, password and challenge in a row")
	}
}
