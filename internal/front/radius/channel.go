package radius

import (
	"context"
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/front/secure"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/radius"
)

// channel is what a connection over TLS and an association over DTLS have in common: who is at the other end, and what
// becomes of a packet.
type channel struct {
	auth       *Server
	accounting *Accounting // may be nil
	ctx        context.Context
	transport  string // facts.OverTLS or facts.OverDTLS
	line       line   // where replies go
	peer       *secure.Peer
	from       netip.AddrPort
	addr       netip.Addr
	keys       *snapshot.ClientKeys
}

// what names the transport in messages.
func (c *channel) what() string {
	if c.transport == facts.OverDTLS {
		return "RADIUS over DTLS"
	}
	return "RADIUS over TLS"
}

func (c *channel) fault(fault sources.Fault, detail string) {
	current, id := c.auth.gate.Current(), ""
	client := current.Plan.Client(c.addr)
	if c.peer != nil {
		client = c.peer.Client(current)
	}
	if client != nil {
		id = client.ID
	}
	c.auth.sources.Discard(c.addr, id, fault, detail, time.Now())
}

// packet hands a packet on. It reports whether the connection may go on.
func (c *channel) packet(in *incoming, data []byte) bool {
	*in = incoming{line: c.line, from: c.from, keys: c.keys}
	in.Begun, in.From, in.Snapshot, in.Transport = time.Now(), c.addr, c.auth.gate.Current(), c.transport
	in.Client = c.peer.Client(in.Snapshot)
	if in.Client == nil || !in.Client.Enabled {
		c.fault(sources.Disabled, c.what())
		return false
	}
	if detail := c.peer.Refuses(c.ctx, in.Snapshot, in.Client); detail != "" {
		c.fault(sources.TLSFailed, detail)
		return false
	}
	switch code := radius.Code(data[0]); {
	case code == radius.AccountingRequest && c.accounting != nil:
		return c.accounting.decode(in, data, c.accounting.take)
	case code == radius.CoARequest || code == radius.DisconnectRequest:
		return c.decline(in, data)
	}
	return c.auth.decode(in, data, c.auth.take)
}

// decline answers a change of authorization, which a server does not take (RFC 6614 section 2.5).
func (c *channel) decline(in *incoming, data []byte) bool {
	p, err := radius.Decode(data)
	if err != nil || !c.keys.Current.VerifyFixed(&p) {
		c.fault(sources.Malformed, "a change of authorization in "+c.what())
		return false
	}
	code := radius.CoANAK
	if p.Code == radius.DisconnectRequest {
		code = radius.DisconnectNAK
	}
	b := radius.NewReply(nil, code, p.Identifier)
	b.AddInteger(radius.ErrorCause, unsupportedExtension)
	for t, value := range p.Attributes() {
		if t == radius.ProxyState {
			b.Add(t, value)
		}
	}
	reply, err := b.SignReply(c.keys.Current, p.Authenticator)
	if err == nil {
		c.line.send(reply, c.from, nil)
	}
	c.auth.sources.Discard(c.addr, in.Client.ID, sources.WrongCode, p.Code.String()+" in "+c.what(), time.Now())
	return err == nil
}

// unsupportedExtension is an Error-Cause (RFC 5176 section 3.6).
const unsupportedExtension = 406

// answered reports whether nothing that was read waits for its answer, on any connection.
func (c *channel) answered() bool {
	return c.auth.inFlight.Load() == 0 && (c.accounting == nil || c.accounting.inFlight.Load() == 0)
}
