package main

import (
	"flag"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var realms = kind[apitype.Realm]{
	noun: "realm", path: "/realms",
	headings: []string{"NAME", "FORMS", "REWRITE", "LOOKUP"},
	row: func(r apitype.Realm) []string {
		return []string{r.Name, formTexts(r.Forms), r.Rewrite, lookupText(r.Lookup)}
	},
	show: func(s *invocation, r apitype.Realm) {
		s.fields([2]string{"name", r.Name}, [2]string{"forms", formTexts(r.Forms)}, [2]string{"rewrite", r.Rewrite},
			[2]string{"lookup", lookupText(r.Lookup)}, [2]string{"note", r.Note})
	},
}

func formTexts(forms []config.Form) string {
	var out []string
	for _, f := range forms {
		out = append(out, f.String())
	}
	return strings.Join(out, " ")
}

func lookupText(steps []config.Lookup) string {
	var out []string
	for _, l := range steps {
		text := l.Store
		if l.Unreachable == config.Next {
			text += "?"
		}
		if l.Unreachable == config.Silent {
			text += "!"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func readForm(text string) config.Form {
	switch {
	case strings.EqualFold(text, "bare"):
		return config.Form{Kind: config.Bare}
	case strings.HasSuffix(text, `\`):
		return config.Form{Kind: config.Prefix, Value: text}
	}
	return config.Form{Kind: config.Suffix, Value: text}
}

func readLookup(text string) config.Lookup {
	if store, ok := strings.CutSuffix(text, "?"); ok {
		return config.Lookup{Store: store, Unreachable: config.Next}
	}
	if store, ok := strings.CutSuffix(text, "!"); ok {
		return config.Lookup{Store: store, Unreachable: config.Silent}
	}
	return config.Lookup{Store: text, Unreachable: config.Refuse}
}

// writer makes the add and change commands of a kind whose input is made of flags alone.
func writer[V any](noun, path string, setup func(*flag.FlagSet) func(was map[string]bool, old *V,
	name string) (in any), meta func(V) (apitype.Meta, string)) []command {
	return []command{
		{noun, "add", "NAME", "add one to the draft", func(f *flag.FlagSet) func(*invocation, []string) error {
			make, p := setup(f), publishFlags(f)
			return func(s *invocation, args []string) error {
				name, err := one(args, "name")
				if err != nil {
					return err
				}
				out, err := add[V](s, path, p, make(given(f), nil, name))
				if err != nil {
					return err
				}
				return s.made(
					out.Secret,
					s.objectSaved(noun, "added", out, out.Revision, func() (apitype.Meta, string) {
						return meta(out.Object)
					}),
				)
			}
		}},
		{noun, "change", "NAME", "change one in the draft", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			make, p := setup(f), publishFlags(f)
			return func(s *invocation, args []string) error {
				name, err := one(args, "name")
				if err != nil {
					return err
				}
				out, err := change(s, path, name, p, func(old V) (any, string, error) {
					m, label := meta(old)
					return make(given(f), &old, label), m.Tag, nil
				})
				if err != nil {
					return err
				}
				return s.made(
					out.Secret,
					s.objectSaved(noun, "changed", out, out.Revision, func() (apitype.Meta, string) {
						return meta(out.Object)
					}),
				)
			}
		}},
	}
}

// made shows a token that was made with an object.
func (s *invocation) made(token string, err error) error {
	if err == nil && token != "" && !s.json {
		s.say("Token, shown only here: %s", token)
	}
	return err
}

func (s *invocation) objectSaved(
	noun, what string,
	out any,
	revision int,
	meta func() (apitype.Meta, string),
) error {
	m, name := meta()
	s.warned(m, noun, name)
	return s.print(out, func() { s.saved(noun, name, what, revision) })
}

func realmCommands() []command {
	return slices.Concat(realms.commands(), writer("realm", "/realms", func(f *flag.FlagSet) func(map[string]bool,
		*apitype.Realm, string) any {
		var forms, stores list
		f.Var(&forms, "form", `@suffix, PREFIX\ or bare; repeatable`)
		f.Var(&stores, "lookup", "store to look in, in order: a directory or local; a ? after it means next if "+
			"unreachable,\na ! that nothing is answered then")
		name, rewrite, note := f.String("name", "", "new name"), f.String("rewrite", "{name}",
			"name passed to the directory, with {name} or {sent}"), f.String("text", "", "note")
		return func(was map[string]bool, old *apitype.Realm, label string) any {
			in := apitype.RealmFields{Rewrite: *rewrite, Forms: []config.Form{}, Lookup: []config.Lookup{}}
			if old != nil {
				in = old.RealmFields
			}
			in.Name = label
			if was["form"] {
				in.Forms = nil
				for _, text := range forms {
					in.Forms = append(in.Forms, readForm(text))
				}
			}
			if was["lookup"] {
				in.Lookup = nil
				for _, text := range stores {
					in.Lookup = append(in.Lookup, readLookup(text))
				}
			}
			assign(was, "name", &in.Name, *name)
			assign(was, "rewrite", &in.Rewrite, *rewrite)
			assign(was, "text", &in.Note, *note)
			return in
		}
	}, func(r apitype.Realm) (apitype.Meta, string) { return r.Meta, r.Name }))
}

func assign[T any](was map[string]bool, flag string, to *T, value T) {
	if was[flag] {
		*to = value
	}
}

// attributeFlag is a flag of NAME=VALUE entries whose order and repetitions matter.
type attributeFlag []config.Attribute

func (a *attributeFlag) String() string { return attributes(*a) }
func (a *attributeFlag) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok {
		return fmt.Errorf("%q is not NAME=VALUE", text)
	}
	*a = append(*a, config.Attribute{Name: name, Value: value})
	return nil
}

// editPolicies reads a lane, changes its policies and writes it back.
func (s *invocation) editPolicies(lane, what string, p publishing, edit func([]*config.Policy) ([]*config.Policy,
	error)) error {
	out, err := change(s, "/lanes", lane, p, func(old apitype.Lane) (any, string, error) {
		list, err := edit(old.Policies)
		in := old.LaneFields
		in.Policies = list
		return in, old.Tag, err
	})
	if err != nil {
		return err
	}
	s.warned(out.Object.Meta, "lane", out.Object.Name)
	return s.print(out, func() { s.saved("lane", out.Object.Name, what, out.Revision) })
}

func policyAt(list []*config.Policy, name string) (int, error) {
	if _, at := config.Find(list, name); at >= 0 {
		return at, nil
	}
	return 0, fmt.Errorf("the lane has no policy %q", name)
}

type policyFlags struct {
	groups              attributeFlag
	name, when, message *string
	pass, owner         *string
	from, until         moment
	refuse, on, off     *bool
	at                  *int
	publishing
}

func newPolicyFlags(f *flag.FlagSet) *policyFlags {
	p := &policyFlags{}
	f.Var(&p.groups, "group", "GROUP=PASS row of the group table; repeatable, replaces the table")
	p.name, p.when = f.String("name", "", "new name"), f.String("when", "always", "condition")
	p.pass = f.String("pass", "", "admit with this pass")
	p.refuse, p.message = f.Bool("refuse", false, "refuse if it matches"), f.String("message", "",
		"with -refuse: text for the person")
	p.on, p.off = f.Bool("on", false, "switch on"), f.Bool("off", false, "switch off")
	p.owner = f.String("owner", "", "person responsible for it")
	f.Var(&p.from, "from", "valid from, such as 2026-12-01 or 2026-12-01T08:00; none is always")
	f.Var(&p.until, "until", "valid until; none for no end")
	p.at = f.Int("at", 0, "place in the order, from 1; 0 is the end, or where it is")
	p.publishing = publishFlags(f)
	return p
}

func (f *policyFlags) apply(was map[string]bool, p *config.Policy) {
	assign(was, "name", &p.Name, *f.name)
	assign(was, "when", &p.When, *f.when)
	if was["pass"] {
		p.Outcome, p.Pass, p.Groups = config.Admit, *f.pass, []config.GroupRow{}
	}
	if was["group"] {
		p.Outcome, p.Pass, p.Groups = config.Admit, "", nil
		for _, g := range f.groups {
			p.Groups = append(p.Groups, config.GroupRow{Group: g.Name, Pass: g.Value})
		}
	}
	if *f.refuse {
		p.Outcome, p.Pass, p.Groups = config.Refusal, "", []config.GroupRow{}
	}
	assign(was, "message", &p.Message, *f.message)
	assign(was, "owner", &p.Owner, *f.owner)
	assign(was, "from", &p.From, f.from.Time)
	assign(was, "until", &p.Until, f.until.Time)
	p.Enabled = (p.Enabled || *f.on) && !*f.off
}

// place puts a policy where -at says.
func place(list []*config.Policy, p *config.Policy, at int) ([]*config.Policy, error) {
	if at < 0 || at > len(list)+1 {
		return nil, usageError(fmt.Sprintf("-at takes a place from 1 to %d", len(list)+1))
	}
	if at == 0 {
		at = len(list) + 1
	}
	return slices.Insert(list, at-1, p), nil
}

func policyCommands() []command {
	two := func(args []string) error {
		if len(args) != 2 {
			return usageError("give a lane and a policy")
		}
		return nil
	}
	return []command{
		{"policy", "list", "LANE", "list the policies of a lane in order", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, args []string) error {
				name, err := one(args, "lane")
				if err != nil {
					return err
				}
				l, err := client.Get[apitype.Lane](s.ctx, s.api, "/lanes/"+url.PathEscape(name))
				if err != nil {
					return err
				}
				return s.print(l.Policies, func() { s.policies(l) })
			}
		}},
		{
			"policy",
			"add",
			"LANE NAME",
			"add a policy to a lane of the draft",
			func(f *flag.FlagSet) func(*invocation,
				[]string) error {
				p := newPolicyFlags(f)
				return func(s *invocation, args []string) error {
					if err := two(args); err != nil {
						return err
					}
					return s.editPolicies(args[0], "has a policy more", p.publishing,
						func(list []*config.Policy) ([]*config.Policy, error) {
							policy := &config.Policy{
								Name:    args[1],
								Enabled: true,
								When:    *p.when,
								Outcome: config.Admit,
								Groups:  []config.GroupRow{},
							}
							p.apply(given(f), policy)
							return place(list, policy, *p.at)
						})
				}
			},
		},
		{"policy", "change", "LANE NAME", "change a policy, or move it with -at",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				p := newPolicyFlags(f)
				return func(s *invocation, args []string) error {
					if err := two(args); err != nil {
						return err
					}
					return s.editPolicies(args[0], "changed", p.publishing,
						func(list []*config.Policy) ([]*config.Policy,
							error) {
							at, err := policyAt(list, args[1])
							if err != nil {
								return nil, err
							}
							policy := list[at]
							p.apply(given(f), policy)
							if *p.at == 0 {
								list[at] = policy
								return list, nil
							}
							return place(slices.Delete(list, at, at+1), policy, *p.at)
						})
				}
			}},
		{"policy", "remove", "LANE NAME", "take a policy out of a lane", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			p := publishFlags(f)
			return func(s *invocation, args []string) error {
				if err := two(args); err != nil {
					return err
				}
				return s.editPolicies(
					args[0],
					"has a policy less",
					p,
					func(list []*config.Policy) ([]*config.Policy,
						error) {
						at, err := policyAt(list, args[1])
						if err != nil {
							return nil, err
						}
						return slices.Delete(list, at, at+1), nil
					},
				)
			}
		}},
	}
}
