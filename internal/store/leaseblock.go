package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// LeaseBlock is a block of addresses that one node gives to sessions.
type LeaseBlock struct {
	Block string `db:"block"` // prefix
	// Node is -1 where the one that had it was removed; Since is in milliseconds since 1970.
	Node  int   `db:"node"`
	Since int64 `db:"since"`
}

// LeaseBlocks lists the blocks that nodes have.
func (s *Store) LeaseBlocks(ctx context.Context) ([]LeaseBlock, error) {
	var out []LeaseBlock
	err := s.db.SelectContext(ctx, &out, "SELECT block, node, since FROM lease_blocks")
	return out, err
}

// LeaseBlock returns one block; ErrNotFound if nobody has it.
func (s *Store) LeaseBlock(ctx context.Context, block string) (out LeaseBlock, err error) {
	err = s.db.GetContext(ctx, &out, "SELECT block, node, since FROM lease_blocks WHERE block = ?", block)
	return out, notFound(err)
}

// ClaimBlocks gives a node up to so many of the blocks that nobody has, the first of the list first. One that rests is
// to be had if it does since before a moment.
func (s *Store) ClaimBlocks(ctx context.Context, list []string, want, node int, now, rested int64) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		claim, err := tx.PreparexContext(ctx, "INSERT INTO lease_blocks (block, node, since) VALUES (?, ?, ?) ON "+
			"CONFLICT (block) DO UPDATE SET node = excluded.node, since = excluded.since WHERE node = -1 AND since < ?")
		if err != nil {
			return err
		}
		defer claim.Close()
		for _, block := range list {
			if want == 0 {
				break
			}
			result, err := claim.ExecContext(ctx, block, node, now, rested)
			if err != nil {
				return err
			}
			if n, err := result.RowsAffected(); err != nil {
				return err
			} else if n > 0 {
				want--
			}
		}
		return nil
	})
}

// ReleaseBlocks gives blocks of a node back.
func (s *Store) ReleaseBlocks(ctx context.Context, list []string, node int) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		for _, block := range list {
			if _, err := tx.ExecContext(ctx, "DELETE FROM lease_blocks WHERE block = ? AND node = ?", block,
				node); err != nil {
				return err
			}
		}
		return nil
	})
}

// rest has blocks rest that nodes had which are no more.
func rest(ctx context.Context, tx *sqlx.Tx, which string, number int, now int64) error {
	_, err := tx.ExecContext(ctx, "UPDATE lease_blocks SET node = -1, since = ? WHERE "+which, now, number)
	return err
}
