// Package operator knows the people who administer Tollgate Key: their passwords (argon2id), browser sessions,
// command-line tokens, and the one-time code that creates the first of them.
package operator

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/securitykey"
	"tollgate.example/key/internal/store"
)

const (
	// sessionTouch is how often the use of a session is noted.
	sessionTouch = time.Minute
	minPassword  = 10
	// patience is how long a sign-in waits for its turn to be checked.
	patience = 10 * time.Second
)

// Errors of signing in and setting up.
var (
	ErrWrong   = errors.New("the name or password is wrong")
	ErrTooMany = errors.New("too many sign-ins were tried; wait a little")
	ErrGuessed = errors.New("too many wrong passwords were given for this name, from elsewhere")
	ErrCode    = errors.New(
		"the setup code is wrong; the service printed it when it started, and it is in the file " +
			"setup-code of the data directory",
	)
	ErrSetUp    = errors.New("the first operator exists already; sign in")
	ErrPassword = fmt.Errorf("the password needs at least %d characters", minPassword)
	ErrPlace    = errors.New("this token is not accepted from that address")
	ErrWider    = errors.New("a token cannot make one that goes beyond it")
	ErrPrefix   = errors.New("that is no prefix")
	ErrRole     = errors.New("there is no such role")
	ErrLast     = errors.New("the last owner stays one")
	ErrName     = errors.New("the name needs 1 to 60 characters without spaces")
)

// Registry knows the operators.
type Registry struct {
	store *store.Store
	ids   *ident.Source
	path  string // of the setup code

	// limits are by address, browsers by what a browser keeps.
	limits, browsers *limits
	names            *names
	box              *seal.Box
	factors          *factor.Keeper
	keys             securitykey.Desk
	people           People
	settings         atomic.Pointer[Settings]

	mu   sync.Mutex
	code string // "" once set up
	// memory holds sessions that could not be stored, by what their bearers show.
	memory map[[sha256.Size]byte]store.Key
	dummy  string // hash that is checked for unknown names, so that they take as long
}

// Open reads whether an operator exists. If none does, it makes a setup code and writes it into the data directory.
// People may be nil where no directory is asked.
func Open(
	ctx context.Context,
	s *store.Store,
	box *seal.Box,
	ids *ident.Source,
	dir string,
	people People,
) (*Registry,
	error) {
	dummy, err := password.Operators.Hash(ctx, rand.Text())
	if err != nil {
		return nil, err
	}
	r := &Registry{store: s, ids: ids, path: filepath.Join(dir, "setup-code"), limits: newLimits(),
		browsers: newLimits(), names: newNames(), box: box, dummy: dummy,
		people: people, memory: map[[sha256.Size]byte]store.Key{}}
	if r.factors, err = factor.Open(ctx, s.OperatorFactors(), box, ids, factor.KeysCount); err != nil {
		return nil, err
	}
	if err := r.loadSettings(ctx); err != nil {
		return nil, fmt.Errorf("reading the settings for operators: %w", err)
	}
	list, err := s.Operators(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the operators: %w", err)
	}
	if len(list) > 0 {
		return r, nil
	}
	text := rand.Text()
	r.code = text[:4] + "-" + text[4:8] + "-" + text[8:12]
	if err := os.WriteFile(r.path, []byte(r.code+"\n"), 0o600); err != nil {
		return nil, fmt.Errorf("writing the setup code: %w", err)
	}
	return r, nil
}

// SetupCode is the code that creates the first operator, "" if there is one.
func (r *Registry) SetupCode() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.code
}

// SetUp creates the first operator.
func (r *Registry) SetUp(ctx context.Context, from, code, name, clear string) error {
	want := r.SetupCode()
	if want == "" {
		return ErrSetUp
	}
	if allowed, _ := r.limits.take(from, ""); !allowed {
		return ErrTooMany
	}
	code = strings.ToUpper(strings.TrimSpace(code))
	if subtle.ConstantTimeCompare([]byte(code), []byte(want)) != 1 {
		return ErrCode
	}
	if err := r.add(ctx, name, clear, Owner, true); err != nil {
		if errors.Is(err, store.ErrTaken) {
			return ErrSetUp
		}
		return err
	}
	r.mu.Lock()
	r.code = ""
	r.mu.Unlock()
	r.limits.succeeded(from, name)
	os.Remove(r.path)
	return nil
}

// Add creates a further operator. The error is store.ErrTaken if the name is in use.
func (r *Registry) Add(ctx context.Context, name, clear string, role Role) error {
	return r.add(ctx, name, clear, role, false)
}

// Set gives an operator, by identifier or name, another role, limited to clients with tags (key=value; none is all
// clients). It counts for their next call already. The error is ErrLast for the last owner, store.ErrNotFound for
// nobody.
func (r *Registry) Set(ctx context.Context, ref string, role Role, tags []string) error {
	for _, tag := range tags {
		if key, value, ok := strings.Cut(tag, "="); !ok || key == "" || value == "" ||
			strings.ContainsAny(tag, " \t\n") {
			return &FieldError{
				"clients",
				fmt.Sprintf("%q is no tag", tag),
				"Write key=value, such as site=north-pier.",
			}
		}
	}
	if role == Owner && len(tags) > 0 {
		return &FieldError{"clients", "an owner is not limited to some clients", "Give another role, or no tags."}
	}
	return r.change(ctx, ref, func(o store.Operator) error {
		if o.Source != "" && Role(o.Role) != role {
			return &FieldError{"role", "the role of this operator comes from groups of " + o.Source,
				"Change the groups, or which role they have."}
		}
		return r.store.SetRole(ctx, o.ID, string(role), strings.Join(tags, " "))
	})
}

// Remove removes an operator, by identifier or name, with all sessions and tokens. The errors are those of SetRole.
func (r *Registry) Remove(ctx context.Context, ref string) error {
	return r.change(ctx, ref, func(o store.Operator) error {
		if err := r.store.RemoveOperator(ctx, o.ID); err != nil {
			return err
		}
		return r.factors.ReloadPerson(ctx, place, o.Name) // gone too; a new one of that name begins without
	})
}

func (r *Registry) change(ctx context.Context, ref string, do func(store.Operator) error) error {
	list, err := r.store.Operators(ctx)
	if err != nil {
		return err
	}
	for _, o := range list {
		if o.ID != ref && !strings.EqualFold(o.Name, ref) {
			continue
		}
		if err = do(o); errors.Is(err, store.ErrNotFound) { // it is there, so that was the condition
			return ErrLast
		}
		return err
	}
	return store.ErrNotFound
}

func (r *Registry) add(ctx context.Context, name, clear string, role Role, first bool) error {
	name = strings.TrimSpace(name)
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
	now := time.Now()
	return r.store.AddOperator(ctx, store.Operator{ID: r.ids.New(now).String(), Name: name, Hash: hash,
		Role: string(role), CreatedAt: now.UnixMilli()}, first)
}

// SecondFactors are the second factors of operators.
func (r *Registry) SecondFactors() *factor.Keeper { return r.factors }
