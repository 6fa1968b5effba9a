// Package pass turns a pass into reply attributes. A VLAN is one value there; the three tunnel attributes that carry
// it (RFC 3580 section 3.31) are made here, so none of them can be forgotten.
package pass

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/core/rule"
	"tollgate.example/key/internal/wire/dict"
)

// Attribute is one encoded reply attribute.
type Attribute struct {
	Type  byte
	Value []byte
}

// Reply is a compiled pass: what goes into an Access-Accept.
type Reply struct {
	fixed []Attribute
	// parts are all attributes in order if any holds a template, nil otherwise.
	parts      []part
	dictionary *dict.Dictionary
	size       int
}

// part is one attribute that is encoded already, or is to be filled in.
type part struct {
	Attribute
	name     string
	template *rule.Template
	encode   func(text string) (byte, []byte, error)
	// pool is the pool that gives the address, "" for other attributes.
	pool string
}

// maxReply leaves room for the header, Message-Authenticator and a few Proxy-State attributes.
const maxReply = 3500

const (
	userName          = 1
	framedAddress     = 8
	filterID          = 11
	class             = 25
	sessionTimeout    = 27
	idleTimeout       = 28
	terminationAction = 29
	tunnelType        = 64
	tunnelMedium      = 65
	tunnelGroup       = 81
	filterRule        = 92
	privilegeLevel    = 136
	framedIPv6Address = 168
)

// radiusRequest is the Termination-Action that asks the device to sign the person in again (RFC 2865 section 5.29).
const radiusRequest = 1

// compiler gathers the attributes of one pass and what is wrong with them.
type compiler struct {
	*Reply
	pass     *config.Pass
	problems []config.Problem
}

func (c *compiler) fail(field string, code config.ProblemCode, remedy, format string, args ...any) {
	c.problems = append(c.problems, config.NewProblem(code, format, args...).On("pass", c.pass.Name, c.pass.ID, field,
		remedy))
}

// Compile encodes a pass that was resolved, or lists what is wrong with its fields.
func Compile(p *config.Pass, dictionary *dict.Dictionary, vendors []*config.Vendor) (*Reply, []config.Problem) {
	c := &compiler{Reply: &Reply{dictionary: dictionary}, pass: p}
	if p.VLAN != "" {
		c.add(tunnelType, integer(dict.TunnelTypeVLAN))
		c.add(tunnelMedium, integer(dict.TunnelMediumIEEE802))
		c.value("vlan", dict.Name(tunnelGroup), p.VLAN, encodeVLAN)
	}
	if p.SessionTimeout > 0 {
		c.add(sessionTimeout, integer(uint32(p.SessionTimeout)))
	}
	if p.AtTimeout == config.SignInAgain {
		c.add(terminationAction, integer(radiusRequest))
	}
	if p.IdleTimeout > 0 {
		c.add(idleTimeout, integer(uint32(p.IdleTimeout)))
	}
	if n, err := strconv.Atoi(p.PrivilegeLevel); err == nil && n >= 0 { // RFC 5607 section 6.4
		c.add(privilegeLevel, integer(uint32(n)))
	}
	c.text("role", filterID, p.Role)
	c.rules()
	if p.Address != "" {
		c.value("address", dict.Name(framedAddress), p.Address, encodeAddress)
	}
	if p.Pool != "" {
		c.parts = append(c.parts, part{name: dict.Name(framedAddress), pool: p.Pool})
		c.size += 18
	}
	c.text("reportName", userName, p.ReportName)
	c.text("class", class, p.Class)
	c.rates(vendors)
	for i := range p.Attributes {
		c.attribute(i)
	}
	if c.size > maxReply {
		c.fail("attributes", config.TooMany, "Remove attributes.", "the reply would have %d octets, at most %d fit",
			c.size, maxReply)
	}
	dynamic := false
	for i := range c.parts {
		dynamic = dynamic || c.parts[i].template != nil || c.parts[i].pool != ""
	}
	if !dynamic {
		for i := range c.parts {
			c.fixed = append(c.fixed, c.parts[i].Attribute)
		}
		c.parts = nil
	}
	return c.Reply, c.problems
}

func (c *compiler) add(t byte, value []byte) {
	c.parts = append(c.parts, part{Attribute: Attribute{t, value}})
	c.size += 2 + len(value)
}

// text adds a standard attribute whose value may be a template; "" adds none.
func (c *compiler) text(field string, t byte, text string) {
	if text == "" {
		return
	}
	entry := dict.ByType(t)
	c.value(field, entry.Name, text, func(text string) (byte, []byte, error) {
		value, err := entry.Encode(text)
		return t, value, err
	})
}

