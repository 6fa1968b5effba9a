package outlet

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"sync"
	"testing"
	"time"
)

// pair is a connection over loopback with small buffers, so that a reader who rests is noticed.
func pair(t *testing.T) (near, far net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	accepted := make(chan net.Conn, 1)
	go func() {
		c, _ := l.Accept()
		accepted <- c
	}()
	if near, err = net.Dial("tcp", l.Addr().String()); err != nil {
		t.Fatal(err)
	}
	far = <-accepted
	near.(*net.TCPConn).SetWriteBuffer(4096)
	far.(*net.TCPConn).SetReadBuffer(4096)
	t.Cleanup(func() { near.Close(); far.Close() })
	return near, far
}

// What many send at the same time arrives whole, each piece in one.
func TestManySend(t *testing.T) {
	near, far := pair(t)
	o := New(near, 1<<20, 5*time.Second)
	const senders, each = 20, 200
	var all sync.WaitGroup
	for i := range senders {
		all.Go(func() {
			for n := range each {
				piece := bytes.Repeat([]byte{byte(i)}, 2+n%50)
				o.Send(append(binary.BigEndian.AppendUint16(nil, uint16(len(piece))), piece...))
			}
		})
	}
	counts := map[byte]int{}
	for range senders * each {
		var size [2]byte
		far.SetReadDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.ReadFull(far, size[:]); err != nil {
			t.Fatal(err)
		}
		piece := make([]byte, binary.BigEndian.Uint16(size[:]))
		if _, err := io.ReadFull(far, piece); err != nil {
			t.Fatal(err)
		}
		if bytes.Count(piece, piece[:1]) != len(piece) {
			t.Fatal("pieces are mixed up")
		}
		counts[piece[0]]++
	}
	all.Wait()
	for i := range senders {
		if counts[byte(i)] != each {
			t.Errorf("%d of sender %d arrived", counts[byte(i)], i)
		}
	}
	for !o.Idle() {
		time.Sleep(time.Millisecond)
	}
}

// A peer that does not read holds nobody up: the connection is given up for the octets that wait, or the time.
func TestAPeerThatDoesNotRead(t *testing.T) {
	for _, c := range []struct {
		most  int
		limit time.Duration
	}{{64 << 10, time.Minute}, {64 << 20, 200 * time.Millisecond}} {
		near, _ := pair(t)
		o := New(near, c.most, c.limit)
		begun, data := time.Now(), make([]byte, 8192)
		for o.Send(data) {
			if time.Since(begun) > 10*time.Second {
				t.Fatalf("it is still waited for: %+v", c)
			}
			time.Sleep(100 * time.Microsecond)
		}
		if o.Send(data) {
			t.Error("it takes more after its end")
		}
	}
}
