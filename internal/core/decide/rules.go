package decide

import (
	"fmt"
	"regexp"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/wire/dict"
)

// Rules change attributes on their way to a remote server, or those of its answer. The zero value changes nothing.
type Rules struct {
	list       []attributeRule
	dictionary *dict.Dictionary
	// Added are attributes to add, in order.
	Added []pass.Attribute
}

type attributeRule struct {
	name    string
	pattern *regexp.Regexp
	drop    bool
	value   string
}

// Empty reports whether they change nothing.
func (r *Rules) Empty() bool { return len(r.list) == 0 && len(r.Added) == 0 }

// Apply returns the values that an attribute becomes: several where a Vendor-Specific holds several attributes, none
// if it is to be left out.
func (r *Rules) Apply(t byte, value []byte) [][]byte {
	if len(r.list) == 0 {
		return [][]byte{value}
	}
	values := [][]byte{value}
	if t == dict.VendorSpecific {
		values = r.dictionary.Split(value)
	}
	out := values[:0]
	for _, value := range values {
		if value, kept := r.one(t, value); kept {
			out = append(out, value)
		}
	}
	return out
}

// one applies the rules to one attribute. One whose new value does not fit stays as it is.
func (r *Rules) one(t byte, value []byte) ([]byte, bool) {
	for i := range r.list {
		rule := &r.list[i]
		for _, part := range r.dictionary.Describe(t, value) {
			if !strings.EqualFold(part.Name, rule.name) || !rule.pattern.MatchString(part.Value) {
				continue
			}
			if rule.drop {
				return nil, false
			}
			text := rule.pattern.ReplaceAllString(part.Value, rule.value)
			if made, err := pass.Encode(r.dictionary, part.Name, text); err == nil && len(made) == 1 {
				value = made[0].Value
			}
			break
		}
	}
	return value, true
}

// compileRules compiles the rules of a remote server for one direction.
func compileRules(r *config.Remote, on string, dictionary *dict.Dictionary) (Rules, []config.Problem) {
	out := Rules{dictionary: dictionary}
	var problems []config.Problem
	for i := range r.Rules {
		from := &r.Rules[i]
		if from.On != on {
			continue
		}
		fail := func(field, remedy string, p config.Problem) {
			problems = append(problems, p.On("remote", r.Name, r.ID, fmt.Sprintf("rules[%d].%s", i, field), remedy))
		}
		entry := dictionary.ByName(from.Attribute)
		if entry == nil {
			fail("attribute", "Write its name as in the dictionary.",
				config.NewProblem(config.NotFound, "there is no attribute %q", from.Attribute))
			continue
		}
		pattern, err := from.Pattern()
		if err != nil {
			continue // the check tells
		}
		if from.Do == config.RuleAdd {
			made, err := pass.Encode(dictionary, entry.Name, from.Value)
			if err != nil {
				fail("value", "Correct the value.", config.NewProblem(config.Malformed, "%s", err))
			}
			out.Added = append(out.Added, made...)
			continue
		}
		out.list = append(out.list, attributeRule{name: entry.Name, pattern: pattern, drop: from.Do == config.RuleDrop,
			value: from.Value})
	}
	return out, problems
}
