package operator

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/store"
)

// place is where second factors of operators are kept, as the keeper of factors names it.
const place = "operators"

// Errors of second factors.
var (
	ErrFactor      = errors.New("the password is right; the code of the second factor is missing")
	ErrFactorWrong = errors.New("the code of the second factor is not accepted")
	ErrEnrolFirst  = errors.New("this role needs a second factor, and there is none yet: sign in in the console and " +
		"enrol one first")
	ErrNeeded  = errors.New("this role needs a second factor")
	ErrNone    = errors.New("there is no second factor")
	ErrCurrent = errors.New("the present password is wrong")
	ErrKept    = errors.New("the password of this operator is not kept here")
)

// Needs reports whether a role needs a second factor.
func (r *Registry) Needs(role Role) bool {
	return slices.Contains(r.settings.Load().SecondFactor, role)
}

// Enrolled reports whether an operator has a second factor that counts.
func (r *Registry) Enrolled(name string) bool { return r.factors.Enrolled(place, name, time.Now()) }

// showFactor checks the code of an operator whose password is right, and reports whether one was shown.
func (r *Registry) showFactor(ctx context.Context, name, code, from string) (bool, error) {
	if !r.Enrolled(name) {
		return false, nil
	}
	if code == "" {
		return false, ErrFactor
	}
	// that a code was looked at is kept, but is not what the audit is told of
	quiet := store.WithNote(ctx, nil)
	if outcome, _, detail := r.factors.Check(quiet, place, name, code, from, time.Now()); outcome != reason.OK {
		text, _ := reason.Explain(outcome, map[string]string{"name": name, "detail": detail})
		return false, fmt.Errorf("%w: %s", ErrFactorWrong, text)
	}
	return true, nil
}

// Again asks whoever is signed in for the password once more, before something that a stolen session must not do. The
// error is ErrKept for whoever has none that could be checked.
func (r *Registry) Again(ctx context.Context, w *Who, from, clear string) error {
	if allowed, _ := r.limits.take(from, ""); !allowed {
		return ErrTooMany
	}
	o, err := r.store.OperatorByName(ctx, w.Name)
	if err != nil {
		return err
	}
	var ok bool
	switch {
	case o.Source == "":
		ok, err = password.Operators.Check(ctx, o.Hash, clear)
	case r.people == nil || !slices.ContainsFunc(r.settings.Load().Groups, func(g GroupRole) bool {
		return g.Directory == o.Source
	}):
		return ErrKept
	default:
		var p Person
		p, err = r.people.Prove(ctx, o.Source, o.Name, clear, from)
		if ok = err == nil && p.Subject == o.Subject; errors.Is(err, ErrWrong) {
			err = nil
		}
	}
	if err == nil && !ok {
		err = ErrCurrent
	}
	if err == nil {
		r.limits.succeeded(from, "")
	}
	return err
}

// Show checks a code of one's own second factor.
func (r *Registry) Show(ctx context.Context, w *Who, code, from string) error {
	_, err := r.showFactor(ctx, w.Name, code, from)
	return err
}

// BeginFactor begins to enrol a second factor of whoever is signed in; it counts once a code of it was confirmed.
func (r *Registry) BeginFactor(ctx context.Context, w *Who) (*factor.Offer, error) {
	return r.factors.Enrol(ctx, factor.Request{Store: place, Name: w.Name, By: w.Name}, time.Now())
}

// ConfirmFactor ends an enrolment; the session counts as one in which a second factor was shown.
func (r *Registry) ConfirmFactor(ctx context.Context, w *Who, id, code string) ([]string, error) {
	t := r.factors.Get(id)
	if t == nil || t.Name != w.Name {
		return nil, factor.ErrNone
	}
	codes, err := r.factors.Confirm(ctx, id, code, time.Now())
	if err != nil {
		return nil, err
	}
	return codes, r.store.ShowFactor(ctx, w.KeyID)
}

// own is a second factor of an operator that counts, nil for none.
func (r *Registry) own(name string) *factor.Token {
	if list := r.Own(name); len(list) > 0 {
		return &list[0]
	}
	return nil
}

// RenewRecovery makes new recovery codes, for a code of the present second factor.
func (r *Registry) RenewRecovery(ctx context.Context, w *Who, code, from string) ([]string, error) {
	t := r.own(w.Name)
	if t == nil {
		return nil, ErrNone
	}
	if _, err := r.showFactor(ctx, w.Name, code, from); err != nil {
		return nil, err
	}
	return r.factors.Recover(ctx, t.ID)
}

// RemoveOwnFactor removes the second factors of whoever is signed in, for a code of it, unless the role needs one.
func (r *Registry) RemoveOwnFactor(ctx context.Context, w *Who, code, from string) error {
	t := r.own(w.Name)
	switch {
	case t == nil:
		return ErrNone
	case r.Needs(w.Role):
		return ErrNeeded
	}
	if _, err := r.showFactor(ctx, w.Name, code, from); err != nil {
		return err
	}
	return r.RemoveFactor(ctx, w.Name)
}

// RemoveFactor removes the second factor of another operator, who has lost it.
func (r *Registry) RemoveFactor(ctx context.Context, name string) error {
	removed := false
	for _, t := range r.factors.List("") {
		if !strings.EqualFold(t.Name, name) {
			continue
		}
		if err := r.factors.Remove(ctx, t.ID, time.Now()); err != nil {
			return err
		}
		removed = true
	}
	if !removed {
		return ErrNone
	}
	return nil
}

// SetPassword changes one's own password, and ends one's other sessions.
func (r *Registry) SetPassword(ctx context.Context, w *Who, from, present, next string) error {
	if len([]rune(next)) < minPassword {
		return ErrPassword
	}
	if w.Elsewhere {
		return ErrKept
	}
	if err := r.Again(ctx, w, from, present); err != nil {
		return err
	}
	hash, err := password.Operators.Hash(ctx, next)
	if err != nil {
		return err
	}
	if err = r.store.SetPassword(ctx, w.ID, hash, w.KeyID); errors.Is(err, store.ErrNotFound) {
		return ErrKept
	}
	return err
}
