package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func operatorSettingCommands() []command {
	return []command{
		{
			"operator",
			"settings",
			"",
			"how operators sign in, and what needs two of them",
			operatorSettings,
		},
		{"operator", "provider", "ISSUER", "sign operators in by an identity provider; or none",
			operatorProvider},
		{"operator", "sessions", "", "browser sessions: yours, for an owner those of all", listOperatorSessions},
		{
			"operator",
			"end-session",
			"ID",
			"end a browser session",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					id, err := one(args, "session")
					if err != nil {
						return err
					}
					if err := s.api.Do(s.ctx, http.MethodDelete, "/operator-sessions/"+url.PathEscape(id), nil,
						nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() { s.say("The session has ended.") })
				}
			},
		},
		{"operator", "password", "", "change your own password; your browser sessions end", ownPassword},
		{"operator", "drop-factor", "NAME", "remove the second factor of an operator who has lost it",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "operator")
					if err != nil {
						return err
					}
					if err := s.api.Do(s.ctx, http.MethodDelete, "/operators/"+url.PathEscape(name)+"/factor", nil,
						nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() { s.say("Operator %s has no second factor any more.", name) })
				}
			}},
	}
}

// words is a list of words with commas between; none is the empty one.
func words(text string) []string {
	if text == "" || text == "none" {
		return []string{}
	}
	return strings.Split(strings.ReplaceAll(text, " ", ""), ",")
}

// groupRole reads GROUP=ROLE, or DIRECTORY:GROUP=ROLE.
func groupRole(text string, ofDirectory bool) (g apitype.GroupRole, err error) {
	group, role, ok := cutLast(text, "=")
	if ofDirectory {
		directory, name, named := strings.Cut(group, ":")
		g.Directory, group, ok = directory, name, ok && named
	}
	if g.Group, g.Role = group, role; !ok {
		form := "GROUP=ROLE"
		if ofDirectory {
			form = "DIRECTORY:GROUP=ROLE"
		}
		return g, usageError(fmt.Sprintf("%q is not of the form %s", text, form))
	}
	return g, nil
}

// cutLast cuts at the last separator.
func cutLast(text, separator string) (before, after string, found bool) {
	at := strings.LastIndex(text, separator)
	if at < 0 {
		return text, "", false
	}
	return text[:at], text[at+len(separator):], true
}

func (s *invocation) settings() (apitype.OperatorSettings, error) {
	return client.Get[apitype.OperatorSettings](s.ctx, s.api, "/operator-settings")
}

func (s *invocation) saveSettings(o apitype.OperatorSettings) error {
	var out apitype.OperatorSettings
	if err := s.api.Do(s.ctx, http.MethodPut, "/operator-settings", o, &out, client.IfMatch(o.Tag)); err != nil {
		return err
	}
	return s.saySettings(out)
}

func operatorSettings(f *flag.FlagSet) func(*invocation, []string) error {
	factor := f.String("second-factor", "", "roles that need a second factor, with commas between; none for no role")
	idle := f.Duration("idle", 0, "after how long without use a session ends, such as 1h")
	last := f.Duration("last", 0, "after how long a session ends however much it is used, such as 12h")
	eyes := f.String("four-eyes", "", "on: a second engineer agrees to what touches lanes or passes; off")
	groups := list{}
	f.Var(&groups, "group", "DIRECTORY:GROUP=ROLE, whose members are operators; repeatable; none for no group")
	return func(s *invocation, _ []string) error {
		was := map[string]bool{}
		f.Visit(func(one *flag.Flag) { was[one.Name] = true })
		o, err := s.settings()
		if err != nil {
			return err
		}
		changed := false
		for name, set := range map[string]func() error{
			"second-factor": func() error { o.SecondFactor = words(*factor); return nil },
			"idle":          func() error { o.IdleMinutes = int(*idle / time.Minute); return nil },
			"last":          func() error { o.LastHours = int(*last / time.Hour); return nil },
			"four-eyes": func() error {
				if o.FourEyes = *eyes == "on"; *eyes != "on" && *eyes != "off" {
					return usageError("-four-eyes is on or off")
				}
				return nil
			},
			"group": func() error {
				o.Groups = []apitype.GroupRole{}
				for _, text := range groups {
					if text == "none" {
						continue
					}
					g, err := groupRole(text, true)
					if err != nil {
						return err
					}
					o.Groups = append(o.Groups, g)
				}
				return nil
			}} {
			if !was[name] {
				continue
			}
			if changed = true; set() != nil {
				return set()
			}
		}
		if !changed {
			return s.saySettings(o)
		}
		return s.saveSettings(o)
	}
}

