package access

import (
	"bytes"
	"context"
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/radius"
)

// Request is one authentic Access-Request.
type Request struct {
	Packet radius.Packet
	Client *config.Client
	From   netip.Addr
	// Key is the one that the client used; Signed tells that a Message-Authenticator proved it.
	Key    *radius.Key
	Signed bool
	// Snapshot is what was in effect when the request arrived, at Begun.
	Snapshot *snapshot.Snapshot
	Begun    time.Time
	// Transport is facts.OverTLS or facts.OverDTLS; "" is UDP.
	Transport string
	// Tried is the operator who tries this out, "" for a real device.
	Tried string
	// Later takes the answer of a request that waits for somebody; without it, Answer waits.
	Later gate.Later
	// clear is space for a clear password.
	clear [radius.MaxPassword]byte
}

// Stream reports whether it came by a connection over TLS.
func (r *Request) Stream() bool { return r.Transport != "" }

// Answer takes a request along the road.
func (r *Request) Answer(ctx context.Context, g *gate.Gate) gate.Answer {
	message := EAP(&r.Packet)
	if out, ok := g.Continue(ctx, message, r.Client.Name, r.Later); ok {
		return out
	}
	a := gate.Access{Snapshot: r.Snapshot, EAP: message, Forwarder: r, Later: r.Later, Begun: r.Begun}
	f := &a.Facts
	f.At, f.Address, f.Tried, f.Transport = r.Begun, r.From, r.Tried, r.Transport
	Facts(&r.Packet, r.Client, r.Snapshot.Plan.Dictionary, f)
	if message == nil {
		a.Credential = Credential(&r.Packet, r.Key, r.Signed, f, r.clear[:])
	}
	return g.Access(ctx, &a)
}

// Accounting says where accounting that this request reports is forwarded to, by lane, with its attributes as they
// came; nil for nowhere. What has been here before goes no further.
func (r *Request) Accounting(device bool) (to func(lane string) string, raw []byte) {
	plan := r.Snapshot.Plan
	if !plan.ForwardsAccounting || upstream.Circles(&r.Packet) {
		return nil, nil
	}
	var f *facts.Facts
	if !device {
		f = &facts.Facts{At: r.Begun, Address: r.From, Transport: r.Transport}
		Facts(&r.Packet, r.Client, plan.Dictionary, f)
	}
	return func(lane string) string { return plan.AccountsTo(lane, f) },
		bytes.Clone(r.Packet.Raw()[radius.HeaderSize:])
}

// Forward implements gate.Forwarder: what was hidden for us is hidden anew for the remote server.
func (r *Request) Forward(ctx context.Context, to *upstream.Server) (*upstream.Answer, error) {
	return to.Forward(ctx, &r.Packet, r.Key)
}
