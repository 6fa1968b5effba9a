package domain

import (
	"context"
	"errors"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/netlogon"
)

// CheckPerson has a domain controller check a response of a person or computer, and puts its answer into a reason.
func (m *Member) CheckPerson(ctx context.Context, person *facts.Person, challenge [8]byte,
	response [24]byte) (mschap.Hash, reason.Code, string) {
	again, status, err := m.Check(ctx, person.Domain, person.Name, person.Kind == facts.Computer, challenge, response)
	var refused netlogon.Status
	switch {
	case errors.As(err, &refused):
		return again, reason.DomainRefuses, refused.Error()
	case err != nil:
		return again, reason.DomainUnreachable, err.Error()
	}
	if code, known := statuses[status]; known {
		return again, code, ""
	}
	switch status {
	case netlogon.StatusSkew:
		return again, reason.ClockSkew, status.Error()
	case netlogon.StatusNoLogonServers:
		return again, reason.DomainUnreachable, status.Error()
	}
	return again, reason.DomainRefuses, status.Error()
}

var statuses = map[netlogon.Status]reason.Code{
	netlogon.StatusOK: reason.OK, netlogon.StatusNoUser: reason.PersonUnknown,
	netlogon.StatusWrongPassword: reason.PasswordWrong, netlogon.StatusLogonFailure: reason.PasswordWrong,
	netlogon.StatusDisabled: reason.PersonDisabled, netlogon.StatusAccountExpired: reason.PersonExpired,
	netlogon.StatusExpired: reason.PasswordExpired, netlogon.StatusMustChange: reason.PasswordMustChange,
	netlogon.StatusLocked: reason.PersonLocked, netlogon.StatusHours: reason.PersonHours,
	netlogon.StatusWorkstation: reason.PersonStation,
}

// ChangePersonsPassword changes the password of a person, and puts the answer of the domain into a reason.
func (m *Member) ChangePersonsPassword(ctx context.Context, name string, change mschap.Change) (reason.Code, string) {
	status, err := m.ChangePassword(ctx, name, change)
	switch {
	case err != nil:
		return reason.DomainUnreachable, err.Error()
	case status == netlogon.StatusOK:
		return reason.OK, ""
	case status == netlogon.StatusPasswordRule:
		return reason.PasswordRejected, "it breaks a rule of the domain on length, kinds of characters, age or " +
			"repetition"
	case status == netlogon.StatusWrongPassword, status == netlogon.StatusIllFormed:
		return reason.PasswordWrong, "the old password that came with the change"
	}
	return reason.PasswordRejected, status.Error()
}
