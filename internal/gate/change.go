package gate

import (
	"context"
	"strings"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/netlogon"
)

// ChangePassword changes an expired password in the domain of the directory where the person was found.
func (p *prover) ChangePassword(ctx context.Context, who proof.Subject, name string, change mschap.Change) reason.Code {
	begun := time.Now()
	if why := p.find(ctx, who, name); why != reason.OK {
		return why
	}
	person := p.claim.Person
	open := p.snapshot.directories[strings.ToLower(person.Store)]
	if open == nil || open.member == nil {
		return p.outcome(reason.PasswordExpired, "only a domain that we are a member of lets passwords be changed from here", begun)
	}
	status, err := open.member.ChangePassword(ctx, person.Name, change)
	switch {
	case err != nil:
		return p.outcome(reason.DomainUnreachable, err.Error(), begun)
	case status == netlogon.StatusOK:
		open.Forget(p.before.Name)
		return reason.OK
	case status == netlogon.StatusPasswordRule:
		return p.outcome(reason.PasswordRejected, "it breaks a rule of the domain on length, kinds of characters, age or repetition", begun)
	case status == netlogon.StatusWrongPassword, status == netlogon.StatusIllFormed:
		return p.outcome(reason.PasswordWrong, "the old password that came with the change", begun)
	}
	return p.outcome(reason.PasswordRejected, status.Error(), begun)
}

func (p *prover) outcome(code reason.Code, detail string, begun time.Time) reason.Code {
	p.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return p.judged(code, detail)
}
