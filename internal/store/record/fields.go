package record

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// Fields goes through the fields of a record: it writes, reads or indexes them, so that a kind describes them once.
type Fields struct {
	write *encoder
	read  *decoder
	index func(field, value string)
	n     int // fields so far
}

// Text is a text. The same text in many records of a block costs little.
func (f *Fields) Text(v *string) {
	f.text(v)
}

// text is Text, and returns the number of what was written, 0 for the empty text or where nothing was.
func (f *Fields) text(v *string) (number uint64) {
	f.n++
	switch {
	case f.write != nil:
		return f.write.text(*v)
	case f.read != nil && f.read.more():
		*v = f.read.text()
	}
	return 0
}

// Term is a text that records are found by.
func (f *Fields) Term(name string, v *string) {
	switch number := f.text(v); {
	case number != 0:
		f.write.note(f.n, name, number)
	case f.index != nil && *v != "":
		f.index(name, lowerASCII(*v))
	}
}

// TermUnless is a Term that the index leaves out where it is the same as a value that is always looked up with it,
// without regard to the case of ASCII letters.
func (f *Fields) TermUnless(name string, v *string, same string) {
	number := f.text(v)
	if *v == "" || sameLower(*v, same) {
		return
	}
	if number != 0 {
		f.write.note(f.n, name, number)
	} else if f.index != nil {
		f.index(name, lowerASCII(*v))
	}
}

// Terms is a list of texts that records are found by.
func (f *Fields) Terms(name string, v *[]string) {
	f.n++
	switch {
	case f.write != nil:
		f.write.number(uint64(len(*v)))
		for _, text := range *v {
			f.write.note(f.n, name, f.write.text(text))
		}
	case f.read != nil && f.read.more():
		if n := f.read.count(); n > 0 {
			*v = make([]string, n)
			for i := range *v {
				(*v)[i] = f.read.text()
			}
		}
	case f.index != nil:
		for _, text := range *v {
			f.index(name, lowerASCII(text))
		}
	}
}

// Int is a number.
func (f *Fields) Int(v *int64) {
	f.n++
	switch {
	case f.write != nil:
		f.write.row = binary.AppendVarint(f.write.row, *v)
	case f.read != nil && f.read.more():
		*v = f.read.signed()
	}
}

// Whole is an Int of another type.
func (f *Fields) Whole(v *int) {
	n := int64(*v)
	f.Int(&n)
	*v = int(n)
}

// Bool is a yes or no.
func (f *Fields) Bool(v *bool) {
	n := int64(0)
	if *v {
		n = 1
	}
	f.Int(&n)
	*v = n != 0
}

// Moment is a time to the microsecond; the zero time stays zero.
func (f *Fields) Moment(v *time.Time) {
	n := int64(0)
	if !v.IsZero() {
		n = v.UnixMicro()
	}
	if f.Int(&n); n != 0 {
		*v = time.UnixMicro(n)
	}
}

// Identifier is the identifier of another record, that records are found by.
func (f *Fields) Identifier(name string, v *ident.ID) {
	n := int64(*v)
	switch f.Int(&n); {
	case n == 0:
	case f.index != nil:
		f.index(name, lowerASCII(v.String()))
	case f.write != nil && f.write.noting.on:
		f.write.noting.ids = append(f.write.noting.ids, identifier{name, *v})
	}
	*v = ident.ID(n)
}

// Body is what is not needed to list a record or to find it. It is kept apart, and read only where it is asked for.
func (f *Fields) Body(v *[]byte) {
	f.n++
	switch {
	case f.write != nil:
		f.write.number(uint64(len(*v)))
		f.write.body = append(f.write.body, *v...)
	case f.read != nil && f.read.more():
		*v = f.read.slice()
	}
}

// encoder makes a block of records. It is used again and again.
type encoder struct {
	row, body []byte
	texts     []byte
	numbers   map[string]uint64 // of the texts, from 1; the empty text is 0
	last      ident.ID
	at        int64
	records   int
	fields    Fields
	noting    noting
}

func newEncoder() *encoder { return &encoder{numbers: map[string]uint64{}} }

func (e *encoder) reset() {
	e.row, e.body, e.texts, e.last, e.at, e.records = e.row[:0], e.body[:0], e.texts[:0], 0, 0, 0
	clear(e.numbers)
}

func (e *encoder) number(n uint64) { e.row = binary.AppendUvarint(e.row, n) }

