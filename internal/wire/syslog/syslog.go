// Package syslog reads messages of syslog as they come: of the form of RFC 5424, and of the older one that RFC 3164
// describes; and takes streams apart into messages (RFC 6587).
package syslog

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// MaxSize is how long a message may be; what is longer is cut off.
const MaxSize = 8 << 10

// Message is one message.
type Message struct {
	// Priority is facility and severity (RFC 5424 section 6.2.1), -1 if it says none.
	Priority int
	// At is when it was written, zero if it does not say.
	At   time.Time
	Host string
	App  string
	Text string
}

// Parse reads a message. Whatever it is, it has a text. now fills in the year that the older form leaves out.
func Parse(b []byte, now time.Time) Message {
	if len(b) > MaxSize {
		b = b[:MaxSize]
	}
	rest := strings.TrimRight(strings.ToValidUTF8(string(b), "?"), "\r\n\x00")
	m := Message{Priority: -1}
	if pri, after, ok := priority(rest); ok {
		m.Priority, rest = pri, after
	}
	if after, ok := strings.CutPrefix(rest, "1 "); ok && m.Priority >= 0 && m.modern(after) {
		return m
	}
	m.old(rest, now)
	return m
}

// priority reads what stands in angle brackets.
func priority(text string) (n int, rest string, ok bool) {
	inner, ok := strings.CutPrefix(text, "<")
	if !ok {
		return 0, text, false
	}
	digits, rest, ok := strings.Cut(inner, ">")
	n, err := strconv.Atoi(digits)
	if !ok || err != nil || n < 0 || n > 191 || len(digits) > 3 {
		return 0, text, false
	}
	return n, rest, true
}

// modern reads what follows the version in RFC 5424.
func (m *Message) modern(text string) bool {
	parts := strings.SplitN(text, " ", 6)
	if len(parts) < 6 {
		return false
	}
	if parts[0] != "-" {
		at, err := time.Parse(time.RFC3339Nano, parts[0])
		if err != nil {
			return false
		}
		m.At = at
	}
	rest, ok := skipData(parts[5])
	if !ok {
		return false
	}
	m.Host, m.App = dash(parts[1]), dash(parts[2])
	m.Text = strings.TrimPrefix(strings.TrimPrefix(rest, " "), "\ufeff")
	return true
}

func dash(text string) string {
	if text == "-" {
		return ""
	}
	return text
}

// skipData skips structured data (RFC 5424 section 6.3).
func skipData(text string) (rest string, ok bool) {
	if after, ok := strings.CutPrefix(text, "-"); ok {
		return after, true
	}
	for strings.HasPrefix(text, "[") {
		quoted, end := false, -1
		for i := 1; i < len(text) && end < 0; i++ {
			switch {
			case text[i] == '\\' && quoted:
				i++
			case text[i] == '"':
				quoted = !quoted
			case text[i] == ']' && !quoted:
				end = i
			}
		}
		if end < 0 {
			return "", false
		}
		text, ok = text[end+1:], true
	}
	return text, ok
}

// old reads the form of RFC 3164 section 4.1, or whatever it is.
func (m *Message) old(text string, now time.Time) {
	if len(text) > 16 {
		if at, err := time.ParseInLocation(time.Stamp, text[:15], now.Location()); err == nil && text[15] == ' ' {
			at = at.AddDate(now.Year(), 0, 0)
			if at.After(now.AddDate(0, 0, 2)) { // of last year
				at = at.AddDate(-1, 0, 0)
			}
			m.At, text = at, text[16:]
			if host, rest, ok := strings.Cut(text, " "); ok && !strings.HasSuffix(host, ":") {
				m.Host, text = host, rest
			}
		}
	}
	if app, rest, ok := strings.Cut(text, ": "); ok && app != "" && !strings.ContainsAny(app, " \t") {
		name, _, _ := strings.Cut(app, "[")
		m.App, text = name, rest
	}
	m.Text = text
}

// ErrFrame is returned for a stream that is not syslog.
var ErrFrame = errors.New("the stream is not syslog: a message begins neither with its length nor with a priority")

// Reader takes a stream apart.
type Reader struct{ r *bufio.Reader }

// NewReader reads messages from a stream.
func NewReader(r io.Reader) *Reader { return &Reader{bufio.NewReaderSize(r, MaxSize+16)} }

// Next returns the next message as it came. Both ways of RFC 6587 section 3.4 are read: with the length before each
// message, and with each on a line.
func (r *Reader) Next() ([]byte, error) {
	for {
		first, err := r.r.ReadByte()
		switch {
		case err != nil:
			return nil, err
		case first == '\n' || first == '\r' || first == 0:
			continue
		case first >= '1' && first <= '9':
			return r.counted(int(first - '0'))
		}
		if err := r.r.UnreadByte(); err != nil {
			return nil, err
		}
		return r.line()
	}
}

func (r *Reader) counted(n int) ([]byte, error) {
	for {
		c, err := r.r.ReadByte()
		if err != nil {
			return nil, err
		}
		if c == ' ' {
			break
		}
		if c < '0' || c > '9' {
			return nil, ErrFrame
		}
		if n = n*10 + int(c-'0'); n > MaxSize {
			return nil, fmt.Errorf("a message of %d octets or more is longer than %d", n, MaxSize)
		}
	}
	out := make([]byte, n)
	_, err := io.ReadFull(r.r, out)
	return out, err
}

// line reads up to the end of a line; of a long one the rest is dropped.
func (r *Reader) line() ([]byte, error) {
	line, err := r.r.ReadSlice('\n')
	out := append([]byte(nil), line[:min(len(line), MaxSize)]...)
	for errors.Is(err, bufio.ErrBufferFull) {
		_, err = r.r.ReadSlice('\n')
	}
	if len(out) > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return out, err
}
