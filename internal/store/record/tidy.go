package record

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"maps"
	"runtime"
	"slices"

	"tollgate.example/key/internal/base/ident"
)

const (
	// segmentSize is how many records a segment has at least.
	segmentSize = 1 << 14
	// maxWaiting is how many records may wait for a segment while others are queued.
	maxWaiting = 4 * segmentSize
	// pageValues is how many values of a segment share a row.
	pageValues = 256
)

// behind reports that too much waits for a segment to be left to quieter times.
func (w *writer[T]) behind() bool { return w.waiting > maxWaiting }

// tidy does one step of what makes records small and quick to find, and reports whether there was one: it merges small
// blocks, or makes a segment.
func (w *writer[T]) tidy(ctx context.Context) bool {
	var err error
	if from, to := w.mergeable(); to > from && !w.behind() {
		err = w.merge(ctx, from, to)
	} else if w.waiting >= segmentSize {
		err = w.seal(ctx)
	} else {
		return false
	}
	if err != nil {
		w.log.Error("records could not be put in order", err, "file", w.k.file.Name())
	}
	return err == nil
}

// mergeable finds small blocks next to each other that make a full one.
func (w *writer[T]) mergeable() (from, to int) {
	records := 0
	for i, u := range w.tail {
		if u.N >= smallBlock {
			from, records = i+1, 0
			continue
		}
		if records += u.N; records >= blockSize {
			return from, i + 1
		}
	}
	return 0, 0
}

