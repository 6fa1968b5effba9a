package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
)

// policyKinds registers what policies are made with beside passes: calendars, vendors, overrides and expectations.
func (s *server) policyKinds() {
	register(s, &kind[config.Calendar, *config.Calendar, apitype.CalendarFields, apitype.Calendar]{
		name: "calendar", plural: "calendars",
		list: func(c *config.Config) *[]*config.Calendar { return &c.Calendars },
		apply: func(_ *config.Config, c *config.Calendar, in *apitype.CalendarFields) (string, error) {
			c.Name, c.Zone, c.Spans, c.Holidays, c.Note = in.Name, in.Zone, in.Spans, in.Holidays, in.Note
			return "", nil
		},
		text: func(c *config.Calendar) string { return c.Name + " " + c.Zone },
		views: func(*config.Config) func(*config.Calendar, apitype.Meta) apitype.Calendar {
			return func(c *config.Calendar, m apitype.Meta) apitype.Calendar {
				out := apitype.Calendar{Meta: m, CalendarFields: apitype.CalendarFields{Name: c.Name, Zone: c.Zone,
					Spans: c.Spans, Holidays: c.Holidays, Note: c.Note}}
				if made, _ := c.Compile(); made != nil {
					out.Holds = made.Holds(time.Now())
				}
				return out
			}
		},
	})
	s.commandLists()
	register(s, &kind[config.Pool, *config.Pool, apitype.PoolFields, apitype.Pool]{
		name: "pool", plural: "pools",
		list: func(c *config.Config) *[]*config.Pool { return &c.Pools },
		apply: func(_ *config.Config, p *config.Pool, in *apitype.PoolFields) (string, error) {
			p.Name, p.Ranges, p.Note = in.Name, in.Ranges, in.Note
			return "", nil
		},
		text:  func(p *config.Pool) string { return p.Name + " " + strings.Join(p.Ranges, " ") },
		views: s.poolView,
	})
	register(s, &kind[config.Remote, *config.Remote, apitype.RemoteInput, apitype.Remote]{
		name: "remote", plural: "remotes",
		list: func(c *config.Config) *[]*config.Remote { return &c.Remotes },
		apply: func(_ *config.Config, r *config.Remote, in *apitype.RemoteInput) (string, error) {
			r.Name, r.Servers, r.Weighted, r.TimeoutMillis, r.Tries, r.Unsigned, r.Note = in.Name, in.Servers,
				in.Weighted, in.TimeoutMillis, in.Tries, in.Unsigned, in.Note
			r.Transport, r.CA, r.ServerName, r.Certificate = in.Transport, in.CA, in.ServerName, in.Certificate
			r.DeadSeconds, r.ProbeSeconds, r.Accounting, r.AccountingPort = in.DeadSeconds, 20, in.Accounting,
				in.AccountingPort
			if in.ProbeSeconds != nil {
				r.ProbeSeconds = *in.ProbeSeconds
			}
			r.Pass, r.Rules, r.Grants = in.Pass, in.Rules, in.Grants
			if in.Secret != "" {
				r.Secret = s.Box.Seal(r.SecretPlace(), in.Secret)
			}
			return "", nil
		},
		text:  func(r *config.Remote) string { return fmt.Sprint(r.Name, r.Servers) },
		views: s.remoteView,
	})
	register(s, &kind[config.Vendor, *config.Vendor, apitype.VendorFields, apitype.Vendor]{
		name: "vendor", plural: "vendors",
		list: func(c *config.Config) *[]*config.Vendor { return &c.Vendors },
		apply: func(_ *config.Config, v *config.Vendor, in *apitype.VendorFields) (string, error) {
			v.Name, v.Number, v.TypeOctets, v.LengthOctets, v.Attributes, v.Note = in.Name, in.Number, in.TypeOctets,
				given(in.LengthOctets), in.Attributes, in.Note
			return "", nil
		},
		text: func(v *config.Vendor) string { return fmt.Sprint(v.Name, " ", v.Number, " ", v.Attributes) },
		views: func(*config.Config) func(*config.Vendor, apitype.Meta) apitype.Vendor {
			return func(v *config.Vendor, m apitype.Meta) apitype.Vendor {
				return apitype.Vendor{Meta: m, Forms: formsOf(v), VendorFields: apitype.VendorFields{Name: v.Name,
					Number: v.Number, TypeOctets: v.TypeOctets,
					LengthOctets: &v.LengthOctets, Attributes: v.Attributes, Note: v.Note}}
			}
		},
	})
	register(s, &kind[config.Override, *config.Override, apitype.OverrideFields, apitype.Override]{
		name: "override", plural: "overrides",
		list: func(c *config.Config) *[]*config.Override { return &c.Overrides },
		apply: func(_ *config.Config, o *config.Override, in *apitype.OverrideFields) (string, error) {
			o.Name, o.Person, o.Store, o.Lane, o.Pass, o.Until, o.Owner, o.Note = in.Name, in.Person, in.Store,
				in.Lane, in.Pass, in.Until, in.Owner, in.Note
			return "", nil
		},
		text: func(o *config.Override) string { return o.Name + " " + o.Person + " " + o.Pass },
		views: func(*config.Config) func(*config.Override, apitype.Meta) apitype.Override {
			return func(o *config.Override, m apitype.Meta) apitype.Override {
				return apitype.Override{Meta: m, Over: !o.Until.IsZero() && !time.Now().Before(o.Until),
					OverrideFields: apitype.OverrideFields{Name: o.Name, Person: o.Person,
						Store: o.Store, Lane: o.Lane, Pass: o.Pass, Until: o.Until, Owner: o.Owner, Note: o.Note}}
			}
		},
	})
	register(s, &kind[config.Expectation, *config.Expectation, apitype.ExpectationFields, apitype.Expectation]{
		name: "expectation", plural: "expectations",
		list: func(c *config.Config) *[]*config.Expectation { return &c.Expectations },
		apply: func(_ *config.Config, e *config.Expectation, in *apitype.ExpectationFields) (string, error) {
			e.Name, e.Sent, e.Client, e.Method, e.Attributes, e.At = in.Name, in.Sent, in.Client, in.Method,
				in.Attributes, in.At
			e.Asks, e.Command, e.Level = in.Asks, in.Command, in.Level
			e.Admitted, e.Pass, e.VLAN, e.Reason, e.Note = in.Admitted, in.Pass, in.VLAN, in.Reason, in.Note
			return "", nil
		},
		text: func(e *config.Expectation) string { return e.Name + " " + e.Sent + " " + e.Client },
		views: func(*config.Config) func(*config.Expectation, apitype.Meta) apitype.Expectation {
			return func(e *config.Expectation, m apitype.Meta) apitype.Expectation {
				return apitype.Expectation{Meta: m, ExpectationFields: apitype.ExpectationFields{Name: e.Name,
					Sent: e.Sent, Client: e.Client, Method: e.Method, Asks: e.Asks, Command: e.Command, Level: e.Level,
					Attributes: e.Attributes,
					At:         e.At, Admitted: e.Admitted, Pass: e.Pass, VLAN: e.VLAN, Reason: e.Reason, Note: e.Note}}
			}
		},
	})
}

