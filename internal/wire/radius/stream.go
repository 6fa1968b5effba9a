package radius

import (
	"encoding/binary"
	"fmt"
	"io"
)

// Length is that of a packet on a stream, whose first four octets are given (RFC 6613 section 2.6.4). After an error
// nobody knows where the next packet begins, so the connection has to end.
func Length(start []byte) (int, error) {
	n := int(binary.BigEndian.Uint16(start[2:]))
	if n < HeaderSize || n > MaxSize {
		return 0, fmt.Errorf("a packet of %d octets on a connection", n)
	}
	return n, nil
}

// ReadPacket reads one packet from a stream into buf, which has MaxSize octets, and returns its part of it.
func ReadPacket(r io.Reader, buf []byte) ([]byte, error) {
	if _, err := io.ReadFull(r, buf[:4]); err != nil {
		return nil, err
	}
	n, err := Length(buf)
	if err != nil {
		return nil, err
	}
	_, err = io.ReadFull(r, buf[4:n])
	return buf[:n], err
}
