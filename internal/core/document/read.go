package document

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"tollgate.example/key/internal/core/config"
)

// Document is a text that was read.
type Document struct {
	config.Config
	// Lists are the lists that stand in it; others are to be left as they are.
	Lists []string
	// Comments counts comments, which are not kept.
	Comments int
}

// written is the shape of the text.
type written struct {
	Tollgate      int `json:"tollgate"`
	config.Config `yaml:",inline"`
}

const (
	// MaxSize bounds a text, in octets.
	MaxSize  = 64 << 20
	maxDepth = 40
	// maxBrackets bounds brackets that are not closed again, also in what looks like a quoted text: a quotation mark
	// may be a part of something else.
	maxBrackets = 20_000
)

// Read reads a text. Errors name the line.
func Read(text []byte) (*Document, error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("the file has %d octets, at most %d are allowed", len(text), MaxSize)
	}
	parts, err := divide(text)
	if err != nil {
		return nil, err
	}
	doc := &Document{}
	ended := bytes.HasSuffix(bytes.TrimSpace(text), []byte("..."))
	if err := doc.read(parts[0].text, true, ended); err != nil {
		return nil, err
	}
	if err := doc.readRest(parts[1:]); err != nil {
		return nil, err
	}
	slices.SortFunc(doc.Lists, func(a, b string) int { return slices.Index(kinds, a) - slices.Index(kinds, b) })
	if bytes.HasPrefix(text, []byte(head)) {
		doc.Comments = max(0, doc.Comments-strings.Count(head, "\n"))
	}
	return doc, nil
}

// readRest reads all parts but the first, several at a time.
func (d *Document) readRest(parts []part) error {
	var all sync.WaitGroup
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	read, errs := make([]Document, len(parts)), make([]error, len(parts))
	for i, p := range parts {
		slots <- struct{}{}
		all.Go(func() {
			errs[i] = shifted(read[i].read(p.text, false, true), p.line)
			<-slots
		})
	}
	all.Wait()
	for i := range parts {
		if errs[i] != nil {
			return errs[i]
		}
		lists := make(map[string]any, len(read[i].Lists))
		for _, kind := range read[i].Lists {
			lists[kind] = true
		}
		d.Comments += read[i].Comments
		d.add(&read[i].Config, lists)
	}
	return nil
}

// known refuses other forms than the one that this version reads.
func known(version int) error {
	switch {
	case version == 0:
		return fmt.Errorf("the file does not say of which form it is; its first line has to be tollgate: %d", Form)
	case version < Form:
		return fmt.Errorf("the file is of form %d, and this version reads form %d; export it again with a "+
			"version that knows both", version, Form)
	case version > Form:
		return fmt.Errorf("the file is of form %d, which is newer than this version of Tollgate Key; it reads "+
			"form %d", version, Form)
	}
	return nil
}

// read reads one part of a text and adds what stands in it. The first one says of which form it is; ended tells that
// the text has its end.
func (d *Document) read(text []byte, first, ended bool) error {
	if err := tame(text); err != nil {
		return err
	}
	if !first && ended { // a part of a long text
		if in, lists, comments, ok := quick(text); ok && in.Tollgate == 0 {
			d.Comments += comments
			d.add(&in.Config, lists)
			return nil
		}
	}
	return d.parse(text, first, ended)
}

