package gate

import (
	"context"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/identity/lockout"
)

// guarded checks a password with a directory, unless so many wrong ones of the person were passed on that the directory
// might lock the account.
func (v *Visit) guarded(ctx context.Context, d *directory.Directory, person *facts.Person, check func() (reason.Code,
	string)) (reason.Code, string) {
	limits := d.Guard(ctx)
	if limits.After == 0 {
		return check()
	}
	code, detail := v.counted(ctx, d.Name(), person, limits, reason.PasswordGuarded, check)
	switch code {
	case reason.PersonLocked:
		d.FoundLocked()
	case reason.PasswordWrong:
		v.gate.Lockout.Counted(d.Name(), person.Name, d.WrongPasswords(ctx, person.ID))
	}
	return code, detail
}

// localLimits brake guesses at local accounts, which nothing else counts: for a while nothing more is looked at,
// neither from the one device nor of the person, whatever the method.
var localLimits = lockout.Limits{After: 10, Window: time.Minute}

// braked checks a credential of a local account.
func (v *Visit) braked(ctx context.Context, person *facts.Person, check func() (reason.Code, string)) (reason.Code,
	string) {
	return v.counted(ctx, config.LocalStore, person, localLimits, reason.PasswordBraked, check)
}

func (v *Visit) counted(ctx context.Context, store string, person *facts.Person, limits lockout.Limits,
	held reason.Code, check func() (reason.Code, string)) (code reason.Code, detail string) {
	source := v.source()
	back, err := v.gate.Lockout.Ask(ctx, store, person.Name, source, limits)
	switch {
	case err != nil:
		return reason.Busy, err.Error()
	case back != nil:
		return held, back.String()
	}
	came := lockout.Unsaid // also when the check ends in a fault of ours
	defer func() { v.gate.Lockout.Done(store, person.Name, source, limits, came) }()
	code, detail = check()
	came = outcome(code)
	return code, detail
}

// source is what a password comes from, as far as it is known: the device, the address of the person, or the client.
func (v *Visit) source() string {
	switch f := &v.Facts; {
	case f.MAC != "":
		return f.MAC
	case f.From.IsValid():
		return f.From.String()
	default:
		return f.Client
	}
}

func outcome(code reason.Code) lockout.Outcome {
	switch code {
	case reason.OK:
		return lockout.Right
	case reason.PasswordWrong:
		return lockout.Wrong
	}
	return lockout.Unsaid
}
