// Package domain is our membership of a domain: the machine account, and its secure channel to the domain controllers
// (MS-NRPC), through which challenges of MS-CHAP are checked. The controllers hold the hashes and never hand them out.
package domain

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/identity/failover"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/netlogon"
)

const (
	// connections to one controller; more give nothing, since a controller works on one call of each at a time.
	connections = 3
	maxIdle     = 2 * time.Minute
	mapperPort  = 135
)

// Account is our machine account.
type Account struct {
	// Domain is the short name of the domain, Computer that of the account without the dollar sign.
	Domain, Computer string
	// Passwords returns those to try, the present one first: a controller may not have heard of the newest yet.
	Passwords func() []string
}

// Dialer connects; net.Dialer does.
type Dialer interface {
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Member checks logons with the controllers of a domain. It is safe for concurrent use.
type Member struct {
	account Account
	hosts   []string
	timeout time.Duration
	dialer  Dialer
	waiting atomic.Int64
	health  *failover.Keeper
	mapper  int // port of the endpoint mapper
	slots   chan struct{}
	// agreeing is held by the one who agrees on a channel.
	agreeing chan struct{}

	mu      sync.Mutex
	channel *established
	idle    []*conn
	closed  bool
}

// established is a secure channel that a controller has agreed to. Every connection of it uses the same secret;
// agreeing anew makes those of before useless.
type established struct {
	host    string
	address string
	secret  *netlogon.Secret
	client  [8]byte // our challenge, which the credential of a password change goes on from
	// password is the one of our machine account that the controller took.
	password string
}

// maxWaiting bounds how many attempts wait for the domain at once.
const maxWaiting = 256

// New makes a member; hosts are the domain controllers in the order to ask them.
func New(account Account, hosts []string, timeout time.Duration, dialer Dialer) *Member {
	m := &Member{account: account, hosts: hosts, timeout: timeout, dialer: dialer, mapper: mapperPort,
		slots: make(chan struct{}, connections), agreeing: make(chan struct{}, 1)}
	m.health = failover.New(timeout, m.probe, m.back)
	return m
}

// Close drops all connections.
func (m *Member) Close() {
	m.health.Close()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.closed = true
	for _, c := range m.idle {
		c.Close()
	}
	m.idle = nil
}

// Check has the domain check a response of MS-CHAP. domain is the short name of that of the person, "" for our own,
// whose controllers ask those of others. Machine tells that the name is that of a computer. An error means that no
// controller could say; a status that one did.
func (m *Member) Check(ctx context.Context, domain, name string, machine bool, challenge [8]byte,
	response [24]byte) (mschap.Hash, netlogon.Status, error) {
	if m.waiting.Add(1) > maxWaiting {
		m.waiting.Add(-1)
		return mschap.Hash{}, 0, fmt.Errorf("%d attempts wait for the domain already", maxWaiting)
	}
	defer m.waiting.Add(-1)
	ctx, cancel := context.WithTimeout(ctx, m.timeout)
	defer cancel()
	select {
	case m.slots <- struct{}{}:
		defer func() { <-m.slots }()
	case <-ctx.Done():
		return mschap.Hash{}, 0, fmt.Errorf("all %d connections to the domain were busy for the whole time limit",
			connections)
	}
	if domain == "" {
		domain = m.account.Domain
	}
	logon := netlogon.Logon{Domain: domain, User: name, Workstation: m.account.Computer, Machine: machine,
		Challenge: challenge, Response: response}
	var last error
	for range len(m.hosts) + 2 { // each controller, and again after a channel that was replaced
		c, err := m.take(ctx)
		if err != nil {
			last = err
			if ctx.Err() != nil || refusesUs(err) {
				break
			}
			continue
		}
		limited, cancel := context.WithTimeout(ctx, m.share())
		stub, err := c.call(limited, netlogon.OpSamLogonEx, logon.SamLogonEx(c.channel.host, m.account.Computer))
		cancel()
		if err == nil {
			key, status, err := netlogon.LogonReply(stub)
			m.give(c)
			return key, status, err
		}
		last = fmt.Errorf("asking %s: %w", c.channel.host, err)
		m.failed(c, err)
		if ctx.Err() != nil {
			break
		}
	}
	return mschap.Hash{}, 0, last
}

// refusesUs reports whether the controller answered, but does not take our machine account; another would say the same.
func refusesUs(err error) bool {
	var status netlogon.Status
	return errors.As(err, &status)
}

// take returns an idle connection of the channel, or makes one. No lock is held while a controller is asked.
func (m *Member) take(ctx context.Context) (*conn, error) {
	c, channel, err := m.kept()
	if c != nil || err != nil {
		return c, err
	}
	if channel == nil {
		if channel, err = m.agreed(ctx); err != nil {
			return nil, err
		}
	}
	limited, cancel := context.WithTimeout(ctx, m.share())
	defer cancel()
	c, err = m.connect(limited, channel.address, netlogon.Netlogon, channel)
	if err != nil {
		m.health.Failed(channel.host, err.Error())
		m.drop(channel)
	}
	return c, err
}

// kept returns an idle connection, or else the channel to make one of; both may be nil.
func (m *Member) kept() (*conn, *established, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.closed {
		return nil, nil, net.ErrClosed
	}
	for len(m.idle) > 0 {
		c := m.idle[len(m.idle)-1]
		m.idle = m.idle[:len(m.idle)-1]
		if c.channel == m.channel && time.Since(c.used) < maxIdle {
			return c, nil, nil
		}
		c.Close()
	}
	return nil, m.channel, nil
}

// agreed returns the channel; one caller agrees on it while the others wait, since two of one account would undo each
// other.
func (m *Member) agreed(ctx context.Context) (*established, error) {
	select {
	case m.agreeing <- struct{}{}:
		defer func() { <-m.agreeing }()
	case <-ctx.Done():
		return nil, errors.New("no domain controller agreed on a secure channel within the time limit")
	}
	m.mu.Lock()
	channel := m.channel
	m.mu.Unlock()
	if channel != nil { // somebody else did it meanwhile
		return channel, nil
	}
	channel, err := m.establish(ctx)
	if err != nil {
		return nil, err
	}
	m.mu.Lock()
	m.channel = channel
	m.mu.Unlock()
	return channel, nil
}

// drop forgets a channel if it is still the current one.
func (m *Member) drop(channel *established) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.channel == channel {
		m.channel = nil
	}
}

