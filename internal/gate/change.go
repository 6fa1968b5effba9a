package gate

import (
	"context"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/mschap"
)

// ChangePassword changes an expired password in the domain of the directory where the person was found.
func (p *prover) ChangePassword(ctx context.Context, who proof.Subject, name string, change mschap.Change) reason.Code {
	begun := time.Now()
	if why := p.find(ctx, who, name); why != reason.OK {
		return why
	}
	person := p.claim.Person
	open := p.snapshot.Directory(person.Store)
	if open == nil || open.Member == nil {
		return p.outcome(reason.PasswordExpired, "only a domain that we are a member of lets passwords be changed "+
			"from here", begun)
	}
	code, detail := open.Member.ChangePersonsPassword(ctx, person.Name, change)
	if code == reason.OK {
		open.Forget(p.before.Name)
		return reason.OK
	}
	return p.outcome(code, detail, begun)
}

func (p *prover) outcome(code reason.Code, detail string, begun time.Time) reason.Code {
	p.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return p.judged(code, detail)
}
