package presence

import (
	"math/rand/v2"
	"testing"
)

// An index finds what a map finds, whatever is added and removed, also where many hashes are nearly the same.
func TestIndexAgainstAMap(t *testing.T) {
	type thing struct{ key uint64 }
	for name, hash := range map[string]func(uint64) uint64{
		"even": func(k uint64) uint64 { return k * 0x9e3779b97f4a7c15 },
		"near": func(k uint64) uint64 { return k % 7 << 40 },
		"same": func(uint64) uint64 { return 0 },
		"last": func(k uint64) uint64 { return ^uint64(0) - k%3<<33 },
	} {
		x, known := newIndex(func(o *thing) uint64 { return hash(o.key) }), map[uint64]*thing{}
		random := rand.New(rand.NewPCG(1, 2))
		for step := range 60_000 {
			key, many := random.Uint64N(600), step/10_000%2 == 0 // it fills, and empties
			have := x.find(hash(key), func(o *thing) bool { return o.key == key })
			if have != known[key] {
				t.Fatalf("%s: %d is %v after %d steps, want %v", name, key, have, step, known[key])
			}
			switch {
			case have == nil && (many || random.IntN(4) == 0):
				known[key] = &thing{key}
				x.add(hash(key), known[key])
			case have != nil && !many:
				x.remove(have)
				x.remove(have) // which is not there any more
				delete(known, key)
			}
		}
		n := 0
		for o := range x.each {
			if n++; known[o.key] != o {
				t.Errorf("%s: %d is gone through, and not there", name, o.key)
			}
		}
		if n != len(known) || x.n != n {
			t.Errorf("%s: %d are gone through and %d counted of %d", name, n, x.n, len(known))
		}
	}
}
