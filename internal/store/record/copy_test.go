package record

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"reflect"
	"slices"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
)

func some(n int, from int) (list []*visit) {
	at := time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC)
	for i := range n {
		list = append(list, &visit{At: at.Add(time.Duration(from+i) * time.Second),
			Who:  fmt.Sprintf("p%d", (from+i)%50),
			Gate: "north", Count: int64(from + i), Paper: fmt.Appendf(nil, "paper %d", from+i)})
	}
	return list
}

// A copy that is fed with each batch, after it was brought up to what there was before, is the same, whatever is tidied
// on either side; and so it is after it was opened again.
func TestACopyIsTheSame(t *testing.T) {
	ctx := context.Background()
	k := openVisits(t, t.TempDir(), true, Retention{})
	dir := t.TempDir()
	kind, told := visits(true), 0
	kind.Written = func(list []*visit) { told += len(list) }
	copies, err := OpenCopies(ctx, dir, kind, Retention{})
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range some(segmentSize+700, 0) {
		k.Add(v)
	}
	k.Flush(ctx)
	from, err := k.Copying()
	if err != nil {
		t.Fatal(err)
	}
	last, more := ident.ID(0), true
	for more {
		var blocks []Block
		if blocks, more, err = from.After(ctx, last, 3000); err != nil {
			t.Fatal(err)
		}
		if last, err = copies.Adopt(ctx, 3, blocks, false); err != nil {
			t.Fatal(err)
		}
	}
	if last != k.Last() || !copies.Until(3).IsZero() {
		t.Fatalf("the copy goes up to %s of %s; whole at %v", last, k.Last(), copies.Until(3))
	}
	k.CopyTo(func(blocks []Block, then func()) {
		sent, err := ReadBlocks(AppendBlocks(nil, blocks))
		if err == nil {
			_, err = copies.Adopt(ctx, 3, sent, true)
		}
		if err == nil { // what comes twice is there once
			_, err = copies.Adopt(ctx, 3, sent, true)
		}
		if err != nil {
			t.Error(err)
		}
		then()
	})
	for i := range 300 {
		if err := k.Record(ctx, some(1, 20_000+i)[0]); err != nil {
			t.Fatal(err)
		}
	}
	k.Flush(ctx)
	want := everything(t, k)
	if got := everything(t, copies.Of(3)); !reflect.DeepEqual(got, want) {
		t.Errorf("%d records instead of %d, or others", len(got), len(want))
	}
	if told != len(want) {
		t.Errorf("told of %d instead of %d", told, len(want))
	}
	if n := copies.Of(3).Len(); n != int64(len(want)) || copies.Until(3).IsZero() {
		t.Errorf("%d records; whole at %v", n, copies.Until(3))
	}
	if err := copies.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := copies.Adopt(ctx, 3, nil, false); !errors.Is(err, ErrClosed) {
		t.Errorf("after the end: %v", err)
	}
	if copies, err = OpenCopies(ctx, dir, visits(true), Retention{}); err != nil {
		t.Fatal(err)
	}
	defer copies.Close()
	found := func(who string) (out []int64) {
		c := like("who", who, func(v *visit) string { return v.Who })
		page, err := copies.Of(3).List(ctx, Query[visit]{Conditions: []Condition[visit]{c}, Limit: 10_000})
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range page.Items {
			out = append(out, v.Count)
		}
		return out
	}
	if !slices.Equal(copies.Nodes(), []int{3}) || !reflect.DeepEqual(everything(t, copies.Of(3)), want) ||
		len(found("p7")) != (segmentSize+700+42)/50+6 {
		t.Errorf("opened again: nodes %v, %d of p7", copies.Nodes(), len(found("p7")))
	}
}

// Whoever waits for a record is told when the copy is made, and not before; and told, whatever comes of it, before the
// keeper is closed.
func TestWhoWaitsIsToldAfterTheCopy(t *testing.T) {
	ctx := context.Background()
	k := openVisits(t, t.TempDir(), true, Retention{})
	var mu sync.Mutex
	var held []func()
	came := make(chan struct{}, 10)
	k.CopyTo(func(_ []Block, then func()) {
		mu.Lock()
		held = append(held, then)
		mu.Unlock()
		came <- struct{}{}
	})
	told := make(chan error, 1)
	go func() { told <- k.Record(ctx, some(1, 0)[0]) }()
	<-came
	if page, err := k.List(ctx, Query[visit]{Limit: 10}); err != nil || len(page.Items) != 1 {
		t.Errorf("it is not committed here: %v, %v", page.Items, err)
	}
	select {
	case err := <-told:
		t.Fatalf("told before the copy was made: %v", err)
	case <-time.After(50 * time.Millisecond):
	}
	closed := make(chan error, 1)
	go func() { closed <- k.Close() }()
	select {
	case <-closed:
		t.Fatal("closed while somebody waits")
	case <-time.After(50 * time.Millisecond):
	}
	held[0]()
	if err := <-told; err != nil {
		t.Error(err)
	}
	if err := <-closed; err != nil {
		t.Error(err)
	}
}

