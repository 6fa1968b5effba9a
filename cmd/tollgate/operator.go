package main

import (
	"flag"
	"net/http"
	"net/url"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

const roleHelp = "owner, engineer, helpdesk, reception or auditor"

func operatorCommands() []command {
	return []command{
		{"operator", "list", "", "list the operators", func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, _ []string) error {
				list, err := client.All[apitype.Operator](s.ctx, s.api, "/operators", nil)
				if err != nil {
					return err
				}
				return s.print(list, func() {
					var rows [][]string
					for _, o := range list {
						factor := map[bool]string{true: "yes", false: "no"}[o.SecondFactor]
						if o.Lacking {
							factor = "needed"
						}
						rows = append(rows, []string{o.Name, o.Role, or(strings.Join(o.Clients, " "), "all"), factor,
							or(o.Source, "here"), o.Created.Local().Format("2006-01-02")})
					}
					s.table([]string{"NAME", "ROLE", "CLIENTS", "SECOND FACTOR", "KEPT", "SINCE"}, rows)
				})
			}
		}},
		{"operator", "add", "NAME", "add an operator; the password is asked for",
			func(f *flag.FlagSet) func(*invocation,
				[]string) error {
				role := f.String("role", "engineer", roleHelp)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					password, err := s.secret("Password of " + name)
					if err != nil {
						return err
					}
					if err := s.api.Do(s.ctx, http.MethodPost, "/operators", apitype.OperatorInput{Name: name,
						Password: password, Role: *role}, nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() { s.say("Operator %s may sign in, as %s.", name, *role) })
				}
			}},
		{
			"operator",
			"change",
			"NAME",
			"give an operator another role, or other clients, at once",
			func(f *flag.FlagSet) func(*invocation,
				[]string) error {
				role, clients := f.String("role", "", roleHelp), list{}
				f.Var(
					&clients,
					"clients",
					"tag of the clients that the role is limited to, such as site=north-pier; "+
						"repeatable; none for all clients",
				)
				return func(s *invocation, args []string) error {
					name, err := one(args, "operator")
					if err != nil {
						return err
					}
					if *role == "" && len(clients) == 0 {
						return usageError(
							"say which role with -role: " + roleHelp + "; or which clients with -clients",
						)
					}
					all, err := client.All[apitype.Operator](s.ctx, s.api, "/operators", nil)
					if err != nil {
						return err
					}
					in := apitype.RoleInput{Role: *role, Clients: clients}
					for _, o := range all {
						if strings.EqualFold(o.Name, name) || o.ID == name {
							if in.Role = or(in.Role, o.Role); len(clients) == 0 {
								in.Clients = o.Clients
							}
						}
					}
					if len(clients) == 1 && clients[0] == "none" {
						in.Clients = nil
					}
					if err := s.api.Do(s.ctx, http.MethodPut, "/operators/"+url.PathEscape(name),
						in, nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() {
						limits := ""
						if len(in.Clients) > 0 {
							limits = ", for clients with " + strings.Join(in.Clients, " ")
						}
						s.say("Operator %s is %s from now on%s.", name, in.Role, limits)
					})
				}
			},
		},
		{"operator", "remove", "NAME", "remove an operator with all tokens", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, args []string) error {
				name, err := one(args, "operator")
				if err != nil {
					return err
				}
				if err := s.api.Do(s.ctx, http.MethodDelete, "/operators/"+url.PathEscape(name), nil, nil); err != nil {
					return err
				}
				return s.print(struct{}{}, func() { s.say("Operator %s is gone.", name) })
			}
		}},
		{"token", "list", "", "list the tokens", func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, _ []string) error {
				list, err := client.All[apitype.Token](s.ctx, s.api, "/tokens", nil)
				if err != nil {
					return err
				}
				return s.print(list, func() {
					var rows [][]string
					for _, t := range list {
						until := "never"
						if t.Until != nil {
							until = t.Until.Local().Format("2006-01-02")
						}
						rows = append(rows, []string{t.Name, t.Operator, or(t.Scope, "all of the role"),
							or(strings.Join(t.From, " "), "anywhere"), t.Used.Local().Format("2006-01-02 15:04"),
							until})
					}
					s.table([]string{"NAME", "OPERATOR", "MAY", "FROM", "LAST USED", "ENDS"}, rows)
				})
			}
		}},
		{"token", "add", "NAME", "make a token, shown once", func(f *flag.FlagSet) func(*invocation, []string) error {
			in, from := apitype.TokenInput{}, list{}
			f.IntVar(&in.Days, "days", 0, "how long it is good; default: 90, or as long as the token that makes it")
			f.StringVar(&in.Scope, "scope", "", "role whose rights it has at most; default: all of yours")
			f.Var(&from, "from", "prefix that it is good from; repeatable; default: anywhere")
			return func(s *invocation, args []string) error {
				name, err := one(args, "name that says what the token is for")
				if err != nil {
					return err
				}
				in.Name, in.From = name, from
				var out apitype.SignedIn
				if err := s.api.Do(s.ctx, http.MethodPost, "/tokens", in, &out); err != nil {
					return err
				}
				return s.print(out, func() { s.say("%s", out.Token) })
			}
		}},
		{"token", "remove", "NAME", "end a token", func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				name, err := one(args, "token")
				if err != nil {
					return err
				}
				page, err := client.Get[apitype.Page[apitype.Token]](s.ctx, s.api, "/tokens")
				if err != nil {
					return err
				}
				id, err := pick(page.Items, "tokens", name, func(t apitype.Token) (string, []string) {
					return t.ID, []string{t.Name}
				})
				if err != nil {
					return err
				}
				if err := s.api.Do(s.ctx, http.MethodDelete, "/tokens/"+url.PathEscape(id), nil, nil); err != nil {
					return err
				}
				return s.print(struct{}{}, func() { s.say("The token has ended.") })
			}
		}},
	}
}
