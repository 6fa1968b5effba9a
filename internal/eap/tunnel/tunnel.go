// Package tunnel drives crypto/tls without a connection: octets in, octets out. EAP carries TLS records in its own
// packets, one exchange at a time, and most conversations that begin are never finished; so nothing here may wait. The
// handshake runs as a coroutine that is resumed when octets arrive, and is ended by Close; after the handshake there
// is no coroutine at all.
package tunnel

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"iter"
	"net"
	"os"
	"reflect"
	"time"

	"tollgate.example/key/internal/wire/eap"
)

// Tunnel is one end of a TLS connection. It is used by one goroutine at a time.
type Tunnel struct {
	conn    *tls.Conn
	pipe    pipe
	next    func() (struct{}, bool)
	stop    func()
	failure error
	done    bool
	// withoutEMS asks for the path of Export that needs the master secret.
	withoutEMS bool
	master     masterSecret
}

// Server makes the server's end. The configuration belongs to this tunnel alone from now on. withoutEMS allows keys
// for peers that lack the extended master secret.
func Server(config *tls.Config, withoutEMS bool) *Tunnel {
	return start(config, withoutEMS, tls.Server)
}

// Client makes the client's end.
func Client(config *tls.Config, withoutEMS bool) *Tunnel {
	return start(config, withoutEMS, tls.Client)
}

func start(config *tls.Config, withoutEMS bool, end func(net.Conn, *tls.Config) *tls.Conn) *Tunnel {
	t := &Tunnel{withoutEMS: withoutEMS}
	switch {
	case !withoutEMS:
	case config.KeyLogWriter == nil:
		config.KeyLogWriter = &t.master
	default:
		config.KeyLogWriter = io.MultiWriter(config.KeyLogWriter, &t.master)
	}
	t.conn = end(&t.pipe, config)
	t.next, t.stop = iter.Pull(func(yield func(struct{}) bool) {
		t.pipe.wait = func() bool { return yield(struct{}{}) }
		t.failure = t.conn.Handshake()
		t.pipe.wait = nil
		t.done = true
	})
	return t
}

// Handshake feeds received octets to the handshake and returns what is to be sent, an alert too if it fails. done
// reports that it is complete.
func (t *Tunnel) Handshake(in []byte) (out []byte, done bool, err error) {
	t.pipe.in.Write(in)
	if !t.done {
		t.next()
	}
	return t.pipe.take(), t.done && t.failure == nil, t.failure
}

// Read decrypts received octets. Nothing comes out for an incomplete record.
func (t *Tunnel) Read(in []byte) ([]byte, error) {
	t.pipe.in.Write(in)
	var out []byte
	buf := make([]byte, 4096)
	for {
		n, err := t.conn.Read(buf)
		out = append(out, buf[:n]...)
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			return out, nil
		case err != nil:
			return out, err
		case len(out) > eap.MaxMessage:
			return out, eap.ErrTooLong
		}
	}
}

// Write encrypts octets. What TLS itself wanted to say meanwhile goes before them.
func (t *Tunnel) Write(plain []byte) ([]byte, error) {
	if _, err := t.conn.Write(plain); err != nil {
		return nil, err
	}
	return t.pipe.take(), nil
}

// State is what was negotiated.
func (t *Tunnel) State() tls.ConnectionState { return t.conn.ConnectionState() }

// Close ends a handshake under way. It is needed for each tunnel that is given up.
func (t *Tunnel) Close() { t.stop() }

// ErrNoExtendedMasterSecret is returned by Export if the peer negotiated TLS 1.2 or less without the extended master
// secret (RFC 7627), whose keys somebody in the middle can make two tunnels share.
var ErrNoExtendedMasterSecret = errors.New("the peer does not support the extended master secret")

// Export derives key material: the exporter of RFC 8446 section 7.5, or of RFC 5705 for TLS up to 1.2. context is nil
// for none. crypto/tls refuses peers that lack the extended master secret; where they are allowed, the material is
// derived here from the master secret.
func (t *Tunnel) Export(label string, context []byte, n int) ([]byte, error) {
	state := t.conn.ConnectionState()
	out, err := state.ExportKeyingMaterial(label, context, n)
	if err == nil {
		return out, nil
	}
	if state.Version >= tls.VersionTLS13 {
		return nil, err
	}
	if !t.withoutEMS {
		return nil, ErrNoExtendedMasterSecret
	}
	return t.fromMaster(label, n)
}

// fromMaster derives key material as the exporter of RFC 5705 does, without context.
func (t *Tunnel) fromMaster(label string, n int) ([]byte, error) {
	secret, client, server := t.master.secret, t.master.client, t.pipe.serverRandom()
	if len(secret) == 0 || len(server) != 32 {
		return nil, errors.New("the master secret of the tunnel is not known")
	}
	state := t.conn.ConnectionState()
	return prf(state.Version, state.CipherSuite, secret, label, append(append([]byte(nil), client...), server...), n),
		nil
}

