package directory

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

const (
	// nameLife is how long the name of a group is taken again without asking.
	nameLife = 5 * time.Minute
	// batch is how many groups are asked for by identifier in one search.
	batch = 50
	// noID begins the identifier of a group in a directory that has none to give.
	noID = "dn:"
)

// groupNames turns groups into the names that policies use, and keeps those of security identifiers.
type groupNames struct {
	picked map[string]string // identifier -> name that policies use
	taken  map[string]bool   // those names

	mu    sync.Mutex
	known map[string]knownGroup
}

type knownGroup struct {
	results.Group
	until time.Time
}

func (g *groupNames) init(picked []config.PickedGroup) {
	g.picked, g.taken, g.known = map[string]string{}, map[string]bool{}, map[string]knownGroup{}
	for _, p := range picked {
		g.picked[p.ID], g.taken[strings.ToLower(p.Name)] = p.Name, true
	}
}

func (g *groupNames) forget() {
	g.mu.Lock()
	defer g.mu.Unlock()
	clear(g.known)
}

// of names groups for policies: a picked one as it was picked, any other as it is called. Another group that is called
// like a picked one goes by its DN, so that nobody gains rights by giving a group the name of one that was renamed.
func (g *groupNames) of(groups []results.Group) []string {
	names := make([]string, 0, len(groups))
	for _, one := range groups {
		name, picked := g.picked[one.ID]
		switch {
		case picked:
		case one.Name == "":
			continue
		case g.taken[strings.ToLower(one.Name)]:
			name = one.DN
		default:
			name = one.Name
		}
		names = append(names, name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// groupAttributes are read of groups.
var groupAttributes = map[config.DirectoryKind][]string{config.ActiveDirectory: {"cn", "objectSid"},
	config.Generic: {"cn", "entryUUID"}}

// group reads the entry of a group.
func (d *Directory) group(e *ldap.Entry) results.Group {
	out := results.Group{Name: e.GetEqualFoldAttributeValue("cn"), DN: e.DN, ID: noID + strings.ToLower(e.DN)}
	if d.cfg.Kind == config.ActiveDirectory {
		if sid := formatSID(e.GetEqualFoldRawAttributeValue("objectSid")); sid != "" {
			out.ID = sid
		}
	} else if id := e.GetEqualFoldAttributeValue("entryUUID"); id != "" {
		out.ID = strings.ToLower(id)
	}
	return out
}

// formatSID writes a security identifier as S-1-5-21-... (MS-DTYP section 2.4.2.1), "" if it is none.
func formatSID(b []byte) string {
	if len(b) < 8 || len(b) != 8+4*int(b[1]) {
		return ""
	}
	var authority uint64
	for _, octet := range b[2:8] {
		authority = authority<<8 | uint64(octet)
	}
	out := fmt.Sprintf("S-%d-%d", b[0], authority)
	for rest := b[8:]; len(rest) > 0; rest = rest[4:] {
		out += fmt.Sprintf("-%d", binary.LittleEndian.Uint32(rest))
	}
	return out
}

// parseSID reads that form.
func parseSID(text string) ([]byte, bool) {
	parts := strings.Split(text, "-")
	if len(parts) < 3 || len(parts) > 18 || parts[0] != "S" {
		return nil, false
	}
	revision, err1 := strconv.ParseUint(parts[1], 10, 8)
	authority, err2 := strconv.ParseUint(parts[2], 10, 48)
	if err1 != nil || err2 != nil {
		return nil, false
	}
	out := []byte{byte(revision), byte(len(parts) - 3)}
	out = append(out, binary.BigEndian.AppendUint64(nil, authority)[2:]...)
	for _, part := range parts[3:] {
		v, err := strconv.ParseUint(part, 10, 32)
		if err != nil {
			return nil, false
		}
		out = binary.LittleEndian.AppendUint32(out, uint32(v))
	}
	return out, true
}

// groupsOf lists all groups of a person, nested ones too.
func (d *Directory) groupsOf(c *ldap.Conn, base string, e *ldap.Entry) ([]results.Group, error) {
	if d.cfg.Kind != config.ActiveDirectory {
		return d.genericGroups(c, base, e)
	}
	groups, err := d.tokenGroups(c, base, e.DN)
	if err != nil || len(groups) > 0 {
		return groups, err
	}
	return d.chainGroups(c, base, e)
}

// tokenGroups reads the security identifiers of all groups that count in a logon, nested and primary ones too, which
// the server computes; and the mail groups that the person is a member of directly, which are not among them.
func (d *Directory) tokenGroups(c *ldap.Conn, base, dn string) ([]results.Group, error) {
	result, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.seconds(),
		false, "(objectClass=*)", []string{"tokenGroups", "memberOf"}, nil))
	if err != nil {
		return nil, err
	}
	if len(result.Entries) == 0 {
		return nil, nil
	}
	var sids []string
	for _, raw := range result.Entries[0].GetEqualFoldRawAttributeValues("tokenGroups") {
		if sid := formatSID(raw); sid != "" && len(sids) < maxGroups {
			sids = append(sids, sid)
		}
	}
	if len(sids) == 0 {
		return nil, nil
	}
	groups, err := d.bySID(c, base, sids)
	if err != nil {
		return nil, err
	}
	have := map[string]bool{}
	for _, g := range groups {
		have[strings.ToLower(g.DN)] = true
	}
	var mail []string
	for _, dn := range result.Entries[0].GetEqualFoldAttributeValues("memberOf") {
		if !have[strings.ToLower(dn)] && len(mail) < maxGroups {
			mail = append(mail, "(distinguishedName="+ldap.EscapeFilter(dn)+")")
		}
	}
	more, err := d.searchEach(c, base, mail)
	return d.inGroupBase(append(groups, more...)), err
}

// inGroupBase leaves out groups outside the base of groups, unless they are picked.
func (d *Directory) inGroupBase(groups []results.Group) []results.Group {
	base, err := ldap.ParseDN(d.cfg.GroupBase)
	if d.cfg.GroupBase == "" || err != nil {
		return groups
	}
	return slices.DeleteFunc(groups, func(g results.Group) bool {
		dn, err := ldap.ParseDN(g.DN)
		_, picked := d.groups.picked[g.ID]
		return !picked && (err != nil || !base.AncestorOfFold(dn))
	})
}

// bySID finds groups by security identifier, those asked for lately without a search. An identifier that this
// directory does not know stays without a name; it may still be picked.
func (d *Directory) bySID(c *ldap.Conn, base string, sids []string) ([]results.Group, error) {
	groups := make([]results.Group, 0, len(sids))
	var ask []string
	now := time.Now()
	d.groups.mu.Lock()
	for _, sid := range sids {
		if k, ok := d.groups.known[sid]; ok && now.Before(k.until) {
			groups = append(groups, k.Group)
		} else {
			ask = append(ask, sid)
		}
	}
	d.groups.mu.Unlock()
	if len(ask) == 0 {
		return groups, nil
	}
	var filters []string
	for _, sid := range ask {
		raw, _ := parseSID(sid)
		filters = append(filters, "(objectSid="+escapeOctets(raw)+")")
	}
	found, err := d.searchEach(c, base, filters)
	if err != nil {
		return nil, err
	}
	byID := map[string]results.Group{}
	for _, g := range found {
		byID[g.ID] = g
	}
	d.groups.mu.Lock()
	defer d.groups.mu.Unlock()
	if len(d.groups.known) > maxBook {
		clear(d.groups.known)
	}
	for _, sid := range ask {
		g := byID[sid]
		g.ID = sid
		d.groups.known[sid] = knownGroup{g, now.Add(nameLife)}
		groups = append(groups, g)
	}
	return groups, nil
}

// searchEach finds the groups that fit one of the filters, a batch of them in one search.
func (d *Directory) searchEach(c *ldap.Conn, base string, filters []string) ([]results.Group, error) {
	var out []results.Group
	for part := range slices.Chunk(filters, batch) {
		result, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2*batch,
			d.seconds(), false, "(&"+d.groupsFilter("")+"(|"+strings.Join(part, "")+"))", groupAttributes[d.cfg.Kind],
			nil))
		if err != nil {
			return nil, err
		}
		for _, e := range result.Entries {
			out = append(out, d.group(e))
		}
	}
	return out, nil
}

