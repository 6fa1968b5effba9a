// Package facts holds the typed values that a decision may look at. They are recorded with every attempt, so that
// the same decision can be explained later and tried again under another configuration. Nothing secret is ever a
// fact: no password, no shared secret, no hash.
package facts

import (
	"net/netip"
	"strings"
	"time"
	"unicode"

	"tollgate.example/key/internal/core/reason"
)

// Service is the requested service.
const (
	// OverTLS is the transport of RADIUS (RFC 6614) and TACACS+ (RFC 9887) over TLS.
	OverTLS = "tls"
	// OverDTLS is RADIUS over DTLS (RFC 7360).
	OverDTLS = "dtls"
	// Network is access to a network: a port, an SSID, a tunnel.
	Network = "network"
	// DeviceLogin is a person signing in to the device itself.
	DeviceLogin = "device-login"
	// CallCheck is a device known only by its address.
	CallCheck = "call-check"
)

// OpenSessions counts sessions: All of them, those With each pass and those In each lane, by its name in lower case.
type OpenSessions struct {
	All  int            `json:"all"`
	With map[string]int `json:"with,omitempty"`
	In   map[string]int `json:"in,omitempty"`
}

// Key is a name as conditions write it within the name of a field: in lower case, with a hyphen in the place of each
// run of other characters.
func Key(name string) string {
	out := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	})
	return strings.Join(out, "-")
}

// Counted is how many of the sessions that are counted by name belong to a key.
func Counted(by map[string]int, key string) (n int) {
	for name, count := range by {
		if Key(name) == key {
			n += count
		}
	}
	return n
}

// Who is at the address that a person comes from.
const (
	// FromSelf is the person, FromOther somebody else, FromNobody nobody that presence knows of.
	FromSelf   = "self"
	FromOther  = "other"
	FromNobody = "nobody"
)

// Present is where presence knows a person to be when the attempt begins.
type Present struct {
	// Count is at how many addresses; Address is the one with the latest sign-in.
	Count   int        `json:"count"`
	Address netip.Addr `json:"address,omitzero"`
	// Hosts and Sources are those at which, and by which, the person is there, in order.
	Hosts   []string `json:"hosts,omitempty"`
	Sources []string `json:"sources,omitempty"`
	// From is FromSelf, FromOther or FromNobody, "" where no address is known that the person comes from.
	From string `json:"from,omitempty"`
}

// Facts are everything that is known about one attempt when it is decided.
type Facts struct {
	At       time.Time `json:"at"`
	Protocol string    `json:"protocol"`
	// Transport is OverTLS or OverDTLS, or "" for UDP or TCP alone.
	Transport string `json:"transport,omitempty"`
	Service   string `json:"service"`

	// Client and ClientTags are the client as configured; Address is where the request came from.
	Client     string            `json:"client"`
	ClientTags map[string]string `json:"clientTags,omitempty"`
	Address    netip.Addr        `json:"address"`

	PortType string `json:"portType,omitempty"`
	Port     string `json:"port,omitempty"`
	SSID     string `json:"ssid,omitempty"`
	MAC      string `json:"mac,omitempty"`
	Called   string `json:"called,omitempty"`
	NAS      string `json:"nas,omitempty"`

	// Sent is the name as sent.
	Sent string `json:"sent"`
	// Tried is the operator who made this attempt as a trial, "" for a real one.
	Tried string `json:"tried,omitempty"`
	// Inner is the name inside the tunnel, or the one that the certificate gives; policies go by it.
	Inner string `json:"inner,omitempty"`
	// Method is how the identity was to be proven: one of config.Methods, or eap while that is not agreed yet; "" if
	// the request holds no credential.
	Method string `json:"method,omitempty"`
	// EAP is what the conversation was like, nil outside EAP.
	EAP *EAP `json:"eap,omitempty"`
	// Certificate is what the peer proved itself with, nil if it showed none.
	Certificate *Certificate `json:"certificate,omitempty"`
	// Device is the known device of the MAC address, nil if it is not known.
	Device *Device `json:"device,omitempty"`
	// Traits are what was seen of the device, nil if nothing was; Kind is what rules make of that, which is not
	// recorded.
	Traits *Traits `json:"traits,omitempty"`
	Kind   *Kind   `json:"-"`
	// Machine is the computer that was proven in the same conversation as the person.
	Machine *Person `json:"machine,omitempty"`
	// MachineSeen is when a computer was last proven from the same MAC address, nil if never.
	MachineSeen *MachineSeen `json:"machineSeen,omitempty"`
	// Open are the sessions that the person has open on other devices, nil where nothing asks for them, or there is
	// none.
	Open *OpenSessions `json:"open,omitempty"`
	// Present is where the person is by what presence knows, nil where nothing asks for it.
	Present *Present `json:"present,omitempty"`
	// Attributes are the other attributes of the request, without credentials.
	Attributes []Attribute `json:"attributes,omitempty"`

	// From is the address that the person comes from, as the device tells it; not valid if it tells none.
	From netip.Addr `json:"from,omitzero"`
	// Gear is what network gear asks over TACACS+, nil for RADIUS.
	Gear *Gear `json:"gear,omitempty"`

	// Lookups are the stores asked, in order.
	Lookups []Lookup `json:"lookups,omitempty"`
	// Person is who was proven; nil if nobody. Policies look at this one alone.
	Person *Person `json:"person,omitempty"`
	// Claimed is who was looked up for a credential that proved nobody; nil once somebody is proven.
	Claimed *Person `json:"claimed,omitempty"`
	// Credential is the outcome of the proof: "" not tried, reason.OK, or why not.
	Credential reason.Code `json:"credential,omitempty"`
	// CredentialDetail is what a store said about it.
	CredentialDetail string `json:"credentialDetail,omitempty"`

	// Factor is what a second factor came to, nil if none was looked at.
	Factor *Factor `json:"factor,omitempty"`

	// Lease is the address that was given for the session, or that there was none left; nil if none was to be given.
	Lease *Lease `json:"lease,omitempty"`

	// Forwarded is set if a remote server was asked to decide.
	Forwarded *Forwarded `json:"forwarded,omitempty"`

	Spent Spent `json:"spent"`
}

