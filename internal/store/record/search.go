package record

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"runtime"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/sqlite"
)

// ErrNotFound is returned for a record that is not there, or not any more.
var ErrNotFound = errors.New("not found")

// ErrBusy is returned where so many search that one had no turn.
var ErrBusy = errors.New("too many searches are under way. Try again in a moment")

// searchesAtOnce bounds how many search at a time, so that readers are left for who asks for one record; maxTurn is how
// long one waits for its turn.
var searchesAtOnce = max(2, runtime.GOMAXPROCS(0))

const maxTurn = 10 * time.Second

// search is one search under way, in one snapshot of the file.
type search[T any] struct {
	k        *Keeper[T]
	tx       *sqlx.Tx
	q        *Query[T]
	up       bool // the oldest first
	low      ident.ID
	high     ident.ID // both excluded
	since    int64
	until    int64
	patterns [][]Pattern // of the lookups of each condition
	deadline time.Time
	page     Page[T]
	// each takes what was found of a block, instead of the page; nil for a page. It gives lists back by used.
	each func([]T) error
	used chan []T
}

// spare is a list that is used again, nil if there is none.
func (s *search[T]) spare() []T {
	select {
	case list := <-s.used:
		return list
	default:
		return nil
	}
}

// errEnough ends a search that found as much as was asked for, errLate one whose time is over.
var errEnough, errLate = errors.New("enough"), errors.New("late")

// List lists records.
func (k *Keeper[T]) List(ctx context.Context, q Query[T]) (Page[T], error) {
	return k.search(ctx, q, nil, nil)
}

// search lists records, or hands them out block by block.
func (k *Keeper[T]) search(ctx context.Context, q Query[T], each func([]T) error, used chan []T) (Page[T], error) {
	s := &search[T]{k: k, q: &q, each: each, used: used, up: q.After != 0 && q.Before == 0, low: q.After,
		high: q.Before, since: math.MinInt64, until: math.MaxInt64}
	s.page.Items = []T{}
	if q.Before == 0 {
		s.high = math.MaxInt64
	}
	if !q.Since.IsZero() {
		s.since = q.Since.UnixMicro()
	}
	if !q.Until.IsZero() {
		s.until = q.Until.UnixMicro()
	}
	for _, c := range q.Conditions {
		var list []Pattern
		for _, in := range c.In {
			list = append(list, NewPattern(in.Pattern))
		}
		s.patterns = append(s.patterns, list)
	}
	turn := time.NewTimer(maxTurn)
	defer turn.Stop()
	select {
	case k.searches <- struct{}{}:
		defer func() { <-k.searches }()
	case <-ctx.Done():
		return s.page, ctx.Err()
	case <-turn.C:
		return s.page, ErrBusy
	}
	if q.Patience > 0 {
		s.deadline = time.Now().Add(q.Patience)
	}
	tx, err := k.file.Read.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return s.page, k.failed("searching", err)
	}
	defer tx.Rollback()
	s.tx = tx
	err = s.run(ctx)
	switch {
	case err == nil, errors.Is(err, errEnough), errors.Is(err, errLate):
		return s.page, nil
	case ctx.Err() != nil:
		return s.page, ctx.Err()
	}
	return s.page, k.failed("searching", err)
}

func (k *Keeper[T]) failed(what string, err error) error {
	if sqlite.Damaged(err) {
		return fmt.Errorf("%s in %s: the file is damaged. Restore a backup; a service that starts sets the file "+
			"aside: %w",
			what, k.file.Path, err)
	}
	return fmt.Errorf("%s in %s: %w", what, k.file.Path, err)
}

// run goes through segments and what is behind them, in the direction that was asked for.
func (s *search[T]) run(ctx context.Context) error {
	if err := s.narrow(ctx); err != nil {
		return err
	}
	var sealed ident.ID
	if err := s.tx.GetContext(ctx, &sealed, "SELECT coalesce(max(last), 0) FROM segments"); err != nil {
		return err
	}
	if s.up {
		if err := s.segments(ctx); err != nil {
			return err
		}
		return s.loose(ctx, sealed)
	}
	if err := s.loose(ctx, sealed); err != nil {
		return err
	}
	return s.segments(ctx)
}

