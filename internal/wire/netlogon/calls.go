package netlogon

import (
	"bytes"
	"crypto/aes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"

	"tollgate.example/key/internal/wire/mschap"
)

// Numbers of the calls.
const (
	OpMap          = 3
	OpReqChallenge = 4
	OpAuthenticate = 26
	OpSamLogonEx   = 39
)

// MapRequest asks the endpoint mapper for the port of an interface over TCP.
func MapRequest(wanted Interface) []byte {
	tower := []byte{5, 0}
	floor := func(left, right []byte) {
		tower = binary.LittleEndian.AppendUint16(tower, uint16(len(left)))
		tower = append(tower, left...)
		tower = binary.LittleEndian.AppendUint16(tower, uint16(len(right)))
		tower = append(tower, right...)
	}
	named := func(i Interface) []byte {
		return binary.LittleEndian.AppendUint16(append([]byte{0x0d}, i.uuid[:]...), uint16(i.version))
	}
	floor(named(wanted), []byte{0, 0})
	floor(named(ndr), []byte{0, 0})
	floor([]byte{0x0b}, []byte{0, 0})
	floor([]byte{0x07}, []byte{0, 0})
	floor([]byte{0x09}, []byte{0, 0, 0, 0})
	w := &writer{}
	w.pointer()
	w.b = append(w.b, make([]byte, 16)...)
	w.pointer()
	w.u32(uint32(len(tower)))
	w.u32(uint32(len(tower)))
	w.b = append(w.b, tower...)
	w.align(4)
	w.b = append(w.b, make([]byte, 20)...)
	w.u32(4)
	return w.b
}

// MapReply reads the TCP port out of the first tower that has one.
func MapReply(stub []byte) (int, error) {
	mark := []byte{1, 0, 0x07, 2, 0} // the floor of TCP: one octet on the left, two on the right
	at := bytes.Index(stub, mark)
	if at < 0 || len(stub) < at+7 {
		return 0, errors.New("the endpoint mapper does not know this interface over TCP")
	}
	return int(binary.BigEndian.Uint16(stub[at+5:])), nil
}

// Secret is a machine account with what its secure channel is made of.
type Secret struct {
	Domain   string
	Computer string // without the dollar sign
	key      [16]byte
}

// Challenge is the first half of establishing a secure channel (MS-NRPC section 3.1.4.1).
func Challenge(server, computer string, challenge [8]byte) []byte {
	w := &writer{}
	w.pointer()
	w.text(`\\` + server)
	w.text(computer)
	w.b = append(w.b, challenge[:]...)
	return w.b
}

// Status is a result of the domain controller (MS-ERREF section 2.3).
type Status uint32

// Results that are told apart.
const (
	StatusOK             Status = 0
	StatusNoUser         Status = 0xC0000064
	StatusWrongPassword  Status = 0xC000006A
	StatusLogonFailure   Status = 0xC000006D
	StatusHours          Status = 0xC000006F
	StatusWorkstation    Status = 0xC0000070
	StatusExpired        Status = 0xC0000071
	StatusDisabled       Status = 0xC0000072
	StatusAccountExpired Status = 0xC0000193
	StatusMustChange     Status = 0xC0000224
	StatusLocked         Status = 0xC0000234
	StatusSkew           Status = 0xC0000133
	StatusLogonType      Status = 0xC000015B
	StatusNoLogonServers Status = 0xC000005E
	StatusFirewall       Status = 0xC0000413
	StatusAccessDenied   Status = 0xC0000022
	StatusNoTrust        Status = 0xC000018B
	StatusDowngrade      Status = 0xC0000388
)

func (s Status) Error() string {
	switch s {
	case StatusAccessDenied:
		return "the domain controller does not accept the password of our machine account"
	case StatusNoTrust:
		return "the domain has no machine account of ours"
	case StatusDowngrade:
		return "the domain controller does not speak AES"
	case StatusSkew:
		return "its clock and ours differ by more than it allows"
	case StatusLogonType:
		return "the domain controller refuses this kind of logon to this account"
	case StatusNoLogonServers:
		return "no controller of the domain of this person could be asked"
	case StatusFirewall:
		return "an authentication policy of the domain does not let this account sign in from here"
	}
	return fmt.Sprintf("the domain controller answered with status 0x%08X", uint32(s))
}

// ChallengeReply reads the server's challenge.
func ChallengeReply(stub []byte) (out [8]byte, err error) {
	if len(stub) < 12 {
		return out, errShort
	}
	copy(out[:], stub)
	if s := Status(binary.LittleEndian.Uint32(stub[8:])); s != StatusOK {
		return out, s
	}
	return out, nil
}

// flags are the capabilities that both sides must have, AES among them (MS-NRPC section 3.1.4.2).
const flags = 0x612fffff

