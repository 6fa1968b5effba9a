package store

import (
	"context"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
)

// ErrChanged is returned where another node changed a record meanwhile: whoever decided by what it was decides again.
var ErrChanged = errors.New("another node changed it at the same time")

// sharedTable is a table of which all nodes have the same rows.
type sharedTable struct {
	// key are the columns of the primary key, at their places in a row.
	key []string
	at  []int
	// kind is that of the records for whoever keeps them in memory; "" for those that nobody does.
	kind string
	// whole tells that a change of any row is one of all: they are kept as one value.
	whole   bool
	columns []column
}

type column struct {
	Name    string  `db:"name"`
	Default *string `db:"dflt_value"`
	Type    string  `db:"type"`
}

// sharedTables are those that all nodes share, with what their rows are told by. What else is in the database is of
// this node alone.
func sharedTables() map[string]*sharedTable {
	t := map[string]*sharedTable{}
	for _, one := range []struct{ name, key, kind string }{{"accounts", "id", "account"}, {"devices", "id", "device"},
		{"factors", "id", "factor"}, {"issued", "id", "issued"}, {"operators", "id", ""}, {"keys", "id", ""},
		{"operator_factors", "id", "operator-factor"}, {"operator_settings", "only", ""}, {"first_hour", "step", ""},
		{"nodes", "number", "node"}, {"invitations", "hash", ""}, {"node_authority", "only", ""},
		{"node_settings", "only", "node-settings"}, {"lease_blocks", "block", "lease-block"},
		{"revisions", "number", Configuration}, {"objects", "kind id since", Configuration},
		{"draft_objects", "kind id", Configuration}, {"draft", "only", Configuration}, {"asked", "only", ""}} {
		t[one.name] = &sharedTable{key: strings.Fields(one.key), kind: one.kind, whole: one.kind == Configuration}
	}
	return t
}

// Configuration is the kind of what is kept as a whole: revisions and draft.
const Configuration = "configuration"

// describe reads the columns of the shared tables.
func describe(ctx context.Context, db sqlx.QueryerContext) (map[string]*sharedTable, error) {
	tables := sharedTables()
	for name, t := range tables {
		if err := sqlx.SelectContext(ctx, db, &t.columns,
			"SELECT name, dflt_value, type FROM pragma_table_info(?) ORDER BY cid", name); err != nil {
			return nil, fmt.Errorf("reading the columns of %s: %w", name, err)
		}
		for _, k := range t.key {
			t.at = append(t.at, slices.IndexFunc(t.columns, func(c column) bool { return c.Name == k }))
		}
	}
	return tables, nil
}

// rowID tells a row of a shared table from all others.
type rowID struct {
	table string
	key   string // JSON list of values
}

// touchedRows are the rows that a transaction changed; of a table that is not shared, but that it did.
type touchedRows map[rowID]bool

// own is a table of this node alone that a transaction changed, "" if there is none: such a change would be lost, since
// what comes back from the log are shared rows.
func (t touchedRows) own() string {
	for id := range t {
		if id.key == "" {
			return id.table
		}
	}
	return ""
}

// watch notes what a connection changes of shared tables, until it is called with nil.
func watch(ctx context.Context, c *sqlx.Conn, tables map[string]*sharedTable, rows *touchedRows) error {
	return c.Raw(func(raw any) error {
		hooks, ok := raw.(sqlite.HookRegisterer)
		if !ok {
			return errors.New("the driver of the database does not tell what a transaction changes")
		}
		if rows == nil {
			hooks.RegisterPreUpdateHook(nil)
			return nil
		}
		hooks.RegisterPreUpdateHook(func(d sqlite.SQLitePreUpdateData) {
			t := tables[d.TableName]
			if t == nil {
				(*rows)[rowID{table: d.TableName}] = true
				return
			}
			for _, read := range []func(...any) error{d.Old, d.New} {
				values := make([]any, d.Count())
				dest := make([]any, len(values))
				for i := range values {
					dest[i] = &values[i]
				}
				if read(dest...) != nil { // an insertion has no old row, a removal no new one
					continue
				}
				key := make([]any, len(t.at))
				for i, at := range t.at {
					key[i] = flat(dest[at])
				}
				(*rows)[rowID{d.TableName, encodeValues(key)}] = true
			}
		})
		return nil
	})
}

// flat is what a pointer to any that was filled holds.
func flat(v any) any {
	if p, ok := v.(*any); ok {
		return *p
	}
	return v
}

// octets are values of SQLite in JSON that are no numbers and no text: octets, and text that is no UTF-8.
type octets struct {
	Blob []byte `json:"b,omitempty"`
	Text []byte `json:"t,omitempty"`
}

