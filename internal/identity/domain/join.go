package domain

import (
	"context"
	"fmt"
	"net"
	"slices"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/directory"
)

// ForDirectory makes our membership of the domain of a directory, whose servers are its domain controllers.
func ForDirectory(d *config.Directory, passwords func() []string, dialer Dialer) *Member {
	var hosts []string
	for _, server := range d.Servers {
		if host, _, err := net.SplitHostPort(server); err == nil && !slices.Contains(hosts, host) {
			hosts = append(hosts, host)
		}
	}
	account := Account{Domain: d.Domain, Computer: d.Computer, Passwords: passwords}
	return New(account, hosts, d.Timeout(), dialer)
}

// Joined is a domain that was joined, and the controller that confirmed it.
type Joined struct {
	Domain, Computer, DN, Controller string
}

// ChannelError tells that a machine account was made, and that its secure channel does not come up.
type ChannelError struct {
	DN  string
	Err error
}

func (e *ChannelError) Error() string {
	return fmt.Sprintf("the machine account %s was created, but its secure channel fails: %v", e.DN, e.Err)
}

func (e *ChannelError) Unwrap() error { return e.Err }

// Join creates our machine account in the domain of a directory, confirms it by a secure channel, and keeps its
// password. The configuration is left to the caller.
func (m *MachineAccounts) Join(ctx context.Context, d config.Directory, in directory.JoinInput) (*Joined, error) {
	account, err := directory.Join(ctx, d, in)
	if err != nil {
		return nil, fmt.Errorf("the domain was not joined: %w", err)
	}
	d.Domain, d.Computer = account.Domain, account.Computer
	opened, err := directory.Open(d, "")
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	member := ForDirectory(&d, func() []string { return []string{account.Password} }, opened.Dialer())
	defer member.Close()
	controller, err := member.Test(ctx)
	if err != nil {
		return nil, &ChannelError{DN: account.DN, Err: err}
	}
	if err := m.Set(ctx, account.Domain, account.Computer, account.Password, ""); err != nil {
		return nil, err
	}
	return &Joined{Domain: account.Domain, Computer: account.Computer, DN: account.DN, Controller: controller}, nil
}
