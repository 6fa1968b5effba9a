package app

import (
	"io"
	"net"
	"testing"
	"time"
)

// pretended gives connections over loopback the addresses of a test.
type pretended struct {
	net.Listener
	from []string
}

func (p *pretended) Accept() (net.Conn, error) {
	conn, err := p.Listener.Accept()
	if err != nil {
		return nil, err
	}
	from := p.from[0]
	p.from = p.from[1:]
	return &elsewhere{conn, from}, nil
}

type elsewhere struct {
	net.Conn
	from string
}

func (e *elsewhere) RemoteAddr() net.Addr {
	a, _ := net.ResolveTCPAddr("tcp", e.from)
	return a
}

// One source takes a bounded number of connections to the console; others get in meanwhile, and a place that is left is
// free.
func TestOneSourceLeavesTheConsoleToOthers(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var from []string
	for range maxWebOfOne + 1 {
		from = append(from, "[2001:db8::5]:40000")
	}
	from = append(from, "[2001:db8:0:1::5]:40000", "[2001:db8::6]:40000")
	c := limited(&pretended{l, from})
	defer c.Close()
	accepted := make(chan net.Conn)
	go func() {
		for range maxWebOfOne + 2 {
			conn, err := c.Accept()
			if err != nil {
				return
			}
			accepted <- conn
		}
	}()
	dial := func() net.Conn {
		t.Helper()
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		return conn
	}
	var first net.Conn
	for i := range maxWebOfOne {
		dial()
		conn := <-accepted
		if i == 0 {
			first = conn
		}
		defer conn.Close()
	}
	over := dial()
	over.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := over.Read(make([]byte, 1)); err != io.EOF {
		t.Errorf("one connection too many of a source: %v", err)
	}
	dial()
	defer (<-accepted).Close() // of another network
	first.Close()
	first.Close() // leaves one place
	dial()
	defer (<-accepted).Close() // of the same network as the first
	if c.open != maxWebOfOne+1 {
		t.Errorf("%d connections are counted", c.open)
	}
}
