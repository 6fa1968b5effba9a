package rule

import (
	"net/netip"
	"regexp/syntax"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
)

// value is what a field is given in a witness.
type value struct {
	subject, key string
	texts        []string // one for text fields, any number for lists
	address      netip.Addr
	age          time.Duration
	known        bool // of an age
	at           time.Time
}

// solveField finds a value of one field that fulfils all comparisons with it.
func solveField(list []literal, at time.Time) (value, Answer) {
	field := list[0].field
	switch {
	case subjectOf(list[0].name) == "proof":
		return solveMethod(list)
	case field.Type == Hours:
		return solveHours(list, at)
	case field.age != nil:
		return solveAge(list)
	case field.address != nil:
		return solveAddress(list)
	case field.many != nil:
		return solveList(list)
	}
	text, answer := solveText(list, field)
	return value{texts: []string{text}}, answer
}

// fits reports whether a text fulfils a comparison.
func (l *literal) fits(text string) bool {
	if l.op == Exists {
		return (text != "") == l.want
	}
	return l.test()(text) == l.want
}

func allFit(list []literal, text string) bool {
	for i := range list {
		if !list[i].fits(text) {
			return false
		}
	}
	return true
}

// solveMethod goes through the methods, since the family of a method follows from it.
func solveMethod(list []literal) (value, Answer) {
	for _, name := range append([]string{""}, config.Methods...) { // "" is a request without a credential
		family := name
		if m := config.FindMethod(name); m != nil && m.EAP {
			family = "eap"
		}
		if !slices.ContainsFunc(list, func(l literal) bool {
			if l.name == "method" {
				return !l.fits(family)
			}
			return !l.fits(name)
		}) {
			return value{texts: []string{name}}, Possible
		}
	}
	return value{}, Impossible
}

// solveText finds a text. Where a comparison names the texts, or the field has no others, all are tried; otherwise
// texts are made of what is asked for, and contradictions looked for.
func solveText(list []literal, field *Field) (string, Answer) {
	if field.Closed {
		return tryAll(list, append([]string{""}, field.Examples...))
	}
	for i := range list {
		if l := &list[i]; l.want && (l.op == Is || l.op == In) {
			return tryAll(list, l.values)
		}
	}
	if text, answer := tryAll(list, candidates(list, field.Type)); answer == Possible {
		return text, answer
	}
	if contradictory(list) {
		return "", Impossible
	}
	return "", Unknown
}

// tryAll tries every text there can be. All forms of a text that differ in case only compare the same, but a pattern
// may tell rare ones apart, so failing with one of those proves nothing.
func tryAll(list []literal, texts []string) (string, Answer) {
	answer := Impossible
	for _, text := range texts {
		if allFit(list, text) {
			return text, Possible
		}
		if slices.ContainsFunc(list, func(l literal) bool { return l.op == Matches }) && strings.ContainsFunc(text,
			manyForms) {
			answer = Unknown
		}
	}
	return "", answer
}

// manyForms reports whether a letter has more forms than two: the Kelvin sign is a k, and the long s an s.
func manyForms(r rune) bool { return r >= 0x80 || strings.ContainsRune("kKsS", r) }

// candidates are texts made of what the comparisons ask for.
func candidates(list []literal, kind Type) []string {
	starts, ends, middle := "", "", ""
	var whole []string
	for i := range list {
		l := &list[i]
		if !l.want {
			if l.op == AtLeast {
				whole = append(whole, "-999999999999")
			}
			continue
		}
		switch l.op {
		case Starts:
			if len(l.values[0]) > len(starts) {
				starts = l.values[0]
			}
		case Ends:
			if len(l.values[0]) > len(ends) {
				ends = l.values[0]
			}
		case Contains:
			middle += l.values[0]
			whole = append(whole, l.values[0])
		case Matches:
			sample := sampleOf(l.values[0])
			whole = append(whole, sample, starts+sample+ends)
		case AtLeast:
			whole = append(whole, l.values[0])
		}
	}
	out := []string{""}
	if kind == MAC {
		const fresh = "02-00-5E-00-53-A7"
		made := fresh
		if len(starts) < len(made) {
			made = starts + made[len(starts):]
		}
		if len(ends) < len(made) {
			made = made[:len(made)-len(ends)] + ends
		}
		out = append(out, fresh, made)
	}
	out = append(out, "other", starts, ends, starts+ends)
	for n := 1; n < min(len(starts), len(ends)); n++ { // the end may begin inside the start
		if strings.EqualFold(starts[len(starts)-n:], ends[:n]) {
			out = append(out, starts+ends[n:])
		}
	}
	out = append(out, starts+middle+ends, starts+"-"+middle+"-"+ends, starts+"q7"+middle+"q7"+ends)
	return append(out, whole...)
}

// sampleOf makes a short text that a pattern matches; "" for what it does not understand.
func sampleOf(pattern string) string {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return ""
	}
	var b strings.Builder
	sample(&b, re, 0)
	return b.String()
}

func sample(b *strings.Builder, re *syntax.Regexp, depth int) {
	if depth > 50 || b.Len() > 300 {
		return
	}
	switch re.Op {
	case syntax.OpLiteral:
		b.WriteString(string(re.Rune))
	case syntax.OpCharClass:
		if len(re.Rune) > 0 {
			pick := re.Rune[0]
			for i := 0; i+1 < len(re.Rune); i += 2 { // a letter or a digit, if there is one
				if r := re.Rune[i]; r >= '0' && r <= 'z' {
					pick = r
					break
				}
			}
			b.WriteRune(pick)
		}
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('q')
	case syntax.OpPlus:
		sample(b, re.Sub[0], depth+1)
	case syntax.OpRepeat:
		for range re.Min {
			sample(b, re.Sub[0], depth+1)
		}
	case syntax.OpCapture:
		sample(b, re.Sub[0], depth+1)
	case syntax.OpConcat:
		for _, part := range re.Sub {
			sample(b, part, depth+1)
		}
	case syntax.OpAlternate:
		sample(b, re.Sub[0], depth+1)
	}
}

// contradictory proves that no text fulfils all comparisons. It need not find every contradiction.
func contradictory(list []literal) bool {
	for i := range list {
		for j := range list {
			if list[i].want && list[i].excludes(&list[j]) {
				return true
			}
		}
	}
	return false
}

// excludes reports whether whatever fulfils the one comparison, which has to come out true, fails the other.
func (a *literal) excludes(b *literal) bool {
	if a.op == b.op && !b.want && slices.EqualFunc(a.values, b.values, strings.EqualFold) {
		return true
	}
	switch {
	case len(a.values) == 0:
	case a.op == AtLeast && b.op == AtLeast && !b.want:
		low, _ := parseNumber(b.values[0])
		high, _ := parseNumber(a.values[0])
		return high >= low
	case a.op == AtLeast:
		return b.op == Exists && !b.want
	case a.op == Starts && b.op == Starts && b.want:
		return !startsFold(a.values[0], b.values[0]) && !startsFold(b.values[0], a.values[0])
	case a.op == Ends && b.op == Ends && b.want:
		return !endsFold(a.values[0], b.values[0]) && !endsFold(b.values[0], a.values[0])
	case b.want || a.op != Starts && a.op != Ends && a.op != Contains || a.values[0] == "":
	case b.op == Exists:
		return true
	case b.op == Contains || b.op == a.op: // what has this part also has the part that must not be there
		return b.test()(a.values[0])
	}
	return false
}
