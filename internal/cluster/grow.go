package cluster

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// place is that of the key of the authority of the nodes.
var place = config.Place{Purpose: "nodes", Object: "authority"}

// Invite makes an invitation for a node of that name, or for a witness and nobody else; the first one makes this node
// one of several.
func (c *Cluster) Invite(ctx context.Context, name string, witness bool, by string) (*Invitation, error) {
	if err := checkName(name); err != nil {
		return nil, err
	}
	c.changing.Lock()
	defer c.changing.Unlock()
	if c.running() == nil {
		if err := c.grow(ctx, by); err != nil {
			return nil, err
		}
	}
	r := c.running()
	if witness && r.outside != nil {
		return nil, ErrNoWitness
	}
	i := &Invitation{Name: name, Node: r.self.Name, Address: r.self.Address, Secret: make([]byte, 32),
		Until: time.Now().Add(inviteTime).Unix()}
	rand.Read(i.Secret)
	ca, err := parseCertificate(r.identity.CA)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(ca.Raw)
	i.Authority = sum[:]
	hash := sha256.Sum256(i.Secret)
	err = c.o.Store.AddInvitation(ctx, store.Invitation{Hash: hash[:], Name: name, Witness: witness,
		Until: i.Until * 1000, MadeBy: by}, time.Now().UnixMilli())
	if errors.Is(err, store.ErrTaken) {
		return nil, fmt.Errorf("%w: a node is called %q already", err, name)
	}
	return i, err
}

// grow makes this node, which was alone, the first of several.
func (c *Cluster) grow(ctx context.Context, by string) error {
	c.mu.Lock()
	stopped := c.stopped
	c.mu.Unlock()
	if stopped {
		return errors.New("the service is about to end")
	}
	host, address, err := c.addresses()
	if err != nil {
		return err
	}
	name := hostName()
	ca, caKey, err := newAuthority()
	if err != nil {
		return err
	}
	csr, key, err := request(name)
	if err != nil {
		return err
	}
	certificate, err := issue(ca, caKey, csr, name, host)
	if err != nil {
		return err
	}
	id := &identity{ca, certificate, key}
	own, err := parseCertificate(certificate)
	if err != nil {
		return err
	}
	token := c.token()
	setting := &members{Token: token, Outside: c.o.Outside}
	if c.o.Outside == nil {
		if setting.URL, err = engineURL(address); err != nil {
			return err
		}
		setting.Name = memberName(c.o.Number)
		setting.Members = setting.Name + "=" + setting.URL
	}
	if err := errors.Join(os.RemoveAll(filepath.Join(c.o.Dir, "engine")), id.save(c.o.Dir),
		setting.save(c.o.Dir)); err != nil {
		return err
	}
	self := store.Node{
		Number:      c.o.Number,
		Name:        name,
		Address:     address,
		Engine:      setting.URL,
		Member:      setting.Name,
		Fingerprint: fingerprint(own),
		Version:     c.o.Version,
		JoinedAt:    time.Now().UnixMilli(),
		JoinedBy:    by,
	}
	if err := c.o.Store.FirstNode(ctx, self, string(ca), string(c.o.Box.Seal(place, string(caKey)))); err != nil {
		return fmt.Errorf("storing this node as the first: %w", err)
	}
	if err := c.run(ctx, self, token, false, func(r *running) error {
		began, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		if err := r.log.Begin(began, 0, nil); err != nil {
			return fmt.Errorf("beginning the log of the nodes: %w: %s", err, r.where())
		}
		return c.o.Store.SetSharedState(ctx, store.SharedState{Epoch: token, Node: self.Number})
	}); err != nil {
		return err
	}
	// an engine whose directory is lost must not begin anew as if it were the first
	setting.Join = true
	if err := setting.save(c.o.Dir); err != nil || c.o.Shared == nil {
		return err
	}
	return c.o.Shared(ctx, self.Number)
}

func (c *Cluster) token() string {
	data := make([]byte, 9)
	rand.Read(data)
	return short(data)
}

// memberName is the name of the engine of a node.
func memberName(number int) string { return "node-" + strconv.Itoa(number) }

// addresses are the host and the address at which other nodes reach this one.
func (c *Cluster) addresses() (host, address string, err error) { return reachable(c.o.Address) }

func reachable(address string) (host, full string, err error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", "", fmt.Errorf("the address for other nodes is %q: give -node-address HOST:PORT", address)
	}
	if ip := net.ParseIP(host); host == "" || ip != nil && ip.IsUnspecified() {
		if host, err = ownAddress(); err != nil {
			return "", "", err
		}
	}
	if port == "0" {
		if port, err = freePort(host); err != nil {
			return "", "", err
		}
	}
	return host, net.JoinHostPort(host, port), nil
}

// freePort finds a port that is free, below those that systems give to outgoing connections: one of these could take it
// before it is used.
func freePort(host string) (port string, err error) {
	for range 100 {
		var l net.Listener
		port = strconv.Itoa(20_000 + mathrand.N(12_000))
		if l, err = net.Listen("tcp", net.JoinHostPort(host, port)); err == nil {
			return port, l.Close()
		}
	}
	return "", fmt.Errorf("no port is free: %w", err)
}

// ownAddress is the first address of this machine that others may reach.
func ownAddress() (string, error) {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return "", err
	}
	for _, a := range list {
		if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() {
			return n.IP.String(), nil
		}
	}
	return "", errors.New("this machine has no address that other nodes could reach: give -node-address HOST:PORT")
}
