package main

import (
	"flag"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// picked lists the picked groups of a directory in a few words.
func picked(d apitype.Directory) string {
	names := make([]string, len(d.Groups))
	for i, g := range d.Groups {
		names[i] = g.Name
	}
	return strings.Join(names, ", ")
}

func directoryPath(name string) string { return "/directories/" + url.PathEscape(name) }

func groupCommands() []command {
	return []command{
		{"directory", "groups", "NAME [TEXT]", "search groups by part of their name",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				limit, after := f.Int("limit", 100, "how many"),
					f.String("after", "", "cursor: where the previous page ended")
				return func(s *invocation, args []string) error {
					if len(args) == 0 {
						return usageError("give a directory")
					}
					query := url.Values{"q": {strings.Join(args[1:], " ")}, "limit": {fmt.Sprint(*limit)}}
					if *after != "" {
						query.Set("after", *after)
					}
					out, err := client.Get[apitype.Groups](s.ctx, s.api, directoryPath(args[0])+"/groups?"+
						query.Encode())
					if err != nil {
						return err
					}
					return s.print(out, func() { s.groups(out) })
				}
			}},
		{"directory", "pick", "NAME GROUP", "pick a group, so that policies still match after a rename",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				as := f.String("as", "", "name for policies; default: its current name")
				p := publishFlags(f)
				return func(s *invocation, args []string) error {
					if len(args) != 2 {
						return usageError("give a directory and a group, by its name or identifier")
					}
					id, err := s.groupID(args[0], args[1])
					if err != nil {
						return err
					}
					var out apitype.Saved[config.PickedGroup]
					if err := s.api.Do(s.ctx, http.MethodPost, directoryPath(args[0])+"/pick"+p.query(),
						apitype.PickInput{ID: id, Name: *as}, &out); err != nil {
						return err
					}
					return s.print(out, func() { s.saved("group", out.Object.Name, "picked", out.Revision) })
				}
			}},
		{"directory", "unpick", "NAME GROUP", "unpick a group; afterwards it is matched by name only",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				p := publishFlags(f)
				return func(s *invocation, args []string) error {
					if len(args) != 2 {
						return usageError("give a directory and a picked group")
					}
					out, err := change(s, "/directories", args[0], p, func(old apitype.Directory) (any, string, error) {
						in := apitype.DirectoryInput{DirectoryFields: old.DirectoryFields}
						kept := []config.PickedGroup{}
						for _, g := range in.Groups {
							if !strings.EqualFold(g.Name, args[1]) && g.ID != args[1] {
								kept = append(kept, g)
							}
						}
						if len(kept) == len(in.Groups) {
							return nil, "", fmt.Errorf("%s has no picked group %q: `tollgate directory picked %s` "+
								"lists them", args[0], args[1], args[0])
						}
						in.Groups = kept
						return in, old.Tag, nil
					})
					if err != nil {
						return err
					}
					return s.print(out, func() { s.saved("group", args[1], "no longer picked", out.Revision) })
				}
			}},
		{"directory", "picked", "NAME", "what became of the picked groups: renamed, or gone",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "directory")
					if err != nil {
						return err
					}
					out, err := client.Get[apitype.Picked](s.ctx, s.api, directoryPath(name)+"/picked")
					if err != nil {
						return err
					}
					gone := false
					err = s.print(out, func() {
						var rows [][]string
						for _, g := range out.Items {
							now := g.Now
							if now == "" {
								now, gone = s.paint(red, "gone"), true
							}
							rows = append(rows, []string{g.Name, now, g.ID})
						}
						s.table([]string{"POLICIES CALL IT", "THERE NOW", "IDENTIFIER"}, rows)
					})
					if err == nil && gone {
						return errFailed
					}
					return err
				}
			}},
		{"directory", "forget", "NAME [PERSON]", "drop cached people and groups",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					if len(args) < 1 || len(args) > 2 {
						return usageError("give a directory, and a person if only one is meant")
					}
					in := apitype.ForgetInput{}
					if len(args) == 2 {
						in.Person = args[1]
					}
					var out apitype.Forgotten
					if err := s.api.Do(s.ctx, http.MethodPost, directoryPath(args[0])+"/forget", in, &out); err != nil {
						return err
					}
					return s.print(out, func() { s.say("%d dropped; they are read again.", out.People) })
				}
			}},
	}
}

func (s *invocation) groups(out apitype.Groups) {
	var rows [][]string
	for _, g := range out.Items {
		rows = append(rows, []string{g.Name, g.Picked, g.DN})
	}
	s.table([]string{"GROUP", "PICKED AS", "DN"}, rows)
	switch {
	case out.Next != "":
		s.say("%d of %d; continue with -after %s", len(out.Items), out.Total, out.Next)
	case out.More:
		s.say("There are more, and the list of all is still being read; ask again, or give a longer text.")
	}
}

// groupID finds the one group that is called so, or takes an identifier as it is.
func (s *invocation) groupID(directory, text string) (string, error) {
	out, err := client.Get[apitype.Groups](s.ctx, s.api, directoryPath(directory)+"/groups?limit=1000&q="+
		url.QueryEscape(text))
	if err != nil {
		return "", err
	}
	var fit []apitype.Group
	for _, g := range out.Items {
		if strings.EqualFold(g.Name, text) {
			fit = append(fit, g)
		}
	}
	switch len(fit) {
	case 0:
		return text, nil
	case 1:
		return fit[0].ID, nil
	}
	return "", fmt.Errorf("%d groups of %s are called %q: give the identifier of one, `tollgate directory groups %s "+
		"%q -json` shows them", len(fit), directory, text, directory, text)
}

