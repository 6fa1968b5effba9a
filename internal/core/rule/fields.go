package rule

import (
	"maps"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// fields is the one table of what conditions can ask about: how each is read, and how the search for facts sets it.
var fields = []Field{
	{Name: "service", Type: Text, Closed: true, Help: "the requested service",
		Examples: []string{facts.Network, facts.DeviceLogin, facts.DeviceCommand, facts.CallCheck},
		access:   textAt(func(f *facts.Facts, _ bool) *string { return &f.Service })},
	{Name: "protocol", Type: Text, Closed: true, Help: "the protocol of the request", Examples: []string{"radius",
		"tacacs"},
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.Protocol })},
	{
		Name:   "transport",
		Type:   Text,
		Closed: true,
		Help: "tls or dtls if the request came over TLS or DTLS, otherwise " +
			"nothing",
		Examples: []string{facts.OverTLS, facts.OverDTLS},
		access:   textAt(func(f *facts.Facts, _ bool) *string { return &f.Transport }),
	},
	{Name: "port.type", Type: Text, Help: "kind of port (NAS-Port-Type)", Examples: []string{"Ethernet",
		"Wireless-802.11", "Virtual"},
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.PortType })},
	{Name: "port", Type: Text, Help: "the port (NAS-Port-Id or NAS-Port)",
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.Port })},
	{Name: "ssid", Type: Text, Help: "the wireless network",
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.SSID })},
	{Name: "mac", Type: MAC, Help: "the address of the device that signs in",
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.MAC })},
	{Name: "called", Type: Text, Help: "Called-Station-Id as sent",
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.Called })},
	{Name: "nas", Type: Text, Help: "NAS-Identifier as sent",
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.NAS })},
	{Name: "client", Type: Text, Help: "name of the client",
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.Client })},
	{Name: "client.address", Type: Address, Help: "address the request came from",
		access: addressAt(func(f *facts.Facts) *netip.Addr { return &f.Address })},
	{Name: "client.*", Type: Text, Help: "a tag of the client, such as client.site", access: access{
		one: func(f *facts.Facts, key string) string { return f.ClientTags[key] },
		set: func(f *facts.Facts, v *value) {
			if text := v.text(); text != "" {
				f.ClientTags[v.key] = text
			}
		}}},
	{Name: "attribute.*", Type: Text, Help: "an attribute of the request, such as attribute.NAS-Identifier",
		access: access{
			one: func(f *facts.Facts, key string) string { v, _ := f.Attribute(key); return v },
			set: func(f *facts.Facts, v *value) {
				if text := v.text(); text != "" {
					f.Attributes = append(f.Attributes, facts.Attribute{Name: v.key, Value: text})
				}
			}}},
	{Name: "method", Type: Text, Closed: true, Help: "how the identity is proven: eap for all that runs in EAP",
		Examples: []string{"eap", "pap", "chap", "mschap", "mschapv2", facts.MACBypass},
		access: access{ // follows from proof, by which it is searched for
			one: func(f *facts.Facts, _ string) string { return f.Family() },
			set: func(*facts.Facts, *value) {},
		}},
	{Name: "device", Type: Text, Help: "name of the known device of the MAC address",
		access: textAt(func(f *facts.Facts, make bool) *string {
			return part(device(f, make), func(d *facts.Device) *string { return &d.Name })
		})},
	{
		Name: "device.*",
		Type: Text,
		Help: "a tag of the known device; device.owner is its owner, device.kind what rules take a device for that " +
			"has no such tag",
		access: access{
			one: func(f *facts.Facts, key string) string {
				switch {
				case key == "kind":
					return f.DeviceKind()
				case f.Device == nil:
					return ""
				case key == "owner":
					return f.Device.Owner
				}
				return f.Device.Tags[key]
			},
			set: func(f *facts.Facts, v *value) {
				switch text := v.text(); {
				case text == "":
				case v.key == "owner":
					device(f, true).Owner = text
				default:
					device(f, true).Tags[v.key] = text
				}
			}},
	},
	{Name: "sent", Type: Text, Help: "the name as sent",
		access: textAt(func(f *facts.Facts, _ bool) *string { return &f.Sent })},
	{Name: "name.form", Type: Text, Closed: true, Help: "how the name as sent states its realm",
		Examples: []string{"suffix", "prefix", "bare", "host"},
		access: access{
			one: func(f *facts.Facts, _ string) string { form, _, _ := facts.SplitName(f.Sent); return form },
			set: func(f *facts.Facts, v *value) { f.Sent = nameLike(f.Sent, v.subject, v.text()) },
		}},
	{Name: "name.realm", Type: Text, Help: "the realm in the name as sent: the part after @, or before a backslash",
		access: access{
			one: func(f *facts.Facts, _ string) string { _, _, realm := facts.SplitName(f.Sent); return realm },
			set: func(f *facts.Facts, v *value) { f.Sent = nameLike(f.Sent, v.subject, v.text()) },
		}},
	{
		Name:     "sessions.open",
		Type:     Text,
		Stage:    Person,
		Help:     "how many sessions the person has open on other devices",
		Examples: []string{"0", "1", "2"},
		access: access{
			one: func(f *facts.Facts, _ string) string {
				if f.Open == nil {
					return "0"
				}
				return strconv.Itoa(f.Open.All)
			},
			set: func(f *facts.Facts, v *value) {
				if n, err := strconv.Atoi(v.text()); err == nil && n >= 0 {
					f.Open = &facts.OpenSessions{All: n}
				}
			},
		},
	},
	{Name: "sessions.pass.*", Type: Text, Stage: Person, Examples: []string{"0", "1", "2"},
		Help:   "how many of them have that pass: sessions.pass.remote-crew for the pass Remote crew",
		access: sessionsBy(func(o *facts.OpenSessions) *map[string]int { return &o.With })},
	{Name: "sessions.lane.*", Type: Text, Stage: Person, Examples: []string{"0", "1", "2"},
		Help:   "how many of them came through that lane: sessions.lane.wired-ports for the lane Wired ports",
		access: sessionsBy(func(o *facts.OpenSessions) *map[string]int { return &o.In })},
	{Name: "factor.enrolled", Type: Text, Closed: true, Stage: Person, Examples: []string{"yes", "no"},
		Help: "whether the person has a second factor, where the lane asks for one",
		access: access{
			one: func(f *facts.Facts, _ string) string {
				switch {
				case f.Factor == nil:
					return ""
				case f.Factor.Outcome == reason.FactorNotEnrolled:
					return "no"
				}
				return "yes"
			},
			set: func(f *facts.Facts, v *value) {
				switch v.text() {
				case "yes":
					factor(f, true).Outcome = reason.OK
				case "no":
					factor(f, true).Outcome = reason.FactorNotEnrolled
				}
			}}},
	{Name: "factor.by", Type: Text, Closed: true, Stage: Person,
		Help: "how the second factor was shown: by a code, an approval on a phone, a recovery or temporary code, or " +
			"earlier from the same place",
		Examples: []string{facts.ByCode, facts.ByApproval, facts.ByRecovery, facts.ByTemporary, facts.ByRest},
		access: textAt(func(f *facts.Facts, make bool) *string {
			return part(factor(f, make), func(x *facts.Factor) *string { return &x.By })
		})},
	{Name: "presence.count", Type: Text, Stage: Person, Examples: []string{"0", "1", "2"},
		Help: "at how many addresses the person is already, by presence",
		access: access{
			one: func(f *facts.Facts, _ string) string {
				if f.Present == nil {
					return "0"
				}
				return strconv.Itoa(f.Present.Count)
			},
			set: func(f *facts.Facts, v *value) {
				if n, err := strconv.Atoi(v.text()); err == nil && n >= 0 {
					present(f, true).Count = n
				}
			}}},
	{Name: "presence.address", Type: Address, Stage: Person,
		Help: "the address at which the person is already, by presence; of several, that of the latest sign-in",
		access: access{
			address: func(f *facts.Facts) (a netip.Addr) {
				if f.Present != nil {
					a = f.Present.Address
				}
				return a
			},
			set: func(f *facts.Facts, v *value) {
				if v.address.IsValid() {
					present(f, true).Address = v.address
				}
			}}},
	{Name: "presence.host", Type: List, Stage: Person, Help: "a host at which the person is already, by presence",
		access: listAt(func(f *facts.Facts, make bool) *[]string {
			return part(present(f, make), func(p *facts.Present) *[]string { return &p.Hosts })
		})},
	{Name: "presence.source", Type: List, Stage: Person, Help: "a source by which the person is somewhere already",
		access: listAt(func(f *facts.Facts, make bool) *[]string {
			return part(present(f, make), func(p *facts.Present) *[]string { return &p.Sources })
		})},
	{Name: "presence.from", Type: Text, Closed: true, Stage: Person,
		Help: "who presence knows to be at the address that the person comes from: self, other or nobody; nothing if " +
			"the device tells no address",
		Examples: []string{facts.FromSelf, facts.FromOther, facts.FromNobody},
		access: textAt(func(f *facts.Facts, make bool) *string {
			return part(present(f, make), func(p *facts.Present) *string { return &p.From })
		})},
	{Name: "from", Type: Address, Help: "address that the person comes from, as the device tells it",
		access: addressAt(func(f *facts.Facts) *netip.Addr { return &f.From })},
	{Name: "asks", Type: Text, Help: "TACACS+ request: login, enable, password, shell, command, or a " +
		"service such as ppp",
		Examples: []string{facts.AsksLogin, facts.AsksEnable, facts.AsksShell, facts.AsksCommand},
		access:   gearText(func(g *facts.Gear) *string { return &g.Asks })},
	{Name: "level", Type: Text, Help: "privilege level that enable asks for; otherwise the one the person has",
		Examples: []string{"1", "15"}, access: access{
			one: func(f *facts.Facts, _ string) string {
				if f.Gear == nil {
					return ""
				}
				return strconv.Itoa(f.Gear.Level)
			},
			set: func(f *facts.Facts, v *value) {
				if n, err := strconv.Atoi(v.text()); err == nil {
					gear(f, true).Level = n
				}
			}}},
	{
		Name: "command",
		Type: Text,
		Help: "the command that is asked for",
		access: gearText(func(g *facts.Gear) *string {
			return &g.Command
		}),
	},
	{
		Name:     "authenticated",
		Type:     Text,
		Help:     "how the device authenticated the person before it asks for a permission",
		Examples: []string{"tacacs", "local", "enable", "none"},
		access: gearText(func(g *facts.Gear) *string {
			return &g.Authenticated
		}),
	},
	{Name: "time", Type: Hours, Help: "the time of the attempt: time is NAME holds in the hours of that calendar",
		access: access{set: func(*facts.Facts, *value) {}}}, // set first, since others go by it

	{Name: "group", Type: List, Stage: Person, Help: "a group of the person, direct or nested",
		access: listAt(func(f *facts.Facts, _ bool) *[]string {
			return part(f.Person, func(p *facts.Person) *[]string { return &p.Groups })
		})},
	{Name: "store", Type: Text, Stage: Person, Help: "where the person was found",
		access: personText(func(p *facts.Person) *string { return &p.Store })},
	{Name: "person", Type: Text, Stage: Person, Help: "the name of the person in the store",
		access: personText(func(p *facts.Person) *string { return &p.Name })},
	{Name: "account.age", Type: Age, Stage: Person, Help: "how long ago the account was made",
		Examples: []string{"30d", "90d"}, access: access{
			age: func(f *facts.Facts) (time.Duration, bool) {
				if f.Person == nil || f.Person.Created.IsZero() {
					return 0, false
				}
				return f.At.Sub(f.Person.Created), true
			},
			set: func(f *facts.Facts, v *value) {
				if v.known {
					f.Person.Created = f.At.Add(-v.age)
				}
			}}},
	{Name: "proof", Type: Text, Closed: true, Stage: Person, Help: "the method in full, such as peap-mschapv2",
		Examples: config.Methods, access: access{
			one: func(f *facts.Facts, _ string) string { return f.Method },
			set: func(f *facts.Facts, v *value) {
				f.Method = v.text()
				if m := config.FindMethod(f.Method); m != nil && m.EAP {
					f.EAP = &facts.EAP{}
				}
			}}},
	{Name: "tls", Type: Text, Stage: Person, Help: "the version of TLS inside EAP", Examples: []string{"TLS 1.2",
		"TLS 1.3"},
		access: textAt(func(f *facts.Facts, make bool) *string {
			if f.EAP == nil && make {
				f.EAP = &facts.EAP{}
			}
			return part(f.EAP, func(e *facts.EAP) *string { return &e.TLS })
		})},
	{Name: "certificate.subject", Type: Text, Stage: Person, Help: "subject of the client certificate",
		access: certificateText(func(c *facts.Certificate) *string { return &c.Subject })},
	{Name: "certificate.issuer", Type: Text, Stage: Person, Help: "issuer of the client certificate",
		access: certificateText(func(c *facts.Certificate) *string { return &c.Issuer })},
	{Name: "certificate.serial", Type: Text, Stage: Person, Help: "serial number of the client certificate",
		access: certificateText(func(c *facts.Certificate) *string { return &c.Serial })},
	{Name: "certificate.upn", Type: List, Stage: Person, Help: "user principal names in the client certificate",
		access: certificateList(func(c *facts.Certificate) *[]string { return &c.UPN })},
	{Name: "certificate.dns", Type: List, Stage: Person, Help: "DNS names in the client certificate",
		access: certificateList(func(c *facts.Certificate) *[]string { return &c.DNS })},
	{Name: "certificate.email", Type: List, Stage: Person, Help: "mail addresses in the client certificate",
		access: certificateList(func(c *facts.Certificate) *[]string { return &c.Email })},
	{Name: "certificate.left", Type: Age, Stage: Person, Help: "how long the client certificate is still valid",
		Examples: []string{"14d"}, access: access{
			age: func(f *facts.Facts) (time.Duration, bool) {
				if f.Certificate == nil {
					return 0, false
				}
				return f.Certificate.Until.Sub(f.At), true
			},
			set: func(f *facts.Facts, v *value) {
				if v.known {
					certificate(f, true).Until = f.At.Add(v.age)
				}
			}}},
	{
		Name:   "kind",
		Type:   Text,
		Closed: true,
		Stage:  Person,
		Help: "who signs in: person, computer, device, or with " +
			"an emergency account",
		Examples: []string{"person", facts.Computer, facts.KnownDevice, facts.EmergencyAccount},
		access: access{
			one: func(f *facts.Facts, _ string) string {
				switch {
				case f.Person == nil:
					return ""
				case f.Person.Kind == "":
					return "person"
				}
				return f.Person.Kind
			},
			set: func(f *facts.Facts, v *value) {
				if f.Person.Kind = v.text(); f.Person.Kind == "person" {
					f.Person.Kind = ""
				}
			}},
	},
	{Name: "machine", Type: Text, Stage: Person, Help: "the computer that was proven in the same conversation",
		access: access{
			one: func(f *facts.Facts, _ string) string {
				if m := machine(f); m != nil {
					return m.Name
				}
				return ""
			},
			set: func(f *facts.Facts, v *value) {
				if text := v.text(); text != "" {
					makeMachine(f).Name = text
				}
			}}},
	{Name: "machine.group", Type: List, Stage: Person, Help: "a group of that computer", access: access{
		many: func(f *facts.Facts, _ string) []string {
			if m := machine(f); m != nil {
				return m.Groups
			}
			return nil
		},
		set: func(f *facts.Facts, v *value) {
			if len(v.texts) > 0 {
				makeMachine(f).Groups = v.texts
			}
		}}},
	{Name: "machine.seen", Type: Age, Stage: Person, Help: "how long ago a computer was proven from the same MAC " +
		"address",
		Examples: []string{"8h", "30m", "2d"}, access: access{
			age: func(f *facts.Facts) (time.Duration, bool) {
				if f.MachineSeen == nil {
					return 0, false
				}
				return f.At.Sub(f.MachineSeen.At), true
			},
			set: func(f *facts.Facts, v *value) {
				if v.known {
					f.MachineSeen = &facts.MachineSeen{At: f.At.Add(-v.age)}
				}
			}}},
	{Name: "person.*", Type: List, Stage: Person, Help: "an attribute of the person, such as person.mail",
		access: access{
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
			},
			set: func(f *facts.Facts, v *value) {
				if v.text() != "" || len(v.texts) > 1 {
					f.Person.Attributes[v.key] = v.texts
				}
			}}},
}

// sessionsBy reads open sessions that are counted by name.
func sessionsBy(of func(*facts.OpenSessions) *map[string]int) access {
	return access{
		one: func(f *facts.Facts, key string) string {
			if f.Open == nil {
				return "0"
			}
			return strconv.Itoa(facts.Counted(*of(f.Open), key))
		},
		set: func(f *facts.Facts, v *value) {
			n, err := strconv.Atoi(v.text())
			if err != nil || n < 0 {
				return
			}
			open := facts.OpenSessions{}
			if f.Open != nil {
				open = *f.Open
			}
			by := maps.Clone(*of(&open))
			if by == nil {
				by = map[string]int{}
			}
			by[v.key] = n
			*of(&open), f.Open = by, &open
		},
	}
}
