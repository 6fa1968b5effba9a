package operator

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// GroupRole gives the members of a group a role.
type GroupRole struct {
	// Directory is the name of a directory in use; empty in the groups of the identity provider.
	Directory string `json:"directory,omitempty"`
	Group     string `json:"group"`
	Role      Role   `json:"role"`
}

// Provider is an identity provider by OpenID Connect.
type Provider struct {
	// Issuer is its identifier, from which discovery begins.
	Issuer   string        `json:"issuer"`
	ClientID string        `json:"clientId"`
	Secret   config.Secret `json:"secret,omitempty"`
	// Label is what stands on the button.
	Label string `json:"label"`
	// CA is a PEM certificate that the provider's has to be issued by; "" is what the system trusts.
	CA string `json:"ca,omitempty"`
	// Console is the address at which people open the console: where the provider sends them back to.
	Console string `json:"console"`
	// NameClaim and GroupsClaim are the claims with the name and the groups.
	NameClaim   string      `json:"nameClaim"`
	GroupsClaim string      `json:"groupsClaim"`
	Scopes      []string    `json:"scopes"`
	Groups      []GroupRole `json:"groups"`
}

// SecretPlace is that of the client secret.
func (p *Provider) SecretPlace() config.Place {
	return config.Place{Purpose: "provider", Object: p.Issuer}
}

// Settings say how operators sign in, and what needs two of them.
type Settings struct {
	// SecondFactor are the roles that need a second factor.
	SecondFactor []Role `json:"secondFactor"`
	// IdleMinutes ends a session that is not used, LastHours one that is.
	IdleMinutes int `json:"idleMinutes"`
	LastHours   int `json:"lastHours"`
	// FourEyes has a second one agree to what touches lanes or passes.
	FourEyes bool        `json:"fourEyes"`
	Groups   []GroupRole `json:"groups"`
	Provider *Provider   `json:"provider,omitempty"`
}

// Usual are the settings where nobody has made any.
var Usual = Settings{IdleMinutes: 60, LastHours: 12, SecondFactor: []Role{}, Groups: []GroupRole{}}

// FieldError is a fault in one field.
type FieldError struct{ Field, Message, Remedy string }

func (e *FieldError) Error() string { return e.Field + ": " + e.Message + ". " + e.Remedy }

const maxGroups = 100

// check returns the first fault, and fills in what is usual.
func (s *Settings) check() error {
	for _, role := range s.SecondFactor {
		if _, err := ParseRole(string(role)); err != nil {
			return &FieldError{"secondFactor", err.Error(), "Name roles."}
		}
	}
	switch {
	case s.IdleMinutes < 5 || s.IdleMinutes > 24*60:
		return &FieldError{"idleMinutes", fmt.Sprintf("%d minutes are out of range", s.IdleMinutes), "Use 5 to 1440."}
	case s.LastHours < 1 || s.LastHours > 30*24:
		return &FieldError{"lastHours", fmt.Sprintf("%d hours are out of range", s.LastHours), "Use 1 to 720."}
	case s.IdleMinutes > s.LastHours*60:
		return &FieldError{"idleMinutes", "a session would end by its age before it could be idle for so long",
			"Use less, or let sessions last longer."}
	}
	if err := checkGroups("groups", s.Groups, true); err != nil {
		return err
	}
	if s.Provider != nil {
		return s.Provider.check()
	}
	return nil
}

func checkGroups(field string, list []GroupRole, ofDirectory bool) error {
	if len(list) > maxGroups {
		return &FieldError{field, fmt.Sprintf("%d groups are more than %d", len(list), maxGroups), "Use fewer."}
	}
	for i := range list {
		g := &list[i]
		g.Group, g.Directory = strings.TrimSpace(g.Group), strings.TrimSpace(g.Directory)
		at := fmt.Sprintf("%s[%d]", field, i)
		switch {
		case g.Group == "":
			return &FieldError{at + ".group", "no group is named", "Name one, or remove the line."}
		case ofDirectory && g.Directory == "":
			return &FieldError{at + ".directory", "no directory is named", "Name one that is in use."}
		}
		if _, err := ParseRole(string(g.Role)); err != nil {
			return &FieldError{at + ".role", err.Error(), ""}
		}
	}
	return nil
}

