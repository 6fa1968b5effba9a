package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// Seen is when the service was last seen running; zero if never.
func (s *Store) Seen(ctx context.Context) (time.Time, error) {
	var at int64
	err := notFound(s.db.GetContext(ctx, &at, "SELECT at FROM seen_running"))
	if errors.Is(err, ErrNotFound) {
		return time.Time{}, nil
	}
	return time.UnixMilli(at), err
}

// SaveSeen notes that the service is running.
func (s *Store) SaveSeen(ctx context.Context, at time.Time) error {
	return s.execHere(ctx, "INSERT OR REPLACE INTO seen_running (only, at) VALUES (1, ?)", at.UnixMilli())
}

// Highest is the highest identifier of records and of objects of the configuration; 0 if there is none.
func (s *Store) Highest(ctx context.Context) (ident.ID, error) {
	var list []string
	if err := s.db.SelectContext(ctx, &list, `SELECT coalesce(id, '') FROM (
		SELECT max(id) AS id FROM accounts UNION ALL SELECT max(id) FROM operators UNION ALL SELECT max(id) FROM keys
		UNION ALL SELECT max(id) FROM devices UNION ALL SELECT max(id) FROM issued
		UNION ALL SELECT max(id) FROM factors WHERE kind <> 'person')`); err != nil {
		return 0, fmt.Errorf("reading the highest identifier: %w", err)
	}
	var configs [][]byte
	if err := s.db.SelectContext(ctx, &configs, `SELECT config FROM draft UNION ALL SELECT * FROM (SELECT config FROM
		revisions ORDER BY number DESC LIMIT 1)`); err != nil {
		return 0, fmt.Errorf("reading the highest identifier: %w", err)
	}
	const key = `"id":"`
	for _, config := range configs {
		for at := bytes.Index(config, []byte(key)); at >= 0; at = bytes.Index(config, []byte(key)) {
			config = config[at+len(key):]
			if end := bytes.IndexByte(config, '"'); end > 0 {
				list = append(list, string(config[:end]))
			}
		}
	}
	highest := ident.ID(0)
	for _, text := range list {
		if id, err := ident.Parse(text); err == nil { // names of the factory are no identifiers
			highest = max(highest, id)
		}
	}
	return highest, nil
}
