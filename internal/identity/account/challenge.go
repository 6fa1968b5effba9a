package account

import (
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"strconv"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/wire/mschap"
)

// Place is that of what is kept of the password of an account.
func Place(id string) config.Place { return config.Place{Purpose: "account", Object: id} }

func (a *Account) place() config.Place { return Place(a.ID) }

// seal brings what is kept beside the hash up to date. Keeping less than before only drops it; keeping more needs the
// password, which a hash does not give back. From the password itself the NT hash can be made without it.
func (k *Keeper) seal(a, old *Account, clear string) error {
	if clear == "" && old != nil && old.pending() && old.Keeps == a.Keeps {
		return nil // it stays as it is until it is hashed
	}
	if a.Keeps == config.KeepsHash {
		a.proof = ""
		return nil
	}
	if clear == "" && old != nil {
		if old.Keeps == a.Keeps && a.proof.Set() {
			return nil
		}
		if old.Keeps == config.KeepsPassword {
			var err error
			if clear, err = k.box.Open(old.place(), old.proof); err != nil {
				return fmt.Errorf("opening what is kept of account %s: %w", a.Name, err)
			}
		}
	}
	if clear == "" {
		return sheet.Fail("password", "what is to be kept cannot be made of the hash",
			"Give the password too, or have the person set it anew.")
	}
	if a.Keeps == config.KeepsNTHash {
		hash := mschap.NTHash(clear)
		clear = hex.EncodeToString(hash[:])
	}
	a.proof = k.box.Seal(a.place(), clear)
	return nil
}

// Stamp changes with every change of an account.
func (k *Keeper) Stamp(name string) string {
	if a := k.find(name); a != nil {
		return a.ID + "/" + strconv.FormatInt(a.version, 10)
	}
	return ""
}

// unusable says why a challenge cannot be checked.
func unusable(a *Account) string {
	if a.Keeps == config.KeepsNTHash {
		return "only the NT hash of the password is kept"
	}
	return "only a hash of the password is kept"
}

// CheckMSCHAP checks a response of MS-CHAP to a challenge of eight octets, and returns the hash of the NT hash.
func (k *Keeper) CheckMSCHAP(name string, challenge [8]byte, response [24]byte) (mschap.Hash, reason.Code, string) {
	var none mschap.Hash
	a, why, detail := k.serving(name, config.NeedsNTHash)
	if why != reason.OK {
		return none, why, detail
	}
	kept, err := k.box.Open(a.place(), a.proof)
	if err != nil {
		return none, reason.DirectoryFailed, err.Error()
	}
	hash := mschap.NTHash(kept)
	if a.Keeps == config.KeepsNTHash {
		if n, err := hex.Decode(hash[:], []byte(kept)); err != nil || n != len(hash) {
			return none, reason.DirectoryFailed, "the NT hash that is kept cannot be read"
		}
	}
	if !mschap.Equal(hash.V1(challenge), response) {
		return none, reason.PasswordWrong, ""
	}
	return hash.Again(), reason.OK, ""
}

// CheckCHAP checks a response of CHAP or EAP-MD5.
func (k *Keeper) CheckCHAP(name string, identifier byte, challenge, response []byte) (reason.Code, string) {
	a, why, detail := k.serving(name, config.NeedsClear)
	if why != reason.OK {
		return why, detail
	}
	kept, err := k.box.Open(a.place(), a.proof)
	if err != nil {
		return reason.DirectoryFailed, err.Error()
	}
	sum := mschap.CHAP(identifier, kept, challenge)
	if subtle.ConstantTimeCompare(sum[:], response) != 1 {
		return reason.PasswordWrong, ""
	}
	return reason.OK, ""
}

// Usable tells whether what is kept of an account is enough for a method that needs so much.
func (k *Keeper) Usable(name string, needs config.Needs) (reason.Code, string) {
	_, why, detail := k.serving(name, needs)
	return why, detail
}

// serving returns an account of which enough is kept.
func (k *Keeper) serving(name string, needs config.Needs) (*Account, reason.Code, string) {
	a := k.find(name)
	switch {
	case a == nil:
		return nil, reason.PersonUnknown, ""
	case !a.Keeps.Serves(needs):
		return nil, reason.MethodUnusable, unusable(a)
	}
	return a, reason.OK, ""
}
