package presence

import (
	"fmt"
	"net/netip"
	"runtime"
	"testing"
	"time"
)

func address(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})
}

// full is a book with many people at one address each, who are known by their devices and sessions.
func full(entries int) *Book {
	b := NewBook()
	from := Origin{Source: "sessions", Way: "session", Trust: 2, Role: "crew"}
	var changes []Change
	for i := range entries {
		s := Sighting{ID: int64(i + 1), At: noon, Kind: SignedIn, Origin: from, Who: fmt.Sprintf("person-%d", i),
			Ref: fmt.Sprintf("client-1 %08x", i), Address: address(i), MAC: MAC(i + 1), Until: noon.Add(time.Hour)}
		touched, err := b.Apply(&s)
		if err != nil {
			panic(err)
		}
		for _, a := range touched {
			changes = b.Settle(a, noon, changes[:0])
		}
	}
	return b
}

func BenchmarkMemory(b *testing.B) {
	for b.Loop() {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		book := full(1_000_000)
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/1e6, "MB/million")
		runtime.KeepAlive(book)
	}
}

func BenchmarkAt(b *testing.B) {
	book := full(1_000_000)
	i := 0
	for b.Loop() {
		if _, _, ok := book.At(address(i*7919%1_000_000), 443); !ok {
			b.Fatal("nobody is there")
		}
		i++
	}
}

func BenchmarkStill(b *testing.B) {
	book := full(100_000)
	from := Origin{Source: "sessions", Way: "session", Trust: 2, Role: "crew"}
	i := 0
	var changes []Change
	for b.Loop() {
		n := i * 7919 % 100_000
		i++
		s := Sighting{ID: int64(i + 2_000_000), At: noon.Add(time.Minute), Kind: Still, Origin: from,
			Who: fmt.Sprintf(
				"person-%d",
				n,
			), Ref: fmt.Sprintf("client-1 %08x", n), Address: address(n), MAC: MAC(n + 1),
			Until: noon.Add(2 * time.Hour)}
		touched, _ := book.Apply(&s)
		for _, a := range touched {
			changes = book.Settle(a, s.At, changes[:0])
		}
	}
}
