package eap

import (
	"encoding/binary"
	"errors"

	"tollgate.example/key/internal/wire/mschap"
)

// Opcode of EAP-MSCHAPv2, after the type octet.
type Opcode byte

const (
	OpChallenge Opcode = 1
	OpResponse  Opcode = 2
	OpSuccess   Opcode = 3
	OpFailure   Opcode = 4
	OpChange    Opcode = 7
)

// Exchange is one packet of EAP-MSCHAPv2: opcode, identifier, and the value and name or the message.
type Exchange struct {
	Opcode     Opcode
	Identifier byte
	// Challenge is the server's challenge of a challenge packet.
	Challenge [16]byte
	// Response is the answer of a response packet.
	Response mschap.Response
	// Change is the new password of a change packet.
	Change mschap.Change
	// Text is the name in challenges and responses, the message in success and failure packets.
	Text string
}

var errExchange = errors.New("an EAP-MSCHAPv2 packet is cut short or lies about its length")

// ParseExchange reads the data of a packet after the type octet. A peer's acknowledgement of success or failure is its
// opcode alone.
func ParseExchange(b []byte) (Exchange, error) {
	var x Exchange
	if len(b) < 1 {
		return x, errExchange
	}
	x.Opcode = Opcode(b[0])
	if len(b) == 1 && (x.Opcode == OpSuccess || x.Opcode == OpFailure) {
		return x, nil
	}
	if len(b) < 4 || int(binary.BigEndian.Uint16(b[2:])) != len(b) {
		return x, errExchange
	}
	x.Identifier = b[1]
	b = b[4:]
	switch x.Opcode {
	case OpChallenge:
		if len(b) < 17 || b[0] != 16 {
			return x, errExchange
		}
		copy(x.Challenge[:], b[1:])
		x.Text = string(b[17:])
	case OpResponse:
		if len(b) < 1+mschap.ValueSize || b[0] != mschap.ValueSize {
			return x, errExchange
		}
		response, err := mschap.ParseValueV2(b[1 : 1+mschap.ValueSize])
		if err != nil {
			return x, err
		}
		x.Response.Peer, x.Response.NT, x.Response.Flags = response.Peer, response.NT, response.Flags
		x.Text = string(b[1+mschap.ValueSize:])
	case OpSuccess, OpFailure:
		x.Text = string(b)
	case OpChange:
		change, err := mschap.ParseChange(b)
		x.Change = change
		return x, err
	}
	return x, nil
}

// Append writes the packet.
func (x Exchange) Append(b []byte) []byte {
	start := len(b)
	b = append(b, byte(x.Opcode), x.Identifier, 0, 0)
	switch x.Opcode {
	case OpChallenge:
		b = append(append(b, 16), x.Challenge[:]...)
	case OpResponse:
		b = x.Response.AppendValueV2(append(b, mschap.ValueSize))
	case OpChange:
		b = x.Change.Append(b)
	}
	b = append(b, x.Text...)
	binary.BigEndian.PutUint16(b[start+2:], uint16(len(b)-start))
	return b
}