// chainGroups asks the server to follow the chain of memberships (matching rule 1.2.840.113556.1.4.1941) and adds
// the primary group, which is no member attribute. It serves where tokenGroups may not be read.
func (d *Directory) chainGroups(c *ldap.Conn, base string, e *ldap.Entry) ([]results.Group, error) {
	filter := fmt.Sprintf("(member:1.2.840.113556.1.4.1941:=%s)", ldap.EscapeFilter(e.DN))
	if group := primaryGroup(e); group != nil {
		filter = fmt.Sprintf("(|%s(objectSid=%s))", filter, escapeOctets(group))
	}
	return d.groupSearch(c, base, "(&(objectClass=group)"+filter+")")
}

// primaryGroup is the identifier of the primary group: that of the person with the last part replaced.
func primaryGroup(e *ldap.Entry) []byte {
	sid := e.GetEqualFoldRawAttributeValue("objectSid")
	primary, err := strconv.ParseUint(e.GetEqualFoldAttributeValue("primaryGroupID"), 10, 32)
	if err != nil || len(sid) < 12 {
		return nil
	}
	return binary.LittleEndian.AppendUint32(slices.Clone(sid[:len(sid)-4]), uint32(primary))
}

func escapeOctets(data []byte) string {
	var b strings.Builder
	for _, octet := range data {
		fmt.Fprintf(&b, `\%02x`, octet)
	}
	return b.String()
}