// remoteView shows remote servers with the lanes that forward to them.
func (s *server) remoteView(c *config.Config) func(*config.Remote, apitype.Meta) apitype.Remote {
	snapshot := s.Gate.Current()
	return func(r *config.Remote, m apitype.Meta) apitype.Remote {
		out := apitype.Remote{Meta: m, SecretSet: r.Secret.Set(), Silent: snapshot.Silent(r.Name, time.Now()),
			Sent: s.sent("remote", r.ID), States: []apitype.RemoteState{}, UsedBy: []string{},
			RemoteFields: apitype.RemoteFields{Name: r.Name,
				Servers: r.Servers, Weighted: r.Weighted, Transport: cmp.Or(r.Transport, config.OverUDP), CA: r.CA,
				ServerName: r.ServerName, Certificate: r.Certificate, TimeoutMillis: r.TimeoutMillis, Tries: r.Tries,
				DeadSeconds: r.DeadSeconds, ProbeSeconds: &r.ProbeSeconds, Unsigned: r.Unsigned,
				Accounting: r.Accounting, AccountingPort: r.AccountingPort, Rules: r.Rules, Grants: r.Grants,
				Pass: r.Pass, Note: r.Note}}
		if open := snapshot.Remote(r.Name); open != nil {
			for _, m := range open.States() {
				out.States = append(out.States, apitype.RemoteState{Address: m.Address.String(), Silent: m.Silent,
					Heard: m.Heard, Since: m.Since, Fault: m.Fault, Micros: m.Took.Microseconds(), Asked: m.Asked,
					Answers: m.Answers, Speaks: m.Speaks, Version: m.Version})
			}
		}
		for i := range c.Lanes {
			if slices.ContainsFunc(c.Lanes[i].Forward, func(name string) bool {
				return strings.EqualFold(name, r.Name)
			}) {
				out.UsedBy = append(out.UsedBy, c.Lanes[i].Name)
			}
		}
		return out
	}
}