// value adds an attribute, now if its text holds no field, else with each reply.
func (c *compiler) value(field, name, text string, encode func(string) (byte, []byte, error)) {
	if !strings.Contains(text, "{{") {
		t, value, err := encode(text)
		if err != nil {
			c.fail(field, config.Malformed, "Correct the value.", "%s", err)
			return
		}
		c.add(t, value)
		return
	}
	template, err := rule.ParseTemplate(text)
	if err != nil {
		var at *rule.Error
		errors.As(err, &at)
		c.fail(field, config.Malformed, at.Remedy, "%s", err)
		c.problems[len(c.problems)-1].Column = at.Column
		return
	}
	c.parts = append(c.parts, part{name: name, template: template, encode: encode})
	c.size += 2 + len(text)
}

// rules joins access rules by zero octets and splits them over as many attributes as they need (RFC 4849 section 2).
func (c *compiler) rules() {
	octets := []byte(strings.Join(c.pass.AccessRules, "\x00"))
	for len(octets) > 0 {
		n := min(253, len(octets))
		c.add(filterRule, octets[:n])
		octets = octets[n:]
	}
}

func encodeVLAN(text string) (byte, []byte, error) {
	if err := config.CheckVLAN(text); err != nil {
		return 0, nil, err
	}
	value, err := dict.ByType(tunnelGroup).Encode(text)
	return tunnelGroup, value, err
}

func encodeAddress(text string) (byte, []byte, error) {
	addr, err := netip.ParseAddr(text)
	if err != nil || addr.Zone() != "" {
		return 0, nil, fmt.Errorf("%q is not an address", text)
	}
	if addr = addr.Unmap(); addr.Is4() {
		return framedAddress, addr.AsSlice(), nil
	}
	return framedIPv6Address, addr.AsSlice(), nil
}

// rates puts the rates into every attribute of a vendor that carries them; a device passes over those of others.
func (c *compiler) rates(vendors []*config.Vendor) {
	for i := range vendors {
		for _, a := range vendors[i].Attributes {
			kbit := map[config.Meaning]int{config.RateDown: c.pass.RateDown, config.RateUp: c.pass.RateUp}[a.Means]
			entry := c.dictionary.ByName(a.Name)
			if kbit == 0 || a.Means == "" || entry == nil {
				continue
			}
			rate := uint64(kbit) * 1000
			if a.Unit > 0 {
				rate = max(1, uint64(kbit)/uint64(a.Unit))
			}
			value, err := entry.Encode(fmt.Sprint(rate))
			if err != nil {
				c.fail(map[config.Meaning]string{config.RateDown: "rateDown", config.RateUp: "rateUp"}[a.Means],
					config.Malformed, "Correct the rate, or the unit and type of the attribute under Vendors.", "%s",
					err)
				continue
			}
			c.add(dict.VendorSpecific, value)
		}
	}
}

// made are the standard attributes that a field of a pass makes.
func (c *compiler) made(t byte) string {
	p := c.pass
	for _, field := range [...]struct {
		types []byte
		set   bool
		name  string
	}{
		{[]byte{tunnelType, tunnelMedium, tunnelGroup}, p.VLAN != "", "the VLAN"}, {[]byte{sessionTimeout},
			p.SessionTimeout > 0, "the session time-out"},
		{[]byte{terminationAction}, p.AtTimeout != "", "what happens at the time-out"},
		{[]byte{idleTimeout}, p.IdleTimeout > 0, "the idle time-out"},
		{[]byte{framedAddress, framedIPv6Address}, p.Address != "" || p.Pool != "", "the address"},
		{[]byte{userName}, p.ReportName != "", "the name to report"},
		{[]byte{filterRule}, len(p.AccessRules) > 0, "the access rules"}, {[]byte{privilegeLevel},
			p.PrivilegeLevel != "", "the privilege level"},
	} {
		if field.set && strings.IndexByte(string(field.types), t) >= 0 {
			return field.name
		}
	}
	return ""
}

func (c *compiler) attribute(i int) {
	a, field := &c.pass.Attributes[i], fmt.Sprintf("attributes[%d]", i)
	entry := c.dictionary.ByName(a.Name)
	switch {
	case entry == nil:
		c.fail(field+".name", config.NotFound, "Use the standard name, such as Idle-Timeout, or add the vendor's "+
			"attribute under Vendors.", "there is no attribute %q", a.Name)
		return
	case !entry.Reply:
		c.fail(field+".name", config.Conflict, "Choose another attribute.", "%s is not allowed in an Access-Accept",
			entry.Name)
		return
	}
	if from := c.made(entry.Type); from != "" && entry.Vendor == nil {
		c.fail(field+".name", config.Conflict, "Remove one of the two.", "%s is made from %s of this pass",
			entry.Name, from)
		return
	}
	c.value(field+".value", entry.Name, a.Value, func(text string) (byte, []byte, error) {
		value, err := entry.Encode(text)
		return entry.Type, value, err
	})
}

