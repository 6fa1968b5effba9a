package cluster

import (
	"reflect"
	"testing"
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
