package main

import (
	"flag"
	"net/http"
	"net/url"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var accounts = kind[apitype.Account]{
	noun: "account", path: "/accounts",
	headings: []string{"NAME", "PERSON", "GROUPS", "STATE"},
	row: func(a apitype.Account) []string {
		return []string{a.Name, a.Display, strings.Join(a.Groups, ", "), accountState(a)}
	},
	show: func(s *invocation, a apitype.Account) {
		s.fields([2]string{"name", a.Name}, [2]string{"person", a.Display}, [2]string{"mail", a.Mail},
			[2]string{"groups", strings.Join(a.Groups, ", ")}, [2]string{"state", accountState(a)},
			[2]string{"keeps", a.Keeps},
			[2]string{"changed", a.ChangedAt.Local().Format("2006-01-02 15:04") + " by " + a.ChangedBy})
	},
}

func accountState(a apitype.Account) string {
	switch {
	case a.OpenedAt != nil:
		return "SEAL BROKEN " + a.OpenedAt.Local().Format("2006-01-02 15:04") + " on " + a.OpenedOn
	case a.Emergency != "" && a.Enabled:
		return "sealed, for " + a.Emergency
	case !a.Enabled:
		return "disabled"
	case a.Expires != nil && a.Expires.Before(time.Now()):
		return "expired " + a.Expires.Format("2006-01-02")
	case a.Expires != nil:
		return "until " + a.Expires.Format("2006-01-02")
	}
	return "may sign in"
}

type accountFlags struct {
	groups                              list
	name, display, mail, expires, keeps *string
	emergency                           *string
	password, on, off                   *bool
}

func newAccountFlags(f *flag.FlagSet) *accountFlags {
	a := &accountFlags{}
	f.Var(&a.groups, "group", "group of the person; repeatable")
	a.name, a.display, a.mail = f.String("name", "", "new name"), f.String("person", "", "full name"),
		f.String("mail", "", "mail address")
	a.expires = f.String("expires", "", "day from which the account is expired, such as 2027-03-01; never for none")
	a.keeps = f.String("keeps", "", "what is kept of the password: hash, nt-hash (for MS-CHAP) or password (for "+
		"CHAP too)")
	a.emergency = f.String("emergency", "", "for an emergency account: the condition over devices it is for; none "+
		"for none")
	a.password = f.Bool("password", false, "read the password from the standard input, or ask for it")
	a.on, a.off = f.Bool("on", false, "may sign in"), f.Bool("off", false, "may not sign in")
	return a
}

func (a *accountFlags) input(s *invocation, was map[string]bool, in *apitype.AccountInput) error {
	if was["group"] {
		in.Groups = a.groups
	}
	if was["name"] {
		in.Name = *a.name
	}
	if was["person"] {
		in.Display = *a.display
	}
	if was["mail"] {
		in.Mail = *a.mail
	}
	if was["emergency"] {
		in.Emergency = strings.TrimSuffix(*a.emergency, "none")
	}
	if was["keeps"] {
		in.Keeps = *a.keeps
	}
	switch *a.expires {
	case "":
	case "never":
		in.Expires = nil
	default:
		at, err := time.Parse("2006-01-02", *a.expires)
		if err != nil {
			return usageError("-expires takes a day such as 2027-03-01, or never")
		}
		in.Expires = &at
	}
	in.Enabled = (in.Enabled || *a.on) && !*a.off
	if *a.password {
		password, err := s.secret("Password of " + in.Name)
		if err != nil {
			return err
		}
		in.Password = password
	}
	return nil
}

func accountCommands() []command {
	list := accounts.commands()[:2]
	return append(list,
		importCommand("account", "import local accounts from CSV (- is the standard input)"),
		command{"account", "add", "NAME", "add a local account at once; asks for the password",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				a := newAccountFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					*a.password = true
					in := apitype.AccountInput{AccountFields: apitype.AccountFields{Name: name, Enabled: true,
						Groups: []string{}}}
					if err := a.input(s, given(f), &in); err != nil {
						return err
					}
					var out apitype.Account
					if err := s.api.Do(s.ctx, http.MethodPost, "/accounts", in, &out); err != nil {
						return err
					}
					return s.print(out, func() { s.say("account %s added; it can sign in from now on.", out.Name) })
				}
			}},
		command{"account", "change", "NAME", "change a local account (takes effect at once)",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				a := newAccountFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					old, err := client.Get[apitype.Account](s.ctx, s.api, "/accounts/"+url.PathEscape(name))
					if err != nil {
						return err
					}
					in := apitype.AccountInput{AccountFields: old.AccountFields}
					if err := a.input(s, given(f), &in); err != nil {
						return err
					}
					var out apitype.Account
					if err := s.api.Do(s.ctx, http.MethodPut, "/accounts/"+url.PathEscape(old.ID), in, &out,
						client.IfMatch(old.Tag)); err != nil {
						return err
					}
					return s.print(out, func() { s.say("account %s changed: %s.", out.Name, accountState(out)) })
				}
			}},
		command{"account", "seal", "NAME", "give an emergency account a new password, printed once",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "account")
					if err != nil {
						return err
					}
					var out apitype.Sealed
					if err := s.api.Do(s.ctx, http.MethodPost, "/accounts/"+url.PathEscape(name)+"/seal", nil,
						&out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("account %s is sealed. Its password, shown only here: %s", out.Account.Name, out.Password)
					})
				}
			}},
		command{"account", "remove", "NAME", "remove a local account (takes effect at once)",
			func(*flag.FlagSet) func(*invocation,
				[]string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "account")
					if err != nil {
						return err
					}
					if err := s.api.Do(s.ctx, http.MethodDelete, "/accounts/"+url.PathEscape(name), nil,
						nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() { s.say("account %s removed.", name) })
				}
			}})
}