// parse reads a part with the parser that can tell what is wrong, and where.
func (d *Document) parse(text []byte, first, ended bool) error {
	file, err := parser.ParseBytes(text, parser.ParseComments)
	if err != nil {
		return fault(err)
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		return errors.New("the file does not hold one YAML document")
	}
	w := &walker{}
	ast.Walk(w, file.Docs[0].Body)
	if w.err != nil {
		return w.err
	}
	d.Comments += w.comments
	var all map[string]any
	if err := yaml.NodeToValue(file.Docs[0].Body, &all); err != nil {
		return fault(err)
	}
	form := 0
	if n, ok := all["tollgate"].(uint64); ok {
		form = int(min(n, 1<<30))
	} else if n, ok := all["tollgate"].(int64); ok {
		form = int(n)
	}
	if err := known(form); err != nil && (first || form != 0) { // another form may hold what this one does not know
		return err
	}
	if !ended {
		return errors.New("the file has no end: its last line has to be three dots, which tells that it was not " +
			"cut off")
	}
	var in written
	if err := yaml.NodeToValue(file.Docs[0].Body, &in, yaml.Strict()); err != nil {
		return fault(err)
	}
	if err := noGaps(&in.Config); err != nil {
		return err
	}
	present(&in.Config, all)
	d.add(&in.Config, all)
	return nil
}

// add adds the lists of a part.
func (d *Document) add(c *config.Config, all map[string]any) {
	to, from := reflect.ValueOf(&d.Config).Elem(), reflect.ValueOf(c).Elem()
	for _, kind := range kinds {
		if _, there := all[kind]; !there {
			continue
		}
		if !slices.Contains(d.Lists, kind) {
			d.Lists = append(d.Lists, kind)
		}
		index := fieldOf(to.Type(), kind).Index
		to.FieldByIndex(index).Set(reflect.AppendSlice(to.FieldByIndex(index), from.FieldByIndex(index)))
	}
}

// noGaps refuses lists with nothing in the place of an object.
func noGaps(c *config.Config) error {
	all := reflect.ValueOf(c).Elem()
	for _, kind := range kinds {
		list := all.FieldByIndex(fieldOf(all.Type(), kind).Index)
		for i := range list.Len() {
			if list.Index(i).IsNil() {
				return fmt.Errorf("entry %d of %s is empty", i+1, kind)
			}
		}
	}
	for _, lane := range c.Lanes {
		if at := slices.Index(lane.Policies, nil); at >= 0 {
			return fmt.Errorf("policy %d of lane %q is empty", at+1, lane.Name)
		}
	}
	return nil
}

// switchedOn are the lists of objects that are on unless they say otherwise.
var switchedOn = map[string]bool{"clients": true, "policies": true, "feeds": true, "sources": true,
	"subscribers": true}

// present switches on what does not say that it is off.
func present(c *config.Config, all map[string]any) {
	said := func(object any) bool {
		fields, _ := object.(map[string]any)
		_, there := fields["enabled"]
		return there
	}
	list := func(object any, name string) []any {
		fields, _ := object.(map[string]any)
		out, _ := fields[name].([]any)
		return out
	}
	for i, object := range list(all, "clients") {
		c.Clients[i].Enabled = c.Clients[i].Enabled || !said(object)
	}
	for i, object := range list(all, "feeds") {
		c.Feeds[i].Enabled = c.Feeds[i].Enabled || !said(object)
	}
	for i, object := range list(all, "sources") {
		c.Sources[i].Enabled = c.Sources[i].Enabled || !said(object)
	}
	for i, object := range list(all, "subscribers") {
		c.Subscribers[i].Enabled = c.Subscribers[i].Enabled || !said(object)
	}
	for i, lane := range list(all, "lanes") {
		for j, policy := range list(lane, "policies") {
			p := c.Lanes[i].Policies[j]
			p.Enabled = p.Enabled || !said(policy)
		}
	}
}

// fault keeps the line of an error and leaves the text around it out, which may hold secrets.
func fault(err error) error {
	return errors.New("the file cannot be read: " + strings.TrimSpace(yaml.FormatError(err, false, false)))
}

