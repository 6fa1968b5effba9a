package gate

import (
	"context"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/dict"
)

// forward has a remote server of the lane decide: the first that answers, those that were silent lately last. An
// Access-Challenge is passed on and not recorded, since it decides nothing.
func (v *Visit) forward(ctx context.Context, a *Access) Answer {
	begun := time.Now()
	names := v.before.Lane.Forward
	servers := make([]*upstream.Server, 0, len(names))
	for _, name := range names {
		servers = append(servers, v.snapshot.Remote(name))
	}
	var state []byte
	if a.EAP != nil {
		state = a.EAP.State
	}
	rank := func(s *upstream.Server) int {
		switch {
		case s.Holds(state): // the conversation goes on where it began
			return 0
		case s.Silent(begun):
			return 2
		}
		return 1
	}
	slices.SortStableFunc(servers, func(a, b *upstream.Server) int { return rank(a) - rank(b) })
	var faults []string
	for _, server := range servers {
		reply, err := a.Forwarder.Forward(ctx, server)
		if err != nil {
			faults = append(faults, err.Error())
			continue
		}
		detail := reply.String()
		if len(server.Members) > 1 {
			detail += " from " + reply.From
		}
		left := v.limit(reply, server.Name)
		if reply.Challenge() {
			return Answer{Challenge: true, Forwarded: reply}
		}
		if len(left) > 0 {
			detail += "; not passed on: " + strings.Join(left, ", ")
		}
		v.Facts.Forwarded = &facts.Forwarded{Server: server.Name, Answer: "reject", Detail: detail,
			Micros: time.Since(begun).Microseconds()}
		if reply.Accepted() {
			v.Facts.Forwarded.Answer, v.Facts.Forwarded.Reply = "accept", v.named(reply)
		}
		answer := v.Leave()
		answer.Forwarded = reply
		return answer
	}
	v.Facts.Forwarded = &facts.Forwarded{Server: strings.Join(names, ", "), Detail: strings.Join(faults, "; "),
		Micros: time.Since(begun).Microseconds()}
	if a.EAP != nil {
		return v.leaveEAP(a.EAP.Message)
	}
	return v.Leave()
}

// limit takes out of an answer what the server may not grant, lays the pass over it, and returns the names of what was
// taken out. Only an Access-Accept grants anything; the others carry what the protocol needs.
func (v *Visit) limit(reply *upstream.Answer, server string) (left []string) {
	grants := v.snapshot.Plan.GrantsOf(server)
	if grants == nil {
		grants = &decide.Grants{}
	}
	kept := reply.Attributes[:0]
	for _, a := range reply.Attributes {
		parts := v.snapshot.Plan.Dictionary.Describe(a.Type, a.Value)
		allowed := len(parts) > 0 || a.Transport()
		for _, part := range parts {
			if reply.Accepted() {
				allowed = allowed && (a.Transport() || grants.Allows(part.Name))
			} else {
				allowed = allowed && (a.Transport() || decide.Protocol(part.Name))
			}
		}
		if !allowed {
			for _, part := range parts {
				left = append(left, part.Name)
			}
			continue
		}
		kept = append(kept, a)
	}
	reply.Attributes = kept
	if rules := &grants.Answer; !rules.Empty() && !reply.Challenge() {
		reply.Attributes = nil
		for _, a := range kept {
			for _, value := range rules.Apply(a.Type, a.Value) {
				reply.Attributes = append(reply.Attributes, upstream.Attribute{Type: a.Type, Value: value})
			}
		}
		if reply.Accepted() {
			for _, a := range rules.Added {
				reply.Attributes = append(reply.Attributes, upstream.Attribute{Type: a.Type, Value: a.Value})
			}
		}
	}
	if reply.Accepted() {
		for _, over := range grants.Over {
			reply.Attributes = slices.DeleteFunc(reply.Attributes, func(a upstream.Attribute) bool {
				return a.Type == over.Type && a.Type != dict.VendorSpecific
			})
		}
		for _, over := range grants.Over {
			reply.Attributes = append(reply.Attributes, upstream.Attribute{Type: over.Type, Value: over.Value})
		}
	}
	return left
}

// named writes the attributes of an answer as facts.
func (v *Visit) named(reply *upstream.Answer) (out []facts.Attribute) {
	for _, a := range reply.Attributes {
		if a.Transport() {
			continue
		}
		for _, part := range v.snapshot.Plan.Dictionary.Describe(a.Type, a.Value) {
			if len(out) < maxForwarded {
				out = append(out, facts.Attribute{Name: part.Name, Value: part.Value})
			}
		}
	}
	return out
}

// maxForwarded bounds the attributes that are recorded of the answer of a remote server.
const maxForwarded = 64

// forwards begins a visit with EAP whose lane forwards, nil if it does not.
func (g *Gate) forwards(a *Access) *Visit {
	if !a.Snapshot.Plan.Forwards {
		return nil
	}
	v, _ := g.Arrive(a.Snapshot, a.Facts, a.Begun)
	if v.before.Lane == nil || len(v.before.Lane.Forward) == 0 {
		return nil
	}
	return v
}
