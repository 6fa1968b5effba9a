package tacacs

import (
	"bytes"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"reflect"
	"testing"
)

func octets(t *testing.T, text string) []byte {
	t.Helper()
	out, err := hex.DecodeString(text)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// The bodies are written by hand from the figures of RFC 8907 sections 5 to 7.
func TestBodiesAreLaidOutAsTheStandardDrawsThem(t *testing.T) {
	start := Start{Action: Login, Level: 1, Kind: PAP, Service: ServiceLogin, User: []byte("ann"),
		Port: []byte("tty0"), Remote: []byte("192.0.2.9"), Data: []byte("pw")}
	for _, c := range []struct {
		name  string
		bytes string
		body  interface{ Append([]byte) []byte }
		parse func([]byte) (any, error)
	}{
		{"START", "01010201" + "03040902" + "616e6e" + "74747930" + "3139322e302e322e39" + "7077", &start,
			func(b []byte) (any, error) { s, err := ParseStart(b); return &s, err }},
		{"REPLY", "05010004" + "0000" + "50617373", &AuthenReply{Status: AuthenGetPass, Flags: NoEcho,
			Message: []byte("Pass"), Data: []byte{}}, func(b []byte) (any, error) {
			a, err := ParseAuthenReply(b)
			return &a, err
		}},
		{"CONTINUE", "0002" + "0000" + "00" + "7077", &Continue{Message: []byte("pw"), Data: []byte{}},
			func(b []byte) (any, error) { c, err := ParseContinue(b); return &c, err }},
		{"author REQUEST", "060f0101" + "03000002" + "0d08" + "616e6e" + "736572766963653d7368656c6c" +
			"636d643d73686f77",
			&Request{Method: MethodTACACS, Level: 15, Kind: ASCII, Service: ServiceLogin, User: []byte("ann"),
				Port: []byte{}, Remote: []byte{}, Args: [][]byte{[]byte("service=shell"), []byte("cmd=show")}},
			func(b []byte) (any, error) { q, err := ParseRequest(b); return &q, err }},
		{"author REPLY", "0101" + "0000" + "0000" + "0b" + "707269762d6c766c3d3135", &AuthorReply{Status: AuthorAdd,
			Message: []byte{}, Data: []byte{}, Args: [][]byte{[]byte("priv-lvl=15")}},
			func(b []byte) (any, error) { a, err := ParseAuthorReply(b); return &a, err }},
		{"acct REQUEST", "02" + "06010101" + "03000001" + "09" + "616e6e" + "7461736b5f69643d37",
			&Record{Flags: FlagStart, Request: Request{Method: MethodTACACS, Level: 1, Kind: ASCII,
				Service: ServiceLogin, User: []byte("ann"), Port: []byte{}, Remote: []byte{},
				Args: [][]byte{[]byte("task_id=7")}}},
			func(b []byte) (any, error) { a, err := ParseRecord(b); return &a, err }},
		{"acct REPLY", "0000" + "0000" + "01", &AcctReply{Status: AcctSuccess, Message: []byte{}, Data: []byte{}},
			func(b []byte) (any, error) { a, err := ParseAcctReply(b); return &a, err }},
	} {
		want := octets(t, c.bytes)
		if got := c.body.Append(nil); !bytes.Equal(got, want) {
			t.Errorf("%s: %x, want %x", c.name, got, want)
		}
		got, err := c.parse(want)
		if err != nil || !reflect.DeepEqual(got, c.body) {
			t.Errorf("%s: parsed %+v (%v), want %+v", c.name, got, err, c.body)
		}
		for cut := range want { // half a packet, and one octet too many
			if _, err := c.parse(want[:cut]); !errors.Is(err, ErrShape) {
				t.Errorf("%s cut to %d octets: %v", c.name, cut, err)
			}
		}
		if _, err := c.parse(append(want, 0)); !errors.Is(err, ErrShape) {
			t.Errorf("%s with an octet too many: %v", c.name, err)
		}
	}
}

func TestHeader(t *testing.T) {
	h := Header{Version: VersionOne, Type: Authentication, Seq: 1, Flags: Single, Session: 0xdeadbeef, Length: 5}
	raw := [HeaderSize]byte(octets(t, "c1010104"+"deadbeef"+"00000005"))
	if got := h.Append(nil); !bytes.Equal(got, raw[:]) {
		t.Errorf("header %x", got)
	}
	if got, err := ParseHeader(&raw); err != nil || got != h {
		t.Errorf("parsed %+v, %v", got, err)
	}
	for _, c := range []struct {
		at    int
		value byte
		want  error
	}{{0, 0xb0, ErrVersion}, {1, 4, ErrType}, {1, 0, ErrType}, {9, 2, ErrLength}} {
		bad := raw
		bad[c.at] = c.value
		if _, err := ParseHeader(&bad); !errors.Is(err, c.want) {
			t.Errorf("octet %d = %d: %v", c.at, c.value, err)
		}
	}
}

// Section 4.5: pad_1 is the MD5 of session, key, version and sequence number; pad_n that with pad_n-1 behind it.
func TestBodiesAreHiddenByTheChainOfPads(t *testing.T) {
	key := []byte("quay")
	first := md5.Sum(append(octets(t, "01020304"), append([]byte("quay"), 0xc0, 3)...))
	second := md5.Sum(append(append(octets(t, "01020304"), append([]byte("quay"), 0xc0, 3)...), first[:]...))
	want := append(first[:], second[:4]...)
	h := Header{Version: VersionDefault, Seq: 3, Session: 0x01020304}
	body := make([]byte, 20)
	h.Obfuscate(body, key)
	if !bytes.Equal(body, want) {
		t.Errorf("pads %x, want %x", body, want)
	}
	h.Obfuscate(body, key)
	if !bytes.Equal(body, make([]byte, 20)) {
		t.Error("obfuscating twice does not show the body again")
	}
	plain := h.Packet([]byte("hello"), nil)
	if plain[3]&Plain == 0 || !bytes.HasSuffix(plain, []byte("hello")) {
		t.Errorf("a plain packet is %x", plain)
	}
	if n := testing.AllocsPerRun(100, func() { h.Obfuscate(body, key) }); n != 0 {
		t.Errorf("obfuscating allocates %v times", n)
	}
}

func TestArgumentsAreSplitAtTheFirstSign(t *testing.T) {
	for arg, want := range map[string]string{"cmd=show": "cmd|show|false", "idletime*5": "idletime|5|true",
		"a=b*c": "a|b*c|false", "a*b=c": "a|b=c|true", "cmd=": "cmd||false"} {
		name, value, optional, ok := SplitArg([]byte(arg))
		got := string(name) + "|" + string(value) + "|" + map[bool]string{true: "true", false: "false"}[optional]
		if !ok || got != want {
			t.Errorf("%q: %s, %v", arg, got, ok)
		}
	}
	for _, arg := range []string{"", "=x", "*x", "cmd", "cmd=a\nb", "cmd=\x7f"} {
		if _, _, _, ok := SplitArg([]byte(arg)); ok {
			t.Errorf("%q is taken for an argument", arg)
		}
	}
}

func FuzzBodies(f *testing.F) {
	s := Start{Action: Login, Kind: ASCII, User: []byte("a")}
	f.Add(s.Append(nil))
	q := Request{User: []byte("a"), Args: [][]byte{[]byte("cmd=x")}}
	f.Add(q.Append(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		again := func(name string, err error, made []byte) {
			if err == nil && !bytes.Equal(made, b) {
				t.Errorf("%s: %x written again is %x", name, b, made)
			}
		}
		a, err := ParseStart(b)
		again("START", err, a.Append(nil))
		r, err := ParseAuthenReply(b)
		again("REPLY", err, r.Append(nil))
		c, err := ParseContinue(b)
		again("CONTINUE", err, c.Append(nil))
		q, err := ParseRequest(b)
		again("REQUEST", err, q.Append(nil))
		ar, err := ParseAuthorReply(b)
		again("author REPLY", err, ar.Append(nil))
		rec, err := ParseRecord(b)
		again("record", err, rec.Append(nil))
		k, err := ParseAcctReply(b)
		again("acct REPLY", err, k.Append(nil))
		SplitArg(b)
	})
}
