package domain

import (
	"context"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/wire/netlogon"
)

// member of a domain whose controllers are at the hosts, all on one port.
func member(port int, timeout time.Duration, hosts ...string) *Member {
	m := New(Account{"LANTERN", "TOLLGATE1", func() []string { return []string{"machine-password"} }}, hosts, timeout,
		&net.Dialer{})
	m.mapper = port
	return m
}

// controller answers whatever comes as it is told.
func controller(t *testing.T, serve func(net.Conn)) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(c)
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

func check(m *Member) error {
	_, _, err := m.Check(context.Background(), "", "s.lodge", false, [8]byte{}, [24]byte{})
	return err
}

func TestASilentControllerDoesNotHoldAnybodyUp(t *testing.T) {
	port := controller(t, func(c net.Conn) { io.Copy(io.Discard, c) })
	m := member(port, 200*time.Millisecond, "127.0.0.1")
	defer m.Close()
	begun := time.Now()
	var all sync.WaitGroup
	for range 8 { // more than there are connections
		all.Go(func() {
			if err := check(m); err == nil {
				t.Error("a silent controller said something")
			}
		})
	}
	all.Wait()
	if took := time.Since(begun); took > 3*time.Second {
		t.Errorf("eight of them took %v", took)
	}
}

func TestNonsenseIsAnError(t *testing.T) {
	for name, serve := range map[string]func(net.Conn){
		"an end": func(net.Conn) {},
		"another service": func(c net.Conn) {
			io.WriteString(c, "220 mail.lanternferries.example ESMTP ready and waiting")
		},
		"lengths":        func(c net.Conn) { c.Write([]byte{5, 0, 12, 3, 16, 0, 0, 0, 0xff, 0xff, 0, 0, 1, 0, 0, 0}) },
		"a short answer": func(c net.Conn) { c.Write([]byte{5, 0, 12, 3, 16, 0, 0, 0, 16, 0, 0, 0, 1, 0, 0, 0}) },
		"a refusal": func(c net.Conn) {
			c.Write(append([]byte{5, 0, 13, 3, 16, 0, 0, 0, 26, 0, 0, 0, 1, 0, 0, 0}, make([]byte, 10)...))
		},
	} {
		m := member(controller(t, serve), time.Second, "127.0.0.1")
		if err := check(m); err == nil || !strings.Contains(err.Error(), "127.0.0.1") {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := m.Test(context.Background()); err == nil {
			t.Errorf("%s: the test passes", name)
		}
		m.Close()
	}
}

func TestNobodyListens(t *testing.T) {
	m := member(1, time.Second, "127.0.0.1", "127.0.0.2")
	if err := check(m); err == nil { // nobody listens on port 1
		t.Error("nobody answered, and it is no error")
	}
	m.Close()
	if err := check(m); err == nil {
		t.Error("a closed member checks")
	}
}

func TestOurOwnFaultIsToldFromTheirs(t *testing.T) {
	if !refusesUs(netlogon.StatusNoTrust) || refusesUs(io.EOF) || refusesUs(nil) {
		t.Error("a refused machine account is taken for a controller that is away")
	}
}

// A controller that accepts and says nothing costs its share of the time once; then the others are asked first.
func TestASilentControllerIsPassedOver(t *testing.T) {
	port := controller(t, func(c net.Conn) { io.Copy(io.Discard, c) })
	m := member(port, 900*time.Millisecond, "127.0.0.1", "127.0.0.2") // nobody listens on the second
	defer m.Close()
	check(m)
	if !m.health.Down("127.0.0.1") || !m.health.Down("127.0.0.2") {
		t.Error("a silent controller is not passed over")
	}
}
