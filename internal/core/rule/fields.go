package rule

import (
	"net/netip"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
)

var fields = []Field{
	{Name: "service", Type: Text, Closed: true, Help: "what the device asks for", Examples: []string{facts.Network, facts.DeviceLogin, facts.DeviceCommand, facts.CallCheck},
		one: func(f *facts.Facts, _ string) string { return f.Service }},
	{Name: "protocol", Type: Text, Closed: true, Help: "the protocol of the request", Examples: []string{"radius", "tacacs"},
		one: func(f *facts.Facts, _ string) string { return f.Protocol }},
	{Name: "port.type", Type: Text, Help: "kind of port (NAS-Port-Type)", Examples: []string{"Ethernet", "Wireless-802.11", "Virtual"},
		one: func(f *facts.Facts, _ string) string { return f.PortType }},
	{Name: "port", Type: Text, Help: "the port (NAS-Port-Id or NAS-Port)", one: func(f *facts.Facts, _ string) string { return f.Port }},
	{Name: "ssid", Type: Text, Help: "the wireless network", one: func(f *facts.Facts, _ string) string { return f.SSID }},
	{Name: "mac", Type: MAC, Help: "the address of the device that signs in", one: func(f *facts.Facts, _ string) string { return f.MAC }},
	{Name: "called", Type: Text, Help: "Called-Station-Id as sent", one: func(f *facts.Facts, _ string) string { return f.Called }},
	{Name: "nas", Type: Text, Help: "NAS-Identifier as sent", one: func(f *facts.Facts, _ string) string { return f.NAS }},
	{Name: "client", Type: Text, Help: "name of the client", one: func(f *facts.Facts, _ string) string { return f.Client }},
	{Name: "client.address", Type: Address, Help: "address the request came from", address: func(f *facts.Facts) netip.Addr { return f.Address }},
	{Name: "client.*", Type: Text, Help: "a tag of the client, such as client.site",
		one: func(f *facts.Facts, key string) string { return f.ClientTags[key] }},
	{Name: "attribute.*", Type: Text, Help: "an attribute of the request, such as attribute.NAS-Identifier",
		one: func(f *facts.Facts, key string) string { v, _ := f.Attribute(key); return v }},
	{Name: "method", Type: Text, Closed: true, Help: "how the identity is proven: eap for all that runs in EAP", Examples: []string{"eap", "pap", "chap", "mschap", "mschapv2", facts.MACBypass},
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
		case key == "owner":
			return f.Device.Owner
		}
		return f.Device.Tags[key]
	}},
	{Name: "sent", Type: Text, Help: "the name as it came", one: func(f *facts.Facts, _ string) string { return f.Sent }},
	{Name: "name.form", Type: Text, Closed: true, Help: "how the name as it came shows its realm", Examples: []string{"suffix", "prefix", "bare", "host"}, one: func(f *facts.Facts, _ string) string {
		form, _, _ := facts.SplitName(f.Sent)
		return form
	}},
	{Name: "name.realm", Type: Text, Help: "the realm in the name as it came: what stands after @, or before a backslash", one: func(f *facts.Facts, _ string) string {
		_, _, realm := facts.SplitName(f.Sent)
		return realm
	}},
	{Name: "from", Type: Address, Help: "address that the person comes from, as the device tells it", address: func(f *facts.Facts) netip.Addr { return f.From }},
	{Name: "asks", Type: Text, Help: "what gear asks over TACACS+: login, enable, password, shell, command, or a service such as ppp", Examples: []string{facts.AsksLogin, facts.AsksEnable, facts.AsksShell, facts.AsksCommand},
		one: ofGear(func(g *facts.Gear) string { return g.Asks })},
	{Name: "level", Type: Text, Help: "privilege level that enable asks for; otherwise the one the person has", Examples: []string{"1", "15"}, one: ofGear(func(g *facts.Gear) string { return strconv.Itoa(g.Level) })},
	{Name: "command", Type: Text, Help: "the command that is asked for", one: ofGear(func(g *facts.Gear) string { return g.Command })},
	{Name: "authenticated", Type: Text, Help: "how gear says it signed the person in before it asks for a permission", Examples: []string{"tacacs", "local", "enable", "none"},
		one: ofGear(func(g *facts.Gear) string { return g.Authenticated })},
	{Name: "time", Type: Hours, Help: "the time of the attempt: time is NAME holds in the hours of that calendar"},

	{Name: "group", Type: List, Stage: Person, Help: "a group of the person, direct or nested",
		many: func(f *facts.Facts, _ string) []string {
			if f.Person == nil {
				return nil
			}
			return f.Person.Groups
		}},
	{Name: "store", Type: Text, Stage: Person, Help: "where the person was found", one: ofPersonText(func(p *facts.Person) string { return p.Store })},
	{Name: "person", Type: Text, Stage: Person, Help: "the name of the person in the store", one: ofPersonText(func(p *facts.Person) string { return p.Name })},
	{Name: "account.age", Type: Age, Stage: Person, Help: "how long ago the account was made", Examples: []string{"30d", "90d"}, age: func(f *facts.Facts) (time.Duration, bool) {
		if f.Person == nil || f.Person.Created.IsZero() {
			return 0, false
		}
		return f.At.Sub(f.Person.Created), true
	}},
	{Name: "proof", Type: Text, Closed: true, Stage: Person, Help: "the method in full, such as peap-mschapv2", Examples: config.Methods,
		one: func(f *facts.Facts, _ string) string { return f.Method }},
	{Name: "tls", Type: Text, Stage: Person, Help: "the version of TLS inside EAP", Examples: []string{"TLS 1.2", "TLS 1.3"}, one: func(f *facts.Facts, _ string) string {
		if f.EAP == nil {
			return ""
		}
		return f.EAP.TLS
	}},
	{Name: "certificate.subject", Type: Text, Stage: Person, Help: "subject of the client certificate", one: ofCertificate(func(c *facts.Certificate) string { return c.Subject })},
	{Name: "certificate.issuer", Type: Text, Stage: Person, Help: "issuer of the client certificate", one: ofCertificate(func(c *facts.Certificate) string { return c.Issuer })},
	{Name: "certificate.serial", Type: Text, Stage: Person, Help: "serial number of the client certificate", one: ofCertificate(func(c *facts.Certificate) string { return c.Serial })},
	{Name: "certificate.upn", Type: List, Stage: Person, Help: "user principal names in the client certificate", many: listOfCertificate(func(c *facts.Certificate) []string { return c.UPN })},
	{Name: "certificate.dns", Type: List, Stage: Person, Help: "DNS names in the client certificate", many: listOfCertificate(func(c *facts.Certificate) []string { return c.DNS })},
	{Name: "certificate.email", Type: List, Stage: Person, Help: "mail addresses in the client certificate", many: listOfCertificate(func(c *facts.Certificate) []string { return c.Email })},
	{Name: "certificate.left", Type: Age, Stage: Person, Help: "how long the client certificate is valid yet", Examples: []string{"14d"}, age: func(f *facts.Facts) (time.Duration, bool) {
		if f.Certificate == nil {
			return 0, false
		}
		return f.Certificate.Until.Sub(f.At), true
	}},
	{Name: "kind", Type: Text, Closed: true, Stage: Person, Help: "who signs in: person, computer, device, or with an emergency account", Examples: []string{"person", facts.Computer, facts.KnownDevice, facts.EmergencyAccount}, one: func(f *facts.Facts, _ string) string {
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
	{Name: "machine.seen", Type: Age, Stage: Person, Help: "how long ago a computer was proven from the same MAC address", Examples: []string{"8h", "30m", "2d"}, age: func(f *facts.Facts) (time.Duration, bool) {
		if f.MachineSeen == nil {
			return 0, false
		}
		return f.At.Sub(f.MachineSeen.At), true
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

func ofGear(part func(*facts.Gear) string) func(*facts.Facts, string) string {
	return func(f *facts.Facts, _ string) string {
		if f.Gear == nil {
			return ""
		}
		return part(f.Gear)
	}
}

func ofPersonText(part func(*facts.Person) string) func(*facts.Facts, string) string {
	return func(f *facts.Facts, _ string) string {
		if f.Person == nil {
			return ""
		}
		return part(f.Person)
	}
}

func ofCertificate(part func(*facts.Certificate) string) func(*facts.Facts, string) string {
	return func(f *facts.Facts, _ string) string {
		if f.Certificate == nil {
			return ""
		}
		return part(f.Certificate)
	}
}

func listOfCertificate(part func(*facts.Certificate) []string) func(*facts.Facts, string) []string {
	return func(f *facts.Facts, _ string) []string {
		if f.Certificate == nil {
			return nil
		}
		return part(f.Certificate)
	}
}