// genericGroups follows groupOfNames, groupOfUniqueNames and posixGroup upwards, level by level.
func (d *Directory) genericGroups(c *ldap.Conn, base string, e *ldap.Entry) ([]results.Group, error) {
	var groups []results.Group
	known := map[string]bool{}
	level := []string{e.DN}
	for depth := 0; len(level) > 0 && depth < maxNesting && len(groups) < maxGroups; depth++ {
		var filter strings.Builder
		for _, dn := range level {
			v := ldap.EscapeFilter(dn)
			fmt.Fprintf(&filter, "(member=%s)(uniqueMember=%s)", v, v)
		}
		if depth == 0 {
			filter.WriteString(posixFilter(e))
		}
		found, err := d.groupSearch(c, base, "(|"+filter.String()+")")
		if err != nil {
			return nil, err
		}
		level = level[:0]
		for _, g := range found {
			if key := strings.ToLower(g.DN); !known[key] {
				known[key] = true
				groups, level = append(groups, g), append(level, g.DN)
			}
		}
		if len(level) > batch {
			level = level[:batch] // keeps the filter of the next level short
		}
	}
	return groups, nil
}

// posixFilter finds groups that list the person by name or number (RFC 2307).
func posixFilter(e *ldap.Entry) (out string) {
	if uid := e.GetEqualFoldAttributeValue("uid"); uid != "" {
		out = fmt.Sprintf("(&(objectClass=posixGroup)(memberUid=%s))", ldap.EscapeFilter(uid))
	}
	if gid := e.GetEqualFoldAttributeValue("gidNumber"); gid != "" {
		out += fmt.Sprintf("(&(objectClass=posixGroup)(gidNumber=%s))", ldap.EscapeFilter(gid))
	}
	return out
}

// groupSearch returns the groups that fit a filter.
func (d *Directory) groupSearch(c *ldap.Conn, base, filter string) ([]results.Group, error) {
	result, err := c.SearchWithPaging(ldap.NewSearchRequest(d.groupBase(base), ldap.ScopeWholeSubtree,
		ldap.NeverDerefAliases, 0, d.seconds(), false, filter, groupAttributes[d.cfg.Kind], nil), 500)
	if err != nil {
		return nil, err
	}
	var groups []results.Group
	for _, entry := range result.Entries[:min(len(result.Entries), maxGroups)] {
		if g := d.group(entry); g.Name != "" {
			groups = append(groups, g)
		}
	}
	return groups, nil
}
