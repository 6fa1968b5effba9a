package netlogon

import (
	"crypto/hmac"
	"crypto/rand"
	"encoding/binary"
	"errors"

	"tollgate.example/key/internal/wire/mschap"
)

// OpPasswordSet is NetrServerPasswordSet2.
const OpPasswordSet = 30

// trustPassword is the size of the buffer that a password lies at the end of (MS-NRPC section 2.2.1.3.7).
const trustPassword = 512

// PasswordSet sets the password of our machine account (MS-NRPC section 3.4.5.2.5). now is in seconds since 1970. The
// authenticator goes on from what Authenticate began, so a secret can be used for one such call.
func (s *Secret) PasswordSet(server, password string, client [8]byte, now uint32) ([]byte, error) {
	text := mschap.UTF16(password)
	if len(text) == 0 || len(text) > trustPassword {
		return nil, errors.New("the password of a machine account has 1 to 256 characters")
	}
	seed := s.credential(client)
	add(&seed, now)
	authenticator := s.credential(seed)
	buffer := make([]byte, trustPassword+4)
	rand.Read(buffer[:trustPassword-len(text)])
	copy(buffer[trustPassword-len(text):], text)
	binary.LittleEndian.PutUint32(buffer[trustPassword:], uint32(len(text)))
	w := &writer{}
	w.pointer()
	w.text(`\\` + server)
	w.text(s.Computer + "$")
	w.u16(2)
	w.text(s.Computer)
	w.align(4)
	w.b = append(w.b, authenticator[:]...)
	w.u32(now)
	w.b = append(w.b, cfb8(s.key, [16]byte{}, buffer, true)...)
	return w.b, nil
}

// PasswordSetReply verifies the answer to it.
func (s *Secret) PasswordSetReply(stub []byte, client [8]byte, now uint32) error {
	if len(stub) < 16 {
		return errShort
	}
	if status := Status(binary.LittleEndian.Uint32(stub[12:])); status != StatusOK {
		return status
	}
	seed := s.credential(client)
	add(&seed, now+1)
	if want := s.credential(seed); !hmac.Equal(stub[:8], want[:]) {
		return errors.New("the answer does not come from the domain controller")
	}
	return nil
}

// add adds to the first four octets of a credential.
func add(credential *[8]byte, n uint32) {
	binary.LittleEndian.PutUint32(credential[:], binary.LittleEndian.Uint32(credential[:])+n)
}
