package radius

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"tollgate.example/key/internal/front/radius/access"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/radius"
)

// Trial works on one packet as if it had come from the address of a client, and returns the reply. It walks the same
// road as one from the network, is recorded as tried by somebody, and does not wait for the delay of a refusal.
func (r *Server) Trial(ctx context.Context, data []byte, from netip.Addr, by string) ([]byte, error) {
	now := time.Now()
	snapshot := r.gate.Current()
	client := snapshot.Plan.Client(from)
	if client == nil {
		return nil, errors.New("no client has the address " + from.String())
	}
	if !client.Enabled {
		return nil, errors.New("client " + client.Name + " is switched off, so its requests are discarded")
	}
	keys := &snapshot.Keys(client).RADIUS
	if keys.Current == nil {
		return nil, errors.New("client " + client.Name + " has no secret for RADIUS")
	}
	p, err := radius.Decode(data)
	if err != nil {
		return nil, err
	}
	var reply []byte
	address := netip.AddrPortFrom(from, 0)
	a := arrival{incoming: incoming{Request: access.Request{Packet: p, Client: client, From: from, Snapshot: snapshot,
		Begun: now, Tried: by}, from: address, keys: keys, id: request{address, p.Identifier}}, hand: func(b []byte) {
		reply = b
	}}
	if fault, detail := a.prove(false); fault != "" {
		sentence, _ := sources.Fault(fault).Words()
		return nil, errors.New("the request is discarded: " + sentence + " " + detail)
	}
	out := a.Answer(ctx, r.gate)
	if out.Discard {
		return nil, errors.New("the service discards the packet")
	}
	r.reply(&a, out)
	return reply, nil
}
