package config

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tollgate.example/key/internal/core/command"
)

// CommandVerdict is what a line of a command list does.
type CommandVerdict string

const (
	PermitCommand CommandVerdict = "permit"
	RefuseCommand CommandVerdict = "refuse"
)

// CommandLine is one line of a command list.
type CommandLine struct {
	Verdict CommandVerdict `json:"verdict" enum:"permit,refuse"`
	// Pattern is in the language of the package command.
	Pattern string `json:"pattern"`
	Note    string `json:"note,omitempty" required:"false"`
}

func (l CommandLine) String() string { return string(l.Verdict) + " " + l.Pattern }

// CommandList decides which commands may be typed: the first line that fits.
type CommandList struct {
	ID    string        `json:"id"`
	Name  string        `json:"name"`
	Lines []CommandLine `json:"lines"`
	// Extends are lists whose lines follow those here, in order.
	Extends []string `json:"extends"`
	// Otherwise is what happens to commands that no line fits; empty goes by the first list that is extended and says
	// so, and refuses if none does.
	Otherwise CommandVerdict `json:"otherwise,omitempty"`
	Note      string         `json:"note,omitempty"`
}

func (l *CommandList) Ident() string      { return l.ID }
func (l *CommandList) Label() string      { return l.Name }
func (l *CommandList) Identify(id string) { l.ID = id }

// Bounds of command lists.
const (
	maxLines      = 1_000
	maxWholeLines = 5_000
)

// Argument is one argument that a pass gives to gear over TACACS+ (RFC 8907 section 8).
type Argument struct {
	// Service is what it belongs to; empty is shell.
	Service string `json:"service,omitempty" required:"false"`
	Name    string `json:"name"`
	// Value may hold templates.
	Value string `json:"value"`
	// Optional lets gear that does not know the argument go on without it.
	Optional bool `json:"optional,omitempty" required:"false"`
}

// Shell is the service of command lines.
const Shell = "shell"

func (a Argument) String() string {
	sign := map[bool]string{false: "=", true: "*"}[a.Optional]
	if a.Service == "" || a.Service == Shell {
		return a.Name + sign + a.Value
	}
	return a.Service + ": " + a.Name + sign + a.Value
}

func (l *CommandList) normalise() {
	orEmpty(&l.Lines)
	trim(&l.Name, &l.Note)
	for i := range l.Extends {
		trim(&l.Extends[i])
	}
	l.Extends = unique(l.Extends)
	for i := range l.Lines {
		trim(&l.Lines[i].Pattern, &l.Lines[i].Note)
		if p, err := command.Parse(l.Lines[i].Pattern); err == nil {
			l.Lines[i].Pattern = p.String()
		}
	}
}

// WholeList returns a command list with the lines of all that it extends. Lines that cannot be read are left out, since
// the check tells them.
func (c *Config) WholeList(l *CommandList) (*command.List, error) {
	out := &command.List{}
	otherwise, err := c.gather(l, out, nil)
	out.Otherwise = otherwise == PermitCommand
	return out, err
}

func (c *Config) gather(l *CommandList, out *command.List, chain []string) (CommandVerdict, error) {
	if chain = append(slices.Clone(chain), l.Name); len(chain) > maxExtends {
		return "", fmt.Errorf("more than %d command lists extend each other", maxExtends)
	}
	for i := range l.Lines {
		if p, err := command.Parse(l.Lines[i].Pattern); err == nil {
			out.Lines = append(out.Lines, command.Line{Permit: l.Lines[i].Verdict == PermitCommand, Pattern: p,
				List: l.Name, Number: i + 1})
		}
	}
	if len(out.Lines) > maxWholeLines {
		return "", fmt.Errorf("more than %d lines with those of the lists that are extended", maxWholeLines)
	}
	otherwise := l.Otherwise
	for _, name := range l.Extends {
		base, at := Find(c.CommandLists, name)
		if at < 0 {
			return otherwise, fmt.Errorf("there is no command list %q", name)
		}
		if slices.ContainsFunc(chain, func(n string) bool { return strings.EqualFold(n, base.Name) }) {
			return otherwise, fmt.Errorf("refers to itself: %s -> %s", strings.Join(chain, " -> "), base.Name)
		}
		theirs, err := c.gather(base, out, chain)
		if err != nil {
			return otherwise, err
		}
		if otherwise == "" {
			otherwise = theirs
		}
	}
	return otherwise, nil
}

func (c *Config) checkCommandLists(k *checker) {
	for i := range c.CommandLists {
		l := c.CommandLists[i]
		k.on("command-list", l.Name, l.ID)
		if len(l.Lines) > maxLines {
			k.fail("lines", TooMany, "Use patterns that match more, or split the list.",
				"%d lines, at most %d are allowed", len(l.Lines), maxLines)
		}
		if len(l.Lines) == 0 && len(l.Extends) == 0 && l.Otherwise == "" {
			k.warn("lines", EmptyList, "Add a line, or set the default verdict.",
				"the list is empty, so it refuses every command")
		}
		if l.Otherwise != "" && l.Otherwise != PermitCommand && l.Otherwise != RefuseCommand {
			k.fail("otherwise", Unknown, "Use permit or refuse.", "%q is not a verdict", l.Otherwise)
		}
		for j, line := range l.Lines {
			field := fmt.Sprintf("lines[%d]", j)
			if line.Verdict != PermitCommand && line.Verdict != RefuseCommand {
				k.fail(field+".verdict", Unknown, "Use permit or refuse.", "%q is not a verdict", line.Verdict)
			}
			var at *command.Error
			if _, err := command.Parse(line.Pattern); errors.As(err, &at) {
				k.fail(field+".pattern", Malformed, at.Remedy, "%s", err)
				k.problems[len(k.problems)-1].Column = at.Column
			}
		}
		if _, err := c.WholeList(l); err != nil {
			k.fail("extends", Malformed, "Choose other lists to extend, or none.", "%s", err)
		}
	}
}

