package directory

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

const (
	// maxBook bounds the groups of a directory that can be listed.
	maxBook = 200_000
	// bookLife is how long the list of groups is used before it is read again.
	bookLife = 10 * time.Minute
	// bookLimit bounds the reading of it, bookWait how long somebody waits for it before the server is searched.
	bookLimit = 2 * time.Minute
	bookWait  = 1500 * time.Millisecond
	bookPage  = 1000
)

// book is the list of all groups of a directory. Directories cannot find the middle of a name quickly, and cannot page
// backwards and forwards at will, so it is read once and searched here.
type book struct {
	mu      sync.Mutex
	groups  []results.Group // by name, then identifier
	lower   []string
	at      time.Time
	cut     bool          // the server did not let us read them all
	reading chan struct{} // closed when reading ends, nil if nobody reads
}

// GroupPage is one page of groups.
type GroupPage struct {
	Items []results.Group
	// Next continues the list, "" at its end.
	Next string
	// Total counts the groups that fit, -1 if that is not known.
	Total int
	// More tells that there are others which cannot be paged to.
	More bool
}

// Groups lists groups whose name contains the text, in the order of their names, after what a page before gave as next.
func (d *Directory) Groups(ctx context.Context, text, after string, limit int) (GroupPage, error) {
	reading := d.book.start(d)
	if reading != nil {
		select {
		case <-reading:
		case <-time.After(bookWait):
		case <-ctx.Done():
		}
	}
	if page, ok := d.book.page(text, after, limit); ok {
		return page, nil
	}
	return d.searchGroups(ctx, text, limit)
}

// start begins to read the list if that is due. It returns what to wait for: nil if there is a list to use meanwhile.
func (b *book) start(d *Directory) chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.reading == nil && time.Since(b.at) > bookLife {
		b.reading = make(chan struct{})
		go b.read(d, b.reading)
	}
	if b.groups != nil {
		return nil
	}
	return b.reading
}

func (b *book) read(d *Directory, done chan struct{}) {
	ctx, cancel := context.WithTimeout(context.Background(), bookLimit)
	defer cancel()
	groups, cut, err := d.allGroups(ctx)
	lower := make([]string, len(groups))
	for i := range groups {
		lower[i] = strings.ToLower(groups[i].Name)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if err == nil {
		b.groups, b.lower, b.cut, b.at = groups, lower, cut, time.Now()
	}
	b.reading = nil
	close(done)
}

// page cuts one page out of the list; ok is false if there is none.
func (b *book) page(text, after string, limit int) (page GroupPage, ok bool) {
	b.mu.Lock()
	groups, lower := b.groups, b.lower
	page.More = b.cut
	b.mu.Unlock()
	if groups == nil {
		return page, false
	}
	text = strings.ToLower(strings.TrimSpace(text))
	page.Items = []results.Group{}
	for i := range groups {
		if !strings.Contains(lower[i], text) {
			continue
		}
		page.Total++
		if len(page.Items) > limit || lower[i]+"\x00"+groups[i].ID <= after {
			continue
		}
		page.Items = append(page.Items, groups[i])
	}
	if len(page.Items) > limit {
		page.Items = page.Items[:limit]
		last := page.Items[limit-1]
		page.Next = strings.ToLower(last.Name) + "\x00" + last.ID
	}
	return page, true
}

// forget drops the list, so that it is read anew.
func (b *book) forget() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.groups, b.lower, b.at = nil, nil, time.Time{}
}

