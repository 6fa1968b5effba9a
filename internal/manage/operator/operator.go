// Package operator knows the people who administer Tollgate Key: their passwords (argon2id), browser sessions,
// command-line tokens, and the one-time code that creates the first of them.
package operator

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
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
	if err := r.add(ctx, name, clear, Owner, true); err != nil {
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
func (r *Registry) Add(ctx context.Context, name, clear string, role Role) error {
	return r.add(ctx, name, clear, role, false)
}

// SetRole gives an operator, by identifier or name, another role. It counts for their next call already. The error is
// ErrLast for the last owner, store.ErrNotFound for nobody.
func (r *Registry) SetRole(ctx context.Context, ref string, role Role) error {
	return r.change(ctx, ref, func(o store.Operator) error { return r.store.SetRole(ctx, o.ID, string(role)) })
}

// Remove removes an operator, by identifier or name, with all sessions and tokens. The errors are those of SetRole.
func (r *Registry) Remove(ctx context.Context, ref string) error {
	return r.change(ctx, ref, func(o store.Operator) error { return r.store.RemoveOperator(ctx, o.ID) })
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
		Role: string(role), CreatedAt: now.UnixMilli()}, first)
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
		return r.Token(ctx, &Who{ID: o.ID}, Grant{Name: tokenName})
	}
	return r.issue(ctx, store.Key{Operator: o.ID, Kind: "session", Name: "browser",
		ExpiresAt: time.Now().Add(sessionIdle).UnixMilli()})
}

// TokenDays is how long a token is good unless something else is said.
const TokenDays = 90

// Grant is what a token is to allow.
type Grant struct {
	Name string
	// Days is how long it is good, 0 for TokenDays or as long as its maker is.
	Days int
	// Scope is a role whose rights it has at most, "" for all of its maker.
	Scope Role
	// From are the prefixes that it is good from, none for those of its maker.
	From []string
}

// Token makes a command-line token for the operator who asks. It ends with its operator. If the asker shows a token, it
// may no more, from no more places and no longer than that: the error is ErrWider.
func (r *Registry) Token(ctx context.Context, maker *Who, g Grant) (string, error) {
	prefixes, err := parsePrefixes(g.From)
	if err != nil {
		return "", err
	}
	end := time.Now().AddDate(0, 0, cmp.Or(g.Days, TokenDays)).UnixMilli()
	if maker.until != 0 && end > maker.until {
		if g.Days != 0 {
			return "", fmt.Errorf("%w: it ends on %s", ErrWider, time.UnixMilli(maker.until).Format(time.DateOnly))
		}
		end = maker.until
	}
	if own, _ := parsePrefixes(strings.Fields(maker.prefixes)); len(own) > 0 {
		if len(prefixes) == 0 {
			prefixes = own
		}
		for _, p := range prefixes {
			if !slices.ContainsFunc(own, func(o netip.Prefix) bool {
				return o.Bits() <= p.Bits() && o.Contains(p.Addr())
			}) {
				return "", fmt.Errorf("%w: it is good from %s", ErrWider, maker.prefixes)
			}
		}
	}
	if maker.Scope != "" && g.Scope != "" && g.Scope != maker.Scope {
		return "", fmt.Errorf("%w: its scope is %s", ErrWider, maker.Scope)
	}
	var from []string
	for _, p := range prefixes {
		from = append(from, p.String())
	}
	return r.issue(ctx, store.Key{Operator: maker.ID, Kind: "token", Name: g.Name, ExpiresAt: end,
		Scope: string(cmp.Or(g.Scope, maker.Scope)), Prefixes: strings.Join(from, " ")})
}

