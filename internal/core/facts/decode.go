package facts

import (
	"bytes"
	"encoding/json"

	"tollgate.example/key/internal/core/reason"
)

// ParseJSON reads recorded facts, the same value that encoding/json reads. What AppendJSON wrote is read here, since a
// rehearsal reads a million of them; anything else is left to encoding/json.
func (f *Facts) ParseJSON(b []byte) error {
	*f = Facts{}
	r := reader{b: b}
	r.facts(f)
	if !r.bad && r.i == len(b) {
		return nil
	}
	*f = Facts{}
	return json.Unmarshal(b, f)
}

// reader reads JSON without white space. bad tells that something else came, which ends the reading.
type reader struct {
	b   []byte
	i   int
	bad bool
}

// take goes past an octet if it is next.
func (r *reader) take(c byte) bool {
	if r.i < len(r.b) && r.b[r.i] == c {
		r.i++
		return true
	}
	return false
}

func (r *reader) want(c byte) {
	if !r.take(c) {
		r.bad = true
	}
}

// next goes to the next part of an object or a list that was begun, and tells whether there is one.
func (r *reader) next(first *bool, end byte) bool {
	if r.bad || r.take(end) {
		return false
	}
	if !*first {
		r.want(',')
	}
	*first = false
	return !r.bad
}

// raw returns a string as written, between its quotation marks, and whether it is plain: no escapes, only ASCII.
func (r *reader) raw() (text []byte, plain bool) {
	r.want('"')
	start := r.i
	plain = true
	for !r.bad && r.i < len(r.b) {
		switch c := r.b[r.i]; {
		case c == '"':
			r.i++
			return r.b[start : r.i-1], plain
		case c == '\\':
			r.i++
			plain = false
		case c < 0x20 || c > 0x7e:
			plain = false
		}
		r.i++
	}
	r.bad = true
	return nil, false
}

func (r *reader) text() string {
	text, plain := r.raw()
	if plain || r.bad {
		return string(text)
	}
	var out string
	if json.Unmarshal(r.b[r.i-len(text)-2:r.i], &out) != nil {
		r.bad = true
	}
	return out
}

// key returns the name of a field; those of facts are plain.
func (r *reader) key() []byte {
	text, plain := r.raw()
	if !plain {
		r.bad = true
	}
	r.want(':')
	return text
}

func (r *reader) number() int64 {
	negative := r.take('-')
	start, n := r.i, int64(0)
	for r.i < len(r.b) && r.b[r.i] >= '0' && r.b[r.i] <= '9' {
		n = 10*n + int64(r.b[r.i]-'0')
		r.i++
	}
	if digits := r.i - start; digits == 0 || digits > 18 || digits > 1 && r.b[start] == '0' {
		r.bad = true
	}
	if negative {
		return -n
	}
	return n
}

// value reads what is rare as encoding/json does.
func (r *reader) value(into any) {
	start, depth := r.i, 0
	for !r.bad && r.i < len(r.b) {
		switch r.b[r.i] {
		case '"':
			r.raw()
			continue
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				r.i++
				if json.Unmarshal(r.b[start:r.i], into) != nil {
					r.bad = true
				}
				return
			}
		}
		r.i++
	}
	r.bad = true
}

func (r *reader) texts() []string {
	out := []string{}
	r.want('[')
	for first := true; r.next(&first, ']'); {
		out = append(out, r.text())
	}
	return out
}

// unmarshal hands a string to a type that reads itself.
func (r *reader) unmarshal(into interface{ UnmarshalText([]byte) error }) {
	text, plain := r.raw()
	if !plain || into.UnmarshalText(text) != nil {
		r.bad = true
	}
}

// plain is where a fact that is a text is kept.
func (f *Facts) plain(key []byte) *string {
	switch string(key) {
	case "protocol":
		return &f.Protocol
	case "transport":
		return &f.Transport
	case "service":
		return &f.Service
	case "client":
		return &f.Client
	case "portType":
		return &f.PortType
	case "port":
		return &f.Port
	case "ssid":
		return &f.SSID
	case "mac":
		return &f.MAC
	case "called":
		return &f.Called
	case "nas":
		return &f.NAS
	case "sent":
		return &f.Sent
	case "tried":
		return &f.Tried
	case "inner":
		return &f.Inner
	case "method":
		return &f.Method
	case "credential":
		return (*string)(&f.Credential)
	case "credentialDetail":
		return &f.CredentialDetail
	}
	return nil
}

