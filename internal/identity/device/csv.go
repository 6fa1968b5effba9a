package device

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/results"
)

// Columns are those an import knows; mac is the only one that must be there.
var Columns = []string{"mac", "name", "owner", "tags", "expires", "note"}

const maxLines = 100_000

// Import reads CSV (RFC 4180) with a line of column names, separated by commas or semicolons. Tags are written
// kind=printer;site=north-pier or separated by spaces; expires is a date. A line replaces the device of the same
// address. Unless partial is set, nothing is stored if any line is wrong; with check nothing is stored at all.
func (k *Keeper) Import(ctx context.Context, text string, check, partial bool, by string, newID func() string,
	now time.Time) (results.Import, error) {
	report := results.Import{Lines: []results.ImportLine{}}
	text = strings.TrimPrefix(text, "\ufeff")
	r := csv.NewReader(strings.NewReader(text))
	first, _, _ := strings.Cut(text, "\n")
	if strings.Count(first, ";") > strings.Count(first, ",") {
		r.Comma = ';'
	}
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	header, err := r.Read()
	if err != nil {
		return report, &FieldError{"csv", "there is no line of column names",
			"Begin with a line such as mac,name,owner,tags,expires,note."}
	}
	for i := range header {
		header[i] = strings.ToLower(strings.TrimSpace(header[i]))
		if !slices.Contains(Columns, header[i]) {
			return report, &FieldError{"csv", fmt.Sprintf("there is no column %q", header[i]), "Use " +
				strings.Join(Columns, ", ") + "."}
		}
	}
	if !slices.Contains(header, "mac") {
		return report, &FieldError{"csv", "there is no column mac", "Name the columns in the first line."}
	}
	k.editing.Lock()
	defer k.editing.Unlock()
	var list []*Device
	seen := map[string]int{}
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		number := 0
		if err == nil { // a line that cannot be read has no fields, and says itself where it is
			number, _ = r.FieldPos(0)
		}
		line := results.ImportLine{Number: number}
		if err != nil {
			var wrong *csv.ParseError
			if !errors.As(err, &wrong) {
				return report, err
			}
			line.Number, line.What, line.Message = wrong.Line, "wrong", wrong.Err.Error()
		} else if d, err := k.record(header, record, newID); err != nil {
			line.What, line.Message, line.Match = "wrong", err.Error(), strings.Join(record[:min(1, len(record))], "")
			var field *FieldError
			if errors.As(err, &field) {
				line.Field, line.Message = field.Field, field.Message
			}
		} else {
			line.Match = d.Match
			if before, twice := seen[d.Match]; twice {
				line.What, line.Field, line.Message = "wrong", "mac", fmt.Sprintf("is on line %d already", before)
			} else {
				seen[d.Match] = number
				line.What = k.compare(d)
				if line.What != "same" {
					d.ChangedAt, d.ChangedBy = now, by
					list = append(list, d)
				}
			}
		}
		report.Add(line)
		if len(report.Lines) > maxLines {
			return report, &FieldError{"csv", fmt.Sprintf("more than %d lines", maxLines), "Split the file."}
		}
	}
	if check || report.Wrong > 0 && !partial {
		return report, nil
	}
	if k.Len()+report.Added > MaxDevices {
		return report, &FieldError{"csv", fmt.Sprintf("there would be more than %d devices", MaxDevices),
			"Use prefixes."}
	}
	if err := k.keep(ctx, list); err != nil {
		return report, err
	}
	report.Done = true
	return report, nil
}

// record makes a device of one line. Columns that are left out keep what the device has.
func (k *Keeper) record(header, record []string, newID func() string) (*Device, error) {
	if len(record) > len(header) {
		return nil, &FieldError{"", fmt.Sprintf("%d fields, the first line names %d columns", len(record),
			len(header)), "Quote fields that hold the separator."}
	}
	d := Device{Enabled: true, Tags: map[string]string{}}
	at := slices.Index(header, "mac")
	if at >= len(record) {
		return nil, &FieldError{"mac", "is missing", "Give the address."}
	}
	if old := k.Get(record[at]); old != nil {
		d = *old
		d.Tags = maps.Clone(old.Tags)
	} else {
		d.ID = newID()
	}
	d.Match = record[at]
	for i, value := range record {
		value = strings.TrimSpace(value)
		switch header[i] {
		case "name":
			d.Name = value
		case "owner":
			d.Owner = value
		case "note":
			d.Note = value
		case "tags":
			d.Tags = map[string]string{}
			for _, tag := range strings.FieldsFunc(value, func(r rune) bool {
				return r == ';' || r == ',' || r == ' '
			}) {
				key, value, ok := strings.Cut(tag, "=")
				if !ok {
					return nil, &FieldError{"tags", fmt.Sprintf("%q is not key=value", tag), "Write kind=printer."}
				}
				d.Tags[key] = value
			}
		case "expires":
			d.Expires = time.Time{}
			if value == "" {
				continue
			}
			at, err := time.Parse(time.RFC3339, value)
			if err != nil {
				if at, err = time.Parse(time.DateOnly, value); err != nil {
					return nil, &FieldError{"expires", fmt.Sprintf("%q is not a date", value), "Write 2027-03-01."}
				}
				at = at.AddDate(0, 0, 1) // that day still counts
			}
			d.Expires = at
		}
	}
	return &d, d.tidy()
}

// compare tells what storing the device would do.
func (k *Keeper) compare(d *Device) string {
	old := k.Get(d.ID)
	switch {
	case old == nil:
		return "added"
	case old.Name == d.Name && old.Owner == d.Owner && old.Note == d.Note && maps.Equal(old.Tags, d.Tags) &&
		old.Expires.Equal(d.Expires):
		return "same"
	}
	return "changed"
}
