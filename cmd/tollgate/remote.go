package main

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/web/apitype"
)

var remotes = kind[apitype.Remote]{
	noun: "remote", path: "/remotes",
	headings: []string{"NAME", "ADDRESS", "TRIES", "STATE", "LANES"},
	row: func(r apitype.Remote) []string {
		return []string{r.Name, r.Address, fmt.Sprintf("%d x %d ms", r.Tries, r.TimeoutMillis),
			map[bool]string{true: "silent"}[r.Silent], strings.Join(r.UsedBy, ", ")}
	},
	show: func(s *invocation, r apitype.Remote) {
		s.fields([2]string{"name", r.Name}, [2]string{"address", r.Address},
			[2]string{"tries", fmt.Sprintf("%d of %d ms", r.Tries, r.TimeoutMillis)},
			[2]string{"silent", map[bool]string{true: "it did not answer recently"}[r.Silent]},
			[2]string{"unsigned answers", map[bool]string{true: "accepted"}[r.Unsigned]}, [2]string{"may grant",
				grantsText(r.Grants)}, [2]string{"overriding pass", r.Pass},
			[2]string{"lanes", strings.Join(r.UsedBy, ", ")}, [2]string{"note", r.Note})
	},
}

// grantsText says what a remote server may grant.
func grantsText(grants []string) string {
	switch {
	case slices.Contains(grants, "*"):
		return "everything"
	case len(grants) == 0:
		return "nothing but time-outs and messages"
	}
	return strings.Join(grants, ", ")
}

// remoteFlags are the flags of add and change.
func remoteFlags(f *flag.FlagSet) func(s *invocation, in *apitype.RemoteInput) error {
	name, address, note := f.String("name", "", "new name"), f.String("address", "",
		"IP address, with a port if it is not 1812"), f.String("text", "", "note")
	timeout, tries, unsigned := f.Int("timeout", 2000, "time-out of each try, in milliseconds"),
		f.Int("tries", 2, "how often it is asked"), f.Bool("unsigned", false,
			"accept answers without Message-Authenticator")
	var grants list
	f.Var(&grants, "grant", "attribute that it may grant; repeatable, * for all, none for none")
	pass := f.String("pass", "", "pass whose attributes override those of its answers")
	typed := f.Bool("secret", false, "read the shared secret from the standard input, or ask for it")
	return func(s *invocation, in *apitype.RemoteInput) error {
		was := given(f)
		assign(was, "name", &in.Name, *name)
		assign(was, "address", &in.Address, *address)
		assign(was, "timeout", &in.TimeoutMillis, *timeout)
		assign(was, "tries", &in.Tries, *tries)
		assign(was, "unsigned", &in.Unsigned, *unsigned)
		assign(was, "text", &in.Note, *note)
		assign(was, "pass", &in.Pass, *pass)
		if was["grant"] {
			if in.Grants = grants; len(grants) == 1 && grants[0] == "none" {
				in.Grants = []string{}
			}
		}
		if !*typed {
			return nil
		}
		var err error
		in.Secret, err = s.secret("Shared secret")
		return err
	}
}

func remoteCommands() []command {
	label := func(r apitype.Remote) (apitype.Meta, string) { return r.Meta, r.Name }
	return slices.Concat(remotes.commands(), []command{
		{"remote", "add", "NAME", "add a remote server that lanes can forward to",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				fill, p := remoteFlags(f), publishFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					in := apitype.RemoteInput{RemoteFields: apitype.RemoteFields{Name: name}}
					if err := fill(s, &in); err != nil {
						return err
					}
					out, err := add[apitype.Remote](s, "/remotes", p, in)
					if err != nil {
						return err
					}
					return s.objectSaved("remote", "added", out, out.Revision, func() (apitype.Meta, string) {
						return label(out.Object)
					})
				}
			}},
		{"remote", "change", "NAME", "change one in the draft",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				fill, p := remoteFlags(f), publishFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					out, err := change(s, "/remotes", name, p, func(old apitype.Remote) (any, string, error) {
						in := apitype.RemoteInput{RemoteFields: old.RemoteFields}
						err := fill(s, &in)
						return in, old.Tag, err
					})
					if err != nil {
						return err
					}
					return s.objectSaved("remote", "changed", out, out.Revision, func() (apitype.Meta, string) {
						return label(out.Object)
					})
				}
			}},
	})
}
