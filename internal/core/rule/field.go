package rule

import (
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// Stage says when a field is known.
type Stage int

const (
	// Request fields are known from the request alone; lanes may use only these.
	Request Stage = iota
	// Person fields need the person to have been looked up.
	Person
)

// Type is the type of a field.
type Type string

const (
	Text    Type = "text"
	List    Type = "list"
	Address Type = "address"
	MAC     Type = "mac"
	// Age is how long ago something was; it is compared with within.
	Age Type = "age"
)

// Field is something that a condition can ask about.
type Field struct {
	// Name as written; a name ending in ".*" stands for a family, such as client.site.
	Name  string `json:"name"`
	Type  Type   `json:"type"`
	Stage Stage  `json:"-"`
	Help  string `json:"help"`
	// Examples are values to complete with.
	Examples []string `json:"examples,omitempty"`

	one  func(f *facts.Facts, key string) string
	many func(f *facts.Facts, key string) []string
}

var fields = []Field{
	{Name: "service", Type: Text, Help: "what the device asks for", Examples: []string{facts.Network, facts.DeviceLogin, facts.CallCheck},
		one: func(f *facts.Facts, _ string) string { return f.Service }},
	{Name: "protocol", Type: Text, Help: "the protocol of the request", Examples: []string{"radius"},
		one: func(f *facts.Facts, _ string) string { return f.Protocol }},
	{Name: "port.type", Type: Text, Help: "kind of port (NAS-Port-Type)", Examples: []string{"Ethernet", "Wireless-802.11", "Virtual"},
		one: func(f *facts.Facts, _ string) string { return f.PortType }},
	{Name: "port", Type: Text, Help: "the port (NAS-Port-Id or NAS-Port)", one: func(f *facts.Facts, _ string) string { return f.Port }},
	{Name: "ssid", Type: Text, Help: "the wireless network", one: func(f *facts.Facts, _ string) string { return f.SSID }},
	{Name: "mac", Type: MAC, Help: "the address of the device that signs in", one: func(f *facts.Facts, _ string) string { return f.MAC }},
	{Name: "called", Type: Text, Help: "Called-Station-Id as sent", one: func(f *facts.Facts, _ string) string { return f.Called }},
	{Name: "nas", Type: Text, Help: "NAS-Identifier as sent", one: func(f *facts.Facts, _ string) string { return f.NAS }},
	{Name: "client", Type: Text, Help: "name of the client", one: func(f *facts.Facts, _ string) string { return f.Client }},
	{Name: "client.address", Type: Address, Help: "address the request came from",
		one: func(f *facts.Facts, _ string) string { return f.Address.String() }},
	{Name: "client.*", Type: Text, Help: "a tag of the client, such as client.site",
		one: func(f *facts.Facts, key string) string { return f.ClientTags[key] }},
	{Name: "attribute.*", Type: Text, Help: "an attribute of the request, such as attribute.NAS-Identifier",
		one: func(f *facts.Facts, key string) string { v, _ := f.Attribute(key); return v }},
	{Name: "method", Type: Text, Help: "how the identity is proven: eap for all that runs in EAP", Examples: []string{"eap", "pap", "mschapv2", "mac"},
		one: func(f *facts.Facts, _ string) string { return f.Family() }},
	{Name: "device", Type: Text, Help: "name of the known device of the MAC address", one: func(f *facts.Facts, _ string) string {
		if f.Device == nil {
			return ""
		}
		return f.Device.Name
	}},
	{Name: "device.*", Type: Text, Help: "a tag of the known device, such as device.kind; device.owner is its owner", one: func(f *facts.Facts, key string) string {
		switch {
		case f.Device == nil:
			return ""
		case strings.EqualFold(key, "owner"):
			return f.Device.Owner
		}
		return f.Device.Tags[strings.ToLower(key)]
	}},
	{Name: "sent", Type: Text, Help: "the name as it came", one: func(f *facts.Facts, _ string) string { return f.Sent }},

	{Name: "group", Type: List, Stage: Person, Help: "a group of the person, direct or nested",
		many: func(f *facts.Facts, _ string) []string {
			if f.Person == nil {
				return nil
			}
			return f.Person.Groups
		}},
	{Name: "store", Type: Text, Stage: Person, Help: "where the person was found", one: func(f *facts.Facts, _ string) string {
		if f.Person == nil {
			return ""
		}
		return f.Person.Store
	}},
	{Name: "person", Type: Text, Stage: Person, Help: "the name of the person in the store", one: func(f *facts.Facts, _ string) string {
		if f.Person == nil {
			return ""
		}
		return f.Person.Name
	}},
	{Name: "proof", Type: Text, Stage: Person, Help: "the method in full, such as peap-mschapv2", Examples: []string{"eap-tls", "peap-mschapv2", "ttls-pap"},
		one: func(f *facts.Facts, _ string) string { return f.Method }},
	{Name: "tls", Type: Text, Stage: Person, Help: "the version of TLS inside EAP", Examples: []string{"TLS 1.2", "TLS 1.3"}, one: func(f *facts.Facts, _ string) string {
		if f.EAP == nil {
			return ""
		}
		return f.EAP.TLS
	}},
	{Name: "certificate.*", Type: List, Stage: Person, Help: "a part of the client certificate: certificate.subject, issuer, serial, upn, dns or email", many: certificatePart},
	{Name: "kind", Type: Text, Stage: Person, Help: "who signs in: person, computer or device", Examples: []string{"person", facts.Computer, facts.KnownDevice}, one: func(f *facts.Facts, _ string) string {
		switch {
		case f.Person == nil:
			return ""
		case f.Person.Kind == "":
			return "person"
		}
		return f.Person.Kind
	}},
	{Name: "machine", Type: Text, Stage: Person, Help: "the computer that was proven in the same conversation", one: func(f *facts.Facts, _ string) string {
		if m := machine(f); m != nil {
			return m.Name
		}
		return ""
	}},
	{Name: "machine.group", Type: List, Stage: Person, Help: "a group of that computer", many: func(f *facts.Facts, _ string) []string {
		if m := machine(f); m != nil {
			return m.Groups
		}
		return nil
	}},
	{Name: "machine.seen", Type: Age, Stage: Person, Help: "how long ago a computer was proven from the same MAC address", Examples: []string{"8h", "30m", "2d"}, one: func(f *facts.Facts, _ string) string {
		if f.MachineSeen == nil {
			return ""
		}
		return f.At.Sub(f.MachineSeen.At).Round(time.Second).String()
	}},
	{Name: "person.*", Type: List, Stage: Person, Help: "an attribute of the person, such as person.mail",
		many: func(f *facts.Facts, key string) []string {
			if f.Person == nil {
				return nil
			}
			if v, ok := f.Person.Attributes[key]; ok {
				return v
			}
			for name, v := range f.Person.Attributes {
				if strings.EqualFold(name, key) {
					return v
				}
			}
			return nil
		}},
}

// machine is the computer of an attempt: beside the person, or by itself.
func machine(f *facts.Facts) *facts.Person {
	if f.Machine == nil && f.Person != nil && f.Person.Kind == facts.Computer {
		return f.Person
	}
	return f.Machine
}

func certificatePart(f *facts.Facts, key string) []string {
	c := f.Certificate
	if c == nil {
		return nil
	}
	switch strings.ToLower(key) {
	case "subject":
		return []string{c.Subject}
	case "issuer":
		return []string{c.Issuer}
	case "serial":
		return []string{c.Serial}
	case "upn":
		return c.UPN
	case "dns":
		return c.DNS
	case "email":
		return c.Email
	}
	return nil
}

// Fields lists what conditions can ask about.
func Fields() []Field { return append([]Field(nil), fields...) }

// lookup finds a field by its written name; key is the part a family leaves open.
func lookup(name string) (field *Field, key string) {
	lower := strings.ToLower(name)
	for i := range fields {
		if fields[i].Name == lower {
			return &fields[i], ""
		}
	}
	for i := range fields {
		if family, ok := strings.CutSuffix(fields[i].Name, "*"); ok && strings.HasPrefix(lower, family) && len(lower) > len(family) {
			key = name[len(family):]
			if family == "client." {
				key = strings.ToLower(key)
			}
			return &fields[i], key
		}
	}
	return nil, ""
}

// suggest returns the field whose name is closest, "" if none is close.
func suggest(name string) string {
	best, dist := "", min(4, 1+len(name)/2)
	for i := range fields {
		if d := distance(strings.ToLower(name), fields[i].Name); d < dist {
			best, dist = fields[i].Name, d
		}
	}
	if best == "" {
		switch strings.ToLower(name) {
		case "user", "username", "login", "account":
			return "sent"
		case "vlan", "role":
			return ""
		case "memberof", "member", "groups":
			return "group"
		case "ip", "nas-ip-address", "source":
			return "client.address"
		}
	}
	return best
}

// distance is the edit distance of two short texts.
func distance(a, b string) int {
	if len(a) > 40 || len(b) > 40 {
		return 99
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := before
			if a[i] != b[j] {
				cost = 1 + min(before, row[j], row[j+1])
			}
			before, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}

func parseAddress(text string) (netip.Prefix, bool) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), true
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, false
	}
	a = a.Unmap()
	return netip.PrefixFrom(a, a.BitLen()), true
}
