package netlogon

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/rc4"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/wire/mschap"
)

// NTLM (MS-NLMP), as far as a member needs it to make calls that are no part of Netlogon: version 2, with sealed
// packets.
const (
	authNTLM  = 10
	kindAuth3 = 16
	// ntlmFlags: Unicode, the target's name and description, signed and sealed with extended session security, 128
	// bits, an exchanged key.
	ntlmFlags = 0x00000001 | 0x00000004 | 0x00000010 | 0x00000020 | 0x00000200 | 0x00008000 | 0x00080000 |
		0x00800000 | 0x20000000 | 0x40000000
	macSize = 16
)

var ntlmMagic = []byte("NTLMSSP\x00")

// Session is a session of NTLM over one connection. It signs and seals like Channel.
type Session struct {
	out, in         *rc4.Cipher
	outSign, inSign [16]byte
	outSeq, inSeq   uint32
}

// BindNTLM begins a session for calls of an interface.
func BindNTLM(i Interface, call uint32) []byte {
	b := Bind(i, call, "", "")
	token := append([]byte(nil), ntlmMagic...)
	token = binary.LittleEndian.AppendUint32(token, 1)
	token = binary.LittleEndian.AppendUint32(token, ntlmFlags)
	token = append(token, make([]byte, 16)...) // neither domain nor workstation
	b = append(b, authNTLM, authPrivacy, 0, 0, 0, 0, 0, 0)
	return finish(append(b, token...), len(token))
}

// BoundNTLM reads the answer to it, and makes the session and the packet that ends the binding, to which there is no
// answer.
func BoundNTLM(packet []byte, call uint32, domain, user, password string, now time.Time) (*Session, []byte, error) {
	if err := Bound(packet); err != nil {
		return nil, nil, err
	}
	length := int(binary.LittleEndian.Uint16(packet[10:]))
	if length < 48 || length > len(packet)-headerSize {
		return nil, nil, errors.New("the domain controller sends no NTLM challenge")
	}
	challenge := packet[len(packet)-length:]
	if !bytes.HasPrefix(challenge, ntlmMagic) || binary.LittleEndian.Uint32(challenge[8:]) != 2 {
		return nil, nil, errors.New("the domain controller sends no NTLM challenge")
	}
	size, at := int(binary.LittleEndian.Uint16(challenge[40:])), int(binary.LittleEndian.Uint32(challenge[44:]))
	if at < 0 || at > len(challenge) || size > len(challenge)-at {
		return nil, nil, errShort
	}
	token, key := ntlmAnswer(challenge[24:32], challenge[at:at+size], domain, user, password, now)
	s, err := newSession(key)
	if err != nil {
		return nil, nil, err
	}
	b := append(header(kindAuth3, flagFirst|flagLast, call), 0, 0, 0, 0)
	b = append(b, authNTLM, authPrivacy, 0, 0, 0, 0, 0, 0)
	return s, finish(append(b, token...), len(token)), nil
}

// ntlmAnswer makes the answer to a challenge, and the exported session key (MS-NLMP sections 2.2.1.3 and 3.3.2).
func ntlmAnswer(challenge, target []byte, domain, user, password string, now time.Time) (token []byte, key [16]byte) {
	hash := mschap.NTHash(password)
	response := hmacMD5(hash[:], mschap.UTF16(strings.ToUpper(user)+domain))
	var client [8]byte
	rand.Read(client[:])
	rand.Read(key[:])
	temp := []byte{1, 1, 0, 0, 0, 0, 0, 0}
	temp = binary.LittleEndian.AppendUint64(temp, uint64(now.UnixNano()/100)+116444736000000000)
	temp = append(append(temp, client[:]...), 0, 0, 0, 0)
	temp = append(append(temp, target...), 0, 0, 0, 0)
	proof := hmacMD5(response, challenge, temp)
	base := hmacMD5(response, proof)
	hidden := make([]byte, 16)
	exchange, err := rc4.NewCipher(base)
	if err != nil {
		panic("netlogon: an RC4 key of the wrong length: " + err.Error())
	}
	exchange.XORKeyStream(hidden, key[:])
	const fixed = 64
	token = append(append(token, ntlmMagic...), 3, 0, 0, 0)
	var payload []byte
	field := func(octets []byte) {
		token = binary.LittleEndian.AppendUint16(token, uint16(len(octets)))
		token = binary.LittleEndian.AppendUint16(token, uint16(len(octets)))
		token = binary.LittleEndian.AppendUint32(token, uint32(fixed+len(payload)))
		payload = append(payload, octets...)
	}
	field(make([]byte, 24)) // no LM response
	field(append(proof, temp...))
	field(mschap.UTF16(domain))
	field(mschap.UTF16(user))
	field(nil)
	field(hidden)
	token = binary.LittleEndian.AppendUint32(token, ntlmFlags)
	return append(token, payload...), key
}

