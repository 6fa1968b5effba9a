package eap

import (
	"bytes"
	"testing"

	"tollgate.example/key/internal/wire/mschap"
)

func TestPackets(t *testing.T) {
	for _, p := range []Packet{{Request, 1, Identity, nil}, {Response, 255, Identity, []byte("s.lodge")},
		{Response, 3, Nak, []byte{25, 21}}, {Success, 4, None, nil}, {Failure, 5, None, nil}} {
		got, err := Decode(append(p.Encode(), "padding"...))
		if err != nil || got.Code != p.Code || got.Identifier != p.Identifier || got.Type != p.Type ||
			!bytes.Equal(got.Data, p.Data) {
			t.Errorf("%v came back as %v: %v", p, got, err)
		}
	}
	for _, wrong := range [][]byte{nil, {2, 1, 0}, {2, 1, 0, 4}, {2, 1, 0, 9, 1}, {9, 1, 0, 5, 1}, {2, 1, 0, 3, 1}} {
		if p, err := Decode(wrong); err == nil {
			t.Errorf("%x is taken for %v", wrong, p)
		}
	}
	if got := (Packet{Data: []byte{0, 25, 0, 13}}).Wanted(); len(got) != 2 || got[0] != PEAP || got[1] != TLS {
		t.Errorf("wanted %v", got)
	}
	if got := (Packet{Data: bytes.Repeat([]byte{1}, 200)}).Wanted(); len(got) != 8 {
		t.Errorf("a Nak of 200 methods gives %d", len(got))
	}
}

func TestFragmentsRoundTrip(t *testing.T) {
	for _, size := range []int{1, 10, 999, 1000, 1001, 5000} {
		message := bytes.Repeat([]byte("lantern"), 300)
		out, in := NewOutgoing(message), Assembly{}
		var whole []byte
		for n := 0; whole == nil; n++ {
			f := out.Next(size)
			if f.More != (out.Left() > 0) || n > 0 && f.Total != 0 {
				t.Fatalf("fragment %d of size %d: %+v", n, size, f)
			}
			parsed, err := ParseFragment(f.Append(nil))
			if err != nil {
				t.Fatal(err)
			}
			if whole, err = in.Add(parsed); err != nil {
				t.Fatal(err)
			}
		}
		if !bytes.Equal(whole, message) {
			t.Errorf("size %d: %d octets came back of %d", size, len(whole), len(message))
		}
	}
	f := Fragment{Version: 1, Start: true, Outer: []byte{0, 1, 0, 1, 7}, Data: []byte("x")}
	if got, err := ParseFragment(f.Append(nil)); err != nil || !bytes.Equal(got.Outer, f.Outer) ||
		string(got.Data) != "x" || !got.Start || got.Version != 1 {
		t.Errorf("outer TLVs: %+v %v", got, err)
	}
}

func TestHostileFragments(t *testing.T) {
	for _, wrong := range [][]byte{nil, {0x80}, {0x80, 0, 0, 1}, {0x80, 0xff, 0xff, 0xff, 0xff}, {0x10, 0, 0, 0, 9, 1},
		{0x10, 0xff, 0xff, 0xff, 0xff, 1}} {
		if f, err := ParseFragment(wrong); err == nil {
			t.Errorf("%x gives %+v", wrong, f)
		}
	}
	var a Assembly
	if _, err := a.Add(Fragment{More: true, Total: 5, Data: []byte("123456")}); err == nil {
		t.Error("more octets than announced are taken")
	}
	a = Assembly{}
	a.Add(Fragment{More: true, Total: 50, Data: []byte("123")})
	if _, err := a.Add(Fragment{Data: []byte("45")}); err == nil {
		t.Error("fewer octets than announced are taken")
	}
	a = Assembly{}
	var err error
	for range 200 {
		if _, err = a.Add(Fragment{More: true, Data: make([]byte, 1000)}); err != nil {
			break
		}
	}
	if err != ErrTooLong {
		t.Errorf("a message without end: %v", err)
	}
	if _, err := (&Assembly{}).Add(Fragment{More: true}); err == nil {
		t.Error("empty fragments may go on without end")
	}
}

