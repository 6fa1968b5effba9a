package operator

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/store"
)

// Errors of signing in from elsewhere.
var (
	ErrNoRole   = errors.New("none of the groups of this person has a role here")
	ErrConflict = errors.New("the name belongs to another operator")
)

// Person is who somebody is elsewhere.
type Person struct {
	// Subject does not change when the person is renamed.
	Subject, Name string
	Groups        []string
}

// People are asked for those who are kept in directories.
type People interface {
	// Prove checks the password of somebody in a directory. It returns ErrWrong where the name or the password is, and
	// another error where that cannot be told, or the account may not sign in.
	Prove(ctx context.Context, directory, name, clear, from string) (Person, error)
}

// Attempt is a sign-in.
type Attempt struct {
	From, Agent, Name, Password string
	// Code is of the second factor; or a security key answered: KeySession is the ceremony, KeyResponse what the
	// browser says.
	Code        string
	KeySession  string
	KeyResponse []byte
	// Browser is what the browser keeps since somebody has signed in with it, "" for nothing.
	Browser string
	// TokenName makes a token in place of a session.
	TokenName string
	// Known, if it is set, is told who it is before the session begins.
	Known func(name string, role Role)
}

// Signed is who has signed in, and what the bearer has to show from now on.
type Signed struct {
	Bearer, Name string
	Role         Role
	// Browser is what the browser is to keep from now on, "" for what it has.
	Browser string
}

// SignIn checks name, password and, where there is one, the second factor, and starts a browser session, or makes a
// token. The error is ErrFactor where the code alone is missing.
func (r *Registry) SignIn(ctx context.Context, a Attempt) (Signed, error) {
	turn, err := r.turn(&a)
	if err != nil {
		return Signed{}, err
	}
	o, err := r.prove(ctx, &a, turn.origin.known)
	if err != nil {
		return Signed{}, err
	}
	shown := true
	if a.KeySession != "" {
		err = r.showKey(ctx, o.Name, &a)
	} else {
		shown, err = r.showFactor(ctx, o.Name, a.Code, a.From)
	}
	if errors.Is(err, ErrFactor) { // half of a sign-in; the other half takes another
		turn.half()
	}
	if err != nil {
		return Signed{}, err
	}
	turn.right()
	out, err := r.begin(ctx, &a, &o, shown)
	if err == nil && a.TokenName == "" {
		out.Browser = r.keep(turn.kept, alike(turn.name), time.Now())
	}
	return out, err
}

// begin starts a session of somebody who is proven, or makes a token.
func (r *Registry) begin(ctx context.Context, a *Attempt, o *store.Operator, shown bool) (out Signed, err error) {
	out = Signed{Name: o.Name, Role: Role(o.Role)}
	if a.Known != nil {
		a.Known(out.Name, out.Role)
	}
	if a.TokenName != "" {
		if r.Needs(out.Role) && !shown {
			return out, ErrEnrolFirst
		}
		out.Bearer, err = r.Token(
			ctx,
			&Who{ID: o.ID, Elsewhere: o.Source != ""},
			Grant{Name: a.TokenName, Address: a.From, Agent: a.Agent},
		)
		return out, err
	}
	now := time.Now()
	last := now.Add(time.Duration(r.settings.Load().LastHours) * time.Hour).UnixMilli()
	agent := []rune(a.Agent)
	out.Bearer, err = r.issue(ctx, store.Key{Operator: o.ID, Kind: "session", Name: "browser", Address: a.From,
		Agent: string(agent[:min(len(agent), 200)]), ExpiresAt: r.idle(now, last), LastAt: last, Factor: shown})
	return out, err
}

// prove checks name and password, here or in the directories whose groups have roles.
func (r *Registry) prove(ctx context.Context, a *Attempt, known bool) (store.Operator, error) {
	name := strings.TrimSpace(a.Name)
	o, err := r.store.OperatorByName(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return o, err
	}
	here := err == nil && o.Source == ""
	groups := r.settings.Load().Groups
	if !here && len(groups) > 0 && r.people != nil && name != "" && a.Password != "" {
		return r.elsewhere(ctx, groups, name, a)
	}
	hash := o.Hash
	if !here {
		hash = r.dummy
	}
	slots := password.Strangers
	// however many guess from elsewhere, whoever comes from where somebody has signed in before does not wait for them
	if known {
		slots = password.Operators
	}
	limited, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	ok, checkErr := slots.Check(limited, hash, a.Password)
	switch {
	case errors.Is(checkErr, password.ErrBusy):
		return o, ErrTooMany
	case checkErr != nil:
		return o, checkErr
	case !ok || !here:
		return o, ErrWrong
	}
	return o, nil
}