// Forwarded is what a remote server made of an attempt.
type Forwarded struct {
	// Server is who answered; of none that answered, all that were asked.
	Server string `json:"server"`
	// Answer is accept or reject, "" if none came.
	Answer string `json:"answer"`
	Detail string `json:"detail,omitempty"`
	Micros int64  `json:"micros"`
	// Reply are the attributes of an Access-Accept, without keys.
	Reply []Attribute `json:"reply,omitempty"`
}

// VLAN is the VLAN of the reply, "" if there is none.
func (f *Forwarded) VLAN() string {
	for i := range f.Reply {
		if f.Reply[i].Name == "Tunnel-Private-Group-ID" {
			return f.Reply[i].Value
		}
	}
	return ""
}

// Lease is an address of a pool. It is not valid if all were taken.
type Lease struct {
	Pool    string     `json:"pool"`
	Address netip.Addr `json:"address"`
}

// Spent is the time used at each station, in microseconds.
type Spent struct {
	Client     int64 `json:"client"`
	Name       int64 `json:"name"`
	Lane       int64 `json:"lane"`
	Directory  int64 `json:"directory"`
	Credential int64 `json:"credential"`
	Policy     int64 `json:"policy"`
}

// Attribute is one attribute of the request in text form.
type Attribute struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Lookup is one store that was asked for the person.
type Lookup struct {
	Store string `json:"store"`
	// Outcome is reason.OK, or why nobody was found there.
	Outcome reason.Code `json:"outcome"`
	Detail  string      `json:"detail,omitempty"`
	Micros  int64       `json:"micros"`
}

// Person is somebody found in a store.
type Person struct {
	Store string `json:"store"`
	// ID is stable within the store: a DN or an account's identifier.
	ID      string `json:"id"`
	Name    string `json:"name"`
	Display string `json:"display,omitempty"`
	// Domain is the short name of the domain, "" where a store has one only.
	Domain string `json:"domain,omitempty"`
	// Kind is Computer or KnownDevice, "" for a person.
	Kind string `json:"kind,omitempty"`
	// State is reason.OK or why this person may not sign in at all.
	State      reason.Code         `json:"state"`
	Groups     []string            `json:"groups,omitempty"`
	Attributes map[string][]string `json:"attributes,omitempty"`
	// Created is when the account was made, zero if that is not known.
	Created time.Time `json:"created,omitzero"`
	// PasswordSet is when the password was last set, as the store writes it; "" where it does not tell. It is not
	// recorded.
	PasswordSet string `json:"-"`
}

// Label is the name to show for a person.
func (p *Person) Label() string {
	if p.Display != "" {
		return p.Display
	}
	return p.Name
}

// Mail is the first mail address of the person, "" for none.
func (p *Person) Mail() string {
	if list := p.Attributes["mail"]; len(list) > 0 {
		return list[0]
	}
	return ""
}

