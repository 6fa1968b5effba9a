package syslog

import (
	"errors"
	"io"
	"strings"
	"testing"
	"time"
)

func TestMessages(t *testing.T) {
	now := time.Date(2026, 1, 2, 3, 0, 0, 0, time.UTC)
	for text, want := range map[string]Message{
		// RFC 5424 section 6.5, examples 1 and 3
		"<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 - \ufeff'su root' failed for lonvick": {
			34, time.Date(2003, 10, 11, 22, 14, 15, 3e6, time.UTC), "mymachine.example.com", "su",
			"'su root' failed for lonvick"},
		`<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 ` +
			`[ex@32473 iut="3" a="\]\""][b@1 c="]"] An`: {
			165, time.Date(2003, 10, 11, 22, 14, 15, 3e6, time.UTC), "mymachine.example.com", "evntslog", "An"},
		// RFC 3164 section 5.4, example 1
		"<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8": {34,
			time.Date(2025, 10, 11, 22, 14, 15, 0, time.UTC), "mymachine", "su",
			"'su root' failed for lonvick on /dev/pts/8"},
		"<13>Jan  2 02:59:59 gate sshd[4711]: session opened": {13, time.Date(2026, 1, 2, 2, 59, 59, 0, time.UTC),
			"gate",
			"sshd", "session opened"},
		"<13>nothing of the kind":                {Priority: 13, Text: "nothing of the kind"},
		"<999>1 - - - - - - x":                   {Priority: -1, Text: "<999>1 - - - - - - x"},
		"<13>1 - - - - - [broken":                {Priority: 13, Text: "1 - - - - - [broken"},
		"":                                       {Priority: -1},
		"<13>1 2003-99-11T22:14:15Z h a - - - x": {Priority: 13, Text: "1 2003-99-11T22:14:15Z h a - - - x"},
	} {
		if got := Parse([]byte(text), now); !got.At.Equal(want.At) || got.Host != want.Host || got.App != want.App ||
			got.Text != want.Text ||
			got.Priority != want.Priority {
			t.Errorf("%q is read as %+v", text, got)
		}
	}
}

func TestStreams(t *testing.T) {
	r := NewReader(
		strings.NewReader("5 <1>ab\n7 <13>a\nb<13>one line\r\n" + "<13>" + strings.Repeat("x", 3*MaxSize) +
			"\n<13>after"),
	)
	for _, want := range []string{"<1>ab", "<13>a\nb", "<13>one line\r\n", "", "<13>after"} {
		got, err := r.Next()
		if err != nil || want != "" && string(got) != want || len(got) > MaxSize {
			t.Fatalf("%.40q of %d, %v", got, len(got), err)
		}
	}
	if _, err := r.Next(); !errors.Is(err, io.EOF) {
		t.Error(err)
	}
	for _, text := range []string{"99999999 x", "12x", "5 <1>"} {
		if _, err := NewReader(strings.NewReader(text)).Next(); err == nil {
			t.Errorf("%q is read", text)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`<165>1 2003-10-11T22:14:15.003Z h e - ID47 [a@1 b="3"] text`), "5 <1>ab")
	f.Fuzz(func(t *testing.T, b []byte, stream string) {
		Parse(b, time.Now())
		r := NewReader(strings.NewReader(stream))
		for range 1000 {
			m, err := r.Next()
			if err != nil {
				return
			}
			if len(m) > MaxSize {
				t.Fatal("a message is longer than it may be")
			}
		}
	})
}
