package gate

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/radius"
)

// prepareRemotes opens the remote servers of the configuration.
func (s *Snapshot) prepareRemotes(box *seal.Box) error {
	s.remotes = map[string]*upstream.Server{}
	for i := range s.Plan.Config.Remotes {
		r := &s.Plan.Config.Remotes[i]
		secret, err := box.Open(r.SecretPlace(), r.Secret)
		if err != nil {
			return fmt.Errorf("the secret of remote server %s: %w", r.Name, err)
		}
		server, err := upstream.New(r.Name, r.Address, secret, time.Duration(r.TimeoutMillis)*time.Millisecond, r.Tries, r.Unsigned)
		if err != nil {
			return err
		}
		s.remotes[strings.ToLower(r.Name)] = server
	}
	return nil
}

// Silent reports whether a remote server in use did not answer lately.
func (s *Snapshot) Silent(name string, now time.Time) bool {
	server := s.remotes[strings.ToLower(name)]
	return server != nil && server.Silent(now)
}

// forward has a remote server of the lane decide: the first that answers, those that were silent lately last. An
// Access-Challenge is passed on and not recorded, since it decides nothing.
func (v *Visit) forward(ctx context.Context, p *radius.Packet, key *radius.Key) Answer {
	begun := time.Now()
	names := v.before.Lane.Forward
	servers := make([]*upstream.Server, 0, len(names))
	for _, name := range names {
		servers = append(servers, v.snapshot.remotes[strings.ToLower(name)])
	}
	slices.SortStableFunc(servers, func(a, b *upstream.Server) int {
		return map[bool]int{true: 1}[a.Silent(begun)] - map[bool]int{true: 1}[b.Silent(begun)]
	})
	var faults []string
	for _, server := range servers {
		reply, err := server.Forward(ctx, p, key)
		if err != nil {
			faults = append(faults, err.Error())
			continue
		}
		detail := said(reply)
		left := v.limit(reply, server.Name)
		if reply.Code == radius.AccessChallenge {
			return Answer{Challenge: true, Forwarded: reply}
		}
		if len(left) > 0 {
			detail += "; not passed on: " + strings.Join(left, ", ")
		}
		v.Facts.Forwarded = &facts.Forwarded{Server: server.Name, Answer: "reject", Detail: detail, Micros: time.Since(begun).Microseconds()}
		if reply.Code == radius.AccessAccept {
			v.Facts.Forwarded.Answer, v.Facts.Forwarded.Reply = "accept", v.named(reply)
		}
		answer := v.Leave()
		answer.Forwarded = reply
		answer.SendKey, answer.ReceiveKey = reply.SendKey, reply.ReceiveKey
		return answer
	}
	v.Facts.Forwarded = &facts.Forwarded{Server: strings.Join(names, ", "), Detail: strings.Join(faults, "; "), Micros: time.Since(begun).Microseconds()}
	if message := p.EAP(); message != nil {
		return v.leaveEAP(message)
	}
	return v.Leave()
}

// limit takes out of an answer what the server may not grant, lays the pass over it, and returns the names of what was taken out.
// Only an Access-Accept grants anything; the others carry what the protocol needs.
func (v *Visit) limit(reply *upstream.Answer, server string) (left []string) {
	grants := v.snapshot.Plan.GrantsOf(server)
	if grants == nil {
		grants = &decide.Grants{}
	}
	kept := reply.Attributes[:0]
	for _, a := range reply.Attributes {
		var one facts.Facts
		addAttribute(&one, v.snapshot.Plan.Dictionary, a.Type, a.Value)
		allowed := len(one.Attributes) > 0 || belongs(a)
		for _, part := range one.Attributes {
			if reply.Code == radius.AccessAccept {
				allowed = allowed && (belongs(a) || grants.Allows(part.Name))
			} else {
				allowed = allowed && (belongs(a) || decide.Protocol(part.Name))
			}
		}
		if !allowed {
			for _, part := range one.Attributes {
				left = append(left, part.Name)
			}
			continue
		}
		kept = append(kept, a)
	}
	reply.Attributes = kept
	if reply.Code == radius.AccessAccept {
		for _, over := range grants.Over {
			reply.Attributes = slices.DeleteFunc(reply.Attributes, func(a upstream.Attribute) bool { return a.Type == over.Type && a.Type != radius.VendorSpecific })
		}
		for _, over := range grants.Over {
			reply.Attributes = append(reply.Attributes, upstream.Attribute{Type: over.Type, Value: over.Value})
		}
	}
	return left
}

// belongs reports whether an attribute is part of how the answer is said: EAP, State, and the proofs and errors of MS-CHAP.
func belongs(a upstream.Attribute) bool {
	switch a.Type {
	case radius.EAPMessage, radius.State:
		return true
	case radius.VendorSpecific:
		return len(a.Value) > 5 && binary.BigEndian.Uint32(a.Value) == radius.Vendor2548
	}
	return false
}

// named writes the attributes of an answer as facts.
func (v *Visit) named(reply *upstream.Answer) []facts.Attribute {
	var f facts.Facts
	for _, a := range reply.Attributes {
		if a.Type != radius.EAPMessage && a.Type != radius.State {
			addAttribute(&f, v.snapshot.Plan.Dictionary, a.Type, a.Value)
		}
	}
	return f.Attributes
}

// said is what an answer says in words.
func said(reply *upstream.Answer) string {
	text := reply.Code.String()
	for _, a := range reply.Attributes {
		if a.Type == radius.ReplyMessage {
			text += ": " + clean(a.Value)
		}
	}
	return text
}

// forwards begins a visit with EAP whose lane forwards, nil if it does not.
func (g *Gate) forwards(s *Snapshot, f *facts.Facts, begun time.Time) *Visit {
	if !s.Plan.Forwards {
		return nil
	}
	v, _ := g.Arrive(s, *f, begun)
	if v.before.Lane == nil || len(v.before.Lane.Forward) == 0 {
		return nil
	}
	return v
}
