package server

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
)

// method is one EAP method under way.
type method interface {
	// begin returns the data of the first request.
	begin() []byte
	// respond takes the data of a response.
	respond(ctx context.Context, data []byte) step
}

// offer is a method that may be agreed on in a layer.
type offer struct {
	kind eap.Type
	// name is the method in full if it is known from the kind alone.
	name string
	make func(l *layer) method
}

// layer asks for an identity, agrees on a method by Nak and runs it. The same happens outside and inside of tunnels.
type layer struct {
	c       *Conversation
	offers  []offer
	id      byte
	name    string
	stage   stage
	current method
	kind    eap.Type
	tried   []eap.Type
	inside  bool
	// subject is who is to be proven.
	subject proof.Subject
}

type stage int

const (
	wantIdentity stage = iota
	offered
	running
)

// expects reports whether the packet answers what was asked last; the first identity comes unasked.
func (l *layer) expects(p eap.Packet) bool {
	return p.Identifier == l.id || l.stage == wantIdentity && l.id == 0 && !l.inside
}

// ask requests the identity.
func (l *layer) ask() eap.Packet {
	l.id++
	l.c.server("asks for the identity")
	return eap.Packet{Code: eap.Request, Identifier: l.id, Type: eap.Identity}
}

// take works on a response. The packet is the next request unless the step ends the layer.
func (l *layer) take(ctx context.Context, p eap.Packet) (eap.Packet, step) {
	var s step
	switch {
	case l.stage == wantIdentity && p.Type == eap.Identity:
		s = l.identified(p.Data)
	case l.stage == offered && (p.Type == eap.Nak || p.Type == eap.Expanded):
		s = l.refused(p)
	case l.stage != wantIdentity && p.Type == l.kind:
		l.stage = running
		s = l.current.respond(ctx, p.Data)
	default:
		return eap.Packet{}, step{silent: true}
	}
	if s.silent || s.end {
		return eap.Packet{}, s
	}
	l.id = p.Identifier + 1
	return eap.Packet{Code: eap.Request, Identifier: l.id, Type: l.kind, Data: s.data}, s
}

const maxIdentity = 253

func (l *layer) identified(data []byte) step {
	name, _, _ := strings.Cut(string(data), "\x00") // what follows a zero octet is for networks, not for us
	if len(name) > maxIdentity || strings.ToValidUTF8(name, "") != name {
		return l.c.fail(reason.EAPMalformed, "the identity is not readable text of at most %d octets", maxIdentity)
	}
	l.name = name
	if l.inside {
		l.c.peer("identity inside the tunnel: %s", name)
	} else {
		l.c.identity = name
		l.c.peer("identity: %s", name)
	}
	if len(l.offers) == 0 {
		return l.c.fail(reason.EAPNoCommonMethod, "an inner EAP method")
	}
	return l.offer(l.offers[0])
}

func (l *layer) offer(o offer) step {
	l.kind, l.stage, l.tried = o.kind, offered, append(l.tried, o.kind)
	l.current = o.make(l)
	l.c.server("offers %s", o.kind)
	return step{data: l.current.begin()}
}

// refused looks for another method among those that the peer would take, in our order.
func (l *layer) refused(p eap.Packet) step {
	wanted := p.Wanted()
	if p.Type == eap.Expanded {
		wanted = nil
	}
	var names []string
	for _, kind := range wanted {
		names = append(names, kind.String())
	}
	list := strings.Join(names, ", ")
	if list == "" {
		list = "no other method at all"
	}
	l.c.peer("does not take %s, asks for %s", l.kind, list)
	for _, o := range l.offers {
		if slices.Contains(wanted, o.kind) && !slices.Contains(l.tried, o.kind) {
			return l.offer(o)
		}
	}
	return l.c.fail(reason.EAPNoCommonMethod, "%s", list)
}

// family of methods by what they run inside.
type family string

const (
	outside    family = ""
	insidePEAP family = "peap"
	insideTTLS family = "ttls"
	insideTEAP family = "teap"
)

// offers lists the methods of a family that the lane allows, in its order, each kind once.
func (c *Conversation) offers(f family) []offer {
	var out []offer
	add := func(o offer) {
		if !slices.ContainsFunc(out, func(have offer) bool { return have.kind == o.kind }) {
			out = append(out, o)
		}
	}
	for _, name := range c.settings.Methods {
		prefix, inner, _ := strings.Cut(name, "-")
		if f == outside {
			switch {
			case name == "eap-tls":
				add(offer{eap.TLS, name, func(l *layer) method { return newTLS(l, eap.TLS, outside) }})
			case name == "eap-mschapv2":
				add(offer{eap.MSCHAPv2, name, func(l *layer) method { return &mschapMethod{l: l, name: name} }})
			case name == "eap-gtc":
				add(offer{eap.GTC, name, func(l *layer) method { return &gtcMethod{l: l, name: name} }})
			case name == "eap-md5" || name == "mac":
				add(offer{eap.MD5, name, func(l *layer) method { return &md5Method{l: l, name: name} }})
			case prefix == "peap":
				add(offer{eap.PEAP, "", func(l *layer) method { return newTLS(l, eap.PEAP, outside) }})
			case prefix == "ttls":
				add(offer{eap.TTLS, "", func(l *layer) method { return newTLS(l, eap.TTLS, outside) }})
			case prefix == "teap":
				add(offer{eap.TEAP, "", func(l *layer) method { return newTLS(l, eap.TEAP, outside) }})
			}
			continue
		}
		if prefix != string(f) {
			continue
		}
		switch inner {
		case "mschapv2":
			add(offer{eap.MSCHAPv2, name, func(l *layer) method { return &mschapMethod{l: l, name: name} }})
		case "gtc":
			add(offer{eap.GTC, name, func(l *layer) method { return &gtcMethod{l: l, name: name} }})
		case "md5":
			add(offer{eap.MD5, name, func(l *layer) method { return &md5Method{l: l, name: name} }})
		case "tls":
			add(offer{eap.TLS, name, func(l *layer) method { return newTLS(l, eap.TLS, f) }})
		}
	}
	return out
}

// allows reports whether the lane allows a method by its full name.
func (c *Conversation) allows(name string) bool { return slices.Contains(c.settings.Methods, name) }

// refuseInner ends a tunnel whose inner method the lane does not allow.
func (c *Conversation) refuseInner(f family, inner string) step {
	return c.fail(reason.EAPNoCommonMethod, "%s", fmt.Sprintf("%s inside %s", inner, strings.ToUpper(string(f))))
}

func validName(name string) bool {
	return strings.ToValidUTF8(name, "") == name && !strings.ContainsRune(name, 0)
}
