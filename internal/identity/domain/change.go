package domain

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/netlogon"
)

// ChangePassword has a controller change somebody's password, with what the peer of MS-CHAPv2 sent for that. An error
// means that no controller could say; a status that one did.
func (m *Member) ChangePassword(ctx context.Context, user string, change mschap.Change) (netlogon.Status, error) {
	ctx, cancel := context.WithTimeout(ctx, m.timeout)
	defer cancel()
	var last error = errors.New("no domain controller is configured")
	for _, host := range m.health.Order(m.hosts) {
		status, err := m.change(ctx, host, user, change)
		if err == nil {
			return status, nil
		}
		if last = fmt.Errorf("changing the password on %s: %w", host, err); ctx.Err() != nil {
			break
		}
	}
	return 0, last
}

func (m *Member) change(ctx context.Context, host, user string, change mschap.Change) (netlogon.Status, error) {
	ctx, cancel := context.WithTimeout(ctx, m.share())
	defer cancel()
	address, err := m.locate(ctx, host, netlogon.SAMR)
	if err != nil {
		return 0, err
	}
	var c *conn
	for _, password := range m.account.Passwords() {
		if c, err = m.signIn(ctx, address, password); err == nil {
			break
		}
	}
	if c == nil {
		return 0, err
	}
	defer c.Close()
	stub, err := c.call(ctx, netlogon.OpChangePassword, netlogon.ChangePassword(host, user, change))
	if err != nil {
		return 0, err
	}
	return netlogon.ChangeReply(stub)
}

// signIn opens a connection to the accounts of a controller, signed in as our machine account.
func (m *Member) signIn(ctx context.Context, address, password string) (*conn, error) {
	raw, err := m.dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	c := &conn{Conn: raw, calls: 1}
	packet, err := c.exchange(ctx, netlogon.BindNTLM(netlogon.SAMR, c.calls))
	if err != nil {
		c.Close()
		return nil, err
	}
	session, end, err := netlogon.BoundNTLM(packet, c.calls, m.account.Domain, m.account.Computer+"$", password,
		time.Now())
	if err == nil {
		_, err = c.Write(end)
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	c.seal = session
	return c, nil
}
