package device

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/sheet"
)

// Columns are those an import knows; mac is the only one that must be there.
var Columns = []string{"mac", "name", "owner", "tags", "expires", "note"}

// Import reads CSV (see sheet.Read). Tags are written kind=printer;site=north-pier or separated by spaces; expires is a
// date. A line replaces the device of the same address. Unless partial is set, nothing is stored if any line is wrong;
// with check nothing is stored at all.
func (k *Keeper) Import(ctx context.Context, text string, check, partial bool, by string, newID func() string,
	now time.Time) (results.Import, error) {
	k.editing.Lock()
	defer k.editing.Unlock()
	var list []*Device
	report, err := sheet.Read(text, Columns, func(r *sheet.Row) (name, what string, keep func(), err error) {
		d, err := k.record(r, newID)
		if err != nil {
			return "", "", nil, err
		}
		what = k.compare(d)
		return d.Match, what, func() {
			if what != "same" {
				d.ChangedAt, d.ChangedBy = now, by
				list = append(list, d)
			}
		}, nil
	})
	if err != nil || check || report.Wrong > 0 && !partial {
		return report, err
	}
	if k.Len()+report.Added > MaxDevices {
		return report, sheet.Fail("csv", fmt.Sprintf("there would be more than %d devices", MaxDevices),
			"Use prefixes.")
	}
	if err := k.keep(ctx, list); err != nil {
		return report, err
	}
	report.Done = true
	return report, nil
}

// record makes a device of one line. Columns that are left out keep what the device has.
func (k *Keeper) record(r *sheet.Row, newID func() string) (*Device, error) {
	d := Device{Enabled: true, Tags: map[string]string{}}
	match, _ := r.Get("mac")
	if old := k.Get(match); old != nil {
		d = *old
		d.Tags = maps.Clone(old.Tags)
	} else {
		d.ID = newID()
	}
	d.Match = match
	for column, text := range map[string]*string{"name": &d.Name, "owner": &d.Owner, "note": &d.Note} {
		if value, given := r.Get(column); given {
			*text = strings.Clone(value)
		}
	}
	if value, given := r.Get("tags"); given {
		d.Tags = map[string]string{}
		for _, tag := range strings.FieldsFunc(strings.Clone(value), func(r rune) bool {
			return r == ';' || r == ',' || r == ' '
		}) {
			key, value, ok := strings.Cut(tag, "=")
			if !ok {
				return nil, sheet.Fail("tags", fmt.Sprintf("%q is not key=value", tag),
					"Write kind=printer.")
			}
			d.Tags[key] = value
		}
	}
	if _, given := r.Get("expires"); given {
		at, err := r.Date("expires")
		if err != nil {
			return nil, err
		}
		d.Expires = at
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
