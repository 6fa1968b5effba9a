// Package access translates between Access-Requests and what the gate knows: facts and credentials out of a request,
// attributes of a reply out of an answer. It holds no socket.
package access

import (
	"net/netip"
	"strings"

	"tollgate.example/key/internal/core/config"
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

// maxAttributes bounds the attributes that are recorded of a request.
const maxAttributes = 64

// Facts reads the facts of an Access-Request. Attributes that are facts of their own are not repeated in the
// list of attributes; credentials never get into it.
func Facts(p *radius.Packet, client *config.Client, dictionary *dict.Dictionary, f *facts.Facts) {
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
			f.Port = facts.Clean(value)
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
			f.Called = facts.Clean(value)
		case radius.NASIdentifier:
			f.NAS = facts.Clean(value)
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
		f.SSID = facts.SSID(f.Called)
	}
	f.Method = method(p)
	bypass(f)
}

func addAttribute(f *facts.Facts, dictionary *dict.Dictionary, t byte, value []byte) {
	if len(f.Attributes) == maxAttributes {
		return
	}
	parts := dictionary.Describe(t, value)
	for _, part := range parts[:min(len(parts), maxAttributes-len(f.Attributes))] {
		f.Attributes = append(f.Attributes, facts.Attribute{Name: part.Name, Value: part.Value})
	}
}

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
