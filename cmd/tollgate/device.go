package main

import (
	"flag"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var devices = kind[apitype.Device]{
	noun: "device", path: "/devices",
	headings: []string{"ADDRESS", "NAME", "OWNER", "TAGS", "STATE"},
	row: func(d apitype.Device) []string {
		return []string{d.Match, d.Name, d.Owner, tagText(d.Tags), deviceState(d)}
	},
	show: func(s *invocation, d apitype.Device) {
		s.fields([2]string{"address", d.Match}, [2]string{"name", d.Name}, [2]string{"owner", d.Owner},
			[2]string{"tags", tagText(d.Tags)}, [2]string{"state", deviceState(d)}, [2]string{"note", d.Note},
			[2]string{"changed", d.ChangedAt.Local().Format("2006-01-02 15:04") + " by " + d.ChangedBy})
	},
}

func tagText(tags map[string]string) string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(tags)) {
		out = append(out, key+"="+tags[key])
	}
	return strings.Join(out, " ")
}

func deviceState(d apitype.Device) string {
	switch {
	case !d.Enabled:
		return "off"
	case d.Expires != nil && d.Expires.Before(time.Now()):
		return "expired " + d.Expires.Format("2006-01-02")
	case d.Expires != nil:
		return "until " + d.Expires.Format("2006-01-02")
	}
	return "known"
}

func deviceCommands() []command {
	return append(devices.commands()[:2],
		command{"device", "add", "ADDRESS", "add a MAC address, or a prefix such as 02-00-5E-*", deviceCommand(true)},
		command{"device", "change", "ADDRESS", "change a known device", deviceCommand(false)},
		command{"device", "remove", "ADDRESS", "remove a known device", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, args []string) error {
				ref, err := one(args, "address")
				if err != nil {
					return err
				}
				if err := s.api.Do(s.ctx, http.MethodDelete, "/devices/"+url.PathEscape(ref), nil, nil); err != nil {
					return err
				}
				return s.print(struct{}{}, func() { s.say("%s is removed, and refused from now on.", ref) })
			}
		}},
		command{"device", "unknown", "", "unknown addresses that were refused recently",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, _ []string) error {
					items, err := client.All[apitype.UnknownDevice](s.ctx, s.api, "/unknown-devices", nil)
					if err != nil {
						return err
					}
					return s.print(items, func() {
						var rows [][]string
						for _, u := range items {
							rows = append(rows, []string{u.MAC, u.Client, u.Place, fmt.Sprint(u.Count),
								u.Last.Local().Format("15:04:05")})
						}
						s.table([]string{"ADDRESS", "CLIENT", "WHERE", "REFUSED", "LAST"}, rows)
					})
				}
			}},
		importCommand("device", "import known devices from CSV (- is the standard input)"))
}

func deviceCommand(fresh bool) func(f *flag.FlagSet) func(*invocation, []string) error {
	return func(f *flag.FlagSet) func(*invocation, []string) error {
		name, owner, note := f.String("name", "", "its name"), f.String("owner", "", "its owner"),
			f.String("note", "", "note")
		expires := f.String("expires", "", "day from which it is refused, such as 2027-03-01; never for none")
		tags := pairs{}
		f.Var(tags, "tag", "KEY=VALUE; repeatable; an empty value removes the tag")
		on, off := f.Bool("on", false, "switch it on"), f.Bool("off", false, "switch it off")
		return func(s *invocation, args []string) error {
			ref, err := one(args, "address")
			if err != nil {
				return err
			}
			d := apitype.Device{DeviceFields: apitype.DeviceFields{Match: ref, Enabled: true,
				Tags: map[string]string{}}}
			if !fresh {
				if err := s.api.Do(s.ctx, http.MethodGet, "/devices/"+url.PathEscape(ref), nil, &d); err != nil {
					return err
				}
			}
			was := given(f)
			for flag, to := range map[string]struct {
				to   *string
				from string
			}{"name": {&d.Name, *name}, "owner": {&d.Owner, *owner}, "note": {&d.Note, *note}} {
				if was[flag] {
					*to.to = to.from
				}
			}
			for key, value := range tags {
				if d.Tags[key] = value; value == "" {
					delete(d.Tags, key)
				}
			}
			d.Enabled = (d.Enabled || *on) && !*off
			switch *expires {
			case "":
			case "never":
				d.Expires = nil
			default:
				at, err := time.Parse(time.DateOnly, *expires)
				if err != nil {
					return usageError("-expires takes a day such as 2027-03-01, or never")
				}
				d.Expires = &at
			}
			method, path, options := http.MethodPost, "/devices", []client.Option(nil)
			if !fresh {
				method, path, options = http.MethodPut, "/devices/"+d.ID, []client.Option{client.IfMatch(d.Tag)}
			}
			var out apitype.Device
			if err := s.api.Do(s.ctx, method, path, d.DeviceFields, &out, options...); err != nil {
				return err
			}
			return s.print(out, func() { devices.show(s, out) })
		}
	}
}
