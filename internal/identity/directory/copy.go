package directory

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
)

const (
	copyLimit = 30 * time.Minute
	copyPage  = 500
)

// Copied is somebody out of a subtree.
type Copied struct {
	// ID does not change when somebody is renamed or moved.
	ID      string
	Person  *facts.Person
	Missing []string
}

// MissingText lists the wanted attributes that are empty.
func (c *Copied) MissingText() string { return strings.Join(c.Missing, ", ") }

// People reads everybody below an entry, page by page (RFC 2696). wanted are attributes that everybody should have.
func (d *Directory) People(ctx context.Context, below string, wanted []string, page func([]Copied) error) error {
	err := d.within(ctx, copyLimit, d.cfg.Timeout(), func(c *ldap.Conn) error {
		attributes := slices.Concat(personAttributes[d.cfg.Kind], d.cfg.Attributes, wanted, []string{"objectGUID",
			"entryUUID"})
		paging := ldap.NewControlPaging(copyPage)
		for {
			result, err := c.Search(ldap.NewSearchRequest(below, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0,
				d.seconds(), false, d.peopleFilter(), attributes, []ldap.Control{paging}))
			if err != nil {
				return err
			}
			people := make([]Copied, 0, len(result.Entries))
			for _, e := range result.Entries {
				people = append(people, d.copied(e, wanted))
			}
			if err := page(people); err != nil {
				return err
			}
			next, _ := ldap.FindControl(result.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
			if next == nil || len(next.Cookie) == 0 || ctx.Err() != nil {
				return ctx.Err()
			}
			paging.SetCookie(next.Cookie)
		}
	})
	if err != nil {
		_, detail := d.outcome(err)
		return fmt.Errorf("reading the people below %s in directory %s: %s", below, d.cfg.Name, detail)
	}
	return nil
}

func (d *Directory) copied(e *ldap.Entry, wanted []string) Copied {
	out := Copied{ID: noID + strings.ToLower(e.DN), Person: d.person(e, time.Now())}
	if id := e.GetEqualFoldAttributeValue("entryUUID"); id != "" && d.cfg.Kind == config.Generic {
		out.ID = strings.ToLower(id)
	} else if raw := e.GetEqualFoldRawAttributeValue("objectGUID"); len(raw) == 16 {
		out.ID = formatGUID(raw)
	}
	for _, name := range wanted {
		values := e.GetEqualFoldAttributeValues(name)
		if len(values) == 0 {
			out.Missing = append(out.Missing, name)
		} else {
			out.Person.Attributes[name] = bounded(values)
		}
	}
	return out
}
