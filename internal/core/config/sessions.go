package config

import (
	"net/netip"
	"slices"
	"strings"
	"time"
)

// What becomes of the accounting of a client.
const (
	// RecordAccounting records it, and answers what is on the disk.
	RecordAccounting = "record"
	// AnswerAccounting answers it and drops it: for clients that want an answer, and whose sessions do not matter.
	AnswerAccounting = "answer"
)

// How a client is asked to authenticate a session again (RFC 5176).
const (
	// ByTimeout sends a CoA-Request with a Session-Timeout of a second and Termination-Action RADIUS-Request.
	ByTimeout = "timeout"
	// ByDisconnect ends the session; the device comes again by itself.
	ByDisconnect = "disconnect"
)

// ClientSessions are how a client's accounting is taken, and how its sessions are changed.
type ClientSessions struct {
	Accounting     string `json:"accounting,omitempty" required:"false" enum:"record,answer" doc:"record: keep it; answer: answer and drop it. Empty is record"`
	SilenceMinutes int    `json:"silenceMinutes,omitempty" required:"false" doc:"After how long without a word a session counts as over; 0 is a day"`
	// ChangeAddress is where changes of authorization are sent, empty for the address that accounting comes from, at
	// ChangePort, 0 for 3799, or 2083 over TLS.
	ChangeAddress string `json:"changeAddress,omitempty" required:"false" maxLength:"60" doc:"Address that takes changes of authorization; empty is where accounting comes from"`
	ChangePort    int    `json:"changePort,omitempty" required:"false" doc:"Its port; 0 is 3799, or 2083 over TLS, -1 sends it none"`
	// ChangeTLS sends them over TLS (RFC 6614 section 2.5), where the client proves itself by the names of its
	// certificate.
	ChangeTLS bool `json:"changeTls,omitempty" required:"false" doc:"Send changes over TLS"`
	// Identify are the attributes that name the session to the client; empty are those of RFC 5176 section 3 that most
	// understand.
	Identify       []string `json:"identify,omitempty" required:"false" maxItems:"10" doc:"Attributes that name the session to it; empty sends the usual ones"`
	Reauthenticate string   `json:"reauthenticate,omitempty" required:"false" enum:"timeout,disconnect" doc:"How it is asked to authenticate a session again; empty is timeout"`
}

// Identifications are the attributes that may name a session (RFC 5176 section 3).
var Identifications = []string{"User-Name", "NAS-IP-Address", "NAS-Identifier", "NAS-Port", "NAS-Port-Id",
	"Framed-IP-Address", "Calling-Station-Id", "Called-Station-Id", "Acct-Session-Id", "Acct-Multi-Session-Id"}

// UsualIdentification names a session to a client that says nothing else.
var UsualIdentification = []string{"User-Name", "NAS-IP-Address", "NAS-Identifier", "Calling-Station-Id",
	"Acct-Session-Id"}

// Silence is after how long without a word a session of the client counts as over.
func (c *ClientSessions) Silence() time.Duration {
	if c.SilenceMinutes == 0 {
		return 24 * time.Hour
	}
	return time.Duration(c.SilenceMinutes) * time.Minute
}

// Names are the attributes that name a session.
func (c *ClientSessions) Names() []string {
	if len(c.Identify) == 0 {
		return UsualIdentification
	}
	return c.Identify
}

// Changes is where changes of authorization are sent for a session whose accounting comes from an address; invalid if
// the client takes none.
func (c *ClientSessions) Changes(source netip.Addr) netip.AddrPort {
	if c.ChangePort < 0 {
		return netip.AddrPort{}
	}
	if addr, err := netip.ParseAddr(c.ChangeAddress); err == nil {
		source = addr
	}
	port := uint16(c.ChangePort)
	if port == 0 {
		port = 3799
		if c.ChangeTLS {
			port = 2083
		}
	}
	return netip.AddrPortFrom(source, port)
}

func (c *ClientSessions) normalise() {
	trim(&c.ChangeAddress)
	if c.Accounting == RecordAccounting {
		c.Accounting = ""
	}
	if c.Reauthenticate == ByTimeout {
		c.Reauthenticate = ""
	}
	for i, name := range c.Identify {
		for _, known := range Identifications {
			if strings.EqualFold(strings.TrimSpace(name), known) {
				c.Identify[i] = known
			}
		}
	}
	if c.Identify = unique(c.Identify); len(c.Identify) == 0 {
		c.Identify = nil
	}
}

func (c *ClientSessions) check(k *checker) {
	if c.Accounting != "" && c.Accounting != AnswerAccounting {
		k.fail("sessions.accounting", Unknown, "Use record or answer.", "%q is not a way to take accounting",
			c.Accounting)
	}
	if c.SilenceMinutes < 0 || c.SilenceMinutes > 60*24*60 || c.SilenceMinutes != 0 && c.SilenceMinutes < 2 {
		k.fail("sessions.silenceMinutes", OutOfRange, "Use 2 minutes to 60 days; more than two intervals of the "+
			"client's interim records. 0 is a day.", "%d minutes is out of range", c.SilenceMinutes)
	}
	if c.ChangeAddress != "" {
		if _, err := netip.ParseAddr(c.ChangeAddress); err != nil {
			k.fail("sessions.changeAddress", Malformed, "Write an address, such as 192.0.2.11, or leave it empty.",
				"%q is not an address", c.ChangeAddress)
		}
	}
	if c.ChangePort < -1 || c.ChangePort > 65535 {
		k.fail("sessions.changePort", OutOfRange, "Use 1 to 65535, 0 for 3799, or -1 to send it none.",
			"%d is not a port", c.ChangePort)
	}
	for _, name := range c.Identify {
		if !slices.Contains(Identifications, name) {
			k.fail("sessions.identify", Unknown, "Use one of: "+strings.Join(Identifications, ", ")+".",
				"%q does not name a session", name)
		}
	}
	switch c.Reauthenticate {
	case "", ByDisconnect:
	default:
		k.fail("sessions.reauthenticate", Unknown, "Use timeout or disconnect.",
			"%q is not a way to ask for authentication", c.Reauthenticate)
	}
}