// prf is the PRF of TLS 1.2 (RFC 5246 section 5), or of TLS 1.0 and 1.1 (RFC 2246 section 5).
func prf(version, suite uint16, secret []byte, label string, seed []byte, n int) []byte {
	if version >= tls.VersionTLS12 {
		return eap.PHash(suiteHash(suite), secret, label, seed, n)
	}
	half := (len(secret) + 1) / 2
	out := eap.PHash(md5.New, secret[:half], label, seed, n)
	for i, b := range eap.PHash(sha1.New, secret[len(secret)-half:], label, seed, n) {
		out[i] ^= b
	}
	return out
}

func suiteHash(suite uint16) func() hash.Hash {
	switch suite {
	case tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384,
		tls.TLS_RSA_WITH_AES_256_GCM_SHA384, tls.TLS_AES_256_GCM_SHA384:
		return sha512.New384
	}
	return sha256.New
}

// Hash is the hash of the negotiated cipher suite.
func (t *Tunnel) Hash() func() hash.Hash { return suiteHash(t.conn.ConnectionState().CipherSuite) }

// TEAPPRF is the pseudo-random function for the keys of TEAP: of the suite's hash under TLS 1.2 (RFC 7170 section 5.2),
// the exporter with the secret and seed as context under TLS 1.3 (RFC 9427 section 2.2).
func (t *Tunnel) TEAPPRF() eap.PRF {
	return func(secret []byte, label string, seed []byte, n int) ([]byte, error) {
		if t.State().Version >= tls.VersionTLS13 {
			return t.Export("EXPORTER: "+label, append(append([]byte(nil), secret...), seed...), n)
		}
		return eap.PHash(t.Hash(), secret, label, seed, n), nil
	}
}

// Alert returns the number of the alert that the peer sent (RFC 8446 section 6), if that is what the error is.
func Alert(err error) (byte, bool) {
	var op *net.OpError
	if !errors.As(err, &op) || op.Op != "remote error" {
		return 0, false
	}
	if v := reflect.ValueOf(op.Err); v.Kind() == reflect.Uint8 { // the type in crypto/tls is not exported
		return byte(v.Uint()), true
	}
	return 0, false
}

// masterSecret picks the master secret out of the key log, which crypto/tls writes for TLS up to 1.2 as
// CLIENT_RANDOM, the client's random and the secret. It stays in memory with the tunnel.
type masterSecret struct{ client, secret []byte }

func (m *masterSecret) Write(line []byte) (int, error) {
	if fields := bytes.Fields(line); len(fields) == 3 && string(fields[0]) == "CLIENT_RANDOM" {
		m.client, _ = hex.DecodeString(string(fields[1]))
		m.secret, _ = hex.DecodeString(string(fields[2]))
	}
	return len(line), nil
}

// pipe stands where crypto/tls expects a connection.
type pipe struct {
	in, out bytes.Buffer
	// wait suspends the handshake until octets arrive; false means that the tunnel is closed. nil after the handshake.
	wait  func() bool
	hello []byte // the beginning of what was sent first and received first
	back  []byte
}

func (p *pipe) Read(b []byte) (int, error) {
	for p.in.Len() == 0 {
		if p.wait == nil {
			return 0, os.ErrDeadlineExceeded // temporary: crypto/tls tries again with the next Read
		}
		if !p.wait() {
			return 0, io.ErrUnexpectedEOF
		}
	}
	n, err := p.in.Read(b)
	p.back = keep(p.back, b[:n])
	return n, err
}

func (p *pipe) Write(b []byte) (int, error) {
	p.hello = keep(p.hello, b)
	return p.out.Write(b)
}

// helloSize is enough of a flight to see the random of a hello message.
const helloSize = 48

func keep(have, more []byte) []byte {
	if len(have) < helloSize {
		have = append(have, more[:min(len(more), helloSize-len(have))]...)
	}
	return have
}

// serverRandom finds the random of the ServerHello, which is the first message that the server sends.
func (p *pipe) serverRandom() []byte {
	for _, flight := range [][]byte{p.hello, p.back} {
		// record header 5, handshake header 4, version 2, random 32
		if len(flight) >= 43 && flight[0] == 22 && flight[5] == 2 {
			return flight[11:43]
		}
	}
	return nil
}

func (p *pipe) take() []byte {
	if p.out.Len() == 0 {
		return nil
	}
	out := bytes.Clone(p.out.Bytes())
	p.out.Reset()
	return out
}

func (p *pipe) Close() error                     { return nil }
func (p *pipe) LocalAddr() net.Addr              { return nowhere{} }
func (p *pipe) RemoteAddr() net.Addr             { return nowhere{} }
func (p *pipe) SetDeadline(time.Time) error      { return nil }
func (p *pipe) SetReadDeadline(time.Time) error  { return nil }
func (p *pipe) SetWriteDeadline(time.Time) error { return nil }

type nowhere struct{}

func (nowhere) Network() string { return "eap" }
func (nowhere) String() string  { return "eap" }
