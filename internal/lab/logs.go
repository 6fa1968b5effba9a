package lab

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"strconv"
	"sync"
	"time"
)

// Logs is a receiver of syslog over TCP (RFC 6587) for the demo: it writes each message as a line of a file.
type Logs struct {
	net.Listener
	mu  sync.Mutex
	out *os.File
}

// ServeLogs receives on an address until it is closed.
func ServeLogs(address, path string) (*Logs, error) {
	out, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		out.Close()
		return nil, fmt.Errorf("the stand-in receiver of syslog: %w", err)
	}
	s := &Logs{Listener: l, out: out}
	go func() {
		for {
			conn, err := s.Accept()
			if err != nil {
				return
			}
			go s.take(conn)
		}
	}()
	return s, nil
}

// Close ends it.
func (s *Logs) Close() {
	s.Listener.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.out.Close()
}

// maxLog bounds a message.
const maxLog = 64 << 10

func (s *Logs) take(conn net.Conn) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	for {
		conn.SetReadDeadline(time.Now().Add(time.Hour))
		size, err := in.ReadString(' ')
		if err != nil {
			return
		}
		n, err := strconv.Atoi(size[:len(size)-1])
		if err != nil || n < 1 || n > maxLog {
			return
		}
		text := make([]byte, n)
		for at := 0; at < n; {
			m, err := in.Read(text[at:])
			if err != nil {
				return
			}
			at += m
		}
		s.mu.Lock()
		_, err = s.out.Write(append(text, '\n'))
		s.mu.Unlock()
		if err != nil {
			return
		}
	}
}
