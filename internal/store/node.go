package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Node is one of those that share the log; times are in milliseconds since 1970.
type Node struct {
	Number  int    `db:"number"`
	Name    string `db:"name"`
	Witness bool   `db:"witness"`
	// Address is where other nodes reach it, Engine the URL of its engine, Member what that is called there.
	Address     string `db:"address"`
	Engine      string `db:"engine"`
	Member      string `db:"member"`
	Fingerprint string `db:"fingerprint"`
	Version     string `db:"version"`
	JoinedAt    int64  `db:"joined_at"`
	JoinedBy    string `db:"joined_by"`
}

const selectNode = "SELECT number, name, witness, address, engine, member, fingerprint, version, joined_at, " +
	"joined_by FROM nodes "

// maxNode is the highest number of a node: it is part of identifiers.
const maxNode = 255

// ErrTooMany is returned where there are as many nodes as there can be.
var ErrTooMany = errors.New("there are 256 nodes already")

// Nodes lists the nodes by number; none while there is but this one.
func (s *Store) Nodes(ctx context.Context) ([]Node, error) {
	out := []Node{}
	err := s.db.SelectContext(ctx, &out, selectNode+"ORDER BY number")
	return out, err
}

const insertNode = `INSERT INTO nodes (number, name, witness, address, engine, member, fingerprint, version, joined_at,
	joined_by) VALUES (:number, :name, :witness, :address, :engine, :member, :fingerprint, :version, :joined_at,
	:joined_by)`

// FirstNode stores this node as the first of those to come, with the authority that issues their certificates.
func (s *Store) FirstNode(ctx context.Context, n Node, certificate, key string) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		for _, table := range []string{"nodes", "invitations", "node_authority"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO node_authority (only, certificate, key) VALUES (1, ?, ?)",
			certificate, key); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, insertNode, n)
		return err
	})
}

// NodeAuthority returns certificate and sealed key of the authority of the nodes; ErrNotFound if there is none.
func (s *Store) NodeAuthority(ctx context.Context) (certificate, key string, err error) {
	err = s.db.QueryRowxContext(ctx, "SELECT certificate, key FROM node_authority").Scan(&certificate, &key)
	return certificate, key, notFound(err)
}

// ErrAddress is returned where a node is to join at an address, or with an engine, that another one has.
var ErrAddress = errors.New("another node is reached there")

// Invitation is one that was not used yet; times are in milliseconds since 1970.
type Invitation struct {
	Hash []byte `db:"hash"`
	Name string `db:"name"`
	// Witness lets a witness join and nobody else.
	Witness bool   `db:"witness"`
	Until   int64  `db:"until"`
	MadeBy  string `db:"made_by"`
}

// Invited tells whether there is an invitation with a hash that is not over.
func (s *Store) Invited(ctx context.Context, hash []byte, now int64) (there bool, err error) {
	err = s.db.GetContext(ctx, &there, "SELECT EXISTS (SELECT 1 FROM invitations WHERE hash = ? AND until > ?)", hash,
		now)
	return there, err
}

// AddInvitation keeps an invitation; those that are over go.
func (s *Store) AddInvitation(ctx context.Context, i Invitation, now int64) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM invitations WHERE until < ?", now); err != nil {
			return err
		}
		var there bool
		if err := tx.GetContext(ctx, &there, "SELECT EXISTS (SELECT 1 FROM nodes WHERE name = ?)", i.Name); err != nil {
			return err
		}
		if there {
			return ErrTaken
		}
		_, err := tx.NamedExecContext(ctx, "INSERT INTO invitations (hash, name, witness, until, made_by) VALUES "+
			"(:hash, :name, :witness, :until, :made_by)", i)
		return err
	})
}

// AddNode takes an invitation, which counts once, and adds the node that shows it. Its number is one that no node had
// before, as long as there are any: records are told by it. ErrNotFound tells that there is no such invitation, or not
// any more.
func (s *Store) AddNode(ctx context.Context, hash []byte, now int64, n Node) (Node, error) {
	err := s.within(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &n.JoinedBy, "DELETE FROM invitations WHERE hash = ? AND name = ? AND until > ? "+
			"AND (witness = 0 OR ?) RETURNING made_by", hash, n.Name, now, n.Witness); err != nil {
			return notFound(err)
		}
		var there bool
		if err := tx.GetContext(ctx, &there, "SELECT EXISTS (SELECT 1 FROM nodes WHERE address = ? OR "+
			"engine <> '' AND engine = ?)", n.Address, n.Engine); err != nil {
			return err
		}
		if there {
			return ErrAddress
		}
		if err := number(ctx, tx, &n); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, insertNode, n)
		return taken(err)
	})
	return n, err
}

// number gives a node its number.
func number(ctx context.Context, tx *sqlx.Tx, n *Node) error {
	if err := tx.GetContext(ctx, &n.Number, "SELECT 1 + max((SELECT coalesce(max(number), 0) FROM nodes), "+
		"(SELECT coalesce(max(highest), 0) FROM node_settings))"); err != nil {
		return err
	}
	if n.Number > maxNode {
		var used []int
		if err := tx.SelectContext(ctx, &used, "SELECT number FROM nodes"); err != nil {
			return err
		}
		for n.Number = 0; slices.Contains(used, n.Number); n.Number++ {
			if n.Number == maxNode {
				return ErrTooMany
			}
		}
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO node_settings (only, codes, highest) VALUES (1, 'refuse', ?) "+
		"ON CONFLICT (only) DO UPDATE SET highest = max(highest, excluded.highest)", n.Number)
	return err
}

// SaveNode stores what changes of a node: its member of the engine and its version.
func (s *Store) SaveNode(ctx context.Context, n Node) error {
	return s.exec(ctx, "UPDATE nodes SET member = ?, version = ? WHERE number = ?", n.Member, n.Version, n.Number)
}