// merge makes as few blocks as can be of some that are next to each other.
func (w *writer[T]) merge(ctx context.Context, from, to int) error {
	var list []*T
	for _, u := range w.tail[from:to] {
		b, err := w.read(ctx, u.ID)
		if err == nil {
			var some []T
			some, err = decode(&w.k.kind, &b, true)
			for i := range some {
				list = append(list, &some[i])
			}
		}
		if err != nil {
			w.tail[from].N = smallBlock // it stays as it is, and the others are merged without it
			return fmt.Errorf("merging block %s: %w", u.ID, err)
		}
	}
	var made []Block
	var units []unit
	for _, part := range chunks(list) {
		b := encode(w.encoder, w.packer, &w.k.kind, part)
		made, units = append(made, b), append(units, w.unit(&b))
	}
	err := w.within(func() error {
		for _, u := range w.tail[from:to] {
			if _, err := w.gone.ExecContext(ctx, int64(u.ID)); err != nil {
				return err
			}
		}
		for i := range made {
			if err := w.put(&made[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	w.tail = slices.Replace(w.tail, from, to, units...)
	return nil
}

func (w *writer[T]) read(ctx context.Context, id ident.ID) (b Block, err error) {
	err = w.conn.GetContext(ctx, &b, "SELECT id, last, n, since, until, head, body FROM blocks WHERE id = ?", id)
	return b, err
}

// terms are the values of one field in a segment, each with the places of the blocks where it occurs.
type terms map[string][]uint32

// seal makes a segment of the oldest blocks that are in none.
func (w *writer[T]) seal(ctx context.Context) error {
	fields := map[string]terms{}
	var since, until int64
	count, records := 0, 0
	for records < segmentSize && count < len(w.tail) {
		u := &w.tail[count]
		if err := w.collect(ctx, u, uint32(count), fields); err != nil {
			return fmt.Errorf("making a segment: %w", err)
		}
		if count == 0 {
			since, until = u.since, u.until
		}
		since, until = min(since, u.since), max(until, u.until)
		records += u.N
		count++
		runtime.Gosched() // somebody may be waiting for an answer on this core
	}
	places, before := []byte(nil), ident.ID(0)
	for _, u := range w.tail[:count] {
		places, before = binary.AppendUvarint(places, uint64(u.ID-before)), u.ID
	}
	id, last := w.tail[0].ID, w.tail[count-1].Last
	err := w.within(func() error {
		if _, err := w.conn.ExecContext(ctx, "INSERT INTO segments (id, last, since, until, blocks) VALUES (?, ?, ?, "+
			"?, ?)", id, last, since, until, w.packer.blob(places, true)); err != nil {
			return err
		}
		for _, field := range slices.Sorted(maps.Keys(fields)) {
			values := slices.Sorted(maps.Keys(fields[field]))
			for page := range slices.Chunk(values, pageValues) {
				if _, err := w.conn.ExecContext(ctx, "INSERT INTO terms (segment, field, first, data) VALUES "+
					"(?, ?, ?, "+
					"?)", id, field, page[0], w.packer.blob(encodeTerms(page, fields[field]), true)); err != nil {
					return err
				}
				runtime.Gosched()
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("making a segment: %w", err)
	}
	w.tail, w.waiting = slices.Delete(w.tail, 0, count), w.waiting-records
	return nil
}

// collect notes what the records of a block are found by. A damaged block has nothing that can be found.
func (w *writer[T]) collect(ctx context.Context, u *unit, place uint32, fields map[string]terms) error {
	note := func(field, value string) {
		values := fields[field]
		if values == nil {
			values = terms{}
			fields[field] = values
		}
		if list := values[value]; len(list) == 0 || list[len(list)-1] != place {
			values[value] = append(list, place)
		}
	}
	if u.found != nil {
		u.found.each(note)
		return nil
	}
	b, err := w.read(ctx, u.ID)
	if err != nil {
		return err
	}
	u.since, u.until = b.Since, b.Until
	list, err := decode(&w.k.kind, &b, false)
	index := Fields{index: note}
	for i := range list {
		w.k.kind.Fields(&index, &list[i])
	}
	if err != nil {
		w.log.Error("a damaged block cannot be found by what is in it", err, "file", w.k.file.Name(), "block", b.ID)
	}
	return nil
}

// encodeTerms writes sorted values, each as how much it has in common with the one before, the rest, and its places.
func encodeTerms(values []string, places terms) []byte {
	var out, list []byte
	before := ""
	for _, value := range values {
		same := common(before, value)
		out = binary.AppendUvarint(out, uint64(same))
		out = binary.AppendUvarint(out, uint64(len(value)-same))
		out = append(out, value[same:]...)
		list, last := list[:0], uint32(0)
		for _, place := range places[value] {
			list = binary.AppendUvarint(list, uint64(place-last))
			last = place
		}
		out = binary.AppendUvarint(out, uint64(len(list)))
		out = append(out, list...)
		before = value
	}
	return out
}

func common(a, b string) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return i
		}
	}
	return n
}

// decodeTerms goes through the values of a row, with their places as they are written, until the function returns
// false. It must not keep what it is given.
func decodeTerms(data []byte, each func(value, places []byte) bool) error {
	var value, rest, places []byte
	for len(data) > 0 {
		same, n := binary.Uvarint(data)
		if n <= 0 || same > uint64(len(value)) {
			return errBlock
		}
		var err error
		if rest, data, err = sized(data[n:]); err != nil {
			return err
		}
		if places, data, err = sized(data); err != nil {
			return err
		}
		if value = append(value[:same], rest...); !each(value, places) {
			return nil
		}
	}
	return nil
}

// sized takes what has its size before it off the data.
func sized(data []byte) (part, rest []byte, err error) {
	size, n := binary.Uvarint(data)
	if n <= 0 || size > uint64(len(data)-n) {
		return nil, nil, errBlock
	}
	return data[n : n+int(size)], data[n+int(size):], nil
}

// decodePlaces reads the blocks of a segment.
func decodePlaces(blob []byte) ([]ident.ID, error) {
	data, err := plain(blob)
	if err != nil {
		return nil, err
	}
	d := &decoder{rest: string(data)}
	var out []ident.ID
	id := ident.ID(0)
	for d.rest != "" && d.err == nil {
		id += ident.ID(d.number())
		out = append(out, id)
	}
	if !slices.IsSortedFunc(out, func(a, b ident.ID) int { return cmp.Compare(a, b) }) {
		return nil, errBlock
	}
	return out, d.err
}
