// Package sheet reads CSV (RFC 4180) with a line of column names, and reports on every line. Columns are separated by
// commas or semicolons, whichever the first line has more of.
package sheet

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/results"
)

// Fault is a fault of a file or of one field in it.
type Fault struct{ Field, Message, Remedy string }

// Fail makes a fault.
func Fail(field, message, remedy string) *Fault { return &Fault{field, message, remedy} }

func (e *Fault) Error() string { return e.Field + ": " + e.Message + ". " + e.Remedy }

// Row is one line.
type Row struct {
	Number         int
	header, fields []string
}

// Get returns the field of a column, and whether the line has one; a column that is left out leaves what there is.
func (r *Row) Get(column string) (string, bool) {
	at := slices.Index(r.header, column)
	if at < 0 || at >= len(r.fields) {
		return "", false
	}
	return strings.TrimSpace(r.fields[at]), true
}

// Date reads a field as a date, which still counts, or as a moment; zero if it is empty.
func (r *Row) Date(column string) (time.Time, error) {
	value, _ := r.Get(column)
	if value == "" {
		return time.Time{}, nil
	}
	if at, err := time.Parse(time.RFC3339, value); err == nil {
		return at, nil
	}
	at, err := time.Parse(time.DateOnly, value)
	if err != nil {
		return at, &Fault{column, fmt.Sprintf("%q is not a date", value), "Write 2027-03-01."}
	}
	return at.AddDate(0, 0, 1), nil
}

// Read reads a text. line is called for each line in turn and tells what becomes of it, and under what name; keep is
// called if the line counts: two of the same name are a fault of the second. The first of the columns has to be there.
func Read(text string, columns []string, line func(r *Row) (name, what string, keep func(), err error)) (
	results.Import, error) {
	report := results.Import{Lines: []results.ImportLine{}}
	text = strings.TrimPrefix(text, "\ufeff")
	r := csv.NewReader(strings.NewReader(text))
	first, _, _ := strings.Cut(text, "\n")
	if strings.Count(first, ";") > strings.Count(first, ",") {
		r.Comma = ';'
	}
	r.FieldsPerRecord, r.TrimLeadingSpace, r.ReuseRecord = -1, true, true
	header, err := r.Read()
	if err != nil {
		return report, &Fault{"csv", "there is no line of column names", "Begin with a line such as " +
			strings.Join(columns, ",") + "."}
	}
	header = slices.Clone(header)
	for i := range header {
		header[i] = strings.ToLower(strings.TrimSpace(header[i]))
		if !slices.Contains(columns, header[i]) {
			return report, &Fault{"csv", fmt.Sprintf("there is no column %q", header[i]), "Use " +
				strings.Join(columns, ", ") + "."}
		}
	}
	if !slices.Contains(header, columns[0]) {
		return report, &Fault{"csv", "there is no column " + columns[0], "Name the columns in the first line."}
	}
	seen := map[string]int{}
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return report, nil
		}
		var unreadable *csv.ParseError
		if errors.As(err, &unreadable) { // it has no fields, and says itself where it is
			report.Add(results.ImportLine{Number: unreadable.Line, What: "wrong", Message: unreadable.Err.Error()})
			continue
		} else if err != nil {
			return report, err
		}
		row := &Row{header: header, fields: fields}
		row.Number, _ = r.FieldPos(0)
		report.Add(read(row, columns[0], seen, line))
	}
}

func read(row *Row, key string, seen map[string]int, line func(r *Row) (name, what string, keep func(), err error)) (
	out results.ImportLine) {
	out.Number = row.Number
	out.Match, _ = row.Get(key)
	out.Match = strings.Clone(out.Match)
	wrong := func(err error) results.ImportLine {
		out.What, out.Message = "wrong", err.Error()
		var fault *Fault
		if errors.As(err, &fault) {
			out.Field, out.Message = fault.Field, fault.Message
		}
		return out
	}
	if len(row.fields) > len(row.header) {
		return wrong(&Fault{"", fmt.Sprintf("%d fields, the first line names %d columns", len(row.fields),
			len(row.header)), "Quote fields that hold the separator."})
	}
	if _, given := row.Get(key); !given {
		return wrong(&Fault{key, "is missing", "Give it."})
	}
	name, what, keep, err := line(row)
	if err != nil {
		return wrong(err)
	}
	out.Match, out.What = name, what
	if before, twice := seen[strings.ToLower(name)]; twice {
		return wrong(&Fault{key, fmt.Sprintf("is on line %d already", before), "Remove one of the two."})
	}
	seen[strings.ToLower(name)] = row.Number
	keep()
	return out
}

// formula are the characters with which a spreadsheet begins one; a text that begins so is written behind a quote.
const formula = "=+-@\t\r"

// Quoted keeps a spreadsheet from taking a text for a formula.
func Quoted(text string) string {
	if text != "" && strings.ContainsAny(text[:1], formula) {
		return "'" + text
	}
	return text
}

// Unquoted takes what Quoted added.
func Unquoted(text string) string {
	if len(text) > 1 && text[0] == '\'' && strings.ContainsAny(text[1:2], formula) {
		return text[1:]
	}
	return text
}
