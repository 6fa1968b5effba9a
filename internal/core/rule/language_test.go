package rule

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
)

// hours are the calendars of the tests.
func hours(name string) *calendar.Calendar {
	days := map[string][]string{"office-hours": calendar.Days[:5], "weekend": calendar.Days[5:]}[strings.ToLower(name)]
	if days == nil {
		return nil
	}
	c, _ := calendar.Compile("UTC", []calendar.Span{{Days: days, From: "08:00", To: "18:00"}}, nil)
	return c
}

func TestTimesNumbersAndNames(t *testing.T) {
	f := machines() // a Monday at nine
	f.Person.Created = f.At.Add(-40 * 24 * time.Hour)
	f.Certificate.Until = f.At.Add(10 * 24 * time.Hour)
	f.Person.Attributes["badge"] = []string{"17", "x"}
	for text, want := range map[string]bool{
		`time is office-hours`: true, `time is not office-hours`: false, `time in weekend, OFFICE-HOURS`: true,
		`time not in weekend`:    true,
		`account.age within 90d`: true, `account.age within 30d`: false, `account.age at least 30d`: true,
		`account.age at least 41d`: false, `account.age exists`: true,
		`certificate.left at least 7d`: true, `certificate.left within 7d`: false,
		`person.badge at least 17`: true, `person.badge at least 17.5`: false, `person.badge at least -3`: true,
		`attribute.Framed-MTU at least 1400`: true,
		`tls at least 1.2`:                   true, `tls at least "TLS 1.3"`: true, `tls at least 1.4`: false,
		`sent at least 1`:     false,
		`name.form is prefix`: true, `name.realm is lantern`: true, `mac starts 0200.5e`: true, `mac ends 4c:9d`: true,
		`mac contains 5e-10`: true, `mac starts 0`: true,
	} {
		c, err := Parse(text, Person, hours)
		if err != nil {
			t.Errorf("%s: %v", text, err)
		} else if c.Fits(f) != want {
			t.Errorf("%s fits: %v", text, !want)
		}
	}
	for sent, want := range map[string]string{"a@B.example": "suffix B.example", `L\a`: "prefix L", "a": "bare ",
		"host/pc.b.example": "host b.example", "": " "} {
		if form, _, realm := facts.SplitName(sent); form+" "+realm != want {
			t.Errorf("%s is of form %s %s", sent, form, realm)
		}
	}
}

func TestErrorsSuggest(t *testing.T) {
	for text, says := range map[string]string{
		"group iz Crew": "Did you mean is?", "group containz Crew": "Did you mean contains?",
		"group at most 3": "an operator was expected", "ssidd is x": "Did you mean ssid?",
		"time is siesta": "there is no calendar", "time exists": "compared with calendars",
		"time starts x": "compared with calendars", "hour is 3": "Did you mean time?",
		"group at least many": "is not a number", "client.address at least 3": "neither",
		"account.age is 3d": "is a duration", `ssid matches "("`: "RE2",
		`ssid matches "(?P<a>x{1001})"`: "RE2",
	} {
		_, err := Parse(text, Person, hours)
		var at *Error
		if !errors.As(err, &at) || at.Column < 1 || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, wanted %q", text, err, says)
		}
	}
}

// TestExplosivePattern gives a pattern on which backtracking would take longer than the age of the universe.
func TestExplosivePattern(t *testing.T) {
	c, err := Parse(`sent matches "^(a|a|aa)+$"`, Person, nil)
	if err != nil {
		t.Fatal(err)
	}
	f := &facts.Facts{Sent: strings.Repeat("a", 250) + "!"}
	begun := time.Now()
	for range 100 {
		if c.Fits(f) {
			t.Fatal("fits")
		}
	}
	if took := time.Since(begun); took > 2*time.Second {
		t.Errorf("took %s", took)
	}
}

func TestComparingDoesNotAllocate(t *testing.T) {
	f := machines()
	f.Person.Created, f.Certificate.Until = f.At, f.At
	for i := range fields {
		name := strings.Replace(fields[i].Name, "*", "Mail", 1)
		for _, op := range fields[i].Operators() {
			value := " x"
			switch {
			case op == Exists:
				value = ""
			case op == AtLeast || fields[i].Type == Age:
				value = map[bool]string{true: " 8h", false: " 12"}[fields[i].Type == Age]
			case fields[i].Type == Address:
				value = " 192.0.2.7"
			case fields[i].Type == MAC:
				value = " 02-00-5E-10-4C-9D"
			case fields[i].Type == Hours:
				value = " office-hours"
			}
			c, err := Parse(name+" "+string(op)+value, Person, hours)
			if err != nil {
				t.Errorf("%s %s: %v", name, op, err)
				continue
			}
			if n := testing.AllocsPerRun(50, func() { c.Fits(f) }); n != 0 {
				t.Errorf("%s allocates %v times", c, n)
			}
		}
	}
}