func encodeValues(values []any) string {
	out := make([]any, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case []byte:
			if v == nil {
				v = []byte{}
			}
			out[i] = map[string]any{"b": v}
		case string:
			out[i] = v
			if !utf8.ValidString(v) {
				out[i] = octets{Text: []byte(v)}
			}
		case bool:
			out[i] = 0
			if v {
				out[i] = 1
			}
		default:
			out[i] = v
		}
	}
	text, err := json.Marshal(out)
	if err != nil { // values of SQLite are none that JSON does not take, but for infinities, which no column holds
		return "null"
	}
	return string(text)
}

func decodeValues(text json.RawMessage) ([]any, error) {
	var raw []json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return nil, err
	}
	out := make([]any, len(raw))
	for i, r := range raw {
		switch {
		case string(r) == "null":
		case r[0] == '{':
			var o octets
			if err := json.Unmarshal(r, &o); err != nil {
				return nil, err
			}
			if out[i] = []byte(o.Blob); o.Text != nil {
				out[i] = string(o.Text)
			} else if o.Blob == nil {
				out[i] = []byte{}
			}
		case r[0] == '"':
			var s string
			if err := json.Unmarshal(r, &s); err != nil {
				return nil, err
			}
			out[i] = s
		default:
			n, err := json.Number(r).Int64()
			if err != nil {
				f, err := json.Number(r).Float64()
				if err != nil {
					return nil, fmt.Errorf("%.40q is no value", r)
				}
				out[i] = f
				continue
			}
			out[i] = n
		}
	}
	return out, nil
}

// Rows are what an entry makes of one table. Columns that it does not name have their default.
type Rows struct {
	Table   string            `json:"table"`
	Columns []string          `json:"columns,omitempty"`
	Put     []json.RawMessage `json:"put,omitempty"`
	// Gone are the primary keys of rows that are there no more.
	Gone []json.RawMessage `json:"gone,omitempty"`
}

// images reads what became of rows.
func images(ctx context.Context, tx *sqlx.Tx, tables map[string]*sharedTable, touched touchedRows) ([]Rows, error) {
	keys := map[string][]string{}
	for id := range touched {
		keys[id.table] = append(keys[id.table], id.key)
	}
	var out []Rows
	for name, list := range keys {
		slices.Sort(list)
		t, one := tables[name], Rows{Table: name}
		names := make([]string, len(t.columns))
		for i, c := range t.columns {
			names[i] = c.Name
		}
		find, err := tx.PreparexContext(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+name+" WHERE "+t.where())
		if err != nil {
			return nil, err
		}
		var rows [][]any
		for _, key := range list {
			values, err := decodeValues(json.RawMessage(key))
			if err != nil {
				return nil, err
			}
			found, err := find.QueryxContext(ctx, values...)
			if err != nil {
				return nil, err
			}
			there := found.Next()
			if there {
				row, err := found.SliceScan()
				if err != nil {
					return nil, errors.Join(err, found.Close())
				}
				rows = append(rows, row)
			} else {
				one.Gone = append(one.Gone, json.RawMessage(key))
			}
			if err := errors.Join(found.Err(), found.Close()); err != nil {
				return nil, err
			}
		}
		find.Close()
		one.fill(t, rows)
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Rows) int { return strings.Compare(a.Table, b.Table) })
	return out, nil
}

// fill writes rows, without the columns that have their default in all of them: nodes that do not know a column yet can
// read what does not need it.
func (r *Rows) fill(t *sharedTable, rows [][]any) {
	var keep []int
	for i, c := range t.columns {
		if c.Default == nil ||
			slices.ContainsFunc(rows, func(row []any) bool { return !isDefault(row[i], *c.Default) }) {
			keep = append(keep, i)
			r.Columns = append(r.Columns, c.Name)
		}
	}
	for _, row := range rows {
		values := make([]any, len(keep))
		for i, at := range keep {
			values[i] = row[at]
		}
		r.Put = append(r.Put, json.RawMessage(encodeValues(values)))
	}
}

// isDefault tells whether a value is the one that a column of the schema has by itself.
func isDefault(v driver.Value, written string) bool {
	switch v := v.(type) {
	case int64:
		return fmt.Sprint(v) == written
	case string:
		return "'"+v+"'" == written
	}
	return false
}

func (t *sharedTable) where() string {
	out := make([]string, len(t.key))
	for i, k := range t.key {
		out[i] = k + " = ?"
	}
	return strings.Join(out, " AND ")
}
