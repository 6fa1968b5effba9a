package main

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/apitype"
)

var remotes = kind[apitype.Remote]{
	noun: "remote", path: "/remotes",
	headings: []string{"NAME", "ADDRESS", "TRIES", "STATE", "LANES"},
	row: func(r apitype.Remote) []string {
		return []string{r.Name, r.Address, fmt.Sprintf("%d x %d ms", r.Tries, r.TimeoutMillis), map[bool]string{true: "silent"}[r.Silent], strings.Join(r.UsedBy, ", ")}
	},
	show: func(s *session, r apitype.Remote) {
		s.fields([2]string{"name", r.Name}, [2]string{"address", r.Address}, [2]string{"tries", fmt.Sprintf("%d of %d ms", r.Tries, r.TimeoutMillis)}, [2]string{"silent", map[bool]string{true: "it did not answer lately"}[r.Silent]},
			[2]string{"unsigned answers", map[bool]string{true: "accepted"}[r.Unsigned]}, [2]string{"lanes", strings.Join(r.UsedBy, ", ")}, [2]string{"note", r.Note})
	},
}

// remoteFlags are the flags of add and change.
func remoteFlags(f *flag.FlagSet) func(s *session, in *apitype.RemoteInput) error {
	name, address, note := f.String("name", "", "new name"), f.String("address", "", "IP address, with a port if it is not 1812"), f.String("text", "", "note")
	timeout, tries, unsigned := f.Int("timeout", 2000, "milliseconds that each try is waited for"), f.Int("tries", 2, "how often it is asked"), f.Bool("unsigned", false, "accept answers without Message-Authenticator")
	typed := f.Bool("secret", false, "read the shared secret from the standard input, or ask for it")
	return func(s *session, in *apitype.RemoteInput) error {
		was := given(f)
		assign(was, "name", &in.Name, *name)
		assign(was, "address", &in.Address, *address)
		assign(was, "timeout", &in.TimeoutMillis, *timeout)
		assign(was, "tries", &in.Tries, *tries)
		assign(was, "unsigned", &in.Unsigned, *unsigned)
		assign(was, "text", &in.Note, *note)
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
		{"remote", "add", "NAME", "add a remote server that lanes can forward to", func(f *flag.FlagSet) func(*session, []string) error {
			fill, p := remoteFlags(f), publishFlags(f)
			return func(s *session, args []string) error {
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
				return s.objectSaved("remote", "added", out, out.Revision, func() (apitype.Meta, string) { return label(out.Object) })
			}
		}},
		{"remote", "change", "NAME", "change what is given of one of the draft", func(f *flag.FlagSet) func(*session, []string) error {
			fill, p := remoteFlags(f), publishFlags(f)
			return func(s *session, args []string) error {
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
				return s.objectSaved("remote", "changed", out, out.Revision, func() (apitype.Meta, string) { return label(out.Object) })
			}
		}},
	})
}