// allGroups reads the groups of the directory page by page (RFC 2696). A server that lets us read only so many cuts
// the list.
func (d *Directory) allGroups(ctx context.Context) (groups []results.Group, cut bool, err error) {
	groups = []results.Group{}
	err = d.within(ctx, bookLimit, d.cfg.Timeout(), func(c *ldap.Conn) error {
		groups = groups[:0]
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		paging := ldap.NewControlPaging(bookPage)
		for {
			result, err := c.Search(ldap.NewSearchRequest(d.groupBase(base), ldap.ScopeWholeSubtree,
				ldap.NeverDerefAliases, 0, d.seconds(), false, d.groupsFilter(""), groupAttributes[d.cfg.Kind],
				[]ldap.Control{paging}))
			if err != nil && (result == nil || !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded)) {
				return err
			}
			for _, e := range result.Entries {
				groups = append(groups, d.group(e))
			}
			if cut = err != nil; cut {
				return nil
			}
			next, _ := ldap.FindControl(result.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
			if next == nil || len(next.Cookie) == 0 || len(groups) >= maxBook || ctx.Err() != nil {
				return ctx.Err()
			}
			paging.SetCookie(next.Cookie)
		}
	})
	slices.SortFunc(groups, func(a, b results.Group) int {
		if c := strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	return groups, cut, err
}

// searchGroups asks the server for the first groups that fit, while the list is not there.
func (d *Directory) searchGroups(ctx context.Context, text string, limit int) (GroupPage, error) {
	page := GroupPage{Items: []results.Group{}, Total: -1}
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		result, err := c.Search(ldap.NewSearchRequest(d.groupBase(base), ldap.ScopeWholeSubtree,
			ldap.NeverDerefAliases, limit, d.seconds(), false, d.groupsFilter(text), groupAttributes[d.cfg.Kind], nil))
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return err
		}
		page.More = err != nil
		for _, e := range result.Entries {
			page.Items = append(page.Items, d.group(e))
		}
		return nil
	})
	if err != nil {
		_, detail := d.outcome(err)
		return page, fmt.Errorf("listing the groups of directory %s: %s", d.cfg.Name, detail)
	}
	slices.SortFunc(page.Items, func(a, b results.Group) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return page, nil
}

// Picked looks the picked groups up by what identifies them.
func (d *Directory) Picked(ctx context.Context) ([]results.PickedState, error) {
	out := []results.PickedState{}
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		found, err := d.byID(c, base, d.cfg.Groups)
		for _, p := range d.cfg.Groups {
			out = append(out, results.PickedState{PickedGroup: p, Now: found[p.ID].Name, DN: found[p.ID].DN})
		}
		return err
	})
	if err != nil {
		_, detail := d.outcome(err)
		return nil, fmt.Errorf("looking for the picked groups in directory %s: %s", d.cfg.Name, detail)
	}
	return out, nil
}

// Lookup finds one group by what identifies it.
func (d *Directory) Lookup(ctx context.Context, id string) (results.Group, error) {
	var out results.Group
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		found, err := d.byID(c, base, []config.PickedGroup{{ID: id}})
		out = found[id]
		return err
	})
	if err != nil {
		_, detail := d.outcome(err)
		return out, fmt.Errorf("looking for the group %s in directory %s: %s", id, d.cfg.Name, detail)
	}
	if out.Name == "" {
		return out, fmt.Errorf("directory %s has no group %s", d.cfg.Name, id)
	}
	return out, nil
}

func (d *Directory) byID(c *ldap.Conn, base string, picked []config.PickedGroup) (map[string]results.Group, error) {
	var filters []string
	out := map[string]results.Group{}
	for _, p := range picked {
		if dn, ok := strings.CutPrefix(p.ID, noID); ok {
			result, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1,
				d.seconds(), false, "(objectClass=*)", groupAttributes[d.cfg.Kind], nil))
			if err == nil && len(result.Entries) == 1 {
				out[p.ID] = d.group(result.Entries[0])
			}
		} else if raw, ok := parseSID(p.ID); ok && d.cfg.Kind == config.ActiveDirectory {
			filters = append(filters, "(objectSid="+escapeOctets(raw)+")")
		} else {
			filters = append(filters, "(entryUUID="+ldap.EscapeFilter(p.ID)+")")
		}
	}
	found, err := d.searchEach(c, base, filters)
	for _, g := range found {
		out[g.ID] = g
	}
	return out, err
}
