package account

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/store"
)

// Columns are those an import knows; name is the only one that must be there, and a password or its hash for an account
// that is new.
var Columns = []string{"name", "person", "mail", "groups", "enabled", "expires", "hash", "password"}

// Import reads accounts from CSV. Groups are separated by semicolons or bars; enabled is yes or no; expires is a date;
// hash is a password hashed by argon2id (RFC 9106) in its usual text form. A line replaces the account of the same
// name, and what it leaves out stays. A password is kept sealed until it has been hashed, which happens beside
// everything else. Unless partial is set, nothing is stored if any line is wrong; with check nothing is stored at all.
func (k *Keeper) Import(ctx context.Context, text string, check, partial bool, by string, newID func() string,
	now time.Time) (results.Import, error) {
	k.editing.Lock()
	defer k.editing.Unlock()
	var list []*Account
	report, err := sheet.Read(text, Columns, func(r *sheet.Row) (name, what string, keep func(), err error) {
		a, old, err := k.record(r, newID)
		if err != nil {
			return "", "", nil, err
		}
		a.ChangedAt, a.ChangedBy = time.UnixMilli(now.UnixMilli()), by
		keep = func() { list = append(list, a) }
		switch {
		case old == nil:
			what = "added"
		case a.same(old):
			what, keep = "same", func() {}
		default:
			what = "changed"
			a.version++
		}
		return a.Name, what, keep, nil
	})
	if err != nil || check || report.Wrong > 0 && !partial {
		return report, err
	}
	if k.count()+report.Added > maxAccounts {
		return report, sheet.Fail("csv", fmt.Sprintf("there would be more than %d local accounts",
			maxAccounts), "Use a directory.")
	}
	rows := make([]store.Account, len(list))
	for i, a := range list {
		rows[i] = a.row()
	}
	if err := k.store.SaveAccounts(ctx, rows); err != nil {
		return report, fmt.Errorf("storing the accounts: %w", err)
	}
	k.use(list...)
	report.Done = true
	return report, nil
}

// same reports whether storing the account would change nothing. A password always does.
func (a *Account) same(old *Account) bool {
	return a.Name == old.Name && a.Display == old.Display && a.Mail == old.Mail && a.Enabled == old.Enabled &&
		a.Expires.Equal(old.Expires) && slices.Equal(a.Groups, old.Groups) && a.hash == old.hash &&
		a.proof == old.proof
}

// record makes an account of one line; old is the one that it replaces, nil if it is new.
func (k *Keeper) record(r *sheet.Row, newID func() string) (a, old *Account, err error) {
	name, _ := r.Get("name")
	a = &Account{Enabled: true, Groups: []string{}, Keeps: config.KeepsHash}
	if old = k.find(name); old != nil {
		*a = *old
		if old.Emergency != "" {
			return nil, nil, sheet.Fail("name", "is an emergency account",
				"Change it by itself, so that its seal is looked at.")
		}
	} else {
		a.ID = newID()
	}
	a.Name = strings.Clone(name)
	for column, text := range map[string]*string{"person": &a.Display, "mail": &a.Mail} {
		if value, given := r.Get(column); given {
			*text = strings.Clone(value)
		}
	}
	if value, given := r.Get("groups"); given {
		a.Groups = strings.FieldsFunc(strings.Clone(value), func(r rune) bool { return r == ';' || r == '|' })
	}
	if value, given := r.Get("enabled"); given && value != "" {
		switch strings.ToLower(value) {
		case "yes", "true", "1":
			a.Enabled = true
		case "no", "false", "0":
			a.Enabled = false
		default:
			return nil, nil, sheet.Fail("enabled", fmt.Sprintf("%q is neither yes nor no", value),
				"Write yes or no.")
		}
	}
	if _, given := r.Get("expires"); given {
		if a.Expires, err = r.Date("expires"); err != nil {
			return nil, nil, err
		}
	}
	if err := k.recordPassword(r, a); err != nil {
		return nil, nil, err
	}
	a.normalise(old)
	return a, old, a.check(a.hash != "" || a.proof.Set())
}

