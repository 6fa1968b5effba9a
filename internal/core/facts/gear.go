package facts

import (
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// DeviceCommand is one command on a device, by a person who is signed in there.
const DeviceCommand = "device-command"

// What gear asks about somebody; anything else is the name of a service, such as ppp.
const (
	AsksLogin    = "login"
	AsksEnable   = "enable"
	AsksPassword = "password"
	AsksShell    = "shell"
	AsksCommand  = "command"
)

// Gear is what network gear asks over TACACS+.
type Gear struct {
	Asks string `json:"asks"`
	// Level is the privilege level that enable asks for; otherwise the one that the person has.
	Level int `json:"level"`
	// Command is the command as typed, without what gear puts behind it.
	Command string `json:"command,omitempty"`
	// Authenticated is how gear says that the person was proven, "" for a sign-in.
	Authenticated string `json:"authenticated,omitempty"`
	// Args are the arguments of the request as they came.
	Args []string `json:"args,omitempty"`
}

// Vouched reports that gear asks about somebody whom it has signed in already: nothing is proven again.
func (f *Facts) Vouched() bool {
	return f.Gear != nil && f.Gear.Asks != AsksLogin && f.Gear.Asks != AsksEnable && f.Gear.Asks != AsksPassword
}

// Administers reports that this is about the command line of a device.
func (f *Facts) Administers() bool { return f.Service == DeviceLogin || f.Service == DeviceCommand }

func (g *Gear) append(b []byte) []byte {
	b = appendText(append(b, `,"gear":{"asks":`...), g.Asks)
	b = strconv.AppendInt(append(b, `,"level":`...), int64(g.Level), 10)
	b = appendOptional(b, "command", g.Command)
	b = appendOptional(b, "authenticated", g.Authenticated)
	if len(g.Args) > 0 {
		b = appendTexts(append(b, `,"args":`...), g.Args)
	}
	return append(b, '}')
}

// OfGear begins the facts of a request by TACACS+: user, port and remote are fields of the request as they came, the
// last where the person is (RFC 8907 section 3.7).
func OfGear(client string, tags map[string]string, address netip.Addr, user, port, remote []byte, at time.Time) Facts {
	f := Facts{At: at, Protocol: "tacacs", Service: DeviceLogin, Client: client, ClientTags: tags, Address: address,
		Port: Clean(port), Sent: string(user), Gear: &Gear{}}
	if addr, err := netip.ParseAddr(string(remote)); err == nil {
		f.From = addr.Unmap().WithZone("")
	} else if len(remote) > 0 {
		f.Attributes = []Attribute{{Name: "rem_addr", Value: Clean(remote)}}
	}
	return f
}

// Clean makes text of octets that may be anything.
func Clean(octets []byte) string { return strings.ToValidUTF8(string(octets), "?") }

// Readable makes one line of readable text of what may be anything.
func Readable(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text[:min(len(text), 200)], "?"))
}
