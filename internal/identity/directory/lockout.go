package directory

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/lockout"
)

const (
	// lockoutLife is how long the lockout rule of a domain is used before it is read again.
	lockoutLife = 10 * time.Minute
	// lockoutAgain is how long it is used at least, whatever happens.
	lockoutAgain = 2 * time.Second
	// usualWindow is taken where a domain tells none.
	usualWindow = 30 * time.Minute
	// margin is how many wrong passwords are left to the person, at the keyboard of a computer of the domain.
	margin = 2
)

// Lockout is the rule by which a domain locks accounts.
type Lockout struct {
	// Threshold is how many wrong passwords lock an account, 0 if none do.
	Threshold int
	// Window is how long they count; 0 is not told.
	Window time.Duration
}

// Lockout reads the rule of the domain, or takes what was read lately.
func (d *Directory) Lockout(ctx context.Context) (Lockout, error) {
	d.mu.Lock()
	rule, at := d.lockout, d.lockoutAt
	due := d.cfg.Kind == config.ActiveDirectory && time.Since(at) >= lockoutLife
	if due && !at.IsZero() {
		d.lockoutAt = time.Now() // whoever comes meanwhile goes by the rule as it was
	}
	d.mu.Unlock()
	if !due {
		return rule, nil
	}
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		r, err := readRoot(c)
		if err != nil {
			return err
		}
		if domain := r.defaultContext(); domain != "" {
			base = domain
		}
		result, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1,
			d.seconds(), false, "(objectClass=*)", []string{"lockoutThreshold", "lockOutObservationWindow"}, nil))
		if err != nil || len(result.Entries) == 0 {
			return err
		}
		threshold, err := strconv.Atoi(result.Entries[0].GetEqualFoldAttributeValue("lockoutThreshold"))
		if err != nil { // not for us to read, perhaps since lately: what was read before stays in force
			return fmt.Errorf("%s tells no lockoutThreshold: %w", base, err)
		}
		window, _ := strconv.ParseInt(result.Entries[0].GetEqualFoldAttributeValue("lockOutObservationWindow"), 10, 64)
		rule.Threshold = threshold
		rule.Window = time.Duration(-window) * 100 // stored as a negative number of 100 ns
		return nil
	})
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.lockoutAt = time.Now(); err == nil {
		d.lockout = rule
	}
	return d.lockout, err
}

// FoundLocked notes that an account of the domain is locked: the rule may be stricter than what was read, and is read
// again when it is needed next.
func (d *Directory) FoundLocked() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if time.Since(d.lockoutAt) >= lockoutAgain && !d.lockoutAt.IsZero() {
		d.lockoutAt = time.Now().Add(-lockoutLife)
	}
}

// Guard says when wrong passwords are to be held back: as configured, or before the domain would lock the account.
func (d *Directory) Guard(ctx context.Context) lockout.Limits {
	if d.cfg.GuardAfter < 0 {
		return lockout.Limits{}
	}
	rule, _ := d.Lockout(ctx) // what cannot be read holds nobody up
	out := lockout.Limits{After: d.cfg.GuardAfter, Window: rule.Window}
	if out.Window <= 0 {
		out.Window = usualWindow
	}
	if out.After == 0 && rule.Threshold > 0 {
		out.After = max(1, rule.Threshold-margin)
	}
	return out
}

// WrongPasswords is how many the server that is asked counts for somebody now; others may have passed some on too. It
// is 0 where that is not told.
func (d *Directory) WrongPasswords(ctx context.Context, dn string) int {
	n := 0
	if d.cfg.Kind != config.ActiveDirectory {
		return 0
	}
	d.with(ctx, func(c *ldap.Conn) error {
		result, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, d.seconds(),
			false, "(objectClass=*)", []string{"badPwdCount"}, nil))
		if err == nil && len(result.Entries) > 0 {
			n, _ = strconv.Atoi(result.Entries[0].GetEqualFoldAttributeValue("badPwdCount"))
		}
		return err
	})
	return n
}