// NewSecret derives the session key of a machine account from both challenges (MS-NRPC section 3.1.4.3.1).
func NewSecret(domain, computer, password string, client, server [8]byte) *Secret {
	hash := mschap.NTHash(password)
	mac := hmac.New(sha256.New, hash[:])
	mac.Write(client[:])
	mac.Write(server[:])
	s := &Secret{Domain: domain, Computer: computer}
	copy(s.key[:], mac.Sum(nil))
	return s
}

// credential encrypts a challenge (MS-NRPC section 3.1.4.4.1).
func (s *Secret) credential(challenge [8]byte) (out [8]byte) {
	copy(out[:], cfb8(s.key, [16]byte{}, challenge[:], true))
	return out
}

// Authenticate is the second half.
func (s *Secret) Authenticate(server string, client [8]byte) []byte {
	w := &writer{}
	w.pointer()
	w.text(`\\` + server)
	w.text(s.Computer + "$")
	w.u16(2) // a workstation's secure channel
	w.text(s.Computer)
	credential := s.credential(client)
	w.b = append(w.b, credential[:]...)
	w.u32(flags)
	return w.b
}

// Authenticated verifies the server's credential, which proves that it knows the password of the machine account too.
func (s *Secret) Authenticated(stub []byte, server [8]byte) error {
	if len(stub) < 20 {
		return errShort
	}
	if status := Status(binary.LittleEndian.Uint32(stub[16:])); status != StatusOK {
		return status
	}
	want := s.credential(server)
	if !hmac.Equal(stub[:8], want[:]) {
		return errors.New("the domain controller does not know the password of our machine account")
	}
	return nil
}

// Logon is a network logon: a response of MS-CHAP to a challenge.
type Logon struct {
	Domain, User, Workstation string
	// Machine tells that the user is a computer.
	Machine   bool
	Challenge [8]byte
	Response  [24]byte
}

// Parameters of a logon (MS-NRPC section 2.2.1.4.15): that the response may be that of MS-CHAPv2, and for computers
// that their account may be used.
const (
	paramPeople    = 0x10000
	paramComputers = 0x10820
)

// SamLogonEx asks the domain controller to check a logon, level 2 in and level 6 out.
func (l *Logon) SamLogonEx(server, computer string) []byte {
	w := &writer{}
	w.pointer()
	w.text(`\\` + server)
	w.pointer()
	w.text(computer)
	w.u16(2)
	w.u16(2) // the discriminant of the union goes twice
	w.pointer()
	domain, user, workstation := mschap.UTF16(l.Domain), mschap.UTF16(l.User), mschap.UTF16(l.Workstation)
	param := uint32(paramPeople)
	if l.Machine {
		param = paramComputers
	}
	w.counted(domain)
	w.u32(param)
	w.u32(0)
	w.u32(0)
	w.counted(user)
	w.counted(workstation)
	w.b = append(w.b, l.Challenge[:]...)
	w.counted(l.Response[:])
	w.counted(nil)
	w.array(domain, 2)
	w.array(user, 2)
	w.array(workstation, 2)
	w.array(l.Response[:], 1)
	w.array(nil, 1)
	w.u16(6)
	w.u32(0)
	return w.b
}

// sessionKey is where the user session key is in the validation: behind 6 times, 6 strings, two counters, three
// identifiers, the group list and the flags.
const sessionKey = 8 + 48 + 48 + 4 + 4 + 4 + 4 + 4 + 4

// LogonReply reads the outcome. The key is the hash of the NT hash, from which MS-CHAPv2 makes its proof and keys.
func LogonReply(stub []byte) (key mschap.Hash, status Status, err error) {
	if len(stub) < 16 {
		return key, 0, errShort
	}
	if status = Status(binary.LittleEndian.Uint32(stub[len(stub)-4:])); status != StatusOK {
		return key, status, nil
	}
	if binary.LittleEndian.Uint32(stub[4:]) == 0 || len(stub) < sessionKey+16 {
		return key, 0, errShort
	}
	copy(key[:], stub[sessionKey:])
	return key, StatusOK, nil
}

// cfb8 is AES-128 in cipher feedback mode of one octet, which Netlogon uses for everything.
func cfb8(key, iv [16]byte, in []byte, encrypt bool) []byte {
	block, err := aes.NewCipher(key[:])
	if err != nil {
		panic("netlogon: an AES key of the wrong length: " + err.Error())
	}
	out := make([]byte, len(in))
	var pad [16]byte
	for i, b := range in {
		block.Encrypt(pad[:], iv[:])
		out[i] = b ^ pad[0]
		copy(iv[:], iv[1:])
		if iv[15] = out[i]; !encrypt {
			iv[15] = b
		}
	}
	return out
}
