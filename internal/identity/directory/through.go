package directory

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

// Memberships tells of each group of a person how the person comes to be in it.
func (d *Directory) Memberships(ctx context.Context, dn string) ([]results.Membership, error) {
	out := []results.Membership{}
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		result, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.seconds(),
			false, "(objectClass=*)", append(slices.Clone(personAttributes[d.cfg.Kind]), "memberOf"), nil))
		if err != nil {
			return err
		}
		if len(result.Entries) != 1 {
			return fmt.Errorf("there is no entry %s", dn)
		}
		person := result.Entries[0]
		all, err := d.groupsOf(c, base, person)
		if err != nil {
			return err
		}
		ways, err := d.ways(c, base, person)
		if err != nil {
			return err
		}
		primary := ""
		if d.cfg.Kind == config.ActiveDirectory {
			primary = formatSID(primaryGroup(person))
		}
		for _, g := range all {
			names := d.groups.of([]results.Group{g})
			if len(names) == 0 {
				continue
			}
			way, known := ways[strings.ToLower(g.DN)]
			if !known {
				way = []string{}
			}
			out = append(out, results.Membership{Group: g, Counts: names[0], Through: way, Primary: g.ID == primary})
		}
		slices.SortFunc(out, func(a, b results.Membership) int {
			return strings.Compare(strings.ToLower(a.Counts), strings.ToLower(b.Counts))
		})
		return nil
	})
	if err != nil {
		_, detail := d.outcome(err)
		return nil, fmt.Errorf("reading the groups of %s: %s", dn, detail)
	}
	return out, nil
}

// ways walks upwards from the person, level by level, and notes for each group the names of those on the way to it.
func (d *Directory) ways(c *ldap.Conn, base string, person *ldap.Entry) (map[string][]string, error) {
	type node struct {
		dn  string
		way []string
	}
	out := map[string][]string{}
	level := []node{{person.DN, []string{}}}
	for depth := 0; len(level) > 0 && depth < maxNesting && len(out) < maxGroups; depth++ {
		var next []node
		for _, from := range level {
			v := ldap.EscapeFilter(from.dn)
			filter := "(|(member=" + v + ")(uniqueMember=" + v + "))"
			if d.cfg.Kind == config.ActiveDirectory {
				filter = "(&(objectClass=group)(member=" + v + "))"
			} else if depth == 0 {
				filter = "(|(member=" + v + ")(uniqueMember=" + v + ")" + posixFilter(person) + ")"
			}
			parents, err := d.groupSearch(c, base, filter)
			if err != nil {
				return nil, err
			}
			for _, g := range parents {
				key := strings.ToLower(g.DN)
				if _, known := out[key]; known || len(out) >= maxGroups {
					continue
				}
				out[key] = from.way
				next = append(next, node{g.DN, append(slices.Clone(from.way), g.Name)})
			}
		}
		if len(next) > 4*batch {
			next = next[:4*batch]
		}
		level = next
	}
	return out, nil
}
