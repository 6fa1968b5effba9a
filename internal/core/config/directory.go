package config

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// DirectoryKind tells how people and groups are laid out.
type DirectoryKind string

const (
	// Generic is any LDAP directory with inetOrgPerson or posixAccount people and the common kinds of groups.
	Generic DirectoryKind = "generic"
	// ActiveDirectory is a directory of the Active Directory kind.
	ActiveDirectory DirectoryKind = "active-directory"
)

// TLSMode is how the connection to a directory server is protected.
type TLSMode string

const (
	LDAPS    TLSMode = "ldaps"
	StartTLS TLSMode = "starttls"
	Plain    TLSMode = "plain"
)

// DefaultPort is the well-known port of the mode.
func (m TLSMode) DefaultPort() int {
	if m == LDAPS {
		return 636
	}
	return 389
}

// Directory is an outside store of people and groups, reached by LDAP (RFC 4511).
type Directory struct {
	ID   string        `json:"id"`
	Name string        `json:"name"`
	Kind DirectoryKind `json:"kind"`
	// Servers are host:port, tried in this order.
	Servers []string `json:"servers"`
	TLS     TLSMode  `json:"tls"`
	// CA is PEM; empty trusts the authorities of the operating system.
	CA string `json:"ca,omitempty"`
	// ServerName overrides the name that the server certificate must carry.
	ServerName   string `json:"serverName,omitempty"`
	BindName     string `json:"bindName"`
	BindPassword Secret `json:"bindPassword"`
	// Base is where people and groups are searched; empty means the one that the rootDSE names.
	Base string `json:"base,omitempty"`
	// GroupBase narrows the search of groups; empty means Base.
	GroupBase string `json:"groupBase,omitempty"`
	// Attributes are read of each person beside those that every kind needs, and become facts.
	Attributes []string `json:"attributes"`
	// Groups are the picked groups: policies name them as they are named here, whatever they are called there.
	Groups []PickedGroup `json:"groups"`
	// CacheSeconds is how long what was found of a person is taken again without asking; 0 asks each time.
	CacheSeconds int `json:"cacheSeconds"`
	// DNS are the DNS servers to ask for the servers' addresses, host:port, separated by commas; empty asks those of
	// the operating system.
	DNS string `json:"dns,omitempty"`
	// Source is the address that connections go out from; empty leaves it to the operating system.
	Source string `json:"source,omitempty"`
	// GuardAfter is after how many wrong passwords of a person no more are passed on: 0 goes by what the domain says of
	// itself, -1 passes on all.
	GuardAfter int `json:"guardAfter,omitempty"`
	// CopyBelow are the subtrees whose people are copied, CopyWanted the attributes that each of them should have, and
	// CopyMinutes how often that is done by itself; 0 is on demand only.
	CopyBelow   []string `json:"copyBelow"`
	CopyWanted  []string `json:"copyWanted"`
	CopyMinutes int      `json:"copyMinutes,omitempty"`
	// Domain and Computer are our membership of its domain, through which MS-CHAP is checked: the short name of the
	// domain, and our machine account without the dollar sign. Empty for none. Its password is a record.
	Domain   string `json:"domain,omitempty"`
	Computer string `json:"computer,omitempty"`
	// TimeoutMillis bounds each operation.
	TimeoutMillis int    `json:"timeoutMillis"`
	Note          string `json:"note,omitempty"`
}

// PickedGroup is a group that policies may name, held by what does not change when it is renamed.
type PickedGroup struct {
	// ID is the security identifier, entryUUID, or else the DN.
	ID string `json:"id"`
	// Name is what policies call it.
	Name string `json:"name"`
}

// Pick adds a picked group, or renames it if it is there.
func Pick(groups []PickedGroup, one PickedGroup) []PickedGroup {
	for i := range groups {
		if groups[i].ID == one.ID {
			groups[i].Name = one.Name
			return groups
		}
	}
	return append(groups, one)
}

// PickedAs is the name under which a group is picked, "" if it is not.
func PickedAs(groups []PickedGroup, id string) string {
	for _, g := range groups {
		if g.ID == id {
			return g.Name
		}
	}
	return ""
}