// checkGear checks what a pass gives to network gear.
func (c *Config) checkGear(k *checker, p *Pass) {
	if n, err := strconv.Atoi(p.PrivilegeLevel); p.PrivilegeLevel != "" && (err != nil || n < 0 || n > 15) {
		k.fail("privilegeLevel", Unknown, "Use 0 to 15; 15 may do everything, 1 is what most gear begins with.",
			"%q is not a privilege level", p.PrivilegeLevel)
	}
	if _, at := Find(c.CommandLists, p.Commands); p.Commands != "" && at < 0 {
		k.fail("commands", NotFound, "Choose one of the command lists, or add this one.",
			"there is no command list %q", p.Commands)
	}
	if len(p.Arguments) > 60 {
		k.fail("arguments", TooMany, "Remove some.", "more than 60 arguments")
	}
	for i, a := range p.Arguments {
		field := fmt.Sprintf("arguments[%d]", i)
		switch {
		case a.Name == "" || strings.ContainsAny(a.Name, "=* ") || !printable(a.Name):
			k.fail(field+".name", Malformed, "Use a name without spaces, = and *, such as acl.",
				"%q is not an argument name", a.Name)
		case slices.Contains([]string{"service", "cmd", "cmd-arg"}, a.Name):
			k.fail(field+".name", Conflict, "Remove it.",
				"%s is sent by the device and cannot be set by a pass", a.Name)
		case isShell(a.Service) && (a.Name == "priv-lvl" && p.PrivilegeLevel != "" || a.Name == "timeout" &&
			p.SessionTimeout > 0 || a.Name == "idletime" && p.IdleTimeout > 0):
			k.fail(field+".name", Conflict, "Remove one of the two.", "%s is already set by a field of this pass",
				a.Name)
		case !printable(a.Value) || len(a.Name)+1+len(a.Value) > 255:
			k.fail(field+".value", TooMany, "Shorten or correct the value.",
				"an argument has at most 255 octets and no control characters")
		case a.Service != "" && (strings.ContainsAny(a.Service, "=* ") || !printable(a.Service)):
			k.fail(field+".service", Unknown, "Use a word such as shell or ppp.", "%q is not a service", a.Service)
		}
	}
}

func isShell(service string) bool { return service == "" || service == Shell }

func printable(text string) bool {
	for _, r := range text {
		if r < 0x20 || r == 0x7f {
			return false
		}
	}
	return true
}

// checkTACACS checks how a client speaks TACACS+.
func (c *Client) checkTACACS(k *checker) {
	if c.TACACSPrevious.Set() && c.TACACSPreviousUntil.IsZero() {
		k.fail("tacacsPreviousUntil", Required, "Set the date until which it is accepted.",
			"the previous TACACS+ secret has no end date")
	}
	if c.TACACSPlain {
		k.warn("tacacsPlain", PlainBodies, "Set a shared secret on the device, or use TLS.",
			"packets that are not obfuscated are taken from this client: anyone on the path can read every password")
	}
	if c.TACACSByAddress {
		k.warn("tacacsByAddress", AddressAlone, "Give the device a certificate, and its name here.",
			"over TLS this client is known by its address alone: anyone who can use that address is accepted as "+
				"this client")
	}
	for i, name := range c.TLSNames {
		field := fmt.Sprintf("tlsNames[%d]", i)
		if name == "" || strings.ContainsAny(name, "* ") || !printable(name) {
			k.fail(field, Malformed, "Write a DNS name or an address, as in the certificate of the device; a "+
				"wildcard would let one device act as another.", "%q is not the name of a single device", name)
		}
	}
}

// checkChangeTLS checks that a client which takes changes over TLS can prove itself.
func (c *Client) checkChangeTLS(k *checker) {
	if c.Sessions.ChangeTLS && len(c.TLSNames) == 0 {
		k.fail("sessions.changeTls", Required, "Give the names in the certificate of the device.",
			"over TLS the device has to prove itself, and there is no name for its certificate")
	}
}

// checkBound checks what a client refers to in TLS.
func (c *Config) checkBound(k *checker, client *Client) {
	if _, at := Find(c.Certificates, client.TLSCertificate); client.TLSCertificate != "" && at < 0 {
		k.fail("tlsCertificate", NotFound,
			"Choose one of the server certificates, or leave it empty for the first.", "there is no certificate %q",
			client.TLSCertificate)
	}
	if _, at := Find(c.Trusts, client.TLSTrust); client.TLSTrust != "" && at < 0 {
		k.fail("tlsTrust", NotFound, "Choose one of the trust lists.", "there is no trust list %q",
			client.TLSTrust)
	}
	switch {
	case len(client.TLSNames) > 0 && len(c.Trusts) == 0:
		k.fail("tlsTrust", NotFound, "Add a trust list under Certificates.",
			"there is no trust list to check the certificate of this device")
	case len(client.TLSNames) > 0 && client.TLSTrust == "" && len(c.Trusts) > 1:
		k.fail("tlsTrust", Required, "Choose one of the trust lists.",
			"there are several trust lists, and none is selected for the certificate of this device")
	}
}
