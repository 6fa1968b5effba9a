package main

import (
	"flag"
	"net/http"
	"net/url"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// member says in which domain we are, and as what.
func member(d apitype.Directory) string {
	if d.Computer == "" {
		return ""
	}
	return d.Domain + " as " + d.Computer + "$"
}

func joinCommands() []command {
	return []command{
		{"directory", "join", "NAME", "join the domain, so that MS-CHAP can be checked",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				in := apitype.JoinInput{}
				f.StringVar(&in.Name, "as", "", "who may create the machine account; the password is asked for, used "+
					"once, and not kept")
				f.StringVar(&in.Computer, "computer", "", "name of the machine account; each of several servers needs "+
					"its own")
				f.StringVar(&in.OU, "ou", "", "container, as a DN; default: the container for computers")
				p := publishFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "directory")
					if err != nil {
						return err
					}
					if in.Name == "" || in.Computer == "" {
						return usageError("say who may create the machine account with -as, and its name with " +
							"-computer")
					}
					if in.Password, err = s.secret("Password of " + in.Name); err != nil {
						return err
					}
					var out apitype.Joined
					if err := s.api.Do(s.ctx, http.MethodPost, "/directories/"+url.PathEscape(name)+"/join"+p.query(),
						in,
						&out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("%s is the machine account of this server; %s confirmed its secure channel.", out.DN,
							out.Controller)
						s.saved("directory", name, "changed", out.Revision)
					})
				}
			}},
		{"directory", "leave", "NAME", "leave its domain; with -as its machine account goes too",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				in := apitype.LeaveInput{}
				f.StringVar(&in.Name, "as", "", "who may remove the machine account; the password is asked for, used "+
					"once, and not kept")
				p := publishFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "directory")
					if err != nil {
						return err
					}
					if in.Name != "" {
						if in.Password, err = s.secret("Password of " + in.Name); err != nil {
							return err
						}
					}
					var out apitype.Published
					if err := s.api.Do(s.ctx, http.MethodPost, directoryPath(name)+"/leave"+p.query(), in,
						&out); err != nil {
						return err
					}
					return s.print(out, func() { s.saved("directory", name, "changed", out.Revision) })
				}
			}},
		{"directory", "rotate", "NAME", "change the password of the machine account now",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "directory")
					if err != nil {
						return err
					}
					var out apitype.Rotated
					if err := s.api.Do(s.ctx, http.MethodPost, directoryPath(name)+"/rotate", nil, &out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("The machine account has a new password; the next follows by itself in 30 days.")
					})
				}
			}},
		{"directory", "delegation", "NAME ACCOUNT", "the least right that an account needs to join the domain",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				ou := f.String("ou", "", "container, as a DN; without it the one for computers")
				return func(s *invocation, args []string) error {
					if len(args) != 2 {
						return usageError("give a directory and an account of its domain")
					}
					out, err := client.Get[results.Delegation](s.ctx, s.api, directoryPath(args[0])+"/delegation?"+
						url.Values{"name": {args[1]}, "ou": {*ou}}.Encode())
					if err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("To join, the account needs one right: to create computer objects in the container.")
						s.fields([2]string{"container", out.Container}, [2]string{"account", out.Account},
							[2]string{"SID", out.SID}, [2]string{"entry to add (SDDL)", out.ACE})
					})
				}
			}},
	}
}