func hmacMD5(key []byte, parts ...[]byte) []byte {
	mac := hmac.New(md5.New, key)
	for _, p := range parts {
		mac.Write(p)
	}
	return mac.Sum(nil)
}

// newSession derives the keys of both directions (MS-NLMP section 3.4.5).
func newSession(key [16]byte) (*Session, error) {
	derive := func(text string) [16]byte {
		return md5.Sum(append(key[:len(key):len(key)], text+"\x00"...))
	}
	s := &Session{outSign: derive("session key to client-to-server signing key magic constant"),
		inSign: derive("session key to server-to-client signing key magic constant")}
	outSeal, inSeal := derive("session key to client-to-server sealing key magic constant"),
		derive("session key to server-to-client sealing key magic constant")
	var err error
	if s.out, err = rc4.NewCipher(outSeal[:]); err != nil {
		return nil, fmt.Errorf("the keys of the session: %w", err)
	}
	s.in, err = rc4.NewCipher(inSeal[:])
	return s, err
}

// sum is the signature of a message (MS-NLMP section 3.4.4.2), made with the cipher after the message went through it.
func sum(sign [16]byte, cipher *rc4.Cipher, seq uint32, message []byte) []byte {
	var number [4]byte
	binary.LittleEndian.PutUint32(number[:], seq)
	check := hmacMD5(sign[:], number[:], message)[:8]
	cipher.XORKeyStream(check, check)
	return append(append([]byte{1, 0, 0, 0}, check...), number[:]...)
}

// Request seals a call. What is signed is the whole packet, header and trailer in clear (MS-RPCE section 2.2.2.11).
func (s *Session) Request(call uint32, op uint16, stub []byte) []byte {
	pad := -len(stub) & 15
	b := header(kindRequest, flagFirst|flagLast, call)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(stub)))
	b = binary.LittleEndian.AppendUint16(b, 0)
	b = binary.LittleEndian.AppendUint16(b, op)
	b = append(append(b, stub...), make([]byte, pad)...)
	end := len(b)
	b = append(b, authNTLM, authPrivacy, byte(pad), 0, 0, 0, 0, 0)
	b = finish(append(b, make([]byte, macSize)...), macSize)
	clear := append([]byte(nil), b[:len(b)-macSize]...)
	s.out.XORKeyStream(b[requestSize:end], b[requestSize:end])
	copy(b[len(b)-macSize:], sum(s.outSign, s.out, s.outSeq, clear))
	s.outSeq++
	return b
}

// Open opens a fragment of a reply.
func (s *Session) Open(r Reply) ([]byte, error) {
	if r.auth != macSize || len(r.packet) < requestSize+trailerSize+r.auth {
		return nil, errSeal
	}
	clear := append([]byte(nil), r.packet[:len(r.packet)-macSize]...)
	data := clear[requestSize : len(clear)-trailerSize]
	s.in.XORKeyStream(data, data)
	want := sum(s.inSign, s.in, s.inSeq, clear)
	s.inSeq++
	if !hmac.Equal(want, r.packet[len(r.packet)-macSize:]) {
		return nil, errSeal
	}
	pad := int(clear[len(clear)-trailerSize+2])
	if pad > len(data) {
		return nil, errSeal
	}
	return data[:len(data)-pad], nil
}