// narrow turns the bounds of time into bounds of identifiers, which are in the order of recording and so nearly in that
// of time.
func (s *search[T]) narrow(ctx context.Context) error {
	if s.since > math.MinInt64 {
		var first ident.ID
		if err := s.tx.GetContext(ctx, &first, "SELECT coalesce(min(id), 1 << 62) FROM blocks INDEXED BY "+
			"blocks_in_time "+
			"WHERE until >= ?", s.since); err != nil {
			return err
		}
		s.low = max(s.low, first-1)
	}
	if s.until < math.MaxInt64 {
		var last ident.ID
		if err := s.tx.GetContext(ctx, &last, "SELECT coalesce(max(id), 0) FROM blocks INDEXED BY "+
			"blocks_in_time WHERE "+
			"since < ?", s.until); err != nil {
			return err
		}
		if last == 0 {
			s.high = 0
		} else if err := s.tx.GetContext(ctx, &last, "SELECT last FROM blocks WHERE id = ?", last); err != nil {
			return err
		}
		s.high = min(s.high, last+1)
	}
	return nil
}

func (s *search[T]) order() string {
	if s.up {
		return "ASC"
	}
	return "DESC"
}

// loose looks at blocks behind the last segment.
func (s *search[T]) loose(ctx context.Context, sealed ident.ID) error {
	return s.blocks(ctx, "SELECT id, last, n, since, until, head FROM blocks WHERE id > ? AND id < ? AND last > ? AND "+
		"until >= ? AND since < ? ORDER BY id "+s.order(), sealed, s.high, s.low, s.since, s.until)
}

// blocks looks at the blocks of a query.
func (s *search[T]) blocks(ctx context.Context, query string, args ...any) error {
	rows, err := s.tx.QueryxContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var b Block
		if err := rows.Scan(&b.ID, &b.Last, &b.N, &b.Since, &b.Until, &b.Head); err != nil {
			return err
		}
		if err := s.look(ctx, &b); err != nil {
			return err
		}
	}
	return rows.Err()
}

// decode reads the records of a block.
func decode[T any](kind *Kind[T], b *Block, bodies bool) ([]T, error) {
	return decodeIn(nil, kind, b, bodies)
}

