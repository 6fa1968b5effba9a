package operator

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

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
	// Address and Agent are where and by which program it is made.
	Address, Agent string
}

// elsewhereDays is how long tokens are good at most of those who are kept elsewhere: nobody tells us when they leave.
const elsewhereDays = 7

// Token makes a command-line token for the operator who asks. It ends with its operator. If the asker shows a token, it
// may no more, from no more places and no longer than that: the error is ErrWider.
func (r *Registry) Token(ctx context.Context, maker *Who, g Grant) (string, error) {
	prefixes, err := parsePrefixes(g.From)
	if err != nil {
		return "", err
	}
	days := cmp.Or(g.Days, TokenDays)
	if maker.Elsewhere {
		if g.Days > elsewhereDays {
			return "", fmt.Errorf(
				"%w: of operators who are kept elsewhere, tokens are good for %d days at most",
				ErrWider,
				elsewhereDays,
			)
		}
		days = min(days, elsewhereDays)
	}
	end := time.Now().AddDate(0, 0, days).UnixMilli()
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
	return r.issue(
		ctx,
		store.Key{Operator: maker.ID, Kind: "token", Name: g.Name, ExpiresAt: end, Address: g.Address, Agent: g.Agent,
			Scope: string(cmp.Or(g.Scope, maker.Scope)), Prefixes: strings.Join(from, " ")},
	)
}

// parsePrefixes reads prefixes, and addresses as prefixes of one.
func parsePrefixes(texts []string) (out []netip.Prefix, err error) {
	for _, text := range texts {
		prefix, err := config.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("%w: %q; write 192.0.2.0/24, or an address", ErrPrefix, text)
		}
		out = append(out, prefix)
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
			k.Holder, k.Role, k.Source, k.Limits = o.Name, o.Role, o.Source, o.Limits
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
	// Elsewhere tells that the operator is kept in a directory, or by the identity provider.
	Elsewhere bool
	// Source is where, "" for here.
	Source string
	// Limits are the tags of clients that the role is limited to.
	Limits []string
	// Enrolling tells that the role needs a second factor that was not shown: nothing else is allowed before.
	Enrolling bool
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
		Token: k.Name, prefixes: k.Prefixes, Elsewhere: k.Source != "", Source: k.Source,
		Limits: strings.Fields(k.Limits)}
	if k.Kind == "session" && !k.Factor && r.Needs(w.Role) {
		w.Scope, w.Enrolling = enrolling, true
	}
	if !within(k.Prefixes, from) {
		return w, fmt.Errorf("%w: %s", ErrPlace, from)
	}
	// a use in the future was noted while the clock was ahead: the end of the session is then too far away as well
	if used := now.Sub(time.UnixMilli(k.UsedAt)); used > sessionTouch || used < -sessionTouch {
		expires := k.ExpiresAt
		if k.Kind == "session" {
			expires = r.idle(now, k.LastAt)
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