func (p *Provider) check() error {
	p.Issuer, p.Console = strings.TrimSpace(p.Issuer), strings.TrimRight(strings.TrimSpace(p.Console), "/")
	p.NameClaim, p.GroupsClaim = cmp.Or(p.NameClaim, "preferred_username"), cmp.Or(p.GroupsClaim, "groups")
	p.Label = cmp.Or(strings.TrimSpace(p.Label), "Single sign-on")
	for _, one := range []struct{ field, text string }{{"issuer", p.Issuer}, {"console", p.Console}} {
		u, err := url.Parse(one.text)
		local := err == nil &&
			(u.Hostname() == "localhost" || strings.HasPrefix(u.Hostname(), "127.") || u.Hostname() == "::1")
		if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && !(u.Scheme == "http" && local) {
			return &FieldError{"provider." + one.field, fmt.Sprintf("%q is no https address", one.text),
				"Give it as https://name, without user and password; http is for this machine alone."}
		}
	}
	switch {
	case p.ClientID == "":
		return &FieldError{
			"provider.clientId",
			"it is missing",
			"Give the one that the provider has for this service.",
		}
	case len(p.Groups) == 0:
		return &FieldError{"provider.groups", "no group has a role, so nobody could sign in", "Give a group a role."}
	}
	if !slices.Contains(p.Scopes, "openid") {
		p.Scopes = append([]string{"openid"}, p.Scopes...)
	}
	return checkGroups("provider.groups", p.Groups, false)
}

// Settings are those in force.
func (r *Registry) Settings() Settings { return *r.settings.Load() }

func (r *Registry) loadSettings(ctx context.Context) error {
	s := Usual
	text, err := r.store.OperatorSettings(ctx)
	if err == nil {
		err = json.Unmarshal([]byte(text), &s)
	} else if errors.Is(err, store.ErrNotFound) {
		err = nil
	}
	r.settings.Store(&s)
	return err
}

// SetSettings puts settings into force. The error is a FieldError where they cannot be.
func (r *Registry) SetSettings(ctx context.Context, s Settings) error {
	if err := s.check(); err != nil {
		return err
	}
	if s.FourEyes {
		list, err := r.store.Operators(ctx)
		if err != nil {
			return err
		}
		list = slices.DeleteFunc(list, func(o store.Operator) bool { return !Role(o.Role).May(Configure) })
		if len(list) < 2 {
			return &FieldError{"fourEyes", "there is only one operator who may publish", "Add a second one first."}
		}
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := r.store.SaveOperatorSettings(ctx, string(text)); err != nil {
		return err
	}
	r.settings.Store(&s)
	return nil
}

// idle is when a session ends that is used now, and was begun so that it lasts until some moment, in milliseconds.
func (r *Registry) idle(now time.Time, last int64) int64 {
	end := now.Add(time.Duration(r.settings.Load().IdleMinutes) * time.Minute).UnixMilli()
	if last != 0 {
		end = min(end, last)
	}
	return end
}

// RoleOf is the highest role that one of the groups gives, "" for none.
func RoleOf(list []GroupRole, directory string, groups []string) Role {
	best := -1
	for _, g := range list {
		if g.Directory != directory || !slices.ContainsFunc(groups, func(name string) bool {
			return strings.EqualFold(name, g.Group)
		}) {
			continue
		}
		if at := slices.Index(Roles, g.Role); best < 0 || at < best {
			best = at
		}
	}
	if best < 0 {
		return ""
	}
	return Roles[best]
}
