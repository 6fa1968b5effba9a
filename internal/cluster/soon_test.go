package cluster

import (
	"reflect"
	"testing"
	"time"
)

// What a node tells others comes as it was, and what comes may be anything.
func FuzzReadSayings(f *testing.F) {
	list := []Saying{{"password", []byte(`{"name":"k.nance"}`)}, {"", []byte{}}, {"sightings", make([]byte, 300)}}
	text := appendSayings(nil, list)
	if got, err := readSayings(text); err != nil || !reflect.DeepEqual(got, list) {
		f.Fatalf("%v, %v", got, err)
	}
	f.Add(text)
	f.Add(text[:len(text)-1])
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01})
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := readSayings(data)
		if err != nil || len(list) == 0 {
			return
		}
		again, err := readSayings(appendSayings(nil, list))
		if err != nil || !reflect.DeepEqual(again, list) {
			t.Errorf("%v is read as %v, %v", list, again, err)
		}
	})
}

// A node that answers, and cannot be told what it missed, is told after waits that grow, and not for ever.
func TestPausesGrow(t *testing.T) {
	var p pause
	before := time.Duration(0)
	for range 12 {
		began := time.Now()
		if p.next(began); p.wait < before || p.wait > longestPause || p.until.Sub(began) < p.wait {
			t.Fatalf("after %v comes %v", before, p.wait)
		}
		before = p.wait
	}
	if before != longestPause {
		t.Errorf("the longest is %v", before)
	}
	var slow pause
	if slow.next(time.Now().Add(-2 * time.Second)); slow.wait < 8*time.Second {
		t.Errorf("after two seconds in vain comes %v", slow.wait)
	}
}
