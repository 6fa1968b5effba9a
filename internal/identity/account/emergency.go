package account

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/rule"
	"tollgate.example/key/internal/identity/sheet"
)

// Emergency is an account for signing in to devices while no directory answers. Its password is kept in an envelope;
// the first use breaks the seal, and a new password seals it again.
type Emergency struct {
	// Person is who signs in with it.
	Person *facts.Person
	when   *rule.Condition
}

// For reports whether the account is for the device that asks.
func (e *Emergency) For(f *facts.Facts) bool { return e.when.Fits(f) }

// Wanted is the condition over devices.
func (e *Emergency) Wanted() string { return e.when.String() }

// parseDevices reads the condition of an emergency account. It is over what the request alone tells, and time.
func parseDevices(text string) (*rule.Condition, error) {
	cond, err := rule.Parse(text, rule.Request, nil)
	var at *rule.Error
	if errors.As(err, &at) {
		return nil, sheet.Fail("emergency", at.Error(), at.Remedy)
	}
	return cond, err
}

// Emergency returns the emergency account of that name, nil if there is none.
func (k *Keeper) Emergency(name string, now time.Time) *Emergency {
	a := k.find(name)
	if a == nil || a.devices == nil {
		return nil
	}
	p := k.person(a, now)
	p.Kind = facts.EmergencyAccount
	return &Emergency{p, a.devices}
}

// Opened notes a use of an emergency account on a device. It is stored before it returns.
func (k *Keeper) Opened(ctx context.Context, name, on string, now time.Time) error {
	k.editing.Lock()
	defer k.editing.Unlock()
	a := k.find(name)
	if a == nil {
		return nil
	}
	if err := k.store.OpenEmergency(ctx, a.ID, on, now.UnixMilli()); err != nil {
		return fmt.Errorf("noting the use of emergency account %s: %w", name, err)
	}
	kept := *a
	if kept.Uses++; kept.OpenedAt.IsZero() {
		kept.OpenedAt, kept.OpenedOn = now, on
	}
	k.use(&kept)
	return nil
}

// Broken lists the emergency accounts whose seal is broken.
func (k *Keeper) Broken() []*Account {
	var out []*Account
	if k.broken.Load() == 0 {
		return nil
	}
	for _, a := range k.list.All() {
		if !a.OpenedAt.IsZero() {
			out = append(out, a)
		}
	}
	return out
}

// minPassword is the least length of a password that a person chooses on a device.
const minPassword = 8

// ChangePassword gives an account a new password, chosen by the person, who has proven the old one.
func (k *Keeper) ChangePassword(ctx context.Context, name, clear string, now time.Time) (reason.Code, string) {
	a := k.find(name)
	switch {
	case a == nil:
		return reason.PersonUnknown, ""
	case len(clear) < minPassword:
		return reason.PasswordRejected, fmt.Sprintf("it has fewer than %d characters", minPassword)
	}
	next := *a
	next.ChangedAt, next.ChangedBy = now, a.Name
	if _, err := k.Save(ctx, next, clear); err != nil {
		return reason.PasswordRejected, err.Error()
	}
	return reason.OK, ""
}

// person makes the facts of an account.
func (k *Keeper) person(a *Account, now time.Time) *facts.Person {
	p := &facts.Person{Store: config.LocalStore, ID: a.ID, Name: a.Name, Display: a.Display, State: reason.OK,
		Groups: a.Groups}
	if id, err := ident.Parse(a.ID); err == nil {
		p.Created = id.Time()
	}
	if a.Mail != "" {
		p.Attributes = map[string][]string{"mail": {a.Mail}}
	}
	switch {
	case !a.Enabled:
		p.State = reason.PersonDisabled
	case !a.Expires.IsZero() && !now.Before(a.Expires):
		p.State = reason.PersonExpired
	}
	return p
}
