package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// listAll reads every page and never returns nil, so that JSON has a list.
func listAll[T any](s *invocation, path string) ([]T, error) {
	items, err := client.All[T](s.ctx, s.api, path, nil)
	if items == nil {
		items = []T{}
	}
	return items, err
}

var directories = kind[apitype.Directory]{
	noun: "directory", path: "/directories",
	headings: []string{"NAME", "KIND", "SERVERS", "TLS", "SIGNS IN AS"},
	row: func(d apitype.Directory) []string {
		return []string{d.Name, d.Kind, strings.Join(d.Servers, " "), d.TLS, d.BindName}
	},
	show: func(s *invocation, d apitype.Directory) {
		ca := "those of the operating system"
		if d.CA != "" {
			ca = fmt.Sprintf("%d certificate(s)", strings.Count(d.CA, "-----BEGIN"))
		}
		s.fields([2]string{"name", d.Name}, [2]string{"kind", d.Kind}, [2]string{"servers", strings.Join(d.Servers,
			", ")}, [2]string{"tls", d.TLS}, [2]string{"trusted authority", ca},
			[2]string{"signs in as", d.BindName}, [2]string{"base", d.Base}, [2]string{"base of groups", d.GroupBase},
			[2]string{"attributes", strings.Join(d.Attributes, ", ")},
			[2]string{"member of", member(d)}, [2]string{"picked groups", picked(d)}, [2]string{"remembers people",
				fmt.Sprintf("%d s", *d.CacheSeconds)}, [2]string{"copies people below", strings.Join(d.CopyBelow,
				"; ")}, [2]string{"DNS server", d.DNS}, [2]string{"source", d.Source}, [2]string{"time limit",
				fmt.Sprintf("%d ms", d.TimeoutMillis)}, [2]string{"note", d.Note})
		s.warnings(d.Meta)
	},
}

type directoryFlags struct {
	servers, attributes, wanted                           list
	below                                                 whole
	ca                                                    contents
	name, kind, tls, serverName, bind, base, groups, note *string
	dns, source                                           *string
	password                                              *bool
	timeout, cache, guard, every                          *int
	publishing
}

func newDirectoryFlags(f *flag.FlagSet) *directoryFlags {
	d := &directoryFlags{}
	f.Var(&d.servers, "server", "host, host:port or ldap URL, in the order to try; repeatable")
	f.Var(&d.attributes, "attribute", "further attribute of people to read; repeatable")
	d.name, d.kind = f.String("name", "", "new name"), f.String("kind", "generic", "generic or active-directory")
	d.tls = f.String("tls", "ldaps", "ldaps, starttls or plain")
	f.Var(&d.ca, "ca", "PEM file of the trusted authority")
	d.serverName = f.String("server-name", "", "name that the certificate must hold, if not the host")
	d.bind = f.String("bind", "", "name of the service account: DN, name@domain, DOMAIN\\name or bare")
	d.password = f.Bool("password", false, "read its password from the standard input, or ask for it")
	d.base, d.groups = f.String("base", "", "base DN; if empty, the server is asked"), f.String("group-base", "",
		"base DN of groups")
	d.timeout, d.note = f.Int("timeout", 3000, "time limit of each operation in milliseconds"),
		f.String("text", "", "note about the directory")
	f.Var(&d.below, "copy-below", "DN below which people are copied; repeatable")
	f.Var(&d.wanted, "copy-wanted", "attribute that everybody copied should have; repeatable")
	d.every = f.Int("copy-every", 0, "minutes between copies; 0 on demand only")
	d.dns, d.source = f.String("dns", "", "DNS servers to ask, separated by commas; empty asks those of the system"),
		f.String("source", "",
			"address that connections go out from")
	d.cache = f.Int("cache", 60, "seconds that people are cached; 0 asks each time")
	d.guard = f.Int("guard", 0, "stop passing on passwords after this many failures; 0 follows the domain, -1 "+
		"never stops")
	d.publishing = publishFlags(f)
	return d
}