// parsePrefixes reads prefixes, and addresses as prefixes of one.
func parsePrefixes(texts []string) (out []netip.Prefix, err error) {
	for _, text := range texts {
		prefix, err := netip.ParsePrefix(text)
		if addr, one := netip.ParseAddr(text); err != nil && one == nil && addr.Zone() == "" {
			prefix, err = netip.PrefixFrom(addr, addr.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %q; write 192.0.2.0/24, or an address", ErrPrefix, text)
		}
		out = append(out, prefix.Masked())
	}
	return out, nil
}

func (r *Registry) issue(ctx context.Context, k store.Key) (string, error) {
	random := make([]byte, 32)
	rand.Read(random)
	bearer := "tk_" + base64.RawURLEncoding.EncodeToString(random)
	sum := sha256.Sum256([]byte(bearer))
	now := time.Now()
	k.ID, k.Hash, k.CreatedAt, k.UsedAt = r.ids.New(now).String(), sum[:], now.UnixMilli(), now.UnixMilli()
	err := r.store.AddKey(ctx, k)
	if err != nil && k.Kind == "session" && ctx.Err() == nil { // whoever comes to free the disk gets in
		r.keepUnsaved(sum, k)
		slog.Warn("a session that cannot be stored ends with the service", "operator", k.Operator, "error", err)
		return bearer, nil
	}
	if err != nil {
		return "", fmt.Errorf("storing the %s: %w", k.Kind, err)
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

// unsaved returns a session that is in memory alone, of an operator who is still there.
func (r *Registry) unsaved(ctx context.Context, sum [sha256.Size]byte) (store.Key, error) {
	r.mu.Lock()
	k, there := r.memory[sum]
	r.mu.Unlock()
	if !there {
		return k, ErrWrong
	}
	list, err := r.store.Operators(ctx)
	for _, o := range list {
		if o.ID == k.Operator {
			k.Holder, k.Role = o.Name, o.Role
			return k, nil
		}
	}
	return k, cmp.Or(err, ErrWrong)
}

// Who is the bearer of a valid session or token.
type Who struct {
	ID   string // of the operator
	Name string
	Role Role
	// Scope is a role whose rights the token has at most, "" for all of the operator's.
	Scope Role
	KeyID string
	// Kind is session or token, and Token the name of the token.
	Kind, Token string
	// until is when a token ends, in milliseconds since 1970, 0 for never; prefixes are where it is good from.
	until    int64
	prefixes string
}

// May reports whether the bearer may do something: the operator, and with what is shown.
func (w *Who) May(right Right) bool {
	return w.Role.May(right) && (w.Scope == "" || w.Scope.May(right))
}

// Rights are what the bearer may do, in words.
func (w *Who) Rights() []string {
	return slices.DeleteFunc(w.Role.Rights(), func(right string) bool {
		return w.Scope != "" && !slices.Contains(w.Scope.Rights(), right)
	})
}

// Verify returns who shows a bearer text, from an address; ErrWrong if it is unknown or has ended, ErrPlace if it is
// not good from there, with whose it is.
func (r *Registry) Verify(ctx context.Context, bearer, from string) (Who, error) {
	sum := sha256.Sum256([]byte(bearer))
	k, err := r.store.KeyByHash(ctx, sum[:])
	if errors.Is(err, store.ErrNotFound) {
		if k, err = r.unsaved(ctx, sum); err != nil {
			return Who{}, err
		}
	} else if err != nil {
		return Who{}, err
	}
	now := time.Now()
	if k.ExpiresAt != 0 && now.UnixMilli() >= k.ExpiresAt {
		return Who{}, ErrWrong
	}
	w := Who{ID: k.Operator, Name: k.Holder, Role: Role(k.Role), Scope: Role(k.Scope), KeyID: k.ID, Kind: k.Kind,
		Token: k.Name, prefixes: k.Prefixes}
	if !within(k.Prefixes, from) {
		return w, fmt.Errorf("%w: %s", ErrPlace, from)
	}
	// a use in the future was noted while the clock was ahead: the end of the session is then too far away as well
	if used := now.Sub(time.UnixMilli(k.UsedAt)); used > sessionTouch || used < -sessionTouch {
		expires := k.ExpiresAt
		if k.Kind == "session" {
			expires = now.Add(sessionIdle).UnixMilli()
		}
		// where the disk is full the session goes on, and ends as it would have without this use
		_ = r.store.TouchKey(ctx, k.ID, now.UnixMilli(), expires)
	}
	if k.Kind == "token" { // a browser session goes on with its use
		w.until = k.ExpiresAt
	}
	return w, nil
}

// within reports whether an address is in one of some prefixes, of which none are everywhere.
func within(prefixes, from string) bool {
	if prefixes == "" {
		return true
	}
	addr, err := netip.ParseAddr(from)
	if err != nil {
		return false
	}
	list, err := parsePrefixes(strings.Fields(prefixes))
	addr = addr.Unmap().WithZone("")
	return err == nil && slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(addr) })
}