// randomTree makes a tree of a few fields and values, so that conditions often overlap.
func randomTree(r *rand.Rand, depth int) results.Tree {
	if depth > 0 && r.IntN(3) > 0 {
		switch r.IntN(5) {
		case 0:
			return results.Tree{Op: "not", Parts: []results.Tree{randomTree(r, depth-1)}}
		default:
			t := results.Tree{Op: []string{"and", "or"}[r.IntN(2)]}
			for range 2 + r.IntN(2) {
				t.Parts = append(t.Parts, randomTree(r, depth-1))
			}
			return t
		}
	}
	if r.IntN(20) == 0 {
		return results.Tree{Op: "always"}
	}
	values := []string{"a", "b", "A B", `q"\`, "and", "ab"}
	pick := func() string { return values[r.IntN(len(values))] }
	t := results.Tree{Op: "compare", Field: []string{"group", "ssid", "client.site", "person.mail", "port"}[r.IntN(5)]}
	switch r.IntN(8) {
	case 0:
		t.Operator = "exists"
		return t
	case 1:
		t.Operator, t.Values = []string{"in", "not in"}[r.IntN(2)], []string{pick(), pick()}
	case 2:
		t.Operator, t.Values = []string{"starts", "ends", "contains"}[r.IntN(3)],
			[]string{[]string{"a", "b", " B"}[r.IntN(3)]}
	case 3:
		t.Operator, t.Values = "matches", []string{[]string{"^a", "b$", "."}[r.IntN(3)]}
	default:
		t.Operator, t.Values = []string{"is", "is not"}[r.IntN(2)], []string{pick()}
	}
	return t
}

func randomFacts(r *rand.Rand) *facts.Facts {
	values := []string{"", "a", "b", "A B", `q"\`, "and", "ab", "c"}
	pick := func() string { return values[r.IntN(len(values))] }
	f := &facts.Facts{SSID: pick(), Port: pick(), ClientTags: map[string]string{"site": pick()},
		Person: &facts.Person{Attributes: map[string][]string{}}}
	for range r.IntN(3) {
		f.Person.Groups = append(f.Person.Groups, pick())
	}
	for range r.IntN(3) {
		f.Person.Attributes["mail"] = append(f.Person.Attributes["mail"], pick())
	}
	return f
}

func TestPrintingAndParsingAgree(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		made := randomTree(r, 4)
		text, err := TextOf(&made)
		if err != nil {
			t.Fatal(err)
		}
		c, err := Parse(text, Person, nil)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		again, err := Parse(c.String(), Person, nil)
		if err != nil || again.String() != c.String() {
			t.Fatalf("%s prints as %s, then as %v (%v)", text, c, again, err)
		}
		tree := c.Tree()
		shaped, err := TextOf(&tree)
		if err != nil {
			t.Fatal(err)
		}
		third, err := Parse(shaped, Person, nil)
		if err != nil || third.String() != c.String() {
			t.Fatalf("%s came back from the tree as %v (%v)", c, third, err)
		}
		for range 20 {
			if f := randomFacts(r); c.Fits(f) != again.Fits(f) {
				t.Fatalf("%s and %s differ on %+v", text, c, f)
			}
		}
	}
}

func TestTreesOfNonsense(t *testing.T) {
	deep := results.Tree{Op: "always"}
	for range 100 {
		deep = results.Tree{Op: "not", Parts: []results.Tree{deep}}
	}
	for _, bad := range []results.Tree{deep, {}, {Op: "and"}, {Op: "not"},
		{Op: "xor", Parts: []results.Tree{{Op: "always"}}}, {Op: "and", Parts: []results.Tree{{Op: "?"}}}} {
		if text, err := TextOf(&bad); err == nil {
			t.Errorf("%v is written as %s", bad.Op, text)
		}
	}
	if text, err := TextOf(&results.Tree{Op: "compare", Field: "group", Operator: "is",
		Values: []string{`x" or always or group is "y`}}); err != nil ||
		text != `group is "x\" or always or group is \"y"` {
		t.Errorf("%s, %v", text, fmt.Sprint(err))
	}
}

func writeTree(t results.Tree) (string, error) { return TextOf(&t) }
