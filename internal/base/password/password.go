// Package password hashes passwords with argon2id (RFC 9106) and checks them.
package password

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime"
	"strings"

	"golang.org/x/crypto/argon2"
)

// The parameters follow RFC 9106 section 4 for memory-constrained machines, with 3 passes over half the memory and one
// lane, since several hashes run at once.
const (
	passes  = 3
	memory  = 32 << 10 // KiB
	lanes   = 1
	keySize = 32
	// MaxLength bounds what is hashed.
	MaxLength = 1024
)

// Slots bound how many hashes are computed at once, so that a flood of wrong passwords takes neither all memory nor all
// cores. Whoever waits for one stops waiting with the context.
type Slots chan struct{}

// People is for everybody who signs in somewhere. Operators is for those who administer, from where they have signed in
// before, and Strangers for others who try: no guessing keeps an operator waiting.
var (
	People    = make(Slots, max(1, runtime.GOMAXPROCS(0)))
	Operators = make(Slots, 1)
	Strangers = make(Slots, 1)
)

// ErrBusy tells that the context ended before a slot was free.
var ErrBusy = errors.New("too many passwords were being checked")

func (s Slots) take(ctx context.Context) error {
	select {
	case s <- struct{}{}:
		return nil
	default:
	}
	select {
	case s <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ErrBusy
	}
}

// Hash makes the text to store for a password.
func (s Slots) Hash(ctx context.Context, clear string) (string, error) {
	if clear == "" || len(clear) > MaxLength {
		return "", fmt.Errorf("a password has 1 to %d octets", MaxLength)
	}
	if err := s.take(ctx); err != nil {
		return "", err
	}
	defer func() { <-s }()
	salt := make([]byte, 16)
	rand.Read(salt)
	key := argon2.IDKey([]byte(clear), salt, passes, memory, lanes, keySize)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, lanes,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key)), nil
}

// Check reports whether a password is the one that was hashed. The error is ErrBusy, or tells of a damaged hash.
func (s Slots) Check(ctx context.Context, hash, clear string) (bool, error) {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, errors.New("the stored password is not an argon2id hash")
	}
	var version, m, t, p int
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &m, &t, &p); err != nil ||
		version != argon2.Version || m < 8 || m > 1<<21 || t < 1 || t > 64 || p < 1 || p > 64 {
		return false, errors.New("the stored password has unknown parameters")
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false, errors.New("the stored password is damaged")
	}
	if clear == "" || len(clear) > MaxLength {
		return false, nil
	}
	if err := s.take(ctx); err != nil {
		return false, err
	}
	defer func() { <-s }()
	got := argon2.IDKey([]byte(clear), salt, uint32(t), uint32(m), uint8(p), uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1, nil
}