// decodeIn reads the records of a block into a list that is used again, if they have room in it.
func decodeIn[T any](list []T, kind *Kind[T], b *Block, bodies bool) ([]T, error) {
	d, err := b.open(bodies)
	if err != nil {
		return nil, err
	}
	if list = list[:cap(list)]; len(list) < d.records {
		list = make([]T, d.records)
	}
	list = list[:d.records]
	clear(list)
	for i := range list {
		if err := next(d, kind, &list[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// look goes through the records of a block.
func (s *search[T]) look(ctx context.Context, b *Block) error {
	list, err := decodeIn(s.spare(), &s.k.kind, b, false)
	if err != nil {
		s.page.Unreadable += b.N
		return s.late(b)
	}
	if s.each != nil {
		return s.hand(list)
	}
	var whole []T // with their bodies, once one is needed
	for n := range list {
		i := n
		if !s.up {
			i = len(list) - 1 - n
		}
		r := &list[i]
		if !s.wanted(r) {
			continue
		}
		if len(s.page.Items) == s.q.Limit {
			last, _ := s.k.kind.Key(&s.page.Items[len(s.page.Items)-1])
			s.page.Next = *last
			return errEnough
		}
		if s.q.Bodies != nil && s.q.Bodies(r) {
			if whole == nil {
				if err := s.tx.GetContext(ctx, &b.Body, "SELECT body FROM blocks WHERE id = ?", b.ID); err != nil {
					return err
				}
				if whole, err = decode(&s.k.kind, b, true); err != nil {
					s.page.Unreadable += len(list) // they are listed without what is damaged
					whole = list
				}
			}
			r = &whole[i]
		}
		s.page.Items = append(s.page.Items, *r)
	}
	return s.late(b)
}

// wanted reports whether a record is one of those that are searched.
func (s *search[T]) wanted(r *T) bool {
	id, at := s.k.kind.Key(r)
	micros := at.UnixMicro()
	return *id > s.low && *id < s.high && micros >= s.since && micros < s.until && fits(s.q.Conditions, r)
}

// hand hands out what is wanted of a block.
func (s *search[T]) hand(list []T) error {
	n := 0
	for i := range list {
		if s.wanted(&list[i]) {
			if i != n {
				list[n] = list[i]
			}
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return s.each(list[:n])
}

// readAhead is how many blocks are read before they are wanted.
const readAhead = 64

// Walk goes through all records that a query asks for, without their bodies and in the order of recording, and hands
// them out some at a time: Before, the limit and the patience do not count. Reading goes on meanwhile, and a list is
// used again once each has returned. Damaged blocks are left out. An error of each ends it.
func (k *Keeper[T]) Walk(ctx context.Context, q Query[T], each func([]T) error) error {
	if q.Limit, q.Before, q.Bodies, q.Patience = 0, 0, nil, 0; q.After == 0 {
		q.After = 1 // the oldest first
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	found, used, ended := make(chan []T, readAhead), make(chan []T, readAhead), make(chan error, 1)
	go func() {
		defer close(found)
		_, err := k.search(ctx, q, func(list []T) error {
			select {
			case found <- list:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}, used)
		ended <- err
	}()
	for list := range found {
		if err := each(list); err != nil {
			return err
		}
		select {
		case used <- list:
		default:
		}
	}
	return <-ended
}

// late ends a search whose time is over, behind a block.
func (s *search[T]) late(b *Block) error {
	if s.deadline.IsZero() || time.Now().Before(s.deadline) {
		return nil
	}
	if s.up {
		s.page.Next, s.page.Searched = b.Last, time.UnixMicro(b.Until)
	} else {
		s.page.Next, s.page.Searched = b.ID, time.UnixMicro(b.Since)
	}
	return errLate
}

func blockOf(ctx context.Context, from sqlx.QueryerContext, id ident.ID) (*Block, error) {
	var b Block
	err := sqlx.GetContext(ctx, from, &b, "SELECT id, last, n, since, until, head, body FROM blocks WHERE id <= "+
		"? ORDER "+
		"BY id DESC LIMIT 1", id)
	return &b, err
}

// Get returns one record with its body; ErrNotFound if it is not there.
func (k *Keeper[T]) Get(ctx context.Context, id ident.ID) (T, error) {
	var none T
	b, err := blockOf(ctx, k.file.Read, id)
	if errors.Is(err, sql.ErrNoRows) {
		return none, ErrNotFound
	}
	if err != nil {
		return none, k.failed("reading a record", err)
	}
	list, err := decode(&k.kind, b, true)
	if err != nil {
		return none, fmt.Errorf("reading record %s in %s: %w", id, k.file.Path, err)
	}
	for i := range list {
		if at, _ := k.kind.Key(&list[i]); *at == id {
			return list[i], nil
		}
	}
	return none, ErrNotFound
}

// Count counts the records of a time.
func (k *Keeper[T]) Count(ctx context.Context, since, until time.Time) (n int, err error) {
	from, to := since.UnixMicro(), until.UnixMicro()
	if err = k.file.Read.GetContext(ctx, &n, "SELECT coalesce(sum(n), 0) FROM blocks INDEXED BY blocks_in_time WHERE "+
		"until >= ?1 AND since >= ?1 AND until < ?2", from, to); err != nil {
		return 0, k.failed("counting", err)
	}
	var edge []Block
	if err = k.file.Read.SelectContext(ctx, &edge, "SELECT id, last, n, since, until, head FROM blocks WHERE "+
		"until >= ?1 "+
		"AND since < ?2 AND (since < ?1 OR until >= ?2)", from, to); err != nil {
		return 0, k.failed("counting", err)
	}
	for i := range edge {
		list, err := decode(&k.kind, &edge[i], false)
		for j := 0; err == nil && j < len(list); j++ {
			if _, at := k.kind.Key(&list[j]); at.UnixMicro() >= from && at.UnixMicro() < to {
				n++
			}
		}
	}
	return n, nil
}
