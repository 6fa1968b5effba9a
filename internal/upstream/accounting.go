package upstream

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

// ours reports whether a Proxy-State is one that this process added.
func ours(value []byte) bool { return bytes.HasPrefix(value, instance[:]) }

// Circles reports whether a request has been here before, or has come through too many servers.
func Circles(p *radius.Packet) bool {
	hops := 0
	for t, value := range p.Attributes() {
		if t == radius.ProxyState {
			if hops++; ours(value) || hops >= maxHops {
				return true
			}
		}
	}
	return false
}

// Account forwards accounting: attributes as their client sent them, with how long ago that was. It returns when the
// server has acknowledged them.
func (s *Server) Account(ctx context.Context, attributes []byte, ago time.Duration) error {
	if len(attributes) == 0 || len(attributes) > radius.MaxSize-radius.HeaderSize {
		return fmt.Errorf("%w: a record without attributes", errRequest)
	}
	raw := make([]byte, radius.HeaderSize, radius.HeaderSize+len(attributes))
	raw[0] = byte(radius.AccountingRequest)
	raw = append(raw, attributes...)
	binary.BigEndian.PutUint16(raw[2:], uint16(len(raw)))
	p, err := radius.Decode(raw)
	if err != nil {
		return fmt.Errorf("%w: %w", errRequest, err)
	}
	return s.each(ctx, nil, func(m *member) error {
		return s.ask(ctx, m, m.Accounting, func(identifier byte, authenticator [16]byte, key *radius.Key) ([]byte,
			[16]byte,
			error) {
			return s.report(&p, identifier, authenticator, key, ago)
		}, func(data []byte, proof [16]byte, key *radius.Key) error {
			answer, err := radius.Decode(data)
			switch {
			case err != nil:
				return err
			case answer.Code != radius.AccountingResponse:
				return fmt.Errorf("the answer is a %s", answer.Code)
			}
			if err := key.VerifyReply(&answer, proof); err != nil && !errors.Is(err, radius.ErrNoMessageAuth) {
				return err
			}
			return nil
		})
	})
}

// report writes an Accounting-Request anew.
func (s *Server) report(p *radius.Packet, identifier byte, authenticator [16]byte, key *radius.Key, ago time.Duration) (
	[]byte, [16]byte, error) {
	b := radius.NewRequest(radius.AccountingRequest, identifier, authenticator, false)
	for t, value := range p.Attributes() {
		if t != radius.MessageAuthenticator && t != radius.AcctDelayTime {
			s.rules.pass(b, t, value)
		}
	}
	s.rules.add(b)
	b.AddInteger(radius.AcctDelayTime, uint32(max(0, ago/time.Second)))
	b.Add(radius.ProxyState, instance[:])
	data, err := b.SignFixed(key)
	if err != nil {
		return nil, authenticator, err
	}
	return data, [16]byte(data[4:20]), nil
}
