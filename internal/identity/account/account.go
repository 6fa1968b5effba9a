// Package account keeps the local accounts: people known to Tollgate Key itself. They are records, not part of the
// draft: a change takes effect at once.
package account

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/base/roster"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/rule"
	"tollgate.example/key/internal/store"
)

// verifiedFor is how long a password that was checked with argon2id is recognised again without that cost.
const verifiedFor = 10 * time.Minute

// patience is how long a password waits for its turn to be checked: longer no device waits for an answer.
const patience = 5 * time.Second

// maxAccounts bounds what is kept in memory.
const maxAccounts = 500_000

// Account is one local account. The hash stays inside this package.
type Account struct {
	ID      string
	Name    string
	Display string
	Mail    string
	Groups  []string
	Enabled bool
	Expires time.Time
	// Keeps is what is kept of the password: a hash, the NT hash too, or the password itself.
	Keeps     config.Keeps
	ChangedAt time.Time
	ChangedBy string
	// Emergency is the condition over devices of an emergency account, "" for an ordinary one. OpenedAt and OpenedOn
	// tell when and where its seal was broken, Uses how often it was used since.
	Emergency string
	OpenedAt  time.Time
	OpenedOn  string
	Uses      int
	devices   *rule.Condition

	hash    string
	proof   config.Secret
	version int64
}

// Store is where accounts are kept.
type Store interface {
	Accounts(ctx context.Context) ([]store.Account, error)
	AccountByID(ctx context.Context, id string) (store.Account, error)
	SaveAccount(ctx context.Context, a store.Account) error
	SaveAccounts(ctx context.Context, list []store.Account) error
	OpenEmergency(ctx context.Context, id, on string, at int64) error
	RemoveAccount(ctx context.Context, id string) error
}

// Keeper holds all accounts in memory over the store.
type Keeper struct {
	store Store
	box   *seal.Box

	mu           sync.RWMutex
	byName, byID map[string]*Account
	list         roster.List[Account]
	// unhashed counts the accounts whose password is still to be hashed, and hashing wakes who does that.
	unhashed atomic.Int64
	// broken counts the emergency accounts whose seal is broken.
	broken  atomic.Int64
	hashing chan struct{}

	// Recently verified passwords: account -> hash of the password under a key that lives only in this process. A
	// password that was right a moment ago is right again without a second argon2id; a wrong one always costs it.
	seen    sync.Map // account ID -> verified
	key     [32]byte
	editing sync.Mutex
	// checking joins checks of the same password of the same account that are under way.
	checking singleflight.Group
}

type verified struct {
	version int64
	mac     [sha256.Size]byte
	until   time.Time
}

// Open reads the accounts. What is kept to check challenges with is sealed with the box.
func Open(ctx context.Context, s Store, box *seal.Box) (*Keeper, error) {
	rows, err := s.Accounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the local accounts: %w", err)
	}
	k := &Keeper{store: s, box: box, byName: make(map[string]*Account, len(rows)),
		byID: make(map[string]*Account, len(rows)), hashing: make(chan struct{}, 1)}
	rand.Read(k.key[:])
	list := make([]*Account, len(rows))
	for i := range rows {
		list[i] = fromRow(&rows[i])
	}
	k.use(list...)
	return k, nil
}

// Reload reads an account anew, which was changed or removed by somebody else.
func (k *Keeper) Reload(ctx context.Context, id string) error {
	k.editing.Lock()
	defer k.editing.Unlock()
	row, err := k.store.AccountByID(ctx, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading local account %s anew: %w", id, err)
	}
	if err == nil {
		k.use(fromRow(&row))
	} else if old := k.ofID(id); old != nil {
		k.forget(old)
	}
	return nil
}

// use keeps accounts, in place of those of the same identifiers.
func (k *Keeper) use(list ...*Account) {
	entries := make([]roster.Entry[Account], len(list))
	k.mu.Lock()
	for i, a := range list {
		key := strings.ToLower(a.Name)
		entries[i] = roster.Entry[Account]{Key: key, Text: key + "\n" + strings.ToLower(a.Display), Of: a}
		if old := k.byID[a.ID]; old != nil {
			k.drop(old)
			if was := strings.ToLower(old.Name); was != key {
				defer k.list.Remove(was)
			}
		}
		k.byName[key], k.byID[a.ID] = a, a
		k.tally(a, 1)
	}
	k.mu.Unlock()
	k.list.Put(entries...)
	if k.unhashed.Load() > 0 {
		k.wake()
	}
	for _, a := range list {
		k.seen.Delete(a.ID)
	}
}

// drop takes an account out of the maps; the lock is held.
func (k *Keeper) drop(a *Account) {
	delete(k.byName, strings.ToLower(a.Name))
	delete(k.byID, a.ID)
	k.tally(a, -1)
}

func (k *Keeper) tally(a *Account, n int64) {
	if a.pending() {
		k.unhashed.Add(n)
	}
	if !a.OpenedAt.IsZero() {
		k.broken.Add(n)
	}
}

// forget no longer keeps an account.
func (k *Keeper) forget(a *Account) {
	k.mu.Lock()
	k.drop(a)
	k.mu.Unlock()
	k.list.Remove(strings.ToLower(a.Name))
	k.seen.Delete(a.ID)
}