func personCommands() []command {
	return []command{{"directory", "browse", "NAME [DN]", "what lies below an entry; without one the naming contexts",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			show := f.Bool("attributes", false, "the attributes of the entry instead")
			return func(s *invocation, args []string) error {
				if len(args) < 1 || len(args) > 2 || *show && len(args) < 2 {
					return usageError("give a directory, and the DN of an entry")
				}
				query := "?" + url.Values{"dn": {strings.Join(args[1:], "")}}.Encode()
				if *show {
					out, err := client.Get[results.Details](s.ctx, s.api, directoryPath(args[0])+"/entry"+query)
					if err != nil {
						return err
					}
					return s.print(out, func() {
						for _, a := range out.Attributes {
							s.fields([2]string{a.Name, strings.Join(a.Values, ", ")})
						}
					})
				}
				out, err := client.Get[apitype.Entries](s.ctx, s.api, directoryPath(args[0])+"/tree"+query)
				if err != nil {
					return err
				}
				return s.print(out, func() {
					var rows [][]string
					for _, e := range out.Items {
						rows = append(rows, []string{e.Name, e.Kind, e.DN})
					}
					s.table([]string{"NAME", "KIND", "DN"}, rows)
					if out.More {
						s.say("There are more.")
					}
				})
			}
		}}, {"directory", "held", "NAME", "people whose passwords the lockout guard holds back",
		func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				name, err := one(args, "directory")
				if err != nil {
					return err
				}
				out, err := client.Get[apitype.HeldBack](s.ctx, s.api, directoryPath(name)+"/held")
				if err != nil {
					return err
				}
				return s.print(out, func() {
					var rows [][]string
					for _, h := range out.Items {
						rows = append(rows, []string{h.Person, h.Device, fmt.Sprintf("%d of %d", h.Wrong, h.After),
							h.Until.Local().Format("15:04 MST")})
					}
					s.table([]string{"PERSON", "DEVICE", "WRONG", "UNTIL"}, rows)
					switch {
					case out.After == 0 && out.Threshold > 0:
						s.say("No guard, and the directory locks after %d wrong passwords. Switch it on with: "+
							"tollgate "+
							"directory change NAME -guard 0", out.Threshold)
					case out.After == 0:
						s.say("No guard: the directory locks nobody, or does not tell.")
					case out.Threshold == 0:
						s.say("Passwords are not passed on after %d failures within %d minutes.", out.After,
							out.Minutes)
					default:
						s.say("The domain locks after %d failures; this server stops passing passwords on after %d "+
							"within %d minutes.", out.Threshold, out.After, out.Minutes)
					}
				})
			}
		}}, {"directory", "release", "NAME [PERSON]", "pass on passwords again",
		func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				if len(args) < 1 || len(args) > 2 {
					return usageError("give a directory, and a person if only one is meant")
				}
				in := apitype.ReleaseInput{}
				if len(args) == 2 {
					in.Person = args[1]
				}
				var out apitype.Forgotten
				if err := s.api.Do(s.ctx, http.MethodPost, directoryPath(args[0])+"/release", in, &out); err != nil {
					return err
				}
				return s.print(out, func() { s.say("%d released.", out.People) })
			}
		}}, {"directory", "find", "NAME PERSON", "one person: names, groups, state, result with the draft",
		func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				if len(args) != 2 {
					return usageError("give a directory and a person")
				}
				out, err := client.Get[apitype.Found](s.ctx, s.api, directoryPath(args[0])+"/people/"+
					url.PathEscape(args[1]))
				if err != nil {
					return err
				}
				if err := s.print(out, func() { s.found(out) }); err != nil || out.Person != nil {
					return err
				}
				return errFailed
			}
		}}}
}

func (s *invocation) found(out apitype.Found) {
	if p := out.Person; p != nil {
		s.fields([2]string{"person", p.Label()}, [2]string{"DN", p.ID}, [2]string{"name", p.Name},
			[2]string{"signs in as", strings.Join(out.Names, ", ")})
		for _, name := range slices.Sorted(maps.Keys(p.Attributes)) {
			s.fields([2]string{name, strings.Join(p.Attributes[name], ", ")})
		}
		s.say("")
		var rows [][]string
		for _, m := range out.Memberships {
			way := "direct"
			switch {
			case m.Primary:
				way = "primary group"
			case len(m.Through) > 0:
				way = "through " + strings.Join(m.Through, ", ")
			}
			rows = append(rows, []string{m.Counts, way})
		}
		s.table([]string{"GROUP", "HOW"}, rows)
		s.say("")
		rows = nil
		for _, p := range out.Prospects {
			gives := "refused"
			if p.Outcome == config.Admit {
				gives = p.Pass
				if p.VLAN != "" {
					gives += ", VLAN " + p.VLAN
				}
			}
			rows = append(rows, []string{p.Lane, p.Policy, gives, p.If})
		}
		s.table([]string{"LANE", "POLICY", "GIVES", "IF"}, rows)
	}
	if out.Text != "" {
		s.say("%s. %s", strings.TrimSuffix(out.Text, "."), out.Remedy)
	}
	if out.Problem != "" {
		s.say("%s", out.Problem)
	}
}
