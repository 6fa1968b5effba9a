package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"log/slog"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/ident"
)

// exported is how many records are read at a time for an export.
const exported = 1000

// exportFormats are the types of what an export may be: CSV (RFC 4180), or one JSON object a line.
var exportFormats = map[string]string{"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl"}

// exportFile writes records as a file, page by page: read returns those after a cursor, which is 0 at first, and the
// next cursor, 0 at the end. head and row are the columns of CSV.
func exportFile[V any](ctx context.Context, name, format string, head []string, row func(*V) []string,
	read func(ctx context.Context, cursor ident.ID) ([]V, ident.ID, error)) (*huma.StreamResponse, error) {
	items, next, err := read(ctx, 0)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Disposition", `attachment; filename="`+name+"."+format+`"`)
		out.SetHeader("Content-Type", exportFormats[format])
		table, lines := csv.NewWriter(out.BodyWriter()), json.NewEncoder(out.BodyWriter())
		if format == "csv" {
			_ = table.Write(head)
		}
		for {
			for i := range items {
				if format == "jsonl" {
					_ = lines.Encode(items[i]) // a reader that went away ends the next query
				} else {
					_ = table.Write(row(&items[i]))
				}
			}
			table.Flush()
			if next == 0 {
				return
			}
			if items, next, err = read(out.Context(), next); err != nil { // half of it must not look like all of it
				slog.Warn("an export was cut short", "of", name, "error", err)
				panic(http.ErrAbortHandler)
			}
		}
	}}, nil
}
