package onward

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"
)

const (
	// enterprise is the number under which the names of our values stand in structured data: that for examples (RFC
	// 5612), since we have none.
	enterprise = "tollgate@32473"
	// maxDatagram bounds a message over UDP (RFC 5426 section 3.2), maxMessage one over TCP and TLS.
	maxDatagram = 2048
	maxMessage  = 8192
	maxValue    = 400

	severityWarning = 4
	severityNotice  = 6

	syslogDial = 5 * time.Second
	syslogSend = 10 * time.Second
)

// syslog sends events to a receiver of RFC 5424: over UDP one a datagram (RFC 5426), over TCP (RFC 6587 section 3.4.1)
// and TLS (RFC 5425) with their length in front.
type syslog struct {
	network, address string
	tls              *tls.Config
	facility         int
	host             string
	conn             net.Conn
	buf              []byte
}

func newSyslog(network, address string, cfg *tls.Config, facility int) *syslog {
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	return &syslog{network: network, address: address, tls: cfg, facility: facility, host: name(host, 255)}
}

// name keeps printable ASCII, as the fields of the header have it.
func name(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return '-'
		}
		return r
	}, text)
	return text[:min(len(text), most)]
}

func (s *syslog) send(ctx context.Context, list []event) error {
	if err := s.connect(ctx); err != nil {
		return err
	}
	s.conn.SetWriteDeadline(time.Now().Add(syslogSend))
	stop := context.AfterFunc(ctx, func() { s.conn.SetWriteDeadline(time.Now()) })
	defer stop()
	if s.network == "udp" {
		for i := range list {
			s.buf = s.message(s.buf[:0], &list[i], maxDatagram)
			if _, err := s.conn.Write(s.buf); err != nil {
				return s.broken(err)
			}
		}
		return nil
	}
	s.buf = s.buf[:0]
	var one []byte
	for i := range list {
		one = s.message(one[:0], &list[i], maxMessage)
		s.buf = append(strconv.AppendInt(s.buf, int64(len(one)), 10), ' ')
		s.buf = append(s.buf, one...)
	}
	if _, err := s.conn.Write(s.buf); err != nil {
		return s.broken(err)
	}
	return nil
}

// alive notices a connection that the receiver ended: it never says anything else.
func (s *syslog) alive() error {
	if s.conn == nil || s.network == "udp" {
		return nil
	}
	var one [1]byte
	s.conn.SetReadDeadline(time.Now().Add(time.Millisecond))
	if _, err := s.conn.Read(one[:]); err != nil {
		if timeout, ok := err.(net.Error); ok && timeout.Timeout() {
			return nil
		}
		return s.broken(err)
	}
	return nil
}

func (s *syslog) certain() bool { return s.network == "udp" }

func (s *syslog) connect(ctx context.Context) (err error) {
	if s.conn != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, syslogDial)
	defer cancel()
	dialer := &net.Dialer{KeepAlive: 15 * time.Second}
	if s.tls != nil {
		s.conn, err = (&tls.Dialer{NetDialer: dialer, Config: s.tls}).DialContext(ctx, "tcp", s.address)
	} else {
		s.conn, err = dialer.DialContext(ctx, s.network, s.address)
	}
	if err != nil {
		s.conn = nil
		return fmt.Errorf("connecting to %s: %w", s.address, err)
	}
	return nil
}

func (s *syslog) broken(err error) error {
	s.close()
	return fmt.Errorf("sending to %s: %w", s.address, err)
}

func (s *syslog) close() {
	if s.conn != nil {
		s.conn.Close()
		s.conn = nil
	}
}

// message writes an event as RFC 5424 section 6 has it. Values are cut, and what does not fit is left out.
func (s *syslog) message(to []byte, e *event, most int) []byte {
	severity := severityNotice
	if e.warning {
		severity = severityWarning
	}
	to = append(to, '<')
	to = strconv.AppendInt(to, int64(s.facility*8+severity), 10)
	to = append(to, ">1 "...)
	to = e.at.UTC().AppendFormat(to, "2006-01-02T15:04:05.000000Z07:00")
	to = append(append(to, ' '), s.host...)
	to = append(to, " tollgated "...)
	to = strconv.AppendInt(to, int64(os.Getpid()), 10)
	to = append(append(to, ' '), e.kind...)
	to = append(append(to, " ["...), enterprise...)
	to = param(to, "id", e.id.String())
	for _, f := range e.fields {
		if len(to)+len(f.name)+2*min(len(f.value), maxValue)+4 > most-len("] ") {
			break
		}
		to = param(to, f.name, f.value)
	}
	to = append(to, "] "...)
	text := clean(e.text)
	if room := most - len(to); len(text) > room {
		text = strings.ToValidUTF8(text[:max(0, room)], "")
	}
	return append(to, text...)
}

// param writes one parameter of structured data (RFC 5424 section 6.3.3).
func param(to []byte, name, value string) []byte {
	to = append(append(append(to, ' '), name...), `="`...)
	if value = clean(value); len(value) > maxValue {
		value = strings.ToValidUTF8(value[:maxValue], "")
	}
	for i := range len(value) {
		if c := value[i]; c == '"' || c == '\\' || c == ']' {
			to = append(to, '\\')
		}
		to = append(to, value[i])
	}
	return append(to, '"')
}

// clean keeps what others sent from being taken for another message.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "?"))
}