func (m *Member) give(c *conn) {
	m.mu.Lock()
	defer m.mu.Unlock()
	c.used = time.Now()
	if m.closed || c.channel != m.channel {
		c.Close()
		return
	}
	m.idle = append(m.idle, c)
}

// failed drops a connection, and its channel with it if that is still the current one: the controller has restarted or
// is away, or somebody else uses our account.
func (m *Member) failed(c *conn, err error) {
	c.Close()
	m.drop(c.channel)
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		m.health.Failed(c.channel.host, err.Error())
	}
}

// establish agrees on a secure channel with the first controller that answers and takes our account.
func (m *Member) establish(ctx context.Context) (*established, error) {
	if why := m.health.AllDown(m.hosts); why != "" { // nobody waits for them; they are probed in the background
		return nil, errors.New(why)
	}
	var last error
	for _, host := range m.health.Order(m.hosts) {
		limited, cancel := context.WithTimeout(ctx, m.share())
		channel, err := m.agree(limited, host)
		cancel()
		if err == nil {
			m.health.Answers(host)
			return channel, nil
		}
		last = fmt.Errorf("the secure channel to %s: %w", host, err)
		if ctx.Err() != nil {
			break
		}
		if !refusesUs(err) {
			m.health.Failed(host, last.Error())
		}
	}
	return nil, last
}

// share is how long one controller may take.
func (m *Member) share() time.Duration { return failover.Share(m.timeout, len(m.hosts)) }

// back lets go of the channel if it is with a controller that comes after one that answers again.
func (m *Member) back(host string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.channel != nil && slices.Index(m.hosts, host) < slices.Index(m.hosts, m.channel.host) {
		m.channel = nil
	}
}

// probe tells whether a controller that failed answers again.
func (m *Member) probe(ctx context.Context, host string) error {
	_, err := m.locate(ctx, host, netlogon.Netlogon)
	return err
}

// agree finds the Netlogon port of a controller, and proves the password of the machine account both ways.
func (m *Member) agree(ctx context.Context, host string) (*established, error) {
	address, err := m.locate(ctx, host, netlogon.Netlogon)
	if err != nil {
		return nil, err
	}
	err = netlogon.StatusNoTrust
	for _, password := range m.account.Passwords() {
		var channel *established
		if channel, err = m.authenticate(ctx, host, address, password); err == nil {
			return channel, nil
		}
		if !errors.Is(err, netlogon.StatusAccessDenied) {
			break
		}
	}
	return nil, err
}

// locate asks the endpoint mapper of a controller for the port of an interface.
func (m *Member) locate(ctx context.Context, host string, i netlogon.Interface) (string, error) {
	mapper, err := m.connect(ctx, net.JoinHostPort(host, strconv.Itoa(m.mapper)), netlogon.Mapper, nil)
	if err != nil {
		return "", err
	}
	defer mapper.Close()
	stub, err := mapper.call(ctx, netlogon.OpMap, netlogon.MapRequest(i))
	if err != nil {
		return "", err
	}
	port, err := netlogon.MapReply(stub)
	return net.JoinHostPort(host, strconv.Itoa(port)), err
}

func (m *Member) authenticate(ctx context.Context, host, address, password string) (*established, error) {
	c, err := m.connect(ctx, address, netlogon.Netlogon, nil)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	channel := &established{host: host, address: address, password: password}
	rand.Read(channel.client[:])
	stub, err := c.call(ctx, netlogon.OpReqChallenge, netlogon.Challenge(host, m.account.Computer, channel.client))
	if err != nil {
		return nil, err
	}
	server, err := netlogon.ChallengeReply(stub)
	if err != nil {
		return nil, err
	}
	channel.secret = netlogon.NewSecret(m.account.Domain, m.account.Computer, password, channel.client, server)
	if stub, err = c.call(ctx, netlogon.OpAuthenticate, channel.secret.Authenticate(host, channel.client)); err != nil {
		return nil, err
	}
	if err := channel.secret.Authenticated(stub, server); err != nil {
		return nil, err
	}
	return channel, nil
}