// What a copy is not, is refused, and changes nothing.
func TestWhatIsNoCopyIsRefused(t *testing.T) {
	ctx := context.Background()
	k, copied := openVisits(t, t.TempDir(), true, Retention{}), openVisits(t, t.TempDir(), true, Retention{})
	for _, v := range some(300, 0) {
		k.Add(v)
	}
	k.Flush(ctx)
	from, err := k.Copying()
	if err != nil {
		t.Fatal(err)
	}
	blocks, _, err := from.After(ctx, 0, 1000)
	if err != nil || len(blocks) != 3 {
		t.Fatalf("%d blocks, %v", len(blocks), err)
	}
	if _, err := copied.Adopt(ctx, blocks[:1]); err != nil {
		t.Fatal(err)
	}
	with := func(change func(b *Block)) []Block {
		b := blocks[1]
		b.Head, b.Body = bytes.Clone(b.Head), bytes.Clone(b.Body)
		change(&b)
		return []Block{b}
	}
	overlapping := func() []Block {
		list, _, err := from.After(ctx, blocks[0].Last-1<<22, 1000)
		if err != nil || list[0].ID > blocks[0].Last {
			t.Fatalf("%v, %v", list[0].ID, err)
		}
		return list
	}
	for name, list := range map[string][]Block{
		"damaged":         with(func(b *Block) { b.Head[len(b.Head)-1] ^= 1 }),
		"another body":    with(func(b *Block) { b.Body[len(b.Body)-1] ^= 1 }),
		"fewer":           with(func(b *Block) { b.N-- }),
		"another first":   with(func(b *Block) { b.ID-- }),
		"another last":    with(func(b *Block) { b.Last++ }),
		"another time":    with(func(b *Block) { b.Since += 1e6 }),
		"an earlier time": with(func(b *Block) { b.Until -= 1e6 }),
		"none":            {{ID: 5, Last: 5}},
		"out of order":    {blocks[2], blocks[1]},
		"twice":           {blocks[1], blocks[1]},
		"an overlap":      overlapping(),
		"one bad of two":  append(with(func(*Block) {}), with(func(b *Block) { b.N++ })...),
	} {
		if _, err := copied.Adopt(ctx, list); !errors.Is(err, ErrCopy) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if copied.Len() != 100 || copied.Last() != blocks[0].Last {
		t.Errorf("%d records up to %s", copied.Len(), copied.Last())
	}
	if last, err := copied.Adopt(ctx, blocks); err != nil || last != k.Last() {
		t.Errorf("the rest: %s, %v", last, err)
	}
}

// What another node sends may be anything.
func FuzzReadBlocks(f *testing.F) {
	k := openVisits(f, f.TempDir(), true, Retention{})
	for _, v := range some(200, 0) {
		k.Add(v)
	}
	k.Flush(context.Background())
	from, err := k.Copying()
	if err != nil {
		f.Fatal(err)
	}
	blocks, _, err := from.After(context.Background(), 0, 1000)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(AppendBlocks(nil, blocks))
	f.Add(AppendBlocks(nil, []Block{{ID: 1, Last: 9, N: 3, Since: -4, Until: 8}}))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) >= 4 { // the checksum is no obstacle to whoever wants to harm
			data = binary.BigEndian.AppendUint32(data[:len(data)-4:len(data)-4],
				crc32.Checksum(data[:len(data)-4], castagnoli))
		}
		read, err := ReadBlocks(data)
		if err == nil && len(read) > 0 {
			again, err := ReadBlocks(AppendBlocks(nil, read))
			if err != nil || !reflect.DeepEqual(again, read) {
				t.Errorf("%v is read as %v, %v", read, again, err)
			}
		}
		for i := range read {
			_, _ = k.verify(&read[i])
		}
	})
}

// A record that is copied costs this much at the other node, beside the disk.
func BenchmarkAdopt(b *testing.B) {
	ctx := context.Background()
	k := openVisits(b, b.TempDir(), false, Retention{})
	for _, v := range some(1<<14, 0) {
		k.Add(v)
	}
	k.Flush(ctx)
	from, err := k.Copying()
	if err != nil {
		b.Fatal(err)
	}
	blocks, _, err := from.After(ctx, 0, 1<<14)
	if err != nil {
		b.Fatal(err)
	}
	n := 0
	for b.Loop() {
		b.StopTimer()
		copied := openVisits(b, b.TempDir(), false, Retention{})
		b.StartTimer()
		for part := range slices.Chunk(blocks, 16) {
			if _, err := copied.Adopt(ctx, part); err != nil {
				b.Fatal(err)
			}
			n += 1 << 11
		}
		copied.Flush(ctx)
		b.StopTimer()
		copied.Close()
		b.StartTimer()
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(n), "ns/record")
}

// What is packed comes as it was, without identifiers too.
func TestPack(t *testing.T) {
	kind, list := visits(false), some(300, 0)
	list[7].At = list[7].At.Add(-time.Hour)
	data, err := Pack(&kind, list)
	if err != nil {
		t.Fatal(err)
	}
	got, err := Unpack(&kind, data)
	if err != nil || len(got) != len(list) {
		t.Fatalf("%d, %v", len(got), err)
	}
	for i := range got {
		if got[i].At = got[i].At.UTC(); !reflect.DeepEqual(&got[i], list[i]) {
			t.Fatalf("%+v is %+v", list[i], got[i])
		}
	}
	data[len(data)/2] ^= 1
	if _, err := Unpack(&kind, data); err == nil {
		t.Error("what is damaged is unpacked")
	}
}