// RemoveNode removes a node. The addresses that it gives to sessions rest.
func (s *Store) RemoveNode(ctx context.Context, number int, now int64) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if err := rest(ctx, tx, "node = ?", number, now); err != nil {
			return err
		}
		return touched(tx.ExecContext(ctx, "DELETE FROM nodes WHERE number = ?", number))
	})
}

// OnlyNode makes this node the only one that is left, in a new epoch of the log.
func (s *Store) OnlyNode(ctx context.Context, number int, member, epoch string, now int64) error {
	return s.here(ctx, func(tx *sqlx.Tx) error {
		if err := rest(ctx, tx, "node <> ? AND node <> -1", number, now); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM nodes WHERE number <> ?", number); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE nodes SET member = ?", member); err != nil {
			return err
		}
		return touched(tx.ExecContext(ctx, "UPDATE shared_state SET epoch = ?", epoch))
	})
}

// Alone makes a database that was restored that of a single node, whatever it was when it was saved.
func (s *Store) Alone(ctx context.Context) error {
	err := s.here(ctx, func(tx *sqlx.Tx) error {
		for _, table := range []string{"shared_state", "nodes", "invitations", "node_authority", "lease_blocks",
			"unshared"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		s.member.Store(false)
	}
	return err
}

// sharedNames lists the shared tables by name, those that others refer to first.
func (s *Store) sharedNames() []string {
	var out []string
	for name := range s.tables {
		if name != "operators" {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return append([]string{"operators"}, out...)
}

// Snapshot writes the shared tables, and how far they have come in the log, into a new file.
func (s *Store) Snapshot(ctx context.Context, path string) error {
	if _, err := s.db.ExecContext(ctx, "VACUUM INTO ?", path); err != nil {
		return fmt.Errorf("copying the database: %w", err)
	}
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=journal_mode(DELETE)&_pragma=secure_delete(1)")
	if err != nil {
		return err
	}
	defer db.Close()
	var names []string
	if err := db.SelectContext(ctx, &names, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE "+
		"'sqlite_%' AND name NOT LIKE 'goose%' AND name <> 'shared_state'"); err != nil {
		return err
	}
	for _, name := range names {
		if s.tables[name] == nil { // what is of this node alone stays here
			if _, err := db.ExecContext(ctx, "DELETE FROM "+name); err != nil {
				return fmt.Errorf("leaving %s out of the copy: %w", name, err)
			}
		}
	}
	_, err = db.ExecContext(ctx, "VACUUM")
	return errors.Join(err, os.Chmod(path, 0o600))
}

// TakeSnapshot makes the shared tables what a snapshot of another node says, and returns the records that are others
// now. Rows that are the same are not touched.
func (s *Store) TakeSnapshot(ctx context.Context, path string) ([]Touched, error) {
	conn, err := s.single.Connx(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "ATTACH ? AS other", path); err != nil {
		return nil, fmt.Errorf("opening the copy of another node: %w", err)
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "DETACH other")
	rows := touchedRows{}
	if err := watch(ctx, conn, s.tables, &rows); err != nil {
		return nil, err
	}
	defer watch(ctx, conn, nil, nil)
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "PRAGMA defer_foreign_keys = ON"); err != nil {
		return nil, err
	}
	for _, name := range s.sharedNames() {
		if err := s.tables[name].same(ctx, tx, name); err != nil {
			return nil, fmt.Errorf("taking %s over: %w", name, err)
		}
	}
	if err := touched(tx.ExecContext(ctx, "UPDATE shared_state SET (epoch, applied) = (SELECT epoch, applied FROM "+
		"other.shared_state)")); err != nil {
		return nil, err
	}
	var applied int64
	if applied, err = appliedIn(ctx, tx); err != nil {
		return nil, err
	}
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	var out []Touched
	seen := map[Touched]bool{}
	for id := range rows {
		if id.key == "" { // how far the file has come
			continue
		}
		key, err := decodeValues([]byte(id.key))
		if err != nil {
			return nil, err
		}
		if c := s.tables[id.table].told(key); c.Kind != "" && !seen[c] {
			seen[c] = true
			out = append(out, c)
		}
	}
	if h := s.shared.Load(); h != nil {
		h.mu.Lock()
		for _, c := range out {
			h.others[c] = applied
		}
		h.applied = applied
		close(h.moved)
		h.moved = make(chan struct{})
		h.mu.Unlock()
	}
	return out, nil
}

// same makes a table the same as that of the other file.
func (t *sharedTable) same(ctx context.Context, tx *sqlx.Tx, name string) error {
	var names, on, alike, set []string
	for _, c := range t.columns {
		names = append(names, c.Name)
		alike = append(alike, "m."+c.Name+" IS o."+c.Name)
		set = append(set, c.Name+" = excluded."+c.Name)
	}
	for _, k := range t.key {
		on = append(on, "m."+k+" = o."+k)
	}
	key, all := strings.Join(t.key, ", "), strings.Join(names, ", ")
	for _, query := range []string{
		"DELETE FROM main." + name + " AS m WHERE NOT EXISTS (SELECT 1 FROM other." + name + " o WHERE " +
			strings.Join(on, " AND ") + ")",
		"INSERT INTO main." + name + " (" + all + ") SELECT " + all + " FROM other." + name + " o WHERE NOT EXISTS " +
			"(SELECT 1 FROM main." + name + " m WHERE " + strings.Join(alike, " AND ") + ") ON CONFLICT (" + key +
			") DO UPDATE SET " + strings.Join(set, ", "),
	} {
		if _, err := tx.ExecContext(ctx, query); err != nil {
			return err
		}
	}
	return nil
}
