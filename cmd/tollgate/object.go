package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// publishing are the flags of every edit.
type publishing struct {
	publish *bool
	note    *string
}

func publishFlags(f *flag.FlagSet) publishing {
	return publishing{f.Bool("publish", false, "put this edit into effect at once"),
		f.String("note", "", "with -publish: reason for this change")}
}

func (p publishing) query() string {
	return "?" + url.Values{"publish": {fmt.Sprint(*p.publish)}, "note": {*p.note}}.Encode()
}

// whole is a flag that may be given several times; commas belong to its values.
type whole []string

func (w *whole) String() string { return strings.Join(*w, "; ") }
func (w *whole) Set(text string) error {
	*w = append(*w, text)
	return nil
}

// list is a flag that may be given several times or hold commas.
type list []string

func (l *list) String() string { return strings.Join(*l, ",") }
func (l *list) Set(text string) error {
	*l = append(*l, strings.Split(text, ",")...)
	return nil
}

// contents is a flag that names a file, and holds what is in it; none is the word for no file.
type contents string

func (c *contents) String() string { return "" }
func (c *contents) Set(path string) error {
	if path == "" || path == "none" {
		*c = ""
		return nil
	}
	text, err := os.ReadFile(path)
	*c = contents(text)
	return err
}

// pairs is a flag of KEY=VALUE entries.
type pairs map[string]string

func (p pairs) String() string { return "" }
func (p pairs) Set(text string) error {
	key, value, ok := strings.Cut(text, "=")
	if !ok {
		return fmt.Errorf("%q is not KEY=VALUE", text)
	}
	p[key] = value
	return nil
}

// given tells which flags were on the command line, so that change touches only those.
func given(f *flag.FlagSet) map[string]bool {
	out := map[string]bool{}
	f.Visit(func(g *flag.Flag) { out[g.Name] = true })
	return out
}

// kind describes the verbs that all kinds of objects share.
type kind[V any] struct {
	noun, path string
	headings   []string
	row        func(V) []string
	show       func(*invocation, V)
}

func (k kind[V]) commands() []command {
	return []command{
		{k.noun, "list", "[TEXT]", "list, or search", func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				items, err := client.All[V](s.ctx, s.api, k.path, url.Values{"q": {strings.Join(args, " ")},
					"limit": {"1000"}})
				if err != nil {
					return err
				}
				if items == nil {
					items = []V{}
				}
				return s.print(items, func() {
					var rows [][]string
					for _, item := range items {
						rows = append(rows, k.row(item))
					}
					s.table(k.headings, rows)
				})
			}
		}},
		{k.noun, "show", "NAME", "show one", func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				name, err := one(args, k.noun)
				if err != nil {
					return err
				}
				item, err := client.Get[V](s.ctx, s.api, k.path+"/"+url.PathEscape(name))
				if err != nil {
					return err
				}
				return s.print(item, func() { k.show(s, item) })
			}
		}},
		{k.noun, "remove", "NAME", "remove one from the draft", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			p := publishFlags(f)
			return func(s *invocation, args []string) error {
				name, err := one(args, k.noun)
				if err != nil {
					return err
				}
				var out apitype.Published
				if err := s.api.Do(s.ctx, http.MethodDelete, k.path+"/"+url.PathEscape(name)+p.query(), nil, &out,
					client.IfMatch("*")); err != nil {
					return err
				}
				return s.print(out, func() { s.saved(k.noun, name, "removed", out.Revision) })
			}
		}},
	}
}

// saved says what an edit did.
func (s *invocation) saved(noun, name, what string, revision int) {
	if revision > 0 {
		s.say("%s %s %s, published as revision %d.", noun, name, what, revision)
		return
	}
	s.say("%s %s %s in the draft. Publish with: tollgate draft publish", noun, name, what)
}

// warnings prints the warnings of an object that is shown.
func (s *invocation) warnings(m apitype.Meta) {
	for _, p := range m.Problems {
		fmt.Fprintf(s.err, "%s: %s. %s\n", p.Field, p.Message, p.Remedy)
	}
}

// warned says in one line what an object that was just saved warns of.
func (s *invocation) warned(m apitype.Meta, noun, name string) {
	if len(m.Problems) < 2 {
		s.warnings(m)
		return
	}
	var fields []string
	for _, p := range m.Problems {
		if !slices.Contains(fields, p.Field) {
			fields = append(fields, p.Field)
		}
	}
	fmt.Fprintf(s.err, "%d warnings: %s. Read them with: tollgate %s show %s\n", len(m.Problems),
		strings.Join(fields, ", "), noun, quoted(name))
}

// quoted is a name as a shell takes it for one argument.
func quoted(name string) string {
	if !strings.ContainsAny(name, " \t'\"$&;|<>()*?[]{}!`\\#~") {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}

// add sends a new object.
func add[V any](s *invocation, path string, p publishing, in any) (apitype.Saved[V], error) {
	var out apitype.Saved[V]
	err := s.api.Do(s.ctx, http.MethodPost, path+p.query(), in, &out)
	return out, err
}

// change reads an object, lets the function turn it into an input, and writes it back unless it changed meanwhile.
func change[V any](s *invocation, path, name string, p publishing, edit func(V) (in any, tag string, err error)) (
	apitype.Saved[V], error) {
	var out apitype.Saved[V]
	before, err := client.Get[V](s.ctx, s.api, path+"/"+url.PathEscape(name))
	if err != nil {
		return out, err
	}
	in, tag, err := edit(before)
	if err != nil {
		return out, err
	}
	err = s.api.Do(s.ctx, http.MethodPut, path+"/"+url.PathEscape(name)+p.query(), in, &out, client.IfMatch(tag))
	return out, err
}

// fields prints names and values under each other, leaving out what is empty.
func (s *invocation) fields(rows ...[2]string) {
	for _, row := range rows {
		if row[1] == "" {
			continue
		}
		for i, line := range wrap(row[1], width-24) {
			label := ""
			if i == 0 {
				label = row[0]
			}
			s.say("%s %s", s.paint(faint, fmt.Sprintf("%-22s", label)), line)
		}
	}
}