// poolView shows pools with what is taken of their addresses, whatever pool gave them.
func (s *server) poolView(*config.Config) func(*config.Pool, apitype.Meta) apitype.Pool {
	taken := s.Gate.Leases.List("", time.Now())
	return func(p *config.Pool, m apitype.Meta) apitype.Pool {
		ranges, size := p.Parsed()
		out := apitype.Pool{Meta: m, Size: size, PoolFields: apitype.PoolFields{Name: p.Name, Ranges: p.Ranges,
			Note: p.Note}}
		for i := range taken {
			if slices.ContainsFunc(ranges, func(r config.AddressRange) bool { return r.Contains(taken[i].Address) }) {
				out.Taken++
			}
		}
		return out
	}
}

// maxLeases bounds a list of leases.
const maxLeases = 2000

// leases registers what is taken of pools.
func (s *server) leases() {
	huma.Register(s.api, operation("GET", "/leases", "list-leases", "Addresses of pools that are taken"),
		func(_ context.Context, in *struct {
			Pool string `query:"pool" maxLength:"200" doc:"Only of this pool"`
		}) (*body[apitype.Page[apitype.Lease]], error) {
			list := s.Gate.Leases.List(in.Pool, time.Now())
			out := apitype.Page[apitype.Lease]{Items: []apitype.Lease{}}
			for _, l := range list[:min(len(list), maxLeases)] {
				out.Items = append(out.Items, apitype.Lease{Address: l.Address, Pool: l.Pool, Who: l.Who,
					Client: l.Client,
					At:     l.At, Until: l.Until})
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("DELETE", "/leases/{address}", "release-lease",
		"Free an address whose session is surely over"), func(_ context.Context, in *struct {
		Address string `path:"address" maxLength:"60"`
	}) (*struct{}, error) {
		addr, err := netip.ParseAddr(in.Address)
		if err != nil || !s.Gate.Leases.Release(addr) {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("the address %s is not taken", in.Address), "")
		}
		return nil, nil
	})
}

// examples are values with which attributes of each type are shown.
var examples = map[string]string{"text": "crew", "octets": "0x0a", "integer": "1", "integer64": "1",
	"ipv4addr": "192.0.2.7", "ipv6addr": "2001:db8::7",
	"ipv6prefix": "2001:db8::/32", "ifid": "0000:0000:0000:0001", "time": "2027-01-01T00:00:00Z"}

// formsOf shows each attribute of a vendor, with a value of its type, as it would go over the wire.
func formsOf(v *config.Vendor) []results.Text {
	dictionary, _ := pass.Dictionary([]*config.Vendor{v})
	out := []results.Text{}
	for _, a := range v.Attributes {
		value := examples[a.Type]
		if len(a.Values) > 0 {
			value = a.Values[0].Name
		}
		reply, problems := pass.Compile(&config.Pass{Attributes: []config.Attribute{{Name: a.Name, Value: value}}},
			dictionary, nil)
		if len(problems) == 0 {
			out = append(out, reply.Texts()...)
		}
	}
	return out
}
