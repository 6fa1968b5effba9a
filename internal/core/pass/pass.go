// Package pass turns a pass into reply attributes. A VLAN is one value there; the three tunnel attributes that carry
// it (RFC 3580 section 3.31) are made here, so none of them can be forgotten.
package pass

import (
	"encoding/binary"
	"fmt"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/wire/dict"
)

// Attribute is one encoded reply attribute.
type Attribute struct {
	Type  byte
	Value []byte
}

// Reply is a compiled pass: what goes into an Access-Accept.
type Reply struct {
	Attributes []Attribute
	size       int
}

// maxReply leaves room for the header, Message-Authenticator and a few Proxy-State attributes.
const maxReply = 3500

const (
	sessionTimeout = 27
	filterID       = 11
	tunnelType     = 64
	tunnelMedium   = 65
	tunnelGroup    = 81
)

// Compile encodes a pass, or lists what is wrong with its fields.
func Compile(p *config.Pass) (*Reply, []config.Problem) {
	r := &Reply{}
	var problems []config.Problem
	fail := func(field, message, remedy string) {
		problems = append(problems, config.Problem{Kind: "pass", Object: p.Name, ID: p.ID, Field: field, Message: message, Remedy: remedy})
	}
	if p.VLAN != "" {
		r.add(tunnelType, integer(dict.TunnelTypeVLAN))
		r.add(tunnelMedium, integer(dict.TunnelMediumIEEE802))
		r.add(tunnelGroup, []byte(p.VLAN))
	}
	if p.SessionTimeout > 0 {
		r.add(sessionTimeout, integer(uint32(p.SessionTimeout)))
	}
	if p.Role != "" && len(p.Role) <= 253 {
		r.add(filterID, []byte(p.Role))
	}
	for i, a := range p.Attributes {
		field := fmt.Sprintf("attributes[%d]", i)
		entry := dict.ByName(a.Name)
		switch {
		case entry == nil:
			fail(field+".name", fmt.Sprintf("there is no attribute %q", a.Name), "Use the standard name, such as Idle-Timeout, or Vendor-Specific.")
			continue
		case !entry.Reply:
			fail(field+".name", entry.Name+" does not belong into an Access-Accept", "Choose another attribute.")
			continue
		case p.VLAN != "" && (entry.Type == tunnelType || entry.Type == tunnelMedium || entry.Type == tunnelGroup):
			fail(field+".name", entry.Name+" is made from the VLAN of this pass", "Remove it here, or remove the VLAN.")
			continue
		case p.SessionTimeout > 0 && entry.Type == sessionTimeout:
			fail(field+".name", "Session-Timeout is set twice", "Use the field, or the attribute.")
			continue
		}
		value, err := entry.Encode(a.Value)
		if err != nil {
			fail(field+".value", err.Error(), "Correct the value.")
			continue
		}
		r.add(entry.Type, value)
	}
	if r.size > maxReply {
		fail("attributes", fmt.Sprintf("the reply would have %d octets, at most %d fit", r.size, maxReply), "Remove attributes.")
	}
	return r, problems
}

func (r *Reply) add(t byte, value []byte) {
	r.Attributes = append(r.Attributes, Attribute{t, value})
	r.size += 2 + len(value)
}

func integer(v uint32) []byte { return binary.BigEndian.AppendUint32(nil, v) }

// Text is one attribute for people.
type Text struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Hex   string `json:"hex"`
}

// Texts writes the reply for people, with each value as it goes over the wire.
func (r *Reply) Texts() []Text {
	out := make([]Text, 0, len(r.Attributes))
	for _, a := range r.Attributes {
		value := fmt.Sprintf("0x%x", a.Value)
		if entry := dict.ByType(a.Type); entry != nil {
			value = entry.Format(a.Value)
		}
		out = append(out, Text{dict.Name(a.Type), value, strings.ToUpper(fmt.Sprintf("%02x%02x%x", a.Type, len(a.Value)+2, a.Value))})
	}
	return out
}
