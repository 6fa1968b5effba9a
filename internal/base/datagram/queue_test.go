package datagram

import (
	"errors"
	"net"
	"net/netip"
	"os"
	"testing"
	"time"
)

// What one other end can make us hold is bounded in number and in size, and waiting for more of it ends.
func TestAQueueIsBounded(t *testing.T) {
	var sent []string
	q := NewQueue(&net.UDPAddr{}, netip.MustParseAddrPort("192.0.2.7:2083"), func(b []byte) {
		sent = append(sent,
			string(b))
	})
	q.Put(make([]byte, MaxSize+1))
	for i := range 2 * queueSize {
		q.Put([]byte{byte(i)})
	}
	buf := make([]byte, MaxSize)
	for i := range queueSize {
		n, from, err := q.ReadFrom(buf)
		if err != nil || n != 1 || buf[0] != byte(i) || from.String() != "192.0.2.7:2083" {
			t.Fatalf("%d: %d octets, %v from %v, %v", i, n, buf[0], from, err)
		}
	}
	q.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
	if _, _, err := q.ReadFrom(buf); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("an empty queue gives %v at the deadline", err)
	}
	q.SetReadDeadline(time.Time{})
	q.Put([]byte("again"))
	if n, _, err := q.ReadFrom(buf); err != nil || string(buf[:n]) != "again" {
		t.Errorf("after the deadline: %q, %v", buf[:n], err)
	}
	time.AfterFunc(20*time.Millisecond, func() { q.Close() })
	if _, _, err := q.ReadFrom(buf); !errors.Is(err, net.ErrClosed) {
		t.Errorf("a closed queue gives %v", err)
	}
	q.Put([]byte("late"))
	if _, _, err := q.ReadFrom(buf); !errors.Is(err, net.ErrClosed) {
		t.Errorf("after the end something is read: %v", err)
	}
	if q.WriteTo([]byte("out"), nil); len(sent) != 1 || sent[0] != "out" {
		t.Errorf("sent is %v", sent)
	}
}
