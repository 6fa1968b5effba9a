package supplicant

import (
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/mschap"
)

type md5 struct{ p *Peer }

func (m *md5) respond(packet eap.Packet) ([]byte, error) {
	challenge, _, err := eap.Value(packet.Data)
	if err != nil {
		return nil, err
	}
	m.p.say("peer", "answers the challenge")
	sum := mschap.CHAP(packet.Identifier, m.p.settings.Password, challenge)
	return eap.AppendValue(nil, sum[:], m.p.settings.Identity), nil
}

type gtc struct {
	p *Peer
	// gave tells that the password was given already.
	gave bool
}

func (m *gtc) respond(packet eap.Packet) ([]byte, error) {
	m.p.say("server", "asks: %s", strings.TrimSpace(string(packet.Data)))
	if code := m.p.settings.Code; m.gave && code != nil {
		m.p.say("peer", "answers the question")
		return []byte(code(string(packet.Data))), nil
	}
	m.gave = true
	m.p.say("peer", "sends the password")
	return []byte(m.p.settings.Password), nil
}

// mschapv2 is EAP-MSCHAPv2; it checks the server's proof.
type mschapv2 struct {
	p         *Peer
	name      string
	hash      mschap.Hash
	response  mschap.Response
	challenge [16]byte
	msk       []byte
	// outside tells that no tunnel is around it, so that its key is that of the conversation.
	outside bool
}

func (m *mschapv2) respond(packet eap.Packet) ([]byte, error) {
	x, err := eap.ParseExchange(packet.Data)
	if err != nil {
		return nil, err
	}
	name := m.name
	switch x.Opcode {
	case eap.OpChallenge:
		m.p.say("server", "MS-CHAPv2 challenge")
		m.challenge, m.hash = x.Challenge, mschap.NTHash(m.p.settings.Password)
		rand.Read(m.response.Peer[:])
		m.response.NT = m.hash.V2(m.response.Peer, m.challenge, name)
		m.p.say("peer", "MS-CHAPv2 response")
		return eap.Exchange{Opcode: eap.OpResponse, Identifier: x.Identifier, Response: m.response,
			Text: name}.Append(nil), nil
	case eap.OpSuccess:
		again := m.hash.Again()
		if !strings.HasPrefix(x.Text, mschap.AuthenticatorResponse(again, m.response.NT, m.response.Peer, m.challenge,
			name)) {
			return nil, errors.New("the server does not know the password: its proof is wrong")
		}
		m.p.say("server", "MS-CHAPv2 success, with its proof")
		msk := mschap.KeysV2(again, m.response.NT).MSK()
		m.msk = msk[:32]
		if m.outside {
			m.p.Result.MSK = m.msk
		}
		return []byte{byte(eap.OpSuccess)}, nil
	case eap.OpFailure:
		m.p.say("server", "MS-CHAPv2 failure: %s", x.Text)
		next := m.p.settings.NewPassword
		if challenge, ok := mschap.FailureChallenge(x.Text); ok && next != "" &&
			mschap.ParseFailure(x.Text) == mschap.ErrorExpired {
			change := mschap.NewChange(m.p.settings.Password, next, name, challenge)
			m.challenge, m.hash, m.response = challenge, mschap.NTHash(next), mschap.Response{Peer: change.Peer,
				NT: change.NT}
			m.p.say("peer", "MS-CHAPv2 change of password")
			return eap.Exchange{Opcode: eap.OpChange, Identifier: x.Identifier + 1, Change: change}.Append(nil), nil
		}
		return []byte{byte(eap.OpFailure)}, nil
	}
	return nil, fmt.Errorf("EAP-MSCHAPv2 opcode %d is not expected", x.Opcode)
}
