package record

import "tollgate.example/key/internal/base/ident"

// found is what the records of a block are found by, each value of a field once. It is noted when the block is made, so
// that it has not to be read again for the segment.
type found struct {
	texts string // of the block, each with its size before it
	n     int    // of texts
	terms []term
	ids   []identifier
}

// term is a text of the block, from 1, that a field has; 0 is the empty one.
type term struct {
	field string
	text  uint32
}

type identifier struct {
	field string
	id    ident.ID
}

// noting notes what the records that an encoder writes are found by.
type noting struct {
	on    bool
	terms []term
	ids   []identifier
	known []known // by field
}

// known are the texts that were noted of a field, as bits.
type known []uint64

// first tells that it is asked about a text for the first time.
func (k *known) first(text uint64) bool {
	word, bit := int(text/64), uint64(1)<<(text%64)
	for len(*k) <= word {
		*k = append(*k, 0)
	}
	before := (*k)[word]
	(*k)[word] = before | bit
	return before&bit == 0
}

func (t *noting) reset(on bool) {
	t.on, t.terms, t.ids = on, t.terms[:0], t.ids[:0]
	for i := range t.known {
		clear(t.known[i])
	}
}

// term notes that the field at a place has a text.
func (t *noting) term(place int, field string, text uint64) {
	for len(t.known) <= place {
		t.known = append(t.known, nil)
	}
	if t.known[place].first(text) {
		t.terms = append(t.terms, term{field, uint32(text)})
	}
}

// found is what was noted.
func (e *encoder) found() *found {
	if !e.noting.on {
		return nil
	}
	return &found{texts: string(e.texts), n: len(e.numbers), terms: append([]term(nil), e.noting.terms...),
		ids: append([]identifier(nil), e.noting.ids...)}
}

// each calls a function with each field and value, as they are looked up.
func (f *found) each(call func(field, value string)) {
	texts, rest := make([]string, 1, f.n+1), f.texts
	for rest != "" {
		size, n := uvarint(rest)
		texts, rest = append(texts, rest[n:n+int(size)]), rest[n+int(size):]
	}
	lower := make([]string, len(texts))
	for _, t := range f.terms {
		if lower[t.text] == "" {
			lower[t.text] = lowerASCII(texts[t.text])
		}
		call(t.field, lower[t.text])
	}
	for _, one := range f.ids {
		call(one.field, lowerASCII(one.id.String()))
	}
}

// sameLower tells that a text is another one that is in lower case, without regard to the case of ASCII letters.
func sameLower(text, low string) bool {
	if len(text) != len(low) {
		return false
	}
	for i := range len(text) {
		c := text[i]
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != low[i] {
			return false
		}
	}
	return true
}
