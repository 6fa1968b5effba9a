// Package transcript keeps conversations of real peers with the service, so that tests replay them without a network. A
// transcript is text: a line for each packet or piece of a stream, > from the peer and < from the service, in
// hexadecimal; a line "connection" begins another one, and # a comment.
package transcript

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// Message is one packet, or one piece of a stream.
type Message struct {
	FromPeer bool
	Data     []byte
}

// Transcript is the conversations of one peer, a list for each connection.
type Transcript struct {
	Connections [][]Message
}

// Read reads a transcript.
func Read(path string) (*Transcript, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	t := &Transcript{}
	lines := bufio.NewScanner(strings.NewReader(string(text)))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		switch {
		case line == "" || line[0] == '#':
		case line == "connection":
			t.Connections = append(t.Connections, nil)
		case len(t.Connections) == 0 || line[0] != '>' && line[0] != '<':
			return nil, fmt.Errorf("%s, line %d: %q is no part of a transcript", path, n, line)
		default:
			data, err := hex.DecodeString(strings.TrimSpace(line[1:]))
			if err != nil {
				return nil, fmt.Errorf("%s, line %d: %w", path, n, err)
			}
			last := len(t.Connections) - 1
			t.Connections[last] = append(t.Connections[last], Message{line[0] == '>', data})
		}
	}
	return t, lines.Err()
}

// Recorder stands between peers and a service, and keeps what they say.
type Recorder struct {
	// Address is where peers reach the service.
	Address string
	note    string
	close   func() error

	mu   sync.Mutex
	made Transcript
}

// add keeps a message of a connection, by its number.
func (r *Recorder) add(connection int, fromPeer bool, data []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for len(r.made.Connections) <= connection {
		r.made.Connections = append(r.made.Connections, nil)
	}
	r.made.Connections[connection] = append(r.made.Connections[connection],
		Message{fromPeer, append([]byte(nil), data...)})
}

// UDP records datagrams to a service; each source is a connection.
func UDP(service, note string) (*Recorder, error) {
	front, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r := &Recorder{Address: front.LocalAddr().String(), note: note, close: front.Close}
	go func() {
		type way struct {
			conn   net.Conn
			number int
		}
		ways := map[string]way{}
		buf := make([]byte, 4096)
		for {
			n, from, err := front.ReadFrom(buf)
			if err != nil {
				return
			}
			w, known := ways[from.String()]
			if !known {
				conn, err := net.Dial("udp", service)
				if err != nil {
					return
				}
				w = way{conn, len(ways)}
				ways[from.String()] = w
				go r.replies(w.number, conn, front, from)
			}
			r.add(w.number, true, buf[:n])
			w.conn.Write(buf[:n])
		}
	}()
	return r, nil
}

func (r *Recorder) replies(number int, conn net.Conn, front net.PacketConn, to net.Addr) {
	buf := make([]byte, 4096)
	for {
		n, err := conn.Read(buf)
		if err != nil {
			return
		}
		r.add(number, false, buf[:n])
		front.WriteTo(buf[:n], to)
	}
}

// TCP records the streams of connections to a service.
func TCP(service, note string) (*Recorder, error) {
	front, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r := &Recorder{Address: front.Addr().String(), note: note, close: front.Close}
	go func() {
		for number := 0; ; number++ {
			peer, err := front.Accept()
			if err != nil {
				return
			}
			conn, err := net.Dial("tcp", service)
			if err != nil {
				peer.Close()
				continue
			}
			go r.copy(number, true, peer, conn)
			go r.copy(number, false, conn, peer)
		}
	}()
	return r, nil
}

func (r *Recorder) copy(number int, fromPeer bool, from, to net.Conn) {
	defer to.Close()
	buf := make([]byte, 65536)
	for {
		n, err := from.Read(buf)
		if n > 0 {
			r.add(number, fromPeer, buf[:n])
			to.Write(buf[:n])
		}
		if err != nil {
			return
		}
	}
}

// Write ends the recording and writes it.
func (r *Recorder) Write(path string) error {
	r.close()
	r.mu.Lock()
	defer r.mu.Unlock()
	var b strings.Builder
	for line := range strings.Lines(r.note) {
		b.WriteString("# " + strings.TrimSpace(line) + "\n")
	}
	for _, connection := range r.made.Connections {
		b.WriteString("connection\n")
		for _, m := range connection {
			fmt.Fprintf(&b, "%s %x\n", map[bool]string{true: ">", false: "<"}[m.FromPeer], m.Data)
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, []byte(b.String()), 0o644)
}
