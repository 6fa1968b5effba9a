package domain

import (
	"context"
	"fmt"
	"time"

	"tollgate.example/key/internal/wire/netlogon"
)

// SetPassword gives our machine account another password, over a secure channel of its own, which is the current one
// afterwards. The caller keeps both passwords before: it may not be known whether a change that failed took place.
func (m *Member) SetPassword(ctx context.Context, password string) error {
	ctx, cancel := context.WithTimeout(ctx, m.timeout)
	defer cancel()
	select {
	case m.agreeing <- struct{}{}:
		defer func() { <-m.agreeing }()
	case <-ctx.Done():
		return ctx.Err()
	}
	channel, err := m.establish(ctx)
	if err != nil {
		return err
	}
	m.mu.Lock()
	m.channel = channel
	m.mu.Unlock()
	c, err := m.connect(ctx, channel.address, netlogon.Netlogon, channel)
	if err != nil {
		return err
	}
	defer c.Close()
	now := uint32(time.Now().Unix())
	stub, err := channel.secret.PasswordSet(channel.host, password, channel.client, now)
	if err != nil {
		return err
	}
	if stub, err = c.call(ctx, netlogon.OpPasswordSet, stub); err == nil {
		err = channel.secret.PasswordSetReply(stub, channel.client, now)
	}
	if err != nil {
		return fmt.Errorf("setting the password of %s on %s: %w", m.account.Computer, channel.host, err)
	}
	return nil
}
