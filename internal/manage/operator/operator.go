// Package operator knows the people who administer Tollgate Key: their passwords (argon2id), browser sessions,
// command-line tokens, and the one-time code that creates the first of them.
package operator

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/store"
)

const (
	// sessionIdle ends a browser session that is not used; sessionTouch is how often its use is noted.
	sessionIdle  = 12 * time.Hour
	sessionTouch = time.Minute
	minPassword  = 10
	// patience is how long a sign-in waits for its turn to be checked.
	patience = 10 * time.Second
)

// Errors of signing in and setting up.
var (
	ErrWrong   = errors.New("the name or password is wrong")
	ErrTooMany = errors.New("too many sign-ins were tried; wait a little")
	ErrCode    = errors.New("the setup code is wrong; the service printed it when it started, and it is in the file " +
		"setup-code of the data directory")
	ErrSetUp    = errors.New("the first operator exists already; sign in")
	ErrPassword = fmt.Errorf("the password needs at least %d characters", minPassword)
	ErrName     = errors.New("the name needs 1 to 60 characters without spaces")
)

// Registry knows the operators.
type Registry struct {
	store *store.Store
	ids   *ident.Source
	path  string // of the setup code

	limits *limits

	mu   sync.Mutex
	code string // "" once set up
	// memory holds sessions that could not be stored, by what their bearers show.
	memory map[[sha256.Size]byte]store.Key
	dummy  string // hash that is checked for unknown names, so that they take as long
}

// Open reads whether an operator exists. If none does, it makes a setup code and writes it into the data directory.
func Open(ctx context.Context, s *store.Store, ids *ident.Source, dir string) (*Registry, error) {
	dummy, err := password.Operators.Hash(ctx, rand.Text())
	if err != nil {
		return nil, err
	}
	r := &Registry{store: s, ids: ids, path: filepath.Join(dir, "setup-code"), limits: newLimits(), dummy: dummy,
		memory: map[[sha256.Size]byte]store.Key{}}
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
	if allowed, _ := r.limits.take(from); !allowed {
		return ErrTooMany
	}
	code = strings.ToUpper(strings.TrimSpace(code))
	if subtle.ConstantTimeCompare([]byte(code), []byte(want)) != 1 {
		return ErrCode
	}
	if err := r.add(ctx, name, clear, true); err != nil {
		if errors.Is(err, store.ErrTaken) {
			return ErrSetUp
		}
		return err
	}
	r.mu.Lock()
	r.code = ""
	r.mu.Unlock()
	r.limits.succeeded(from)
	os.Remove(r.path)
	return nil
}

// Add creates a further operator. The error is store.ErrTaken if the name is in use.
func (r *Registry) Add(ctx context.Context, name, clear string) error {
	return r.add(ctx, name, clear, false)
}

func (r *Registry) add(ctx context.Context, name, clear string, first bool) error {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 60 || strings.ContainsAny(name, " \t\n\r\"") {
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
		CreatedAt: now.UnixMilli()}, first)
}

// SignIn checks name and password and starts a browser session, or makes a token if tokenName is given. It returns
// what the bearer has to show from now on.
func (r *Registry) SignIn(ctx context.Context, from, name, clear, tokenName string) (bearer string, err error) {
	allowed, known := r.limits.take(from)
	if !allowed {
		return "", ErrTooMany
	}
	o, err := r.store.OperatorByName(ctx, strings.TrimSpace(name))
	hash := o.Hash
	if errors.Is(err, store.ErrNotFound) {
		hash = r.dummy
	} else if err != nil {
		return "", err
	}
	slots := password.Strangers
	// however many guess from elsewhere, whoever comes from where somebody has signed in before does not wait for them
	if known {
		slots = password.Operators
	}
	limited, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	ok, checkErr := slots.Check(limited, hash, clear)
	switch {
	case errors.Is(checkErr, password.ErrBusy):
		return "", ErrTooMany
	case checkErr != nil:
		return "", checkErr
	case !ok || err != nil:
		return "", ErrWrong
	}
	r.limits.succeeded(from)
	if tokenName != "" {
		return r.Token(ctx, o.ID, tokenName)
	}
	return r.issue(ctx, o.ID, "session", "browser", time.Now().Add(sessionIdle))
}

// Token makes a command-line token for an operator. It does not expire; it can be removed.
func (r *Registry) Token(ctx context.Context, operatorID, name string) (string, error) {
	return r.issue(ctx, operatorID, "token", name, time.Time{})
}

func (r *Registry) issue(ctx context.Context, operatorID, kind, name string, expires time.Time) (string, error) {
	random := make([]byte, 32)
	rand.Read(random)
	bearer := "tk_" + base64.RawURLEncoding.EncodeToString(random)
	sum := sha256.Sum256([]byte(bearer))
	now := time.Now()
	k := store.Key{ID: r.ids.New(now).String(), Kind: kind, Hash: sum[:], Operator: operatorID, Name: name,
		CreatedAt: now.UnixMilli(), UsedAt: now.UnixMilli()}
	if !expires.IsZero() {
		k.ExpiresAt = expires.UnixMilli()
	}
	err := r.store.AddKey(ctx, k)
	if err != nil && kind == "session" && ctx.Err() == nil { // whoever comes to free the disk gets in
		r.keepUnsaved(sum, k)
		slog.Warn("a session that cannot be stored ends with the service", "operator", operatorID, "error", err)
		return bearer, nil
	}
	if err != nil {
		return "", fmt.Errorf("storing the %s: %w", kind, err)
	}
	return bearer, nil
}

// maxUnsaved bounds the sessions that could not be stored.
const maxUnsaved = 50

// keepUnsaved keeps a session in memory alone.
func (r *Registry) keepUnsaved(sum [sha256.Size]byte, k store.Key) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.memory) < maxUnsaved {
		r.memory[sum] = k
	}
}

// unsaved returns a session that is in memory alone.
func (r *Registry) unsaved(sum [sha256.Size]byte) (store.Key, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, there := r.memory[sum]
	return k, there
}

// Who is the bearer of a valid session or token.
type Who struct {
	ID    string // of the operator
	Name  string
	KeyID string
	Kind  string
}

// Verify returns who shows a bearer text; ErrWrong if it is unknown or has ended.
func (r *Registry) Verify(ctx context.Context, bearer string) (Who, error) {
	sum := sha256.Sum256([]byte(bearer))
	k, err := r.store.KeyByHash(ctx, sum[:])
	if errors.Is(err, store.ErrNotFound) {
		var there bool
		if k, there = r.unsaved(sum); !there {
			return Who{}, ErrWrong
		}
	} else if err != nil {
		return Who{}, err
	}
	now := time.Now()
	if k.ExpiresAt != 0 && now.UnixMilli() >= k.ExpiresAt {
		return Who{}, ErrWrong
	}
	// a use in the future was noted while the clock was ahead: the end of the session is then too far away as well
	if used := now.Sub(time.UnixMilli(k.UsedAt)); used > sessionTouch || used < -sessionTouch {
		expires := int64(0)
		if k.Kind == "session" {
			expires = now.Add(sessionIdle).UnixMilli()
		}
		// where the disk is full the session goes on, and ends as it would have without this use
		_ = r.store.TouchKey(ctx, k.ID, now.UnixMilli(), expires)
	}
	return Who{ID: k.Operator, Name: k.Holder, KeyID: k.ID, Kind: k.Kind}, nil
}
