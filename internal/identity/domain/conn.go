package domain

import (
	"context"
	"errors"
	"io"
	"net"
	"time"

	"tollgate.example/key/internal/wire/netlogon"
)

// conn is one connection, bound to an interface.
type conn struct {
	net.Conn
	channel *established
	seal    sealer
	calls   uint32
	used    time.Time
}

// sealer seals calls and opens replies.
type sealer interface {
	Request(call uint32, op uint16, stub []byte) []byte
	Open(r netlogon.Reply) ([]byte, error)
}

// connect opens a connection; with a channel its packets are sealed.
func (m *Member) connect(ctx context.Context, address string, i netlogon.Interface, channel *established) (*conn,
	error) {
	raw, err := m.dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	c := &conn{Conn: raw, channel: channel, calls: 1}
	domain, computer := "", ""
	if channel != nil {
		domain, computer = channel.secret.Domain, channel.secret.Computer
		c.seal = netlogon.NewChannel(channel.secret)
	}
	packet, err := c.exchange(ctx, netlogon.Bind(i, c.calls, domain, computer))
	if err == nil {
		err = netlogon.Bound(packet)
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// exchange sends a packet and reads the first of the answer.
func (c *conn) exchange(ctx context.Context, packet []byte) ([]byte, error) {
	deadline, _ := ctx.Deadline()
	c.SetDeadline(deadline)
	if _, err := c.Write(packet); err != nil {
		return nil, err
	}
	return c.packet()
}

func (c *conn) packet() ([]byte, error) {
	head := make([]byte, 16, 512)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil, err
	}
	n, err := netlogon.Size(head)
	if err != nil {
		return nil, err
	}
	packet := append(head, make([]byte, n-len(head))...)
	_, err = io.ReadFull(c, packet[16:])
	return packet, err
}

// call makes one call and returns the parameters of its reply.
func (c *conn) call(ctx context.Context, op uint16, stub []byte) ([]byte, error) {
	stop := context.AfterFunc(ctx, func() { c.SetDeadline(time.Now()) })
	defer stop()
	c.calls++
	packet := netlogon.Request(c.calls, op, stub)
	if c.seal != nil {
		packet = c.seal.Request(c.calls, op, stub)
	}
	packet, err := c.exchange(ctx, packet)
	var out []byte
	for {
		if err != nil {
			return nil, err
		}
		reply, err := netlogon.ParseReply(packet)
		if err != nil {
			return nil, err
		}
		part := reply.Stub
		if c.seal != nil {
			if part, err = c.seal.Open(reply); err != nil {
				return nil, err
			}
		}
		if out = append(out, part...); len(out) > netlogon.MaxReply {
			return nil, errors.New("the reply of the domain controller is too long")
		}
		if reply.Last {
			return out, nil
		}
		packet, err = c.packet()
		if err != nil {
			return nil, err
		}
	}
}