func TestExchanges(t *testing.T) {
	for _, x := range []Exchange{
		{Opcode: OpChallenge, Identifier: 3, Challenge: [16]byte{1, 2}, Text: "tollgate"},
		{Opcode: OpResponse, Identifier: 3, Response: mschap.Response{Peer: [16]byte{3}, NT: [24]byte{4}},
			Text: `LANTERN\s.lodge`},
		{Opcode: OpSuccess, Identifier: 3, Text: "S=00 M=OK"}, {Opcode: OpFailure, Identifier: 3, Text: "E=691 R=0"},
	} {
		got, err := ParseExchange(x.Append(nil))
		if err != nil || got != x {
			t.Errorf("%+v came back as %+v: %v", x, got, err)
		}
	}
	if x, err := ParseExchange([]byte{3}); err != nil || x.Opcode != OpSuccess {
		t.Errorf("an acknowledgement: %v %v", x, err)
	}
	for _, wrong := range [][]byte{nil, {1}, {2, 1, 0, 4}, {1, 1, 0, 5, 16}, {1, 1, 0, 9, 1, 2, 3, 4, 5}, {3, 1, 0}} {
		if x, err := ParseExchange(wrong); err == nil {
			t.Errorf("%x gives %+v", wrong, x)
		}
	}
}

func TestTLVsAndAVPs(t *testing.T) {
	row := Number(TLVResult, ResultSuccess).Append(nil)
	row = TLV{Type: 12, Value: []byte("abc")}.Append(row)
	list, err := ParseTLVs(row)
	if err != nil || len(list) != 2 || list[0].Number() != 1 || !list[0].Mandatory || list[1].Mandatory ||
		string(list[1].Value) != "abc" || list[1].Number() != 0 {
		t.Errorf("%v %v", list, err)
	}
	for _, wrong := range [][]byte{{0}, {0, 3, 0, 9, 1}, bytes.Repeat([]byte{0, 1, 0, 0}, 65)} {
		if list, err := ParseTLVs(wrong); err == nil {
			t.Errorf("%d octets give %d TLVs", len(wrong), len(list))
		}
	}
	pairs := AVP{Code: 1, Mandatory: true, Value: []byte("s.lodge")}.Append(nil)
	pairs = AVP{Code: 25, Vendor: 311, Value: []byte("x")}.Append(pairs)
	if len(pairs)%4 != 0 {
		t.Errorf("%d octets are not padded to four", len(pairs))
	}
	var got []AVP
	for a, err := range AVPs(pairs[:len(pairs)-3]) { // the last one's padding may be missing
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, a)
	}
	if len(got) != 2 || string(got[0].Value) != "s.lodge" || got[1].Vendor != 311 || string(got[1].Value) != "x" {
		t.Errorf("%+v", got)
	}
	for _, wrong := range [][]byte{{0, 0, 0, 1}, {0, 0, 0, 1, 0, 0, 0, 7}, {0, 0, 0, 1, 0, 0, 0, 20, 1},
		{0, 0, 0, 1, 0x80, 0, 0, 9, 1, 2, 3, 4}} {
		bad := false
		for _, err := range AVPs(wrong) {
			bad = bad || err != nil
		}
		if !bad {
			t.Errorf("%x is taken", wrong)
		}
	}
}

func TestBindings(t *testing.T) {
	k := NewPEAPKeys(bytes.Repeat([]byte{1}, 64), bytes.Repeat([]byte{2}, 32), false)
	tlv := k.TLV(Binding{Nonce: [32]byte{7}})
	if b, err := k.Open(tlv); err != nil || b.Nonce[0] != 7 || b.Response {
		t.Errorf("%+v %v", b, err)
	}
	tlv.Value[5] ^= 1
	if _, err := k.Open(tlv); err == nil {
		t.Error("a changed nonce verifies")
	}
	other := NewPEAPKeys(bytes.Repeat([]byte{1}, 64), bytes.Repeat([]byte{3}, 32), false)
	if _, err := other.Open(k.TLV(Binding{})); err == nil {
		t.Error("another inner key verifies")
	}
	if k.MSK() == other.MSK() {
		t.Error("the inner key does not go into the MSK")
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(Packet{Response, 1, PEAP, []byte{0x80, 0, 0, 0, 9, 1}}.Encode())
	f.Add(Exchange{Opcode: OpResponse, Text: "x"}.Append(nil))
	f.Add(AVP{Code: 1, Vendor: 311, Value: []byte("x")}.Append(nil))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, err := Decode(data); err == nil {
			p.Wanted()
			Value(p.Data)
		}
		ParseFragment(data)
		ParseExchange(data)
		ParseTLVs(data)
		for range AVPs(data) {
		}
		new(Assembly).Add(Fragment{Data: data})
	})
}
