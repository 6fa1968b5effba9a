package main

import (
	"cmp"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tollgate.example/key/internal/web/apitype"
)

var deviceKinds = kind[apitype.DeviceKind]{
	noun: "device-kind", path: "/device-kinds",
	headings: []string{"NAME", "KIND", "ORDER", "BY", "DEVICES"},
	row: func(o apitype.DeviceKind) []string {
		return []string{o.Name, o.Kind, fmt.Sprint(o.Order), cut(strings.Join(slices.Concat(o.MACs, o.Fingerprints,
			o.VendorClasses, o.Hosts), "; "), 50), fmt.Sprint(o.Devices)}
	},
	show: func(s *invocation, o apitype.DeviceKind) {
		s.fields(
			[2]string{"name", o.Name},
			[2]string{"kind", o.Kind},
			[2]string{"order", fmt.Sprint(o.Order)},
			[2]string{"addresses", strings.Join(o.MACs, ", ")},
			[2]string{"fingerprints", strings.Join(o.Fingerprints, "; ")},
			[2]string{"vendor classes", strings.Join(o.VendorClasses, "; ")},
			[2]string{"hosts", strings.Join(o.Hosts, ", ")},
			[2]string{"devices", fmt.Sprintf("%d that were seen", o.Devices)},
			[2]string{"note", o.Note},
		)
	},
}

func deviceKindCommands() []command {
	seen := command{"presence", "devices", "[TEXT]", "what was seen of devices, and which kind they are taken for",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			of := f.String("kind", "", "of that kind; none for those that no rule fits")
			limit := f.Int("n", 50, "at most so many")
			return func(s *invocation, args []string) error {
				var list apitype.SeenDevices
				q := url.Values{"q": {strings.Join(args, " ")}, "kind": {*of}, "limit": {fmt.Sprint(*limit)}}
				if err := s.api.Do(s.ctx, http.MethodGet, "/presence/devices?"+q.Encode(), nil, &list); err != nil {
					return err
				}
				return s.print(list, func() { s.seenDevices(&list) })
			}
		}}
	return slices.Concat([]command{seen}, deviceKinds.commands(), writer("device-kind", "/device-kinds",
		func(f *flag.FlagSet) func(map[string]bool, *apitype.DeviceKind, string) any {
			name, note := f.String("name", "", "new name"), f.String("text", "", "note")
			what := f.String("kind", "", "what conditions see as device.kind, such as printer")
			order := f.Int("order", 50, "1 for what decides first, up to 99")
			var macs, hosts list
			var fingerprints, classes whole
			f.Var(&macs, "mac", "beginning of addresses of devices, such as 02-00-5e; repeatable")
			f.Var(&fingerprints, "fingerprint", "options asked of a DHCP server, such as 1,3,6,15; repeatable")
			f.Var(&classes, "vendor-class", "vendor class identifier, with * for any characters; repeatable")
			f.Var(&hosts, "host", "what the device calls itself, with * for any characters; repeatable")
			return func(was map[string]bool, old *apitype.DeviceKind, label string) any {
				in := apitype.DeviceKindFields{MACs: []string{}, Fingerprints: []string{}, VendorClasses: []string{},
					Hosts: []string{}}
				if old != nil {
					in = old.DeviceKindFields
				}
				in.Name = label
				assign(was, "name", &in.Name, *name)
				assign(was, "kind", &in.Kind, *what)
				assign(was, "order", &in.Order, *order)
				assign(was, "mac", &in.MACs, []string(macs))
				assign(was, "fingerprint", &in.Fingerprints, []string(fingerprints))
				assign(was, "vendor-class", &in.VendorClasses, []string(classes))
				assign(was, "host", &in.Hosts, []string(hosts))
				assign(was, "text", &in.Note, *note)
				return in
			}
		}, func(o apitype.DeviceKind) (apitype.Meta, string) { return o.Meta, o.Name }))
}

func (s *invocation) seenDevices(list *apitype.SeenDevices) {
	var rows [][]string
	for _, d := range list.Items {
		rows = append(rows, []string{d.MAC, cmp.Or(d.Kind, "-"), cut(d.Host, 16), cut(d.Fingerprint, 18),
			cut(d.VendorClass, 15), d.Seen.Local().Format("01-02 15:04")})
	}
	s.table([]string{"DEVICE", "KIND", "HOST", "FINGERPRINT", "VENDOR CLASS", "SEEN"}, rows)
	var kinds []string
	for _, k := range list.Kinds {
		kinds = append(kinds, fmt.Sprintf("%d %s", k.Count, cmp.Or(k.Kind, "of no kind")))
	}
	if list.Total > 0 {
		s.say("%s seen: %s", many(list.Total, "device"), strings.Join(kinds, ", "))
	}
}
