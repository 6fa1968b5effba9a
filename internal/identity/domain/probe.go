package domain

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/netlogon"
)

// Probe has a controller check a right response of MS-CHAP: that of our own machine account, whose password we know. A
// controller that allows nothing older than NTLMv2 takes it for a wrong password, as it would that of everybody.
func (m *Member) Probe(ctx context.Context) error {
	passwords := m.account.Passwords()
	if len(passwords) == 0 {
		return errors.New("no password of our machine account is kept here")
	}
	var challenge [8]byte
	rand.Read(challenge[:])
	var status netlogon.Status
	for _, password := range passwords {
		var err error
		if _, status, err = m.Check(ctx, "", m.account.Computer+"$", true, challenge,
			mschap.NTHash(password).V1(challenge)); err != nil {
			return err
		}
		if status == netlogon.StatusOK {
			return nil
		}
	}
	if status == netlogon.StatusWrongPassword || status == netlogon.StatusLogonFailure {
		return errors.New("the domain controller takes a right answer for a wrong password")
	}
	return fmt.Errorf("the domain controller does not let our machine account in: %w", status)
}
