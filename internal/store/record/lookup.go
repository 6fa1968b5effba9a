package record

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"strings"

	"tollgate.example/key/internal/base/ident"
)

// segments looks where the conditions can be fulfilled in each segment.
func (s *search[T]) segments(ctx context.Context) error {
	type row struct {
		ID     ident.ID `db:"id"`
		Last   ident.ID `db:"last"`
		Since  int64    `db:"since"`
		Until  int64    `db:"until"`
		Blocks []byte   `db:"blocks"`
	}
	cursorLow, cursorHigh := s.low, s.high
	for {
		var list []row
		if err := s.tx.SelectContext(ctx, &list, "SELECT id, last, since, until, blocks FROM segments WHERE id "+
			"< ? AND "+
			"last > ? ORDER BY id "+s.order()+" LIMIT 8", cursorHigh, cursorLow); err != nil {
			return err
		}
		for i := range list {
			seg := &list[i]
			if s.up {
				cursorLow = seg.Last
			} else {
				cursorHigh = seg.ID
			}
			if seg.Until < s.since || seg.Since >= s.until {
				continue
			}
			ids, err := decodePlaces(seg.Blocks)
			var where places
			if err == nil {
				where, err = s.where(ctx, seg.ID, len(ids))
			}
			if errors.Is(err, errBlock) { // without its terms, every block is looked at
				err = s.blocks(ctx, "SELECT id, last, n, since, until, head FROM blocks WHERE id >= ? AND id <= ? "+
					"AND id < "+
					"? AND last > ? ORDER BY id "+s.order(), seg.ID, seg.Last, s.high, s.low)
			} else if err == nil {
				err = s.candidates(ctx, ids, where)
			}
			if err != nil {
				return err
			}
			if err := s.late(&Block{ID: seg.ID, Last: seg.Last, Since: seg.Since, Until: seg.Until}); err != nil {
				return err
			}
		}
		if len(list) == 0 {
			return nil
		}
	}
}

// candidates looks at the blocks of a segment in which all conditions can be fulfilled, at those beside each other with
// one query.
func (s *search[T]) candidates(ctx context.Context, ids []ident.ID, where places) error {
	wanted := func(i int) bool {
		return (where == nil || where.has(i)) && ids[i] < s.high && (i+1 == len(ids) || ids[i+1] > s.low+1)
	}
	for n := 0; n < len(ids); n++ {
		place := func(n int) int {
			if s.up {
				return n
			}
			return len(ids) - 1 - n
		}
		if !wanted(place(n)) {
			continue
		}
		first, last := place(n), place(n)
		for ; n+1 < len(ids) && wanted(place(n+1)); n++ {
			first, last = min(first, place(n+1)), max(last, place(n+1))
		}
		if err := s.blocks(ctx, "SELECT id, last, n, since, until, head FROM blocks WHERE id >= ? AND id <= ? AND "+
			"last > ? AND until >= ? AND since < ? ORDER BY id "+s.order(), ids[first], ids[last], s.low, s.since,
			s.until); err != nil {
			return err
		}
	}
	return nil
}

// places are blocks of a segment, by their place; nil is all of them.
type places []uint64

func (p places) has(i int) bool { return p[i/64]&(1<<(i%64)) != 0 }

// add adds places as they are written.
func (p places) add(list []byte, n int) {
	for place := uint64(0); len(list) > 0; {
		more, size := binary.Uvarint(list)
		if size <= 0 {
			return
		}
		if place, list = place+more, list[size:]; place < uint64(n) {
			p[place/64] |= 1 << (place % 64)
		}
	}
}

// where finds the blocks of a segment in which all conditions can be fulfilled.
func (s *search[T]) where(ctx context.Context, segment ident.ID, n int) (places, error) {
	var all places
	for i := range s.q.Conditions {
		if len(s.patterns[i]) == 0 {
			continue
		}
		one := make(places, (n+63)/64)
		for j, in := range s.q.Conditions[i].In {
			if err := s.lookup(ctx, segment, in.Field, s.patterns[i][j], n, one); err != nil {
				return nil, err
			}
		}
		if all == nil {
			all = one
			continue
		}
		for w := range all {
			all[w] &= one[w]
		}
	}
	return all, nil
}

// lookup adds the places of the values that match.
func (s *search[T]) lookup(ctx context.Context, segment ident.ID, field string, pattern Pattern, n int,
	to places) error {
	prefix, exact := pattern.prefix()
	rows, err := s.tx.QueryContext(ctx, "SELECT first, data FROM terms WHERE segment = ?1 AND field = ?2 AND first >= "+
		"coalesce((SELECT first FROM terms WHERE segment = ?1 AND field = ?2 AND first <= ?3 ORDER BY first DESC "+
		"LIMIT 1), "+
		"'') ORDER BY first", segment, field, string(prefix))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var first string
		var data []byte
		if err := rows.Scan(&first, &data); err != nil {
			return err
		}
		if first > string(prefix) && !strings.HasPrefix(first, string(prefix)) {
			return nil
		}
		content, err := plain(data)
		if err != nil {
			return errBlock
		}
		ended := false
		err = decodeTerms(content, func(value, list []byte) bool {
			if bytes.Compare(value, prefix) > 0 && (exact || !bytes.HasPrefix(value, prefix)) {
				ended = true
				return false
			}
			if pattern.matchLower(value) {
				to.add(list, n)
			}
			return true
		})
		if err != nil || ended {
			return err
		}
	}
	return rows.Err()
}
