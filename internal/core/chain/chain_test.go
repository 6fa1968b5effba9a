package chain

import (
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
)

// exported makes the rows of a file.
func exported(n int) []Row {
	var out []Row
	var hash Sum
	for i := 1; i <= n; i++ {
		line := fmt.Appendf(nil, `{"number":%d,"what":"changed <lane> %d"}`, i, i)
		before := hash
		hash = Next(hash, line)
		out = append(out, Row{Line: line, Before: before.String(), Hash: hash.String()})
	}
	return out
}

func file(rows []Row) string {
	var out strings.Builder
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	for _, r := range rows {
		e.Encode(r)
	}
	return out.String()
}

// forge makes a line another one, with a hash that fits, as whoever may write the file can.
func forge(rows []Row, at int, text string) {
	before, _ := ParseSum(rows[at].Before)
	rows[at].Line = json.RawMessage(strings.ReplaceAll(string(rows[at].Line), "changed", text))
	rows[at].Hash = Next(before, rows[at].Line).String()
}

func TestReadShowsWhatWasBent(t *testing.T) {
	_, key, _ := ed25519.GenerateKey(nil)
	hash, _ := ParseSum(exported(20)[14].Hash)
	head := Sign(key, 15, hash, time.Now())
	for what, c := range map[string]struct {
		bend func([]Row) []Row
		want string
	}{
		"nothing":             {func(r []Row) []Row { return r }, ""},
		"a line edited":       {func(r []Row) []Row { r[4].Line = []byte(`{"number":5,"what":"x"}`); return r }, "line 5 does not follow"},
		"its hash too":        {func(r []Row) []Row { forge(r, 4, "read"); return r }, "line 6 does not follow"},
		"a line removed":      {func(r []Row) []Row { return append(r[:6], r[7:]...) }, "line 7 is missing"},
		"lines removed":       {func(r []Row) []Row { return append(r[:6], r[9:]...) }, "lines 7 to 9 are missing"},
		"two lines swapped":   {func(r []Row) []Row { r[2], r[3] = r[3], r[2]; return r }, "line 3 is missing"},
		"swapped as numbers":  {func(r []Row) []Row { r[2].Line, r[3].Line = r[3].Line, r[2].Line; return r }, ""},
		"a line twice":        {func(r []Row) []Row { return append(r[:3], r[2:]...) }, "line 3 comes after line 3"},
		"cut at the end":      {func(r []Row) []Row { return r[:12] }, "the last one here is line 12"},
		"rewritten from line": {func(r []Row) []Row { return rewrite(r, 4) }, "line 15 is another one than was noted"},
	} {
		report, err := Read(strings.NewReader(file(c.bend(exported(20)))), &head)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		text := fmt.Sprint(report.Breaks)
		if what == "swapped as numbers" && report.Broken == 0 {
			t.Errorf("%s is not seen", what)
		}
		if what == "nothing" && (report.Broken != 0 || report.Lines != 20 || report.Last != 20) {
			t.Errorf("of what is whole: %+v", report)
		}
		if !strings.Contains(text, c.want) {
			t.Errorf("%s: %s, want %q", what, text, c.want)
		}
	}
	// a part that begins later is whole by itself
	report, err := Read(strings.NewReader(file(exported(20)[7:])), nil)
	if err != nil || report.Broken != 0 || report.First != 8 {
		t.Errorf("a part: %+v, %v", report, err)
	}
}

// rewrite makes the whole chain anew from a line on, so that it fits in itself.
func rewrite(rows []Row, at int) []Row {
	forge(rows, at, "read")
	for i := at + 1; i < len(rows); i++ {
		rows[i].Before = rows[i-1].Hash
		forge(rows, i, "changed")
	}
	return rows
}

func TestHeads(t *testing.T) {
	_, key, _ := ed25519.GenerateKey(nil)
	head := Sign(key, 7, Sum{1}, time.Now())
	if err := head.Check(); err != nil {
		t.Fatal(err)
	}
	text, _ := json.Marshal(head)
	var again Head
	if err := json.Unmarshal(text, &again); err != nil || again.Check() != nil {
		t.Errorf("as JSON and back: %v, %v", err, again.Check())
	}
	for what, bend := range map[string]func(*Head){"number": func(h *Head) { h.Number++ },
		"hash": func(h *Head) { h.Hash = Sum{2}.String() }, "moment": func(h *Head) { h.At = h.At.Add(time.Hour) },
		"key": func(h *Head) { h.Key = "AAAA" }, "signature": func(h *Head) { h.Signature = "?" }} {
		bent := head
		if bend(&bent); bent.Check() == nil {
			t.Errorf("another %s is not seen", what)
		}
	}
}

// No file makes the reader fail in another way than with an error.
func FuzzRead(f *testing.F) {
	f.Add(file(exported(3)))
	f.Add(`{"line":{"number":9223372036854775807},"before":"","hash":""}`)
	f.Fuzz(func(t *testing.T, text string) {
		report, err := Read(strings.NewReader(text), &Head{Number: 2, Hash: "x"})
		if err == nil && report.Broken == 0 && report.Lines > 1 && report.Last > 1 {
			t.Errorf("%q is intact", text)
		}
	})
}