// Member reports whether we are a member of its domain.
func (d *Directory) Member() bool { return d.Computer != "" }

// Timeout is the bound of one operation.
func (d *Directory) Timeout() time.Duration {
	if d.TimeoutMillis <= 0 {
		return 3 * time.Second
	}
	return time.Duration(d.TimeoutMillis) * time.Millisecond
}

func (d *Directory) normalise() {
	orEmpty(&d.Servers)
	orEmpty(&d.Attributes)
	orEmpty(&d.Groups)
	orEmpty(&d.CopyBelow)
	orEmpty(&d.CopyWanted)
	trim(&d.Name, &d.BindName, &d.Base, &d.GroupBase, &d.ServerName, &d.Note, &d.CA, &d.DNS, &d.Source)
	if d.Kind == "" {
		d.Kind = Generic
	}
	if d.TLS == "" {
		d.TLS = LDAPS
	}
	if d.TimeoutMillis == 0 {
		d.TimeoutMillis = 3000
	}
	for i, server := range d.Servers {
		text, mode := ParseServer(server, d.TLS)
		d.Servers[i], d.TLS = text, mode
	}
	d.Servers = unique(d.Servers)
	d.Attributes = unique(d.Attributes)
	d.CopyBelow, d.CopyWanted = unique(d.CopyBelow), unique(d.CopyWanted)
	d.DNS = strings.Join(DNSServers(d.DNS), ", ")
	for i := range d.Groups {
		trim(&d.Groups[i].ID, &d.Groups[i].Name)
	}
}

func (c *Config) checkDirectories(k *checker) {
	for i := range c.Directories {
		d := c.Directories[i]
		k.on("directory", d.Name, d.ID)
		if strings.EqualFold(d.Name, LocalStore) || strings.EqualFold(d.Name, DeviceStore) {
			k.fail("name", Conflict, "Choose another name.", "the names local and devices are reserved for the local "+
				"accounts and the known devices")
		}
		if d.Kind != Generic && d.Kind != ActiveDirectory {
			k.fail("kind", Unknown, "Use generic or active-directory.", "%q is not a kind of directory", d.Kind)
		}
		if len(d.Servers) == 0 {
			k.fail("servers", Required, "Give the host name or address of a directory server.", "no server")
		}
		if len(d.Servers) > 16 {
			k.fail("servers", TooMany, "Remove some.", "more than 16 servers")
		}
		for j, server := range d.Servers {
			d.checkServer(k, fmt.Sprintf("servers[%d]", j), server)
		}
		switch d.TLS {
		case LDAPS, StartTLS:
		case Plain:
			k.warn("tls", PlainConnection, "Use ldaps or starttls.", "the connection is not encrypted: the passwords "+
				"of everyone who signs in cross the network in clear text")
		default:
			k.fail("tls", Unknown, "Use ldaps, starttls or plain.", "%q is not a TLS mode", d.TLS)
		}
		if d.BindName == "" {
			k.warn("bindName", AnonymousBind, "Give a service account that may read people and groups.",
				"no bind name: the directory is searched anonymously, which most directories refuse")
		} else if !d.BindPassword.Set() {
			k.fail("bindPassword", Required, "Give the password of the service account.",
				"a bind name without a password")
		}
		if d.TimeoutMillis < 100 || d.TimeoutMillis > 60_000 {
			k.fail("timeoutMillis", OutOfRange, "Use 100 to 60000 ms; 3000 suits most networks.",
				"%d ms is out of range", d.TimeoutMillis)
		}
		d.checkFurther(k)
		if len(d.Attributes) > 50 {
			k.fail("attributes", TooMany, "Remove some.", "more than 50 attributes")
		}
		if len(d.CA) > 256<<10 {
			k.fail("ca", TooMany, "Give only the authority that signed the server's certificate.",
				"more than 256 kB of certificates")
		}
	}
}

