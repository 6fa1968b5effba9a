package record

import (
	"testing"
	"time"
)

// What is on the disk may be anything: it is read without a panic, and within bounds.
func FuzzBlock(f *testing.F) {
	p, err := newPacker()
	if err != nil {
		f.Fatal(err)
	}
	kind := visits(false)
	list := []*visit{{ID: 1 << 30, At: time.Unix(1, 0), Who: "ann", Tags: []string{"a", "b"}, Paper: []byte("x")},
		{ID: 1<<30 + 5, At: time.Unix(2, 0), Who: "ann", Sent: "ANN", Late: true}}
	e := newEncoder()
	b := encode(e, p, &kind, list)
	head, _ := plain(b.Head)
	f.Add(head, []byte("x"))
	f.Add([]byte{2, 7, 0xff, 0xff, 0xff, 0xff, 0x0f}, []byte{})
	f.Fuzz(func(_ *testing.T, head, body []byte) {
		b := Block{Head: p.blob(head, false), Body: p.blob(body, false)}
		_, _ = decode(&kind, &b, true)
		_, _ = plain(head)
		_ = decodeTerms(head, func(_, _ []byte) bool { return true })
		_, _ = decodePlaces(b.Head)
	})
}