// tame refuses texts that are nested more deeply than any configuration, before they are parsed.
func tame(text []byte) error {
	open, raw := 0, 0
	for n, line := range bytes.Split(text, []byte("\n")) {
		trimmed := bytes.TrimLeft(line, " ")
		depth := (len(line) - len(trimmed)) / 2
		for bytes.HasPrefix(trimmed, []byte("- ")) || bytes.HasPrefix(trimmed, []byte("? ")) {
			trimmed = bytes.TrimLeft(trimmed[2:], " ")
			depth++
		}
		quoted := false
		for i := 0; i < len(line); i++ {
			switch c := line[i]; {
			case c == '"':
				quoted = !quoted
			case c == '\\' && quoted:
				i++
			case c == '[' || c == '{':
				raw++
				if !quoted {
					open++
				}
			case c == ']' || c == '}':
				raw = max(0, raw-1)
				if !quoted {
					open = max(0, open-1)
				}
			}
		}
		if depth > maxDepth || open > 4*maxDepth || raw > maxBrackets {
			return fmt.Errorf("line %d is nested too deeply for a configuration", n+1)
		}
	}
	return nil
}

// walker counts comments and refuses what multiplies.
type walker struct {
	comments int
	err      error
}

func (w *walker) Visit(n ast.Node) ast.Visitor {
	switch n.(type) {
	case *ast.AnchorNode, *ast.AliasNode, *ast.MergeKeyNode:
		if w.err == nil {
			w.err = fmt.Errorf("line %d holds an anchor or alias, which are not taken here; write it out",
				n.GetToken().Position.Line)
		}
	}
	if group := n.GetComment(); group != nil {
		w.comments += len(group.Comments)
	}
	return w
}

// Over puts the document over a configuration: lists that stand in it replace those there, others stay. Objects keep
// the identifiers of those of the same name, and secrets that are left out; for others make is asked.
func (d *Document) Over(base *config.Config, make func() string) *config.Config {
	out := base.Copy()
	to, from, old := reflect.ValueOf(out).Elem(), reflect.ValueOf(&d.Config).Elem(), reflect.ValueOf(base).Elem()
	for _, kind := range d.Lists {
		index := fieldOf(to.Type(), kind).Index
		list := copied(from.FieldByIndex(index)) // the document may be put over another configuration as well
		adopt(list, old.FieldByIndex(index), make)
		to.FieldByIndex(index).Set(list)
	}
	out.NormaliseSince(base)
	return out
}

// copied copies the objects of a list, and the policies in them.
func copied(list reflect.Value) reflect.Value {
	out := reflect.MakeSlice(list.Type(), list.Len(), list.Len())
	for i := range list.Len() {
		object := reflect.New(list.Type().Elem().Elem())
		config.Unshare(object.Elem(), list.Index(i).Elem())
		if policies := object.Elem().FieldByName("Policies"); policies.IsValid() {
			policies.Set(copied(policies))
		}
		out.Index(i).Set(object)
	}
	return out
}

// adopt gives objects the identifiers and missing secrets of those of the same name.
func adopt(list, old reflect.Value, make func() string) {
	places := byName(old)
	for i := range list.Len() {
		object := list.Index(i).Elem()
		before := reflect.Value{}
		if at, there := places[label(object)]; there {
			before = old.Index(at).Elem()
		}
		if before.IsValid() {
			object.FieldByName("ID").Set(before.FieldByName("ID"))
		} else {
			object.FieldByName("ID").SetString(make())
		}
		t := object.Type()
		for f := range t.NumField() {
			field := object.Field(f)
			switch {
			case t.Field(f).Name == "Policies":
				policies := reflect.Value{}
				if before.IsValid() {
					policies = before.Field(f)
				}
				adopt(field, policies, make)
			case field.Type() != reflect.TypeFor[config.Secret]() || field.String() != "" || !before.IsValid():
			case t.Field(f).Name == "Previous" && object.FieldByName("PreviousUntil").IsZero():
			default:
				field.Set(before.Field(f))
			}
		}
	}
}

// byName finds the places of a list by name.
func byName(list reflect.Value) map[string]int {
	out := map[string]int{}
	if list.IsValid() {
		for i := range list.Len() {
			out[label(list.Index(i).Elem())] = i
		}
	}
	return out
}

func label(object reflect.Value) string {
	return strings.ToLower(strings.TrimSpace(object.FieldByName("Name").String()))
}
