package netlogon

import (
	"encoding/binary"

	"tollgate.example/key/internal/wire/mschap"
)

// SAMR is the interface that changes passwords (MS-SAMR).
var SAMR = Interface{[16]byte{0x78, 0x57, 0x34, 0x12, 0x34, 0x12, 0xcd, 0xab, 0xef, 0x00, 0x01, 0x23, 0x45, 0x67, 0x89,
	0xac}, 1}

// OpChangePassword is SamrUnicodeChangePasswordUser2.
const OpChangePassword = 55

// Results of a change that are told apart.
const (
	StatusPasswordRule Status = 0xC000006C // too short, too plain, used before, or changed too lately
	StatusIllFormed    Status = 0xC000006B
)

// ChangePassword changes somebody's password with what a peer of MS-CHAPv2 sends for that (RFC 2759 sections 8.9 and
// 8.12): the new password hidden by the old hash, and the old hash hidden by the new one (MS-SAMR section 3.1.5.10.3).
func ChangePassword(server, user string, change mschap.Change) []byte {
	w := &writer{}
	host, name := mschap.UTF16(`\\`+server), mschap.UTF16(user)
	w.pointer()
	w.counted(host)
	w.array(host, 2)
	w.align(4)
	w.counted(name)
	w.array(name, 2)
	w.align(4)
	w.pointer()
	w.b = append(w.b, change.Password[:]...)
	w.align(4)
	w.pointer()
	w.b = append(w.b, change.Hash[:]...)
	w.b = append(w.b, 0)
	w.u32(0)
	w.u32(0)
	return w.b
}

// ChangeReply reads the outcome.
func ChangeReply(stub []byte) (Status, error) {
	if len(stub) < 4 {
		return 0, errShort
	}
	return Status(binary.LittleEndian.Uint32(stub)), nil
}
