package api

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	devices "tollgate.example/key/internal/core/kind"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/web/apitype"
)

// deviceKinds registers the rules that tell the kind of a device, and what was seen of devices.
func (s *server) deviceKinds() {
	register(s, &kind[config.DeviceKind, *config.DeviceKind, apitype.DeviceKindFields, apitype.DeviceKind]{
		name: "device-kind", plural: "device-kinds",
		list: func(c *config.Config) *[]*config.DeviceKind { return &c.DeviceKinds },
		apply: func(_ *config.Config, o *config.DeviceKind, in *apitype.DeviceKindFields) (string, error) {
			setKind(o, in)
			return "", nil
		},
		text: func(o *config.DeviceKind) string {
			return strings.Join(slices.Concat([]string{o.Name, o.Kind}, o.MACs, o.Hosts, o.VendorClasses), " ")
		},
		views: func(*config.Config) func(*config.DeviceKind, apitype.Meta) apitype.DeviceKind {
			decided := map[string]int{}
			for _, d := range s.Presence.Devices(s.Gate.Current().Plan.Kinds()) {
				if d.Kind != nil {
					decided[d.Kind.Rule]++
				}
			}
			return func(o *config.DeviceKind, m apitype.Meta) apitype.DeviceKind {
				return apitype.DeviceKind{Meta: m, Devices: decided[o.Name],
					DeviceKindFields: apitype.DeviceKindFields{Name: o.Name, Kind: o.Kind, Order: o.Order, MACs: o.MACs,
						Fingerprints: o.Fingerprints, VendorClasses: o.VendorClasses, Hosts: o.Hosts, Note: o.Note}}
			}
		},
	})
	huma.Register(s.api, operation("GET", "/presence/devices", "list-seen-devices",
		"What was seen of devices, and which kind they are taken for"), s.listSeenDevices)
	huma.Register(s.api, operation("POST", "/device-kinds/fits", "check-device-kind",
		"Which of the devices that were seen a rule would fit"),
		func(_ context.Context, in *struct{ Body apitype.DeviceKindFields }) (*body[apitype.SeenDevices], error) {
			o := &config.DeviceKind{}
			setKind(o, &in.Body)
			c := config.Config{DeviceKinds: []*config.DeviceKind{o}}
			c.Normalise()
			if o.Asks() == 0 {
				return ok(apitype.SeenDevices{Items: []apitype.SeenDevice{}, Kinds: []apitype.KindCount{}}), nil
			}
			for _, p := range c.Check() { // so that nobody has the service compare for minutes
				if p.Code == config.TooMany {
					return nil, faulty(p.Field, p.Message, p.Remedy)
				}
			}
			rule, end := devices.Compile(c.DeviceKinds), time.Now().Add(trialTime)
			return ok(s.seenDevices(func(d *presence.Device, seen *apitype.SeenDevice) bool {
				return time.Now().Before(end) && rule.Of(seen.MAC, &d.Traits) != nil
			}, someDevices)), nil
		})
}

func setKind(o *config.DeviceKind, in *apitype.DeviceKindFields) {
	o.Name, o.Kind, o.Order, o.Note = in.Name, in.Kind, in.Order, in.Note
	o.MACs, o.Fingerprints, o.VendorClasses, o.Hosts = in.MACs, in.Fingerprints, in.VendorClasses, in.Hosts
}

// someDevices is how many devices are shown of those that a rule would fit.
const someDevices = 10

// trialTime bounds how long devices are compared with a rule while it is written.
const trialTime = time.Second

func (s *server) listSeenDevices(_ context.Context, in *struct {
	Query string `query:"q" maxLength:"200" doc:"Part of the address, host name, fingerprint or vendor class"`
	Kind  string `query:"kind" maxLength:"64" doc:"The kind; none for those that no rule fits"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*body[apitype.SeenDevices], error) {
	text := strings.ToLower(strings.NewReplacer(":", "-").Replace(strings.TrimSpace(in.Query)))
	return ok(s.seenDevices(func(d *presence.Device, seen *apitype.SeenDevice) bool {
		if in.Kind != "" && cmp.Or(seen.Kind, "none") != strings.ToLower(in.Kind) {
			return false
		}
		return strings.Contains(strings.ToLower(seen.MAC+" "+d.Host+" "+d.Fingerprint+" "+d.VendorClass), text)
	}, in.Limit)), nil
}

// seenDevices lists the devices that fit, up to a limit, and counts all.
func (s *server) seenDevices(fits func(*presence.Device, *apitype.SeenDevice) bool, limit int) apitype.SeenDevices {
	counts := map[string]int{}
	out := apitype.SeenDevices{Items: []apitype.SeenDevice{}, Kinds: []apitype.KindCount{}}
	for _, d := range s.Presence.Devices(s.Gate.Current().Plan.Kinds()) {
		seen := apitype.SeenDevice{MAC: d.MAC.String(), Host: d.Host, Fingerprint: d.Fingerprint,
			VendorClass: d.VendorClass, Seen: d.Seen}
		if k := d.Kind; k != nil {
			seen.Kind, seen.Rule = k.Name, k.Rule
		}
		out.Total++
		if counts[seen.Kind]++; !fits(&d, &seen) {
			continue
		}
		if out.Found++; len(out.Items) < limit {
			out.Items = append(out.Items, seen)
		}
	}
	for k, n := range counts {
		out.Kinds = append(out.Kinds, apitype.KindCount{Kind: k, Count: n})
	}
	slices.SortFunc(out.Kinds, func(a, b apitype.KindCount) int {
		return cmp.Or(b.Count-a.Count, strings.Compare(a.Kind, b.Kind))
	})
	return out
}
