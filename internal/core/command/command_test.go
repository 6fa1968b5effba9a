package command

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

func parse(t testing.TB, text string) *Pattern {
	t.Helper()
	p, err := Parse(text)
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return p
}

func TestPatternsFitWhatPeopleType(t *testing.T) {
	for pattern, commands := range map[string]struct{ fit, miss string }{
		"show version": {"show version;SHOW Version;show   version <cr>",
			"show;show version detail;show versions"},
		"show *":             {"show;show version;show ip route 192.0.2.1", "shows;clear show"},
		"*":                  {"reload;show version", ""},
		"show version|clock": {"show version;show clock <CR>", "show users;show version clock"},
		"interface gi*|vlan*": {"interface gi0/1;interface vlan20;interface VLAN",
			"interface te1/1;interface gi0/1 x"},
		"ping * repeat 5":          {"ping 192.0.2.1 repeat 5", "ping repeat 5;ping a b repeat 5"},
		"copy *:*config *":         {"copy flash:running-config tftp;copy x:config", "copy running-config x"},
		"ping <cr>":                {"ping;ping <cr>", "ping 192.0.2.1"},
		"show run | include *":     {"show run | include secret", "show run;show run include x"},
		`set banner "a|b*" *`:      {"set banner a|b* now", "set banner a;set banner a|bc"},
		"no shutdown|switchport *": {"no shutdown;no switchport access vlan 20", "no ip route"},
		"clear counters **":        {"clear counters x", "clear counters;clear counters x y"},
	} {
		p := parse(t, pattern)
		for i, list := range []string{commands.fit, commands.miss} {
			for _, typed := range strings.Split(list, ";") {
				if typed != "" && p.Fits(Words(typed)) != (i == 0) {
					t.Errorf("%q and %q: fits is %v", pattern, typed, i == 1)
				}
			}
		}
	}
	p, words := parse(t, "interface gi*|vlan* *"), Words("interface Vlan20 now")
	if n := testing.AllocsPerRun(100, func() { p.Fits(words) }); n != 0 {
		t.Errorf("matching allocates %v times", n)
	}
}

func TestFaultyPatternsAreTold(t *testing.T) {
	for pattern, column := range map[string]int{"": 1, "   ": 1, "<cr>": 1, "show * <cr>": 1, "show <cr> version": 6,
		"show a|": 7, "show |a": 6, `show "a`: 6, `show "a b"`: 8, "show \x01": 6, strings.Repeat("a ", 65): 129,
		strings.Repeat("a", 401): 400} {
		var at *Error
		if _, err := Parse(pattern); !errors.As(err, &at) || at.Column != column || at.Remedy == "" {
			t.Errorf("%.20q: %v, want column %d and a remedy", pattern, err, column)
		}
	}
	if got := parse(t, "  show   version   <cr> ").String(); got != "show version" {
		t.Errorf("the one form is %q", got)
	}
}

func list(t testing.TB, lines ...string) *List {
	l := &List{}
	for i, text := range lines {
		verdict, pattern, _ := strings.Cut(text, " ")
		l.Lines = append(l.Lines, Line{Permit: verdict == "permit", Pattern: parse(t, pattern), Number: i + 1})
	}
	return l
}

func TestTheFirstLineThatFitsDecides(t *testing.T) {
	l := list(t, "refuse show run *", "permit show *")
	for typed, want := range map[string]string{"show run all": "0 false", "show clock": "1 true",
		"reload": "-1 false"} {
		at, permit := l.Decide(Words(typed))
		if got := fmt.Sprint(at, " ", permit); got != want {
			t.Errorf("%s: %s, want %s", typed, got, want)
		}
	}
}

func TestLinesThatNeverDecideAreFound(t *testing.T) {
	for _, c := range []struct {
		lines []string
		taken string
	}{
		{[]string{"permit show *", "refuse show run"}, "[[] [0]]"},
		{[]string{"permit show version", "permit show clock", "refuse show version|clock"}, "[[] [] [0 1]]"},
		{[]string{"refuse show run", "permit show *"}, "[[] []]"},
		{[]string{"permit a*", "permit *a", "refuse a*a"}, "[[] [] [0]]"},
		{[]string{"permit *", "permit show"}, "[[] [0]]"},
		{[]string{"permit * x", "permit show", "permit show x", "permit show * *"}, "[[] [] [0] []]"},
		{[]string{"permit show a*", "permit show b", "refuse show a|b"}, "[[] [] [0 1]]"},
		// one word, or at least one more
		{[]string{"permit show", "permit show * *", "refuse show *"}, "[[] [] [0 1]]"},
	} {
		l := list(t, c.lines...)
		var taken [][]int
		for _, f := range l.Analyse() {
			if f.Unknown || (f.Example == "") == (f.Taken == nil) {
				t.Errorf("%v: %+v", c.lines, f)
			}
			if at, _ := l.Decide(Words(f.Example)); f.Example != "" && at != f.Line {
				t.Errorf("%v: the example %q of line %d is decided by line %d", c.lines, f.Example, f.Line, at)
			}
			taken = append(taken, append([]int{}, f.Taken...))
		}
		if got := fmt.Sprint(taken); got != c.taken {
			t.Errorf("%v: taken by %s, want %s", c.lines, got, c.taken)
		}
	}
}

// Every list of three lines over a small language is compared with trying all short commands.
func TestAnalysisAgreesWithTryingEverything(t *testing.T) {
	patterns := []string{"a", "a*", "*", "a *", "a|b", "* b", "*a", "a b", "b|a* *", "* *", "a b *"}
	var all []string
	words := []string{"a", "b", "c", "ab", "ba", "ca", "cc"}
	for _, x := range words {
		all = append(all, x)
		for _, y := range words {
			all = append(all, x+" "+y)
			for _, z := range []string{"a", "b", "c"} {
				all = append(all, x+" "+y+" "+z)
			}
		}
	}
	for _, one := range patterns {
		for _, two := range patterns {
			for _, three := range patterns {
				l := list(t, "permit "+one, "refuse "+two, "permit "+three)
				decides := [3]bool{}
				for _, typed := range all {
					if at, _ := l.Decide(Words(typed)); at >= 0 {
						decides[at] = true
					}
				}
				for i, f := range l.Analyse() {
					if f.Unknown || (f.Example != "") != decides[i] {
						t.Fatalf("%q, %q, %q: line %d decides %v, but the analysis says %+v", one, two, three, i,
							decides[i], f)
					}
				}
			}
		}
	}
}

func FuzzPattern(f *testing.F) {
	f.Add("show version|clock *", "show clock detail")
	f.Add(`a "b*"|*c`, "a xc")
	f.Fuzz(func(t *testing.T, text, typed string) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(p.String())
		if err != nil || again.String() != p.String() {
			t.Fatalf("%q became %q, and then %v %v", text, p, again, err)
		}
		words := Words(typed)
		if p.Fits(words) != again.Fits(words) {
			t.Fatalf("%q and its one form %q differ on %q", text, p, typed)
		}
		if len(text) < 40 {
			if example, known := beyond(p, nil); known && !p.Fits(fields(example)) {
				t.Fatalf("the example %q of %q does not fit", example, text)
			}
		}
	})
}

func BenchmarkDecideAmongTwoHundredLines(b *testing.B) {
	l := &List{}
	for i := range 200 {
		l.Lines = append(l.Lines, Line{Permit: true, Pattern: parse(b, fmt.Sprintf("show thing%d *", i))})
	}
	words := Words("show thing199 detail")
	b.ReportAllocs()
	for b.Loop() {
		l.Decide(words)
	}
}
