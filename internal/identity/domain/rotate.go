package domain

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/wire/netlogon"
)

// Due reports whether the machine account in the domain of a directory has had its password for long enough. One that
// was changed in the future was changed while the clock was ahead.
func (m *MachineAccounts) Due(d *config.Directory, now time.Time) bool {
	changed := m.Changed(d.Domain, m.Name(d.Domain, d.Computer))
	return d.Member() && !changed.IsZero() && (now.Sub(changed) > passwordLife || changed.Sub(now) > passwordLife)
}

// Rotate gives our machine account in the domain of a directory a new password. Whatever happens meanwhile, the one
// that counts is among those kept: the new one is kept before the domain learns of it, beside the one that the domain
// takes now, which after a change of unknown outcome need not be the newest.
func (m *MachineAccounts) Rotate(ctx context.Context, member *Member, d *config.Directory) error {
	m.rotating.Lock() // over the network: two at once would each take the other's password for the one before
	defer m.rotating.Unlock()
	next, present := directory.MachinePassword(), ""
	err := member.SetPassword(ctx, next, func(taken string) error {
		present = taken
		return m.Set(ctx, d.Domain, m.Name(d.Domain, d.Computer), next, taken)
	})
	var refused netlogon.Status
	if present != "" && errors.As(err, &refused) { // the domain said no: the one before is still the one
		return errors.Join(err, m.Set(ctx, d.Domain, m.Name(d.Domain, d.Computer), present, ""))
	}
	return err
}

// renew agrees on a channel anew, which is the current one afterwards, and opens a connection of it.
func (m *Member) renew(ctx context.Context) (*conn, error) {
	select {
	case m.agreeing <- struct{}{}:
		defer func() { <-m.agreeing }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	channel, err := m.establish(ctx)
	if err != nil {
		return nil, err
	}
	m.mu.Lock()
	m.channel = channel
	m.mu.Unlock()
	return m.connect(ctx, channel.address, netlogon.Netlogon, channel)
}

// Test agrees on the secure channel anew, and tells with which controller.
func (m *Member) Test(ctx context.Context) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, m.timeout)
	defer cancel()
	c, err := m.renew(ctx)
	if err != nil {
		return "", err
	}
	m.give(c)
	return c.channel.host, nil
}

// SetPassword gives our machine account another password, over a secure channel of its own. keep is called with the
// password that the domain takes now, before the change is sent: both have to be kept, since it may not be known
// whether a change that failed took place.
func (m *Member) SetPassword(ctx context.Context, password string, keep func(present string) error) error {
	ctx, cancel := context.WithTimeout(ctx, m.timeout)
	defer cancel()
	c, err := m.renew(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := keep(c.channel.password); err != nil {
		return err
	}
	now := uint32(time.Now().Unix())
	stub, err := c.channel.secret.PasswordSet(c.channel.host, password, c.channel.client, now)
	if err != nil {
		return err
	}
	if stub, err = c.call(ctx, netlogon.OpPasswordSet, stub); err == nil {
		err = c.channel.secret.PasswordSetReply(stub, c.channel.client, now)
	}
	if err != nil {
		return fmt.Errorf("setting the password of %s on %s: %w", m.account.Computer, c.channel.host, err)
	}
	return nil
}