// elsewhere asks the directories in their order; one that cannot tell ends it, since the person may be there.
func (r *Registry) elsewhere(
	ctx context.Context,
	groups []GroupRole,
	name string,
	a *Attempt,
) (store.Operator, error) {
	asked := map[string]bool{}
	for _, g := range groups {
		if asked[g.Directory] {
			continue
		}
		asked[g.Directory] = true
		p, err := r.people.Prove(ctx, g.Directory, name, a.Password, a.From)
		if errors.Is(err, ErrWrong) {
			continue
		} else if err != nil {
			return store.Operator{}, fmt.Errorf("%s cannot say who this is: %w", g.Directory, err)
		}
		return r.Known(ctx, g.Directory, p, RoleOf(groups, g.Directory, p.Groups))
	}
	return store.Operator{}, ErrWrong
}

// Known is the operator for somebody who was proven elsewhere, with the role that the groups give there now. The first
// sign-in adds the operator. A name that belongs to somebody else is refused: it would be taken for that one.
func (r *Registry) Known(ctx context.Context, source string, p Person, role Role) (store.Operator, error) {
	now := time.Now()
	o, err := r.store.OperatorElsewhere(ctx, source, p.Subject)
	if role == "" {
		if err == nil { // who was an operator is none any more
			err = r.store.RemoveKeys(ctx, o.ID)
		}
		return store.Operator{}, errors.Join(fmt.Errorf("%w: %s of %s", ErrNoRole, p.Name, source), unless(err))
	}
	if err == nil {
		o.Role = string(role)
		return o, r.store.SeenOperator(ctx, o.ID, o.Role, now.UnixMilli())
	} else if !errors.Is(err, store.ErrNotFound) {
		return o, err
	}
	name := strings.TrimSpace(p.Name)
	if p.Subject == "" || !goodName(name) {
		return o, fmt.Errorf("%w: %q of %s", ErrName, name, source)
	}
	o = store.Operator{ID: r.ids.New(now).String(), Name: name, Role: string(role), CreatedAt: now.UnixMilli(),
		Source: source, Subject: p.Subject, SeenAt: now.UnixMilli()}
	if err = r.store.AddOperator(ctx, o, false); errors.Is(err, store.ErrTaken) {
		return o, fmt.Errorf("%w: %q, as which %s of %s would sign in", ErrConflict, name, p.Subject, source)
	}
	return o, err
}

// Turn reports whether somebody may come back from the identity provider now; a sign-in that succeeds gives it back.
func (r *Registry) Turn(from string) bool {
	allowed, _ := r.limits.take(from, "")
	return allowed
}

// SignInAs starts a session of somebody whom the identity provider has proven; second factors are its matter.
func (r *Registry) SignInAs(ctx context.Context, a Attempt, source string, p Person, role Role) (Signed, error) {
	o, err := r.Known(ctx, source, p, role)
	if err != nil {
		return Signed{}, err
	}
	r.limits.succeeded(a.From, o.Name)
	return r.begin(ctx, &a, &o, true)
}

// ResetOwner makes somebody an owner with a password, while the service is stopped.
func ResetOwner(ctx context.Context, s *store.Store, id, name, clear string) error {
	if !goodName(name) {
		return ErrName
	}
	if len([]rune(clear)) < minPassword {
		return ErrPassword
	}
	hash, err := password.Operators.Hash(ctx, clear)
	if err != nil {
		return err
	}
	return s.ResetOwner(ctx, store.Operator{ID: id, Name: name, Hash: hash, CreatedAt: time.Now().UnixMilli()})
}

// unless is an error other than that there is no such record.
func unless(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

func goodName(name string) bool {
	return name != "" && len(name) <= 60 && !strings.ContainsAny(name, " \t\n\r\"")
}
