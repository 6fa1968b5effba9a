package gate

import (
	"context"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/directory"
	"tollgate.example/key/internal/guard"
)

// guarded checks a password with a directory, unless so many wrong ones of the person were passed on that the directory
// might lock the account.
func (v *Visit) guarded(ctx context.Context, d *directory.Directory, person *facts.Person, check func() (reason.Code, string)) (reason.Code, string) {
	limits := d.Guard(ctx)
	if limits.After == 0 {
		return check()
	}
	device := v.Facts.MAC
	held, err := v.gate.Guard.Ask(ctx, d.Name(), person.Name, device, limits)
	switch {
	case err != nil:
		return reason.Busy, err.Error()
	case held != nil:
		return reason.PasswordGuarded, held.String()
	}
	code, detail := check()
	v.gate.Guard.Done(d.Name(), person.Name, device, limits, outcome(code))
	if code == reason.PasswordWrong {
		v.gate.Guard.Counted(d.Name(), person.Name, d.WrongPasswords(ctx, person.ID))
	}
	return code, detail
}

func outcome(code reason.Code) guard.Outcome {
	switch code {
	case reason.OK:
		return guard.Right
	case reason.PasswordWrong:
		return guard.Wrong
	}
	return guard.Unsaid
}