// saySettings shows settings.
func (s *invocation) saySettings(o apitype.OperatorSettings) error {
	return s.print(o, func() {
		s.fields([2]string{"second factor", or(strings.Join(o.SecondFactor, ", "), "needed by no role")},
			[2]string{"sessions end", fmt.Sprintf("after %s without use, and after %s", shortly(o.IdleMinutes),
				shortly(60*o.LastHours))},
			[2]string{"four eyes", map[bool]string{true: "a second engineer agrees to what touches lanes or passes",
				false: "off"}[o.FourEyes]})
		for _, g := range o.Groups {
			s.fields([2]string{"group", fmt.Sprintf("%s of %s: %s", g.Group, g.Directory, g.Role)})
		}
		if p := o.Provider; p != nil {
			s.fields([2]string{"provider", p.Issuer}, [2]string{"client", p.ClientID},
				[2]string{"secret", map[bool]string{true: "set", false: "none"}[p.SecretSet]},
				[2]string{"redirect address", p.Back},
				[2]string{"claims", p.NameClaim + " is the name, " + p.GroupsClaim + " are the groups"},
				[2]string{"scopes", strings.Join(p.Scopes, " ")})
			for _, g := range p.Groups {
				s.fields([2]string{"group of the provider", g.Group + ": " + g.Role})
			}
		}
	})
}

// shortly is a duration of minutes.
func shortly(minutes int) string {
	return strings.TrimSuffix(strings.TrimSuffix((time.Duration(minutes)*time.Minute).String(), "0s"), "0m")
}

func operatorProvider(f *flag.FlagSet) func(*invocation, []string) error {
	p := apitype.Provider{}
	f.StringVar(&p.ClientID, "client-id", "", "what the provider calls this service")
	f.StringVar(&p.Console, "console", "", "address at which people open the console, such as https://key.example")
	f.StringVar(&p.Label, "label", "", "what stands on the button")
	f.StringVar(&p.NameClaim, "name-claim", "", "claim with the name; default preferred_username")
	f.StringVar(&p.GroupsClaim, "groups-claim", "", "claim with the groups; default groups")
	scopes, ca := f.String("scopes", "", "scopes to ask for beside openid, with commas between"), f.String("ca", "",
		"PEM file with the authority of the provider's certificate; default: what the system trusts")
	secret := f.Bool("secret", false, "ask for the client secret; without, the present one stays")
	groups := list{}
	f.Var(&groups, "group", "GROUP=ROLE; repeatable")
	return func(s *invocation, args []string) error {
		issuer, err := one(args, "issuer")
		if err != nil {
			return err
		}
		o, err := s.settings()
		if err != nil {
			return err
		}
		if o.Provider = nil; issuer == "none" {
			return s.saveSettings(o)
		}
		p.Issuer, p.Scopes, p.Groups = issuer, words(*scopes), []apitype.GroupRole{}
		for _, text := range groups {
			g, err := groupRole(text, false)
			if err != nil {
				return err
			}
			p.Groups = append(p.Groups, g)
		}
		if *ca != "" {
			text, err := os.ReadFile(*ca)
			if err != nil {
				return err
			}
			p.CA = string(text)
		}
		if *secret {
			if p.Secret, err = s.secret("Client secret"); err != nil {
				return err
			}
		}
		o.Provider = &p
		return s.saveSettings(o)
	}
}

func listOperatorSessions(*flag.FlagSet) func(*invocation, []string) error {
	return func(s *invocation, _ []string) error {
		all, err := client.All[apitype.OperatorSession](s.ctx, s.api, "/operator-sessions", nil)
		if err != nil {
			return err
		}
		return s.print(all, func() {
			var rows [][]string
			for _, one := range all {
				rows = append(rows, []string{one.ID, one.Operator, one.From, one.Begun.Local().Format("01-02 15:04"),
					one.Used.Local().Format("01-02 15:04"), one.Until.Local().Format("01-02 15:04")})
			}
			s.table([]string{"ID", "OPERATOR", "FROM", "BEGUN", "LAST USED", "ENDS"}, rows)
		})
	}
}

func ownPassword(*flag.FlagSet) func(*invocation, []string) error {
	return func(s *invocation, _ []string) error {
		present, err := s.secret("Present password")
		if err != nil {
			return err
		}
		next, err := s.secret("New password")
		if err != nil {
			return err
		}
		if err := s.api.Do(s.ctx, http.MethodPut, "/me/password", apitype.OwnPassword{Present: present, Next: next},
			nil); err != nil {
			return err
		}
		return s.print(struct{}{}, func() { s.say("The password is changed. Your browser sessions have ended.") })
	}
}
