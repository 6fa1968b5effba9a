package gate

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/remote"
	"tollgate.example/key/internal/seal"
	"tollgate.example/key/internal/wire/radius"
)

// prepareRemotes opens the remote servers of the configuration.
func (s *Snapshot) prepareRemotes(box *seal.Box) error {
	s.remotes = map[string]*remote.Server{}
	for i := range s.Plan.Config.Remotes {
		r := &s.Plan.Config.Remotes[i]
		secret, err := box.Open(r.SecretPlace(), r.Secret)
		if err != nil {
			return fmt.Errorf("the secret of remote server %s: %w", r.Name, err)
		}
		server, err := remote.New(r.Name, r.Address, secret, time.Duration(r.TimeoutMillis)*time.Millisecond, r.Tries, r.Unsigned)
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
	servers := make([]*remote.Server, 0, len(names))
	for _, name := range names {
		servers = append(servers, v.snapshot.remotes[strings.ToLower(name)])
	}
	slices.SortStableFunc(servers, func(a, b *remote.Server) int {
		return map[bool]int{true: 1}[a.Silent(begun)] - map[bool]int{true: 1}[b.Silent(begun)]
	})
	var faults []string
	for _, server := range servers {
		reply, err := server.Forward(ctx, p, key)
		if err != nil {
			faults = append(faults, err.Error())
			continue
		}
		if reply.Code == radius.AccessChallenge {
			return Answer{Challenge: true, Forwarded: reply}
		}
		v.Facts.Forwarded = &facts.Forwarded{Server: server.Name, Answer: "reject", Detail: said(reply), Micros: time.Since(begun).Microseconds()}
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

// named writes the attributes of an answer as facts.
func (v *Visit) named(reply *remote.Answer) []facts.Attribute {
	var f facts.Facts
	for _, a := range reply.Attributes {
		if a.Type != radius.EAPMessage && a.Type != radius.State {
			addAttribute(&f, v.snapshot.Plan.Book, a.Type, a.Value)
		}
	}
	return f.Attributes
}

// said is what an answer says in words.
func said(reply *remote.Answer) string {
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
