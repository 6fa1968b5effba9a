package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var pools = kind[apitype.Pool]{
	noun: "pool", path: "/pools",
	headings: []string{"NAME", "RANGES", "ADDRESSES", "TAKEN"},
	row: func(p apitype.Pool) []string {
		return []string{p.Name, strings.Join(p.Ranges, ", "), fmt.Sprint(p.Size), fmt.Sprint(p.Taken)}
	},
	show: func(s *invocation, p apitype.Pool) {
		s.fields([2]string{"name", p.Name}, [2]string{"ranges", strings.Join(p.Ranges, ", ")}, [2]string{"addresses",
			fmt.Sprint(p.Size)}, [2]string{"taken", fmt.Sprint(p.Taken)}, [2]string{"note", p.Note})
	},
}

func poolCommands() []command {
	return slices.Concat(pools.commands(), writer("pool", "/pools", func(f *flag.FlagSet) func(map[string]bool,
		*apitype.Pool, string) any {
		var ranges list
		f.Var(&ranges, "range", "prefix, or first-last address; repeatable, replaces those there")
		name, note := f.String("name", "", "new name"), f.String("text", "", "note")
		return func(was map[string]bool, old *apitype.Pool, label string) any {
			in := apitype.PoolFields{Ranges: []string{}}
			if old != nil {
				in = old.PoolFields
			}
			in.Name = label
			assign(was, "name", &in.Name, *name)
			assign(was, "range", &in.Ranges, []string(ranges))
			assign(was, "text", &in.Note, *note)
			return in
		}
	}, func(p apitype.Pool) (apitype.Meta, string) { return p.Meta, p.Name }), []command{
		{"pool", "taken", "[POOL]", "addresses in use, by whom and until when",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					page, err := client.Get[apitype.Page[apitype.Lease]](s.ctx, s.api, "/leases?pool="+
						url.QueryEscape(strings.Join(args, " ")))
					if err != nil {
						return err
					}
					return s.print(page.Items, func() {
						var rows [][]string
						for _, l := range page.Items {
							rows = append(rows, []string{l.Address.String(), l.Pool, l.Who, l.Client,
								l.At.Local().Format("2006-01-02 15:04"), l.Until.Local().Format("2006-01-02 15:04")})
						}
						s.table([]string{"ADDRESS", "POOL", "WHO", "CLIENT", "SINCE", "UNTIL AT MOST"}, rows)
					})
				}
			}},
		{"pool", "release", "ADDRESS", "release an address whose session has ended",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					address, err := one(args, "address")
					if err != nil {
						return err
					}
					if err := s.api.Do(s.ctx, http.MethodDelete, "/leases/"+url.PathEscape(address), nil,
						nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() { s.say("%s is free.", address) })
				}
			}},
	})
}
