package main

import (
	"flag"
	"net/http"
	"net/url"

	"tollgate.example/key/internal/apitype"
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
		{"directory", "join", "NAME", "join its domain, so that MS-CHAP can be checked", func(f *flag.FlagSet) func(*session, []string) error {
			in := apitype.JoinInput{}
			f.StringVar(&in.Name, "as", "", "who may create the machine account; the password is asked for, used once, and not kept")
			f.StringVar(&in.Computer, "computer", "", "name of the machine account; each of several servers needs its own")
			f.StringVar(&in.OU, "ou", "", "container, as a DN; without it the one that the domain keeps for computers")
			p := publishFlags(f)
			return func(s *session, args []string) error {
				name, err := one(args, "directory")
				if err != nil {
					return err
				}
				if in.Name == "" || in.Computer == "" {
					return usageError("say who may create the machine account with -as, and its name with -computer")
				}
				if in.Password, err = s.secret("Password of " + in.Name); err != nil {
					return err
				}
				var out apitype.Joined
				if err := s.api.Do(s.ctx, http.MethodPost, "/directories/"+url.PathEscape(name)+"/join"+p.query(), in, &out); err != nil {
					return err
				}
				return s.print(out, func() {
					s.say("%s is our machine account; %s agreed on a secure channel with it.", out.DN, out.Controller)
					s.saved("directory", name, "changed", out.Revision)
				})
			}
		}},
		{"directory", "leave", "NAME", "leave its domain; the machine account stays there", func(f *flag.FlagSet) func(*session, []string) error {
			p := publishFlags(f)
			return func(s *session, args []string) error {
				name, err := one(args, "directory")
				if err != nil {
					return err
				}
				var out apitype.Published
				if err := s.api.Do(s.ctx, http.MethodPost, "/directories/"+url.PathEscape(name)+"/leave"+p.query(), nil, &out); err != nil {
					return err
				}
				return s.print(out, func() { s.saved("directory", name, "changed", out.Revision) })
			}
		}},
	}
}