// text writes a text, and returns its number; 0 for the empty one.
func (e *encoder) text(v string) uint64 {
	if v == "" {
		e.row = append(e.row, 0)
		return 0
	}
	n, known := e.numbers[v]
	if !known {
		n = uint64(len(e.numbers) + 1)
		e.numbers[v] = n
		e.texts = binary.AppendUvarint(e.texts, uint64(len(v)))
		e.texts = append(e.texts, v...)
	}
	e.number(n)
	return n
}

// note notes that a field, at its place among all, has a text by which its record is found.
func (e *encoder) note(place int, field string, text uint64) {
	if e.noting.on {
		e.noting.term(place, field, text)
	}
}

// add writes one record: how far it is from the one before, then its fields.
func add[T any](e *encoder, kind *Kind[T], r *T) {
	id, at := kind.Key(r)
	micros := at.UnixMicro()
	e.number(uint64(*id - e.last))
	e.row = binary.AppendVarint(e.row, micros-e.at)
	e.last, e.at = *id, micros
	e.records++
	e.fields = Fields{write: e}
	kind.Fields(&e.fields, r)
}

// head is the block without the bodies: the texts, then the records.
func (e *encoder) head(to []byte) []byte {
	to = binary.AppendUvarint(to, uint64(e.records))
	to = binary.AppendUvarint(to, uint64(e.fields.n))
	to = binary.AppendUvarint(to, uint64(len(e.numbers)))
	return append(append(to, e.texts...), e.row...)
}

var errBlock = errors.New("the block is damaged")

// decoder reads the records of a block. What is wrong is noted once, and reads as nothing from then on.
type decoder struct {
	rest    string
	texts   []string
	body    string
	bodies  bool
	fields  int
	left    int // fields of the present record that are left
	records int
	last    ident.ID
	at      int64
	err     error
	walk    Fields
}

// maxRecords bounds a block, and with it what a damaged one can ask for.
const maxRecords = 4096

func newDecoder(head string) *decoder {
	d := &decoder{rest: head}
	records, fields, texts := d.number(), d.number(), d.number()
	if d.err != nil || records > maxRecords || fields > 1000 || texts > uint64(len(head)) {
		d.err = errBlock
		return d
	}
	d.records, d.fields, d.texts = int(records), int(fields), make([]string, 1, texts+1)
	for range texts {
		d.texts = append(d.texts, d.take(&d.rest, d.number()))
	}
	return d
}

func (d *decoder) number() uint64 {
	v, n := uvarint(d.rest)
	if n <= 0 {
		d.err, d.rest = errBlock, ""
		return 0
	}
	d.rest = d.rest[n:]
	return v
}

func (d *decoder) signed() int64 {
	n := d.number()
	return int64(n>>1) ^ -int64(n&1)
}

// count is how many of something come, which each need at least an octet.
func (d *decoder) count() int {
	n := d.number()
	if n > uint64(len(d.rest)) {
		d.err, d.rest = errBlock, ""
		return 0
	}
	return int(n)
}

func (d *decoder) text() string {
	n := d.number()
	if n >= uint64(len(d.texts)) {
		d.err = errBlock
		return ""
	}
	return d.texts[n]
}

func (d *decoder) take(from *string, n uint64) string {
	if n > uint64(len(*from)) {
		d.err = errBlock
		return ""
	}
	out := (*from)[:n]
	*from = (*from)[n:]
	return out
}

func (d *decoder) slice() []byte {
	n := d.number()
	if !d.bodies {
		return nil
	}
	return []byte(d.take(&d.body, n))
}

func (d *decoder) more() bool {
	if d.left == 0 || d.err != nil {
		return false
	}
	d.left--
	return true
}

// next reads one record.
func next[T any](d *decoder, kind *Kind[T], r *T) error {
	id, at := kind.Key(r)
	d.last += ident.ID(d.number())
	d.at += d.signed()
	*id, *at = d.last, time.UnixMicro(d.at)
	d.left, d.walk = d.fields, Fields{read: d}
	kind.Fields(&d.walk, r)
	if d.err == nil && d.left > 0 {
		return fmt.Errorf("%w: a newer version wrote it, with %d fields more", errBlock, d.left)
	}
	return d.err
}

// uvarint is binary.Uvarint of a string.
func uvarint(text string) (uint64, int) {
	var v uint64
	for i := range min(len(text), binary.MaxVarintLen64) {
		b := text[i]
		if b < 0x80 {
			if i == binary.MaxVarintLen64-1 && b > 1 {
				return 0, -1
			}
			return v | uint64(b)<<(7*i), i + 1
		}
		v |= uint64(b&0x7f) << (7 * i)
	}
	return 0, 0
}

func lowerASCII(text string) string {
	return strings.Map(func(r rune) rune {
		if 'A' <= r && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, text)
}
