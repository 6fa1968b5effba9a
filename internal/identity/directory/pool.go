package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// conn is one connection, with the server it goes to and when it was used last.
type conn struct {
	*ldap.Conn
	server string
	used   time.Time
}

// pool keeps idle connections and bounds how many there are.
type pool struct {
	mu     sync.Mutex
	idle   []*conn
	slots  chan struct{}
	closed bool
}

func (p *pool) init() { p.slots = make(chan struct{}, poolSize) }

// take waits for a slot and returns an idle connection, or nil if a new one has to be made.
func (p *pool) take(ctx context.Context) (*conn, error) {
	select {
	case p.slots <- struct{}{}:
	case <-ctx.Done():
		return nil, fmt.Errorf("all %d connections were busy for the whole time limit", poolSize)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.idle) > 0 {
		c := p.idle[len(p.idle)-1]
		p.idle = p.idle[:len(p.idle)-1]
		if time.Since(c.used) < maxIdle && !c.IsClosing() {
			return c, nil
		}
		c.Close()
	}
	return nil, nil
}

// give returns a connection for further use.
func (p *pool) give(c *conn) {
	p.mu.Lock()
	c.used = time.Now()
	if p.closed {
		c.Close()
	} else {
		p.idle = append(p.idle, c)
	}
	p.mu.Unlock()
	<-p.slots
}

// safely does something with a connection. If that ends in a panic the connection is dropped, so that its place is not
// lost.
func (p *pool) safely(c *conn, do func(*ldap.Conn) error) error {
	ended := false
	defer func() {
		if !ended {
			p.drop(c)
		}
	}()
	err := do(c.Conn)
	ended = true
	return err
}

// done returns a connection, unless our service account was refused on it.
func (p *pool) done(c *conn, err error) {
	var f *Failure
	if errors.As(err, &f) && f.Bind {
		p.drop(c)
		return
	}
	p.give(c)
}

// purge drops the idle connections to a server.
func (p *pool) purge(server string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.idle = slices.DeleteFunc(p.idle, func(c *conn) bool {
		if c.server == server {
			c.Close()
		}
		return c.server == server
	})
}

// drop gives the slot back without the connection.
func (p *pool) drop(c *conn) {
	if c != nil {
		c.Close()
	}
	<-p.slots
}

func (p *pool) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = true
	for _, c := range p.idle {
		c.Close()
	}
	p.idle = nil
}
