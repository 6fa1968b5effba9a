package gate

import (
	"context"
	"encoding/binary"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

// Values of Service-Type (RFC 2865 section 5.6) that tell services apart.
const (
	serviceLogin          = 1
	serviceAdministrative = 6
	serviceNASPrompt      = 7
	serviceCallCheck      = 10
)

const maxAttributes = 64

// RADIUSFacts reads the facts of an Access-Request. Attributes that are facts of their own are not repeated in the
// list of attributes; credentials never get into it.
func RADIUSFacts(p *radius.Packet, client *config.Client, dictionary *dict.Dictionary, f *facts.Facts) {
	f.Protocol, f.Service = "radius", facts.Network
	f.Client, f.ClientTags = client.Name, client.Tags
	for t, value := range p.Attributes() {
		switch t {
		case radius.UserName:
			f.Sent = string(value)
		case radius.NASPortType:
			if v, ok := p.Integer(t); ok {
				f.PortType = dict.ByType(t).ValueName(v)
			}
		case radius.NASPortID:
			f.Port = clean(value)
		case radius.CallingStationID:
			if mac, ok := facts.FormatMAC(string(value)); ok {
				f.MAC = mac
				continue
			}
			if addr, err := netip.ParseAddr(string(value)); err == nil && addr.Zone() == "" { // for tunnels and logins
				f.From = addr.Unmap()
			}
			addAttribute(f, dictionary, t, value)
		case radius.CalledStationID:
			f.Called = clean(value)
		case radius.NASIdentifier:
			f.NAS = clean(value)
		case radius.ServiceType:
			f.Service = service(p)
			addAttribute(f, dictionary, t, value)
		case radius.ProxyState, radius.State:
		default:
			addAttribute(f, dictionary, t, value)
		}
	}
	if f.Port == "" {
		f.Port, _ = f.Attribute("NAS-Port")
	}
	if strings.HasPrefix(f.PortType, "Wireless") {
		f.SSID = ssid(f.Called)
	}
	f.Method = method(p)
	bypass(f)
}

// ssid finds the wireless network in a Called-Station-Id: it follows the address of the access point and a colon
// (RFC 3580 section 3.20). Some write the address with colons too.
func ssid(called string) string {
	if len(called) > 18 && called[17] == ':' {
		if _, ok := facts.FormatMAC(called[:17]); ok {
			return called[18:]
		}
	}
	address, name, _ := strings.Cut(called, ":")
	if _, ok := facts.FormatMAC(address); ok {
		return name
	}
	return ""
}

func addAttribute(f *facts.Facts, dictionary *dict.Dictionary, t byte, value []byte) {
	entry := dict.ByType(t)
	if t == radius.VendorSpecific && len(value) >= 4 && binary.BigEndian.Uint32(value) == radius.Vendor2548 {
		return // challenges and responses, from which passwords can be guessed
	}
	if len(f.Attributes) == maxAttributes || entry != nil && entry.Hidden {
		return
	}
	if t == radius.VendorSpecific {
		if parts, ok := dictionary.Open(value); ok {
			for _, part := range parts[:min(len(parts), maxAttributes-len(f.Attributes))] {
				f.Attributes = append(f.Attributes, facts.Attribute{Name: part.Name, Value: part.Value})
			}
			return
		}
	}
	if entry == nil {
		entry = &dict.Attribute{Type: t, Name: dict.Name(t), Data: dict.Octets}
	}
	f.Attributes = append(f.Attributes, facts.Attribute{Name: entry.Name, Value: entry.Format(value)})
}

// clean makes text of octets that may be anything.
func clean(value []byte) string { return strings.ToValidUTF8(string(value), "?") }

func service(p *radius.Packet) string {
	switch v, _ := p.Integer(radius.ServiceType); v {
	case serviceLogin, serviceAdministrative, serviceNASPrompt:
		return facts.DeviceLogin
	case serviceCallCheck:
		return facts.CallCheck
	}
	return facts.Network
}

func method(p *radius.Packet) string {
	switch {
	case p.Has(radius.EAPMessage):
		return "eap"
	case p.Has(radius.UserPassword):
		return "pap"
	case p.Has(radius.CHAPPassword):
		return "chap"
	case p.Vendor(radius.Vendor2548, radius.MSCHAP2Response) != nil:
		return "mschapv2"
	case p.Vendor(radius.Vendor2548, radius.MSCHAPResponse) != nil:
		return "mschap"
	}
	return ""
}

// bypass recognises MAC authentication bypass in its forms: the name is a MAC address, in any way of writing, and it is
// that of the device that asks. A name that is the address of another device is a mismatch; without a
// Calling-Station-Id only a Call-Check says what is meant.
func bypass(f *facts.Facts) {
	mac, ok := facts.FormatMAC(f.Sent)
	switch {
	case !ok || f.Method != "pap" && f.Method != "chap" && f.Method != "eap":
		return
	case f.MAC == "" && f.Service != facts.CallCheck:
		return
	case f.MAC == "":
		f.MAC = mac
	case f.MAC != mac:
		f.Credential = reason.DeviceMismatch
	}
	f.Method, f.Service = facts.MACBypass, facts.CallCheck
}

// RADIUS takes one authentic Access-Request along the whole road. signed tells that a Message-Authenticator proved
// the key; only without one can an unreadable password mean that the secrets differ.
func (g *Gate) RADIUS(ctx context.Context, s *Snapshot, f facts.Facts, p *radius.Packet, key *radius.Key, signed bool, begun time.Time) (out Answer) {
	out.Discard = true // what is left after a fault of ours
	defer g.Panics.Catch(func() string { return "an attempt of " + f.Sent + " through " + f.Client }, func() { g.faulted(s, &f, begun) })
	return g.radius(ctx, s, &f, p, key, signed, begun)
}

// faulted records an attempt that hit a fault of ours.
func (g *Gate) faulted(s *Snapshot, f *facts.Facts, begun time.Time) {
	defer g.Panics.Catch(func() string { return "recording an attempt that hit a fault" }, nil)
	v := &Visit{gate: g, snapshot: s, Facts: *f, begun: begun}
	v.judged(reason.ServiceFault, "")
	v.record(&decide.Decision{Verdict: decide.Refused, Reason: reason.ServiceFault, Name: f.Sent, Row: -1}, time.Since(begun))
}

func (g *Gate) radius(ctx context.Context, s *Snapshot, f *facts.Facts, p *radius.Packet, key *radius.Key, signed bool, begun time.Time) Answer {
	if p.Has(radius.EAPMessage) {
		if v := g.forwards(s, f, begun); v != nil {
			return v.forward(ctx, p, key)
		}
		return g.EAP(ctx, s, *f, p, begun)
	}
	v, why := g.Arrive(s, *f, begun)
	switch {
	case why != reason.OK:
		return v.Leave()
	case len(v.before.Lane.Forward) > 0:
		return v.forward(ctx, p, key)
	}
	switch f.Method {
	case facts.MACBypass:
		if v.Find(ctx) == reason.OK {
			v.judged(reason.OK, "") // the client vouches for the address
		}
		return v.Leave(v.finish())
	case "chap":
		return v.chap(ctx, p)
	case "mschapv2":
		return v.mschapv2(ctx, p)
	case "mschap":
		return v.mschapv1(ctx, p, key)
	}
	var space [radius.MaxPassword]byte
	clear, err := key.OpenPassword(space[:0], p.Get(radius.UserPassword), p.Authenticator)
	switch {
	case err != nil || !signed && !Readable(clear):
		v.Facts.Credential = reason.PasswordUnreadable
		return v.Leave()
	case len(clear) == 0:
		v.Facts.Credential = reason.PasswordEmpty
		return v.Leave()
	}
	if v.Find(ctx) == reason.OK {
		v.CheckTyped(ctx, string(clear))
	}
	return v.Leave(v.finish())
}

// Readable reports whether a decrypted password looks like one: valid UTF-8 without control characters. Decrypted
// with the wrong secret it is 16 random octets, which pass with a chance of less than one in a hundred.
func Readable(clear []byte) bool {
	if !utf8.Valid(clear) {
		return false
	}
	for _, c := range clear {
		if c < 0x20 || c == 0x7f {
			return false
		}
	}
	return true
}
