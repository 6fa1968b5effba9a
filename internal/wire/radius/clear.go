package radius

import (
	"bytes"
	"encoding/binary"
)

// Names of the versions of RADIUS over TLS in the handshake (RFC 9765 section 3.3).
const (
	Version10 = "radius/1.0"
	Version11 = "radius/1.1"
)

// TLSSecret is the shared secret of RADIUS over TLS where the version is 1.0 (RFC 6614 section 2.3 (3)).
const TLSSecret = "radsec"

// DTLSSecret is the shared secret of RADIUS over DTLS (RFC 7360 section 2.1).
const DTLSSecret = "radius/dtls"

// NewClearKey makes the key of RADIUS/1.1 (RFC 9765), which hides and proves nothing, since TLS does: passwords and
// keys go as they are, there is no Message-Authenticator, and in place of authenticators stands a Token that a reply
// repeats. The first four octets of an authenticator are that Token.
func NewClearKey() *Key { return &Key{clear: true} }

// Clear reports whether the key is that of RADIUS/1.1.
func (k *Key) Clear() bool { return k.clear }

// seal completes a packet of RADIUS/1.1 (RFC 9765 section 4): no identifier, the Token, no Message-Authenticator.
func (b *Builder) seal(token []byte) ([]byte, error) {
	if b.mac > 0 {
		b.buf = append(b.buf[:b.mac-2], b.buf[b.mac+16:]...)
		b.mac = 0
	}
	b.buf[1] = 0
	binary.BigEndian.PutUint16(b.buf[2:], uint16(len(b.buf)))
	copy(b.buf[4:8], token[:4]) // which may stand there already
	clear(b.buf[8:HeaderSize])
	return b.buf, nil
}

// Token is that of a packet of RADIUS/1.1.
func (p *Packet) Token() uint32 { return binary.BigEndian.Uint32(p.Authenticator[:]) }

func (p *Packet) answers(token []byte) bool { return bytes.Equal(p.Authenticator[:4], token[:4]) }