func fromRow(row *store.Account) *Account {
	a := &Account{ID: row.ID, Name: row.Name, Display: row.Display, Mail: row.Mail, Groups: []string{},
		Enabled:   row.Enabled,
		ChangedAt: time.UnixMilli(row.ChangedAt), ChangedBy: row.ChangedBy, hash: row.Hash,
		Keeps: config.Keeps(row.Keeps), proof: config.Secret(row.Proof), version: row.Version}
	if err := json.Unmarshal(row.Groups, &a.Groups); err != nil {
		a.Groups = []string{}
	}
	if row.Expires != 0 {
		a.Expires = time.UnixMilli(row.Expires)
	}
	if row.Opened != 0 {
		a.OpenedAt = time.UnixMilli(row.Opened)
	}
	a.Emergency, a.OpenedOn, a.Uses = row.Emergency, row.OpenedOn, row.Uses
	if a.Emergency != "" { // it was checked when it was stored
		a.devices, _ = parseDevices(a.Emergency)
	}
	return a
}

// Person looks an account up by name; nil if there is none.
func (k *Keeper) Person(name string, now time.Time) *facts.Person {
	a := k.find(name)
	if a == nil || a.devices != nil { // an emergency account is found by Emergency alone
		return nil
	}
	return k.person(a, now)
}

func (k *Keeper) find(name string) *Account {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if a := k.byName[name]; a != nil {
		return a
	}
	return k.byName[strings.ToLower(name)]
}

// Recognises reports whether a password was found right lately, which costs nothing to find out.
func (k *Keeper) Recognises(name, clear string, now time.Time) bool {
	a := k.find(name)
	if a == nil || clear == "" {
		return false
	}
	v, ok := k.seen.Load(a.ID)
	if !ok {
		return false
	}
	mac, was := k.mac(a, clear), v.(*verified)
	return was.version == a.version && now.Before(was.until) && hmac.Equal(was.mac[:], mac[:])
}

// CheckPassword checks the password of an account. Waiting for its turn ends with the context.
func (k *Keeper) CheckPassword(ctx context.Context, name, clear string, now time.Time) (reason.Code, string) {
	a := k.find(name)
	switch {
	case a == nil:
		return reason.PersonUnknown, ""
	case clear == "":
		return reason.PasswordEmpty, ""
	case k.Recognises(name, clear, now):
		return reason.OK, ""
	}
	mac := k.mac(a, clear)
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	// Those who come with the same password at once, as devices do after a restart, share one argon2id.
	same, err, _ := k.checking.Do(string(mac[:]), func() (any, error) {
		if a.pending() {
			return k.checkPending(a, clear)
		}
		return password.People.Check(ctx, a.hash, clear)
	})
	ok, _ := same.(bool)
	switch {
	case errors.Is(err, password.ErrBusy):
		return reason.Busy, err.Error()
	case err != nil:
		return reason.DirectoryFailed, err.Error()
	case !ok:
		return reason.PasswordWrong, ""
	}
	k.seen.Store(a.ID, &verified{a.version, mac, now.Add(verifiedFor)})
	return reason.OK, ""
}

// mac is SHA-256 of the key, the account and the password. It never leaves this process, so that nobody can extend it.
func (k *Keeper) mac(a *Account, clear string) [sha256.Size]byte {
	var space [256]byte
	b := append(append(space[:0], k.key[:]...), a.ID...)
	b = append(strconv.AppendInt(b, a.version, 10), 0)
	return sha256.Sum256(append(b, clear...))
}

// List returns the accounts whose name or display name contains the text, in the order of names.
func (k *Keeper) List(text string) []*Account {
	out, _ := k.Page(text, "", math.MaxInt)
	return out
}

// Page returns up to so many accounts like List, those behind the one of an identifier; "" begins at the start. more
// tells that there are others.
func (k *Keeper) Page(text, after string, limit int) (page []*Account, more bool) {
	key := ""
	if a := k.ofID(after); a != nil {
		key = strings.ToLower(a.Name)
	}
	text = strings.ToLower(text)
	return k.list.Page(key, limit, func(e *roster.Entry[Account]) bool { return strings.Contains(e.Text, text) })
}

// Get returns an account by ID or name, nil if there is none.
func (k *Keeper) Get(ref string) *Account {
	if a := k.find(ref); a != nil {
		return a
	}
	return k.ofID(ref)
}

func (k *Keeper) ofID(id string) *Account {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.byID[id]
}

// Len is how many accounts there are.
func (k *Keeper) Len() int { return k.count() }

// Least is what is kept of the password of every account: the most that all of them can be checked with.
func (k *Keeper) Least() config.Keeps {
	least := config.KeepsPassword
	for _, a := range k.list.All() {
		switch {
		case a.Keeps == config.KeepsHash:
			return config.KeepsHash
		case a.Keeps == config.KeepsNTHash:
			least = config.KeepsNTHash
		}
	}
	return least
}

func (k *Keeper) count() int {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return len(k.byName)
}

// Groups lists the groups that local accounts are in.
func (k *Keeper) Groups() []string {
	seen := map[string]bool{}
	for _, a := range k.list.All() {
		for _, g := range a.Groups {
			seen[g] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}