// InGroup reports membership without regard to case.
func (p *Person) InGroup(group string) bool {
	if p == nil {
		return false
	}
	for _, g := range p.Groups {
		if strings.EqualFold(g, group) {
			return true
		}
	}
	return false
}

// Attribute returns the first request attribute of that name.
func (f *Facts) Attribute(name string) (string, bool) {
	for i := range f.Attributes {
		if strings.EqualFold(f.Attributes[i].Name, name) {
			return f.Attributes[i].Value, true
		}
	}
	return "", false
}

// Subject is who the attempt is about: who was proven, or else who was looked up; nil if nobody was found.
func (f *Facts) Subject() *Person {
	if f.Person != nil {
		return f.Person
	}
	return f.Claimed
}

// Name is the name that counts: the inner one if there is one.
func (f *Facts) Name() string {
	if f.Inner != "" {
		return f.Inner
	}
	return f.Sent
}

// SplitName takes a name apart as it came: PREFIX\name, name@realm (RFC 7542), host/name.realm of a computer, or a bare
// name. The form is prefix, suffix, host or bare, "" for no name at all; the name of a computer keeps its host/.
func SplitName(sent string) (form, name, realm string) {
	if prefix, name, ok := strings.Cut(sent, `\`); ok {
		return "prefix", name, prefix
	}
	if host, ok := strings.CutPrefix(sent, HostPrefix); ok && !strings.ContainsRune(host, '@') {
		name, realm, _ := strings.Cut(host, ".")
		return "host", sent[:len(HostPrefix)+len(name)], realm
	}
	if at := strings.LastIndexByte(sent, '@'); at >= 0 {
		return "suffix", sent[:at], sent[at+1:]
	}
	if sent == "" {
		return "", "", ""
	}
	return "bare", sent, ""
}

// HostPrefix begins the name of a computer.
const HostPrefix = "host/"

// Family is the kind of the method: eap for all that run inside EAP, else the method itself.
func (f *Facts) Family() string {
	if f.EAP != nil && f.Method != MACBypass {
		return "eap"
	}
	return f.Method
}

// Where says in a few words at what the person stood: the SSID, the port, or the client.
func (f *Facts) Where() string {
	switch {
	case f.SSID != "":
		return f.SSID
	case f.Gear != nil && f.Gear.Command != "":
		return f.Gear.Command
	case f.Gear != nil:
		return f.Gear.Asks
	case f.Service == DeviceLogin:
		return "login"
	case f.Port != "":
		return "port " + f.Port
	}
	return f.PortType
}

// Forget leaves what was asked and proven, and forgets what was found of the person and the device, to find it anew at
// another moment.
func (f *Facts) Forget(now time.Time) {
	f.At, f.Person, f.Claimed, f.Device, f.MachineSeen = now, nil, nil, nil, nil
	f.Traits, f.Kind = nil, nil
	f.Credential, f.CredentialDetail, f.Lookups, f.Lease, f.Spent = "", "", nil, nil, Spent{}
}

// SSID finds the wireless network in a Called-Station-Id: it follows the address of the access point and a colon
// (RFC 3580 section 3.20). Some write the address with colons too. It is "" if there is none.
func SSID(called string) string {
	if len(called) > 18 && called[17] == ':' {
		if _, ok := FormatMAC(called[:17]); ok {
			return called[18:]
		}
	}
	address, name, _ := strings.Cut(called, ":")
	if _, ok := FormatMAC(address); ok {
		return name
	}
	return ""
}

// FormatMAC writes a MAC address in any common form (02:00:5e:10:7a:31, 0200.5e10.7a31, 02005E107A31) as
// 02-00-5E-10-7A-31, the form of RFC 3580 section 3.20. ok is false if the text is not a MAC address.
func FormatMAC(text string) (mac string, ok bool) {
	var digits [12]byte
	n := 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c >= '0' && c <= '9', c >= 'A' && c <= 'F':
		case c >= 'a' && c <= 'f':
			c -= 'a' - 'A'
		case c == ':' || c == '-' || c == '.':
			continue
		default:
			return "", false
		}
		if n == len(digits) {
			return "", false
		}
		digits[n] = c
		n++
	}
	if n != len(digits) {
		return "", false
	}
	var out [17]byte
	for i := range 6 {
		out[i*3], out[i*3+1] = digits[i*2], digits[i*2+1]
		if i < 5 {
			out[i*3+2] = '-'
		}
	}
	return string(out[:]), true
}