func (d *Directory) checkServer(k *checker, field, server string) {
	host, portText, err := net.SplitHostPort(server)
	port, portErr := strconv.Atoi(portText)
	if err != nil || host == "" || portErr != nil || port < 1 || port > 65535 {
		k.fail(field, Malformed, "Write a host name or address; the port is added by itself.", "%q is not host:port",
			server)
		return
	}
	switch {
	case d.TLS == LDAPS && (port == 389 || port == 3268):
		k.fail(field, Conflict, fmt.Sprintf("Use port %d with ldaps, or choose starttls.", port+map[int]int{389: 247,
			3268: 1}[port]), "port %d speaks plain LDAP or StartTLS, not ldaps", port)
	case d.TLS != LDAPS && (port == 636 || port == 3269):
		k.fail(field, Conflict, "Choose ldaps, or port 389.", "port %d speaks TLS from the first octet, which is "+
			"ldaps, not %s", port, d.TLS)
	}
}

// checkFurther checks what few directories need.
// maxDNSServers bounds the DNS servers of one directory.
const maxDNSServers = 8

// DNSServers reads a list of DNS servers, separated by commas or spaces: each an address, with port 53 unless one is
// written.
func DNSServers(text string) []string {
	var out []string
	for _, one := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == ' ' }) {
		if _, _, err := net.SplitHostPort(one); err != nil {
			one = net.JoinHostPort(strings.Trim(one, "[]"), "53")
		}
		if !slices.Contains(out, one) {
			out = append(out, one)
		}
	}
	return out
}

func (d *Directory) checkFurther(k *checker) {
	if d.CacheSeconds < 0 || d.CacheSeconds > 3600 {
		k.fail("cacheSeconds", OutOfRange, "Use 0 (ask each time) to 3600; 60 suits most.",
			"%d seconds is out of range", d.CacheSeconds)
	}
	if d.GuardAfter < -1 || d.GuardAfter > 100 {
		k.fail("guardAfter", OutOfRange, "Use 0 to follow the domain, -1 for no protection, or a number up to 100.",
			"%d wrong passwords is out of range", d.GuardAfter)
	}
	servers := DNSServers(d.DNS)
	if len(servers) > maxDNSServers {
		k.fail("dns", TooMany, "Two or three are enough.", "%d DNS servers are more than %d", len(servers),
			maxDNSServers)
	}
	for _, server := range servers {
		if _, err := netip.ParseAddrPort(server); err != nil {
			k.fail("dns", Malformed, "Write addresses, such as 192.0.2.53, 198.51.100.53.",
				"%q is not the address of a DNS server", server)
		}
	}
	if d.Source != "" && net.ParseIP(d.Source) == nil {
		k.fail("source", Malformed, "Write an address of this machine, or leave it empty.", "%q is not an address",
			d.Source)
	}
	if len(d.CopyBelow) > 50 || len(d.CopyWanted) > 50 {
		k.fail("copyBelow", TooMany, "Copy below an entry that holds them all.",
			"more than 50 subtrees or wanted attributes")
	}
	if d.CopyMinutes != 0 && (d.CopyMinutes < 5 || d.CopyMinutes > 10080) {
		k.fail("copyMinutes", OutOfRange, "Use 0 for on demand only, or 5 minutes to a week (10080).",
			"%d minutes is out of range", d.CopyMinutes)
	}
	if len(d.Groups) > maxPicked {
		k.fail("groups", TooMany, "Pick only those that policies name.", "%d picked groups, at most %d are allowed",
			len(d.Groups), maxPicked)
	}
	names, ids := map[string]bool{}, map[string]bool{}
	for i, g := range d.Groups {
		field, name := fmt.Sprintf("groups[%d]", i), strings.ToLower(g.Name)
		switch {
		case g.ID == "" || g.Name == "":
			k.fail(field, Conflict, "Pick it from the directory.", "a picked group needs a name and an identifier")
		case len(g.ID) > 500 || len(g.Name) > 200:
			k.fail(field, TooLong, "Pick it from the directory.", "the name or the identifier is too long")
		case ids[g.ID]:
			k.fail(field, Conflict, "Remove one of the two.", "the group %s is picked twice", g.Name)
		case names[name]:
			k.fail(field, Conflict, "Give one of them a different name; policies refer to groups by these names.",
				"two picked groups are called %s", g.Name)
		}
		names[name], ids[g.ID] = true, true
	}
}

// maxPicked bounds the picked groups of a directory.
const maxPicked = 2_000
