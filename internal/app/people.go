package app

import (
	"context"
	"errors"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/manage/operator"
)

// directoryPeople lets operators sign in whom directories keep.
type directoryPeople struct{ a *App }

// Prove implements operator.People.
func (p directoryPeople) Prove(ctx context.Context, directory, name, clear, from string) (operator.Person, error) {
	person, code, detail := p.a.Gate.Prove(ctx, directory, name, clear, from)
	switch code {
	case reason.OK:
		return operator.Person{Subject: person.ID, Name: person.Name, Groups: person.Groups}, nil
	case reason.PersonUnknown, reason.PasswordWrong:
		return operator.Person{}, operator.ErrWrong
	}
	text, _ := reason.Explain(code, map[string]string{"name": name, "store": directory, "stores": directory,
		"detail": detail})
	return operator.Person{}, errors.New(text)
}
