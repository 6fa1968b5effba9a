package facts

import (
	"encoding/json"
	"reflect"
	"testing"
)

// read fails if the two decoders give different values, or if the fast one was not enough.
func read(t *testing.T, b []byte) {
	t.Helper()
	var got, want Facts
	fast, slow := got.ParseJSON(b), json.Unmarshal(b, &want)
	if (fast == nil) != (slow == nil) || slow == nil && !reflect.DeepEqual(got, want) {
		t.Errorf("%s\nread as  %+v, %v\nwanted %+v, %v", b, got, fast, want, slow)
	}
}

func TestParseJSONIsWhatTheStandardDecoderGives(t *testing.T) {
	for _, f := range []*Facts{full("plain"), full("quo\"te \\ back\nline \u2028 ü \xff <&>"), {}, {Person: &Person{}},
		{Person: &Person{Domain: "LANTERN", Attributes: map[string][]string{"a": {}}}}} {
		b := f.AppendJSON(nil)
		read(t, b)
		var own Facts
		r := &reader{b: b}
		if r.facts(&own); r.bad || r.i != len(b) {
			t.Errorf("left to the standard decoder: %s", b)
		}
		for i := range b { // cut anywhere, or with an octet changed
			read(t, b[:i])
			changed := append([]byte(nil), b...)
			changed[i] ^= 1
			read(t, changed)
		}
	}
	for _, text := range []string{"", "{}", " { } ", `{"AT":"2026-11-23T09:05:02Z"}`, `{"sent":null}`,
		`{"spent":{"client":01}}`, `{"spent":{"client":1e3}}`, `{"person":null}`, `{"unknown":[{"a":"}"}]}`,
		`{"sent":"a","sent":"b"}`,
		`{"person":{"groups":null}}`, `[]`, `{"attributes":[]}`, `{"sent":"\ud800"}`} {
		read(t, []byte(text))
	}
}

func FuzzParseJSON(f *testing.F) {
	f.Add(full("x").AppendJSON(nil))
	f.Add([]byte(`{"sent":"\u00e9","person":{"attributes":{"a":["b"]}}}`))
	f.Fuzz(func(t *testing.T, b []byte) { read(t, b) })
}

func BenchmarkParseJSON(b *testing.B) {
	text := full("x").AppendJSON(nil)
	var f Facts
	for b.Loop() {
		if err := f.ParseJSON(text); err != nil {
			b.Fatal(err)
		}
	}
}