func (d *directoryFlags) input(s *invocation, was map[string]bool, in *apitype.DirectoryInput) error {
	if was["server"] {
		in.Servers = d.servers
	}
	if was["attribute"] {
		in.Attributes = d.attributes
	}
	for _, v := range []struct {
		flag string
		from *string
		to   *string
	}{{"name", d.name, &in.Name}, {"kind", d.kind, &in.Kind}, {"tls", d.tls, &in.TLS}, {"server-name", d.serverName,
		&in.ServerName}, {"bind", d.bind, &in.BindName},
		{"base", d.base, &in.Base}, {"group-base", d.groups, &in.GroupBase}, {"text", d.note, &in.Note},
		{"dns", d.dns, &in.DNS}, {"source", d.source, &in.Source}} {
		if was[v.flag] || *v.to == "" {
			*v.to = *v.from
		}
	}
	if was["timeout"] || in.TimeoutMillis == 0 {
		in.TimeoutMillis = *d.timeout
	}
	if was["cache"] || in.Name == "" {
		in.CacheSeconds = d.cache
	}
	if was["copy-below"] {
		in.CopyBelow = d.below
	}
	if was["copy-wanted"] {
		in.CopyWanted = d.wanted
	}
	if was["copy-every"] {
		in.CopyMinutes = *d.every
	}
	if was["guard"] {
		in.GuardAfter = *d.guard
	}
	if d.ca != "" {
		in.CA = string(d.ca)
	}
	if *d.password {
		password, err := s.secret("Password of " + in.BindName)
		if err != nil {
			return err
		}
		in.BindPassword = password
	}
	return nil
}

func directoryCommands() []command {
	saved := func(s *invocation, out apitype.Saved[apitype.Directory], what string) error {
		s.warned(out.Object.Meta, "directory", out.Object.Name)
		return s.print(out, func() { s.saved("directory", out.Object.Name, what, out.Revision) })
	}
	return append(slices.Concat(directories.commands(), []command{discoverCommand()}, groupCommands(),
		personCommands(), copyCommands()),
		command{"directory", "add", "NAME", "add a directory to the draft", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			d := newDirectoryFlags(f)
			return func(s *invocation, args []string) error {
				name, err := one(args, "name")
				if err != nil {
					return err
				}
				in := apitype.DirectoryInput{DirectoryFields: apitype.DirectoryFields{Servers: []string{},
					Attributes: []string{}}}
				if err := d.input(s, given(f), &in); err != nil {
					return err
				}
				in.Name = name
				out, err := add[apitype.Directory](s, "/directories", d.publishing, in)
				if err != nil {
					return err
				}
				return saved(s, out, "added")
			}
		}},
		command{"directory", "change", "NAME", "change a directory of the draft",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				d := newDirectoryFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					out, err := change(s, "/directories", name, d.publishing, func(old apitype.Directory) (any, string,
						error) {
						in := apitype.DirectoryInput{DirectoryFields: old.DirectoryFields}
						err := d.input(s, given(f), &in)
						return in, old.Tag, err
					})
					if err != nil {
						return err
					}
					return saved(s, out, "changed")
				}
			}},
		command{"directory", "test", "NAME", "test a directory of the draft, step by step",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				person := f.String("person", "", "person to look up")
				return func(s *invocation, args []string) error {
					name, err := one(args, "directory")
					if err != nil {
						return err
					}
					return s.testDirectory(name, *person)
				}
			}})
}

var stepGlyph = map[results.StepState]string{results.Pass: "/", results.Warn: "~", results.Fail: "-"}

func (s *invocation) testDirectory(name, person string) error {
	d, err := client.Get[apitype.Directory](s.ctx, s.api, "/directories/"+url.PathEscape(name))
	if err != nil {
		return err
	}
	passed := false
	var steps []results.Step
	err = s.api.Stream(s.ctx, http.MethodPost, "/directory-test",
		apitype.DirectoryTest{DirectoryInput: apitype.DirectoryInput{DirectoryFields: d.DirectoryFields}, ID: d.ID,
			Person: person}, func(e client.Event) bool {
			if e.Name == "end" {
				var end struct{ OK bool }
				json.Unmarshal(e.Data, &end)
				passed = end.OK
				return false
			}
			var step results.Step
			if json.Unmarshal(e.Data, &step) == nil && step.State != results.Running {
				steps = append(steps, step)
				if !s.json {
					s.step(step)
				}
			}
			return true
		})
	if err != nil {
		return err
	}
	if s.json {
		if err := s.print(map[string]any{"ok": passed, "steps": steps}, nil); err != nil {
			return err
		}
	}
	if !passed {
		return errFailed
	}
	return nil
}

func (s *invocation) step(step results.Step) {
	colour := map[results.StepState]string{results.Pass: green, results.Fail: red}[step.State]
	s.say("%s %-40s %8.1f ms  %s", s.paint(colour, stepGlyph[step.State]), step.Title, float64(step.Micros)/1000,
		step.Server)
	for _, text := range []string{step.Detail, step.Remedy} {
		if text != "" {
			for _, line := range wrap(text, width-4) {
				s.say("    %s", line)
			}
		}
	}
}
