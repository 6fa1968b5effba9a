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
	"sync/atomic"
	"time"

	"golang.org/x/crypto/argon2"
)

// Cost is what a hash takes to make and to check: passes over so many KiB.
type Cost struct{ Passes, Memory uint32 }

// Usual follows RFC 9106 section 4 for memory-constrained machines, with 3 passes over half the memory and one lane,
// since several hashes run at once.
var Usual = Cost{3, 32 << 10}

// cost is that of hashes that are made from now on.
var cost atomic.Pointer[Cost]

func init() { cost.Store(&Usual) }

// Take has hashes that are made from now on cost something else than usual: tests start hundreds of services, which
// would do little besides.
func (c Cost) Take() { cost.Store(&c) }

const (
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

// Background hashes one password at a time, and only while nobody else has theirs checked, or once in a second.
var Background background

type background struct{}

// Hash makes the text to store for a password.
func (background) Hash(ctx context.Context, clear string) (string, error) {
	for range 50 {
		if len(People)+len(Operators)+len(Strangers) == 0 {
			break
		}
		select {
		case <-ctx.Done():
			return "", ErrBusy
		case <-time.After(20 * time.Millisecond):
		}
	}
	return People.Hash(ctx, clear)
}

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
	c := cost.Load()
	key := argon2.IDKey([]byte(clear), salt, c.Passes, c.Memory, lanes, keySize)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, c.Memory, c.Passes, lanes,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key)), nil
}

// parsed is a hash in its text form.
type parsed struct {
	memory, passes, lanes int
	salt, key             []byte
}

func parse(hash string) (*parsed, error) {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[0] != "" || parts[1] != "argon2id" {
		return nil, errors.New("the stored password is not an argon2id hash")
	}
	p, version := &parsed{}, 0
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &p.memory, &p.passes,
		&p.lanes); err != nil || version != argon2.Version || p.memory < 8 || p.memory > 1<<21 || p.passes < 1 ||
		p.passes > 64 || p.lanes < 1 || p.lanes > 64 {
		return nil, errors.New("the stored password has unknown parameters")
	}
	var err1, err2 error
	p.salt, err1 = base64.RawStdEncoding.DecodeString(parts[4])
	p.key, err2 = base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(p.key) == 0 {
		return nil, errors.New("the stored password is damaged")
	}
	return p, nil
}

// What a hash that was made elsewhere may cost, in KiB and passes over them: every sign-in pays it.
const (
	maxMemory = 256 << 10
	maxPasses = 16
)

// Acceptable tells what is against checking passwords with a hash that was made elsewhere.
func Acceptable(hash string) error {
	p, err := parse(hash)
	switch {
	case err != nil:
		return err
	case p.memory > maxMemory || p.passes > maxPasses || p.lanes > maxPasses:
		return fmt.Errorf("checking it would take %d MiB, %d passes and %d lanes; at most %d MiB, %d and %d are taken",
			p.memory>>10, p.passes, p.lanes, maxMemory>>10, maxPasses, maxPasses)
	case len(p.key) < 16 || len(p.key) > 64 || len(p.salt) < 8 || len(p.salt) > 64 || len(hash) > 300:
		return errors.New("the salt or the hash has an unusual length")
	}
	return nil
}

// Check reports whether a password is the one that was hashed. The error is ErrBusy, or tells of a damaged hash.
func (s Slots) Check(ctx context.Context, hash, clear string) (bool, error) {
	p, err := parse(hash)
	if err != nil {
		return false, err
	}
	if clear == "" || len(clear) > MaxLength {
		return false, nil
	}
	if err := s.take(ctx); err != nil {
		return false, err
	}
	defer func() { <-s }()
	got := argon2.IDKey([]byte(clear), p.salt, uint32(p.passes), uint32(p.memory), uint8(p.lanes), uint32(len(p.key)))
	return subtle.ConstantTimeCompare(got, p.key) == 1, nil
}