// recordPassword takes the password or its hash of a line.
func (k *Keeper) recordPassword(r *sheet.Row, a *Account) error {
	hash, _ := r.Get("hash")
	clear, _ := r.Get("password")
	switch {
	case hash != "" && clear != "":
		return sheet.Fail("password", "there are a password and a hash", "Leave one out.")
	case hash != "":
		if err := password.Acceptable(hash); err != nil {
			return sheet.Fail("hash", err.Error(),
				"Write $argon2id$v=19$m=...,t=...,p=...$SALT$HASH.")
		}
		a.hash, a.proof, a.Keeps = strings.Clone(hash), "", config.KeepsHash
	case len(clear) > password.MaxLength:
		return sheet.Fail("password", fmt.Sprintf("it has more than %d octets", password.MaxLength),
			"Give a shorter one.")
	case clear != "" && a.Keeps == config.KeepsNTHash:
		return sheet.Fail("password", "the NT hash of this account is kept too",
			"Give it a new password by itself.")
	case clear != "":
		a.hash, a.proof = "", k.box.Seal(a.place(), clear)
	}
	return nil
}

// pending reports whether the password is still to be hashed; until then it is kept sealed.
func (a *Account) pending() bool { return a.hash == "" && a.proof.Set() }

// checkPending compares a password with one that is still to be hashed.
func (k *Keeper) checkPending(a *Account, clear string) (bool, error) {
	kept, err := k.openPending(a)
	if err != nil {
		return false, err
	}
	same, want := k.mac(a, clear), k.mac(a, kept)
	return same == want, nil
}

// openPending returns the password of an account that is still to be hashed.
func (k *Keeper) openPending(a *Account) (string, error) {
	kept, err := k.box.Open(a.place(), a.proof)
	if err != nil {
		return "", fmt.Errorf("opening what is kept of account %s: %w", a.Name, err)
	}
	return kept, nil
}

// Unhashed counts the accounts whose password is still to be hashed.
func (k *Keeper) Unhashed() int { return int(k.unhashed.Load()) }

func (k *Keeper) wake() {
	select {
	case k.hashing <- struct{}{}:
	default:
	}
}

// HashPending hashes the passwords that an import brought, one after another, until the context ends. It gives way to
// those who sign in.
func (k *Keeper) HashPending(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-k.hashing:
		}
		failed := false
		for _, a := range k.list.All() {
			if !a.pending() {
				continue
			}
			err := k.hashOne(ctx, a.ID)
			if ctx.Err() != nil {
				return
			}
			failed = failed || err != nil
		}
		if !failed {
			continue
		}
		select { // a full disk, or what is kept of one cannot be opened: it stays as it is, and holds up nobody else
		case <-ctx.Done():
			return
		case <-time.After(hashAgain):
			k.wake()
		}
	}
}

// hashAgain is when passwords that could not be hashed are tried again.
const hashAgain = time.Minute

// hashOne hashes the password of one account, unless it was changed meanwhile.
func (k *Keeper) hashOne(ctx context.Context, id string) error {
	a := k.ofID(id)
	if a == nil || !a.pending() {
		return nil
	}
	clear, err := k.openPending(a)
	if err != nil {
		return err
	}
	hash, err := password.Background.Hash(ctx, clear)
	if err != nil {
		return err
	}
	k.editing.Lock()
	defer k.editing.Unlock()
	if k.ofID(id) != a {
		return nil
	}
	next := *a
	next.hash, next.version = hash, a.version+1
	if next.Keeps == config.KeepsHash {
		next.proof = ""
	}
	if err := k.store.SaveAccounts(ctx, []store.Account{next.row()}); err != nil {
		return errors.Join(fmt.Errorf("storing the account %s", a.Name), err)
	}
	k.use(&next)
	return nil
}
