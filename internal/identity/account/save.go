package account

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/store"
)

// FieldError is a fault in one field of an account.
type FieldError = sheet.Fault

func (a *Account) check(hasPassword bool) error {
	switch {
	case a.Name == "" || len(a.Name) > 100:
		return sheet.Fail("name", "the name needs 1 to 100 octets", "Give the name with which the person signs in.")
	case strings.ContainsAny(a.Name, "@\\/\"\n\r\t "):
		return sheet.Fail("name", "the name holds a space, a quotation mark, a slash or a realm",
			`Give the bare name, without @suffix or PREFIX\.`)
	case len(a.Display) > 200 || len(a.Mail) > 200:
		return sheet.Fail("display", "the text has more than 200 octets", "Shorten it.")
	case len(a.Groups) > 200:
		return sheet.Fail("groups", "more than 200 groups", "Remove some.")
	case !hasPassword:
		return sheet.Fail("password", "a new account needs a password", "Give one.")
	case a.Keeps != config.KeepsHash && a.Keeps != config.KeepsNTHash && a.Keeps != config.KeepsPassword:
		return sheet.Fail("keeps", fmt.Sprintf("%q is nothing that can be kept", a.Keeps),
			"Use hash, nt-hash or password.")
	}
	return nil
}

// Save adds an account or replaces the one of the same ID. An empty password keeps the one it has.
func (k *Keeper) Save(ctx context.Context, a Account, clear string) (*Account, error) {
	k.editing.Lock()
	defer k.editing.Unlock()
	old := k.ofID(a.ID)
	a.normalise(old)
	if old != nil && old.pending() && clear == "" && a.Keeps != old.Keeps {
		var err error
		if clear, err = k.openPending(old); err != nil {
			return nil, err
		}
	}
	if old != nil {
		a.hash, a.proof, a.version = old.hash, old.proof, old.version+1
	} else if k.count() >= maxAccounts {
		return nil, sheet.Fail("name", fmt.Sprintf("there are %d local accounts already", maxAccounts),
			"Use a directory.")
	}
	if err := a.check(old != nil || clear != ""); err != nil {
		return nil, err
	}
	a.OpenedAt, a.OpenedOn, a.Uses, a.devices = time.Time{}, "", 0, nil
	if old != nil && clear == "" { // only a new password seals it again
		a.OpenedAt, a.OpenedOn, a.Uses = old.OpenedAt, old.OpenedOn, old.Uses
	}
	if a.Emergency = strings.TrimSpace(a.Emergency); a.Emergency != "" {
		var err error
		if a.devices, err = parseDevices(a.Emergency); err != nil {
			return nil, err
		}
		a.Emergency = a.devices.String()
	}
	if clear != "" {
		var err error
		if a.hash, err = password.People.Hash(ctx, clear); err != nil {
			return nil, sheet.Fail("password", err.Error(), "Give a shorter one.")
		}
	}
	if err := k.seal(&a, old, clear); err != nil {
		return nil, err
	}
	if err := k.store.SaveAccount(ctx, a.row()); errors.Is(err, store.ErrTaken) {
		return nil, sheet.Fail("name", fmt.Sprintf("another account is called %q", a.Name), "Choose a different name.")
	} else if err != nil {
		return nil, fmt.Errorf("storing the account %s: %w", a.Name, err)
	}
	kept := a
	k.use(&kept)
	return &a, nil
}

// normalise trims what was typed, and keeps of the password what is kept now unless something else is asked for.
func (a *Account) normalise(old *Account) {
	a.Name, a.Display, a.Mail = strings.TrimSpace(a.Name), strings.TrimSpace(a.Display), strings.TrimSpace(a.Mail)
	groups := []string{}
	for _, g := range a.Groups {
		if g = strings.TrimSpace(g); g != "" && !slices.Contains(groups, g) {
			groups = append(groups, g)
		}
	}
	a.Groups = groups
	a.ChangedAt = time.UnixMilli(a.ChangedAt.UnixMilli()) // as it is stored: an entity tag survives a restart
	if a.Keeps == "" {
		if a.Keeps = config.KeepsHash; old != nil {
			a.Keeps = old.Keeps
		}
	}
}

// row is the account as it is stored.
func (a *Account) row() store.Account {
	list, _ := json.Marshal(a.Groups)
	row := store.Account{ID: a.ID, Name: a.Name, Display: a.Display, Mail: a.Mail, Groups: list, Enabled: a.Enabled,
		Hash: a.hash, Keeps: string(a.Keeps), Proof: string(a.proof), Version: a.version,
		ChangedAt: a.ChangedAt.UnixMilli(), ChangedBy: a.ChangedBy}
	row.Emergency, row.OpenedOn, row.Uses = a.Emergency, a.OpenedOn, a.Uses
	if !a.OpenedAt.IsZero() {
		row.Opened = a.OpenedAt.UnixMilli()
	}
	if !a.Expires.IsZero() {
		row.Expires = a.Expires.UnixMilli()
	}
	return row
}

// Remove removes an account by ID.
func (k *Keeper) Remove(ctx context.Context, id string) error {
	k.editing.Lock()
	defer k.editing.Unlock()
	a := k.ofID(id)
	if a == nil {
		return store.ErrNotFound
	}
	if err := k.store.RemoveAccount(ctx, id); err != nil {
		return fmt.Errorf("removing the account %s: %w", a.Name, err)
	}
	k.forget(a)
	return nil
}