func (r *reader) facts(f *Facts) {
	r.want('{')
	for first := true; r.next(&first, '}'); {
		key := r.key()
		if into := f.plain(key); into != nil {
			*into = r.text()
			continue
		}
		switch string(key) {
		case "at":
			r.unmarshal(&f.At)
		case "from":
			r.unmarshal(&f.From)
		case "gear":
			r.value(&f.Gear)
		case "address":
			r.unmarshal(&f.Address)
		case "clientTags":
			r.value(&f.ClientTags)
		case "forwarded":
			r.value(&f.Forwarded)
		case "factor":
			r.value(&f.Factor)
		case "lease":
			r.value(&f.Lease)
		case "eap":
			r.value(&f.EAP)
		case "certificate":
			r.value(&f.Certificate)
		case "device":
			r.value(&f.Device)
		case "traits":
			r.value(&f.Traits)
		case "machineSeen":
			r.value(&f.MachineSeen)
		case "open":
			r.value(&f.Open)
		case "present":
			r.value(&f.Present)
		case "machine":
			r.bad = r.bad || f.Machine != nil // the standard decoder would merge two of them
			f.Machine = r.person()
		case "person":
			r.bad = r.bad || f.Person != nil
			f.Person = r.person()
		case "claimed":
			r.bad = r.bad || f.Claimed != nil
			f.Claimed = r.person()
		case "attributes":
			r.bad = r.bad || f.Attributes != nil
			f.Attributes = r.attributes()
		case "lookups":
			r.bad = r.bad || f.Lookups != nil
			f.Lookups = r.lookups()
		case "spent":
			r.spent(&f.Spent)
		default:
			r.bad = true
		}
	}
}

func (r *reader) person() *Person {
	p := &Person{}
	r.want('{')
	for first := true; r.next(&first, '}'); {
		switch string(r.key()) {
		case "store":
			p.Store = r.text()
		case "id":
			p.ID = r.text()
		case "name":
			p.Name = r.text()
		case "display":
			p.Display = r.text()
		case "domain":
			p.Domain = r.text()
		case "kind":
			p.Kind = r.text()
		case "state":
			p.State = reason.Code(r.text())
		case "groups":
			p.Groups = r.texts()
		case "created":
			r.unmarshal(&p.Created)
		case "attributes":
			r.bad = r.bad || p.Attributes != nil
			p.Attributes = map[string][]string{}
			r.want('{')
			for first := true; r.next(&first, '}'); {
				name := r.text()
				r.want(':')
				p.Attributes[name] = r.texts()
			}
		default:
			r.bad = true
		}
	}
	return p
}

func (r *reader) attributes() []Attribute {
	out := make([]Attribute, 0, bytes.Count(r.b[r.i:], []byte(`{"name":`)))
	r.want('[')
	for first := true; r.next(&first, ']'); {
		var a Attribute
		r.want('{')
		for first := true; r.next(&first, '}'); {
			switch string(r.key()) {
			case "name":
				a.Name = r.text()
			case "value":
				a.Value = r.text()
			default:
				r.bad = true
			}
		}
		out = append(out, a)
	}
	return out
}

func (r *reader) lookups() []Lookup {
	out := []Lookup{}
	r.want('[')
	for first := true; r.next(&first, ']'); {
		var l Lookup
		r.want('{')
		for first := true; r.next(&first, '}'); {
			switch string(r.key()) {
			case "store":
				l.Store = r.text()
			case "outcome":
				l.Outcome = reason.Code(r.text())
			case "detail":
				l.Detail = r.text()
			case "micros":
				l.Micros = r.number()
			default:
				r.bad = true
			}
		}
		out = append(out, l)
	}
	return out
}

func (r *reader) spent(s *Spent) {
	r.want('{')
	for first := true; r.next(&first, '}'); {
		switch string(r.key()) {
		case "client":
			s.Client = r.number()
		case "name":
			s.Name = r.number()
		case "lane":
			s.Lane = r.number()
		case "directory":
			s.Directory = r.number()
		case "credential":
			s.Credential = r.number()
		case "policy":
			s.Policy = r.number()
		default:
			r.bad = true
		}
	}
}
