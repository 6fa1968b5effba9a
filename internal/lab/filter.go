package lab

import (
	"strconv"
	"strings"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
)

// inChain is the matching rule that follows memberships through nested groups.
const inChain = "1.2.840.113556.1.4.1941"

// bitAnd is the matching rule by which all bits of a number have to be set.
const bitAnd = "1.2.840.113556.1.4.803"

// fits evaluates a search filter (RFC 4511 section 4.5.1.7) on an entry.
func (d *Directory) fits(f *ber.Packet, e *entry) bool {
	switch f.Tag {
	case ldap.FilterAnd:
		for _, part := range f.Children {
			if !d.fits(part, e) {
				return false
			}
		}
		return true
	case ldap.FilterOr:
		for _, part := range f.Children {
			if d.fits(part, e) {
				return true
			}
		}
		return false
	case ldap.FilterNot:
		return !d.fits(f.Children[0], e)
	case ldap.FilterPresent:
		name := f.Data.String()
		return strings.EqualFold(name, "objectClass") || len(e.values(name)) > 0
	case ldap.FilterEqualityMatch, ldap.FilterApproxMatch:
		return has(e.values(f.Children[0].Data.String()), f.Children[1].Data.String())
	case ldap.FilterSubstrings:
		return substrings(e.values(f.Children[0].Data.String()), f.Children[1].Children)
	case ldap.FilterExtensibleMatch:
		return d.extensible(f, e)
	}
	return false
}

func (e *entry) values(name string) []string {
	for key, values := range e.attributes {
		if strings.EqualFold(key, name) {
			return values
		}
	}
	return nil
}

func has(values []string, want string) bool {
	for _, v := range values {
		if strings.EqualFold(v, want) {
			return true
		}
	}
	return false
}

func substrings(values []string, parts []*ber.Packet) bool {
	for _, v := range values {
		rest, ok := strings.ToLower(v), true
		for _, part := range parts {
			want := strings.ToLower(part.Data.String())
			switch part.Tag {
			case ldap.FilterSubstringsInitial:
				rest, ok = strings.CutPrefix(rest, want)
			case ldap.FilterSubstringsFinal:
				ok = strings.HasSuffix(rest, want)
			default:
				var at int
				if at = strings.Index(rest, want); at >= 0 {
					rest = rest[at+len(want):]
				}
				ok = at >= 0
			}
			if !ok {
				break
			}
		}
		if ok {
			return true
		}
	}
	return false
}

func (d *Directory) extensible(f *ber.Packet, e *entry) bool {
	var rule, attribute, value string
	for _, part := range f.Children {
		switch part.Tag {
		case ldap.MatchingRuleAssertionMatchingRule:
			rule = part.Data.String()
		case ldap.MatchingRuleAssertionType:
			attribute = part.Data.String()
		case ldap.MatchingRuleAssertionMatchValue:
			value = part.Data.String()
		}
	}
	if rule == bitAnd {
		want, _ := strconv.Atoi(value)
		for _, v := range e.values(attribute) {
			if have, err := strconv.Atoi(v); err == nil && have&want == want {
				return true
			}
		}
		return false
	}
	return rule == inChain && strings.EqualFold(attribute, "member") && d.holds(e, value, 0)
}

// holds reports whether a group has a member, itself or through groups inside it.
func (d *Directory) holds(e *entry, dn string, depth int) bool {
	members := e.values("member")
	if has(members, dn) {
		return true
	}
	for _, m := range members {
		if inner := d.byDN[strings.ToLower(m)]; inner != nil && depth < 10 && d.holds(inner, dn, depth+1) {
			return true
		}
	}
	return false
}
