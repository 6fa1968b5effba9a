package directory

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"
	"tollgate.example/key/internal/core/results"
)

const (
	// maxShown bounds the attributes of an entry that are shown, and shownValues the values of each.
	maxShown    = 200
	shownValues = 50
)

// Children lists what lies directly below an entry, or the naming contexts below "". more tells that there are others.
func (d *Directory) Children(ctx context.Context, dn string, limit int) (entries []results.Entry, more bool,
	err error) {
	entries = []results.Entry{}
	err = d.with(ctx, func(c *ldap.Conn) error {
		if dn == "" {
			r, err := readRoot(c)
			for _, context := range r.contexts() {
				entries = append(entries, results.Entry{DN: context, Name: context, Kind: "naming context"})
			}
			return err
		}
		result, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, limit,
			d.seconds(), false, "(objectClass=*)", []string{"objectClass", "hasSubordinates", "displayName"}, nil))
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return err
		}
		more = err != nil
		for _, e := range result.Entries {
			kind := kindOf(e.GetEqualFoldAttributeValues("objectClass"))
			entries = append(entries, results.Entry{DN: e.DN, Name: firstName(e.DN), Kind: kind,
				Leaf: strings.EqualFold(e.GetEqualFoldAttributeValue("hasSubordinates"), "false") ||
					kind == "person" || kind == "group" || kind == "computer"})
		}
		slices.SortFunc(entries, func(a, b results.Entry) int {
			return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
		})
		return nil
	})
	if err != nil {
		_, detail := d.outcome(err)
		return nil, false, fmt.Errorf("reading below %q in directory %s: %s", dn, d.cfg.Name, detail)
	}
	return entries, more, nil
}

// kinds are words for classes, the most telling first.
var kinds = []struct{ class, word string }{{"computer", "computer"}, {"device", "device"}, {"user", "person"},
	{"inetorgperson", "person"}, {"posixaccount", "person"}, {"person", "person"}, {"account", "person"},
	{"group", "group"}, {"groupofnames", "group"}, {"groupofuniquenames", "group"}, {"posixgroup", "group"},
	{"organizationalunit", "unit"}, {"domain", "domain"}, {"domaindns", "domain"}, {"dcobject", "domain"},
	{"organization", "organization"}}

func kindOf(classes []string) string {
	for _, k := range kinds {
		if slices.ContainsFunc(classes, func(c string) bool { return strings.EqualFold(c, k.class) }) {
			return k.word
		}
	}
	if len(classes) > 0 {
		return classes[len(classes)-1]
	}
	return ""
}

// firstName is the first part of a DN without its type.
func firstName(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil || len(parsed.RDNs) == 0 {
		return dn
	}
	return parsed.RDNs[0].Attributes[0].Value
}

// secretAttributes are never shown, even where the service account may read them.
var secretAttributes = []string{"userpassword", "unicodepwd", "dbcspwd", "lmpwdhistory", "ntpwdhistory",
	"supplementalcredentials", "sambantpassword", "sambalmpassword", "krbprincipalkey", "ms-mcs-admpwd",
	"mslaps-password", "mslaps-encryptedpassword", "authpassword", "msds-managedpassword", "pwdhistory",
	"msfve-recoverypassword", "ipanthash", "krbmkey", "trustauthincoming", "trustauthoutgoing"}

// Entry reads the attributes of one entry.
func (d *Directory) Entry(ctx context.Context, dn string) (*results.Details, error) {
	out := &results.Details{Attributes: []results.EntryAttribute{}}
	err := d.with(ctx, func(c *ldap.Conn) error {
		result, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.seconds(),
			false, "(objectClass=*)", []string{"*"}, nil))
		if err != nil {
			return err
		}
		if len(result.Entries) != 1 {
			return &Failure{Detail: "there is no such entry, or the service account may not read it"}
		}
		out.DN = result.Entries[0].DN
		for _, a := range result.Entries[0].Attributes {
			if slices.Contains(secretAttributes, strings.ToLower(a.Name)) || len(out.Attributes) >= maxShown {
				continue
			}
			shown := results.EntryAttribute{Name: a.Name, Values: []string{}}
			for _, raw := range a.ByteValues[:min(len(a.ByteValues), shownValues)] {
				shown.Values = append(shown.Values, readable(a.Name, raw))
			}
			out.Attributes = append(out.Attributes, shown)
		}
		slices.SortFunc(out.Attributes, func(a, b results.EntryAttribute) int {
			return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
		})
		return nil
	})
	if err != nil {
		_, detail := d.outcome(err)
		return nil, fmt.Errorf("reading %q in directory %s: %s", dn, d.cfg.Name, detail)
	}
	return out, nil
}

// readable writes a value for people: identifiers in their text form, other octets as a length.
func readable(name string, raw []byte) string {
	switch {
	case strings.EqualFold(name, "objectSid") && formatSID(raw) != "":
		return formatSID(raw)
	case strings.HasSuffix(strings.ToLower(name), "guid") && len(raw) == 16:
		return formatGUID(raw)
	case !utf8.Valid(raw) || strings.ContainsFunc(string(raw), func(r rune) bool {
		return r < ' ' && r != '\n' && r != '\t' && r != '\r'
	}):
		return fmt.Sprintf("%d octets", len(raw))
	}
	return short(string(raw))
}

// formatGUID writes an identifier as MS-DTYP section 2.3.4.3 does: the first three parts are little endian.
func formatGUID(b []byte) string {
	return fmt.Sprintf("%08x-%04x-%04x-%s-%s", binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint16(b[4:]),
		binary.LittleEndian.Uint16(b[6:]), hex.EncodeToString(b[8:10]), hex.EncodeToString(b[10:]))
}