// Encode makes one attribute of its name and a value in text form.
func Encode(dictionary *dict.Dictionary, name, text string) ([]Attribute, error) {
	entry := dictionary.ByName(name)
	if entry == nil {
		return nil, fmt.Errorf("there is no attribute %q", name)
	}
	value, err := entry.Encode(text)
	if err != nil {
		return nil, err
	}
	return []Attribute{{Type: entry.Type, Value: value}}, nil
}

func integer(v uint32) []byte { return binary.BigEndian.AppendUint32(nil, v) }

// Dynamic reports whether the reply depends on the attempt.
func (r *Reply) Dynamic() bool { return r.parts != nil }

// For returns the attributes for one attempt. The error says which value is missing or does not fit. It does not
// allocate unless there are templates.
func (r *Reply) For(f *facts.Facts) ([]Attribute, error) {
	if r.parts == nil {
		return r.fixed, nil
	}
	out := make([]Attribute, 0, len(r.parts))
	size := 0
	for i := range r.parts {
		p := &r.parts[i]
		a := p.Attribute
		if p.pool != "" {
			if f.Lease == nil || !f.Lease.Address.IsValid() || !strings.EqualFold(f.Lease.Pool, p.pool) {
				continue // none was given, since nobody signed in
			}
			a.Type, a.Value, _ = encodeAddress(f.Lease.Address.String())
		}
		if p.template != nil {
			text, missing := p.template.Fill(f)
			if missing != "" {
				return nil, fmt.Errorf("%s of %s has no value", missing, p.template)
			}
			var err error
			if a.Type, a.Value, err = p.encode(text); err != nil {
				return nil, fmt.Errorf("%s: %w", p.template, err)
			}
		}
		out = append(out, a)
		size += 2 + len(a.Value)
	}
	if size > maxReply {
		return nil, fmt.Errorf("the reply would have %d octets, at most %d fit", size, maxReply)
	}
	return out, nil
}

// Templates lists the templates.
func (r *Reply) Templates() []*rule.Template {
	var out []*rule.Template
	for i := range r.parts {
		if t := r.parts[i].template; t != nil {
			out = append(out, t)
		}
	}
	return out
}

// Texts writes the reply for people, with each value as it goes over the wire; templates stand as they are written.
func (r *Reply) Texts() []results.Text {
	out := make([]results.Text, 0, max(len(r.fixed), len(r.parts)))
	for _, a := range r.fixed {
		out = append(out, r.spell(a))
	}
	for i := range r.parts {
		p := &r.parts[i]
		if p.pool != "" {
			out = append(out, results.Text{Name: p.name, Value: "from pool " + p.pool})
			continue
		}
		if p.template == nil {
			out = append(out, r.spell(p.Attribute))
			continue
		}
		out = append(out, results.Text{Name: p.name, Value: p.template.String()})
	}
	return out
}

// TextsFor writes the reply of one attempt for people; one that cannot be made as it is written.
func (r *Reply) TextsFor(f *facts.Facts) []results.Text {
	list, err := r.For(f)
	if err != nil {
		return r.Texts()
	}
	out := make([]results.Text, 0, len(list))
	for _, a := range list {
		out = append(out, r.spell(a))
	}
	return out
}

func (r *Reply) spell(a Attribute) results.Text {
	t := results.Text{Name: dict.Name(a.Type), Value: fmt.Sprintf("0x%x", a.Value), Hex: r.dictionary.Spell(a.Type,
		a.Value), Place: fmt.Sprint(a.Type)}
	if a.Type == dict.VendorSpecific && len(a.Value) >= 6 {
		if parts, ok := r.dictionary.Open(a.Value); ok && len(parts) == 1 {
			t.Name, t.Value = parts[0].Name, parts[0].Value
			t.Place = fmt.Sprintf("26.%d", binary.BigEndian.Uint32(a.Value))
			if entry := r.dictionary.ByName(parts[0].Name); entry != nil {
				t.Place = entry.Place()
			}
			return t
		}
	}
	if entry := dict.ByType(a.Type); entry != nil {
		t.Value = entry.Format(a.Value)
	}
	return t
}
