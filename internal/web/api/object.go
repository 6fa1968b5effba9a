package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/roster"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// kind is how one kind of object of the draft is listed, shown and edited. T is the object, In what is received for
// it, Out what is shown.
type kind[T any, P config.Object[T], In, Out any] struct {
	name, plural string
	// ordered kinds are listed as they stand; others by name.
	ordered bool
	list    func(*config.Config) *[]*T
	// apply writes the input into an object, new or present, and returns a generated secret, if any.
	apply func(c *config.Config, target P, in *In) (secret string, err error)
	// text is what searching looks at.
	text func(P) string
	// views makes the function that shows objects of one configuration.
	views func(c *config.Config) func(P, apitype.Meta) Out

	catalogue catalogue[T]
}

type ListInput struct {
	Query string `query:"q" maxLength:"200" doc:"Text to search for"`
	After string `query:"after" maxLength:"50" doc:"Cursor"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

type OneInput struct {
	Ref string `path:"ref" maxLength:"200" doc:"Identifier or name"`
}

type PublishInput struct {
	Publish bool   `query:"publish" doc:"Publish at once; refused if the draft holds other changes"`
	Note    string `query:"note" maxLength:"1000" doc:"Note of the revision"`
}

type MatchInput struct {
	IfMatch string `header:"If-Match" doc:"Tag of the object as it was read; * overwrites whatever is there"`
}

type tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func register[T any, P config.Object[T], In, Out any](s *server, k *kind[T, P, In, Out]) {
	base := "/" + k.plural
	s.seeks, s.takers[k.plural] = append(s.seeks, seeker(s, k)), takes(k)
	huma.Register(s.api, operation("GET", base, "list-"+k.plural, "List the "+k.plural+" of the draft"),
		func(ctx context.Context, in *ListInput) (*body[apitype.Page[Out]], error) {
			return ok(page(ctx, s, k, in)), nil
		})
	huma.Register(s.api, operation("GET", base+"/{ref}", "get-"+k.name, "Show one "+k.name+" of the draft"),
		func(ctx context.Context, in *OneInput) (*tagged[Out], error) {
			c := s.Revisions.Draft()
			object, at := config.Find[T, P](*k.list(c), in.Ref)
			if at < 0 || touch(ctx, (*T)(object)) != nil {
				return nil, problem(
					http.StatusNotFound,
					fmt.Sprintf("there is no %s %q in the draft", k.name, in.Ref),
					"",
				)
			}
			return &tagged[Out]{revision.Tag(object), k.views(c)(object, s.meta(object, object.Ident(),
				s.problemsOfDraft()))}, nil
		})
	huma.Register(s.api, operation("POST", base, "add-"+k.name, "Add a "+k.name+" to the draft"),
		func(ctx context.Context, in *struct {
			PublishInput
			Body In
		}) (*tagged[apitype.Saved[Out]], error) {
			id := s.IDs.New(time.Now()).String()
			return save(ctx, s, k, id, in.PublishInput, func(c *config.Config, _ revision.Authors) (string, error) {
				list := k.list(c)
				var object T
				P(&object).Identify(id)
				secret, err := k.apply(c, &object, &in.Body)
				if err == nil {
					err = apart(ctx, c, &object)
				}
				*list = append(*list, &object)
				config.Own(*list, len(*list)-1) // it shares nothing with the call, which may be made again
				return secret, err
			})
		})
	huma.Register(s.api, operation("PUT", base+"/{ref}", "change-"+k.name, "Replace a "+k.name+" of the draft"),
		func(ctx context.Context, in *struct {
			OneInput
			MatchInput
			PublishInput
			Body In
		}) (*tagged[apitype.Saved[Out]], error) {
			object, at := config.Find[T, P](*k.list(s.Revisions.Draft()), in.Ref)
			if at < 0 {
				return nil, problem(
					http.StatusNotFound,
					fmt.Sprintf("there is no %s %q in the draft", k.name, in.Ref),
					"",
				)
			}
			id := object.Ident()
			return save(ctx, s, k, id, in.PublishInput, func(c *config.Config, authors revision.Authors) (string,
				error) {
				target, at := config.Find[T, P](*k.list(c), id)
				if at < 0 {
					return "", problem(http.StatusNotFound, fmt.Sprintf("the %s was removed meanwhile", k.name), "")
				}
				if err := match(authors, k.name, in.IfMatch, target, id); err != nil {
					return "", err
				}
				before := target.Label()
				if err := touch(ctx, (*T)(target)); err != nil {
					return "", err
				}
				target = config.Own(*k.list(c), at)
				secret, err := k.apply(c, target, &in.Body)
				if err == nil {
					err = apart(ctx, c, (*T)(target))
				}
				target = config.Own(*k.list(c), at) // it shares nothing with the call, which may be made again
				if after := strings.TrimSpace(target.Label()); after != before {
					c.Rename(k.name, before, after)
				}
				return secret, err
			})
		})
	huma.Register(s.api, operation("DELETE", base+"/{ref}", "remove-"+k.name, "Remove a "+k.name+" from the draft"),
		func(ctx context.Context, in *struct {
			OneInput
			MatchInput
			PublishInput
		}) (*body[apitype.Published], error) {
			id := ""
			err := s.Revisions.Edit(ctx, who(ctx).Name, func(c *config.Config, authors revision.Authors) (string,
				error) {
				list := k.list(c)
				object, at := config.Find[T, P](*list, in.Ref)
				if at < 0 {
					return "", problem(http.StatusNotFound, fmt.Sprintf("there is no %s %q in the draft", k.name,
						in.Ref),
						"")
				}
				id = object.Ident()
				if err := match(authors, k.name, in.IfMatch, object, id); err != nil {
					return "", err
				}
				if err := touch(ctx, (*T)(object)); err != nil {
					return "", err
				}
				*list = slices.Delete(*list, at, at+1)
				return id, nil
			})
			if err != nil {
				return nil, editProblem(err)
			}
			number, err := s.publishOne(ctx, in.PublishInput, id)
			return ok(apitype.Published{Revision: number, Warnings: []config.Problem{}}), err
		})
}

// match compares the tag that the caller read with the object as it is, so that nobody overwrites unknowingly.
func match(authors revision.Authors, kind, given string, object any, id string) error {
	if given == "*" {
		return nil
	}
	if given == "" {
		return problem(http.StatusPreconditionRequired, "the tag of the "+kind+" as you read it is missing",
			"Send it in If-Match, or * to overwrite whatever is there.")
	}
	if given == revision.Tag(object) {
		return nil
	}
	by := ""
	if a, ok := authors(id); ok {
		by = fmt.Sprintf(" by %s at %s", a.Operator, a.At.Format("15:04:05"))
	}
	return problem(http.StatusPreconditionFailed, fmt.Sprintf("the %s was changed meanwhile%s", kind, by),
		"Read it again and repeat your change.")
}

func save[T any, P config.Object[T], In, Out any](ctx context.Context, s *server, k *kind[T, P, In, Out], id string,
	p PublishInput, change func(*config.Config, revision.Authors) (string, error)) (*tagged[apitype.Saved[Out]],
	error) {
	var out apitype.Saved[Out]
	err := s.Revisions.Edit(ctx, who(ctx).Name, func(c *config.Config, authors revision.Authors) (string, error) {
		secret, err := change(c, authors)
		out.Secret = secret
		return id, err
	})
	if err != nil {
		return nil, editProblem(err)
	}
	if out.Revision, err = s.publishOne(ctx, p, id); err != nil {
		return nil, err
	}
	c := s.Revisions.Draft()
	object, at := config.Find[T, P](*k.list(c), id)
	if at < 0 {
		return nil, problem(http.StatusConflict, fmt.Sprintf("the %s was removed meanwhile", k.name), "")
	}
	out.Object = k.views(c)(object, s.meta(object, id, s.problemsOfDraft()))
	return &tagged[apitype.Saved[Out]]{revision.Tag(object), out}, nil
}

// publishOne publishes right after an edit, if asked for.
func (s *server) publishOne(ctx context.Context, p PublishInput, id string) (int, error) {
	if !p.Publish {
		return 0, nil
	}
	number, err := s.Revisions.Publish(ctx, revision.Order{Operator: who(ctx).Name, Note: p.Note, Only: id,
		Agree: s.agree(ctx)})
	if errors.Is(err, revision.ErrNothing) {
		return 0, nil
	}
	return number, publishProblem(err)
}

// catalogue keeps the objects of a kind in the order of their names, with the text that searching looks at. It follows
// the draft, and looks only at what changed in it.
type catalogue[T any] struct {
	mu   sync.Mutex
	of   []*T
	list roster.List[T]
}

// follow brings the catalogue up to the objects of a draft.
func (c *catalogue[T]) follow(list []*T, entry func(*T) roster.Entry[T]) {
	c.mu.Lock()
	defer c.mu.Unlock()
	fresh, gone := config.Fresh(c.of, list)
	entries := func(of []*T) []roster.Entry[T] {
		out := make([]roster.Entry[T], len(of))
		for i, o := range of {
			out[i] = entry(o)
		}
		return out
	}
	switch {
	case len(fresh)+len(gone) > worthFollowing:
		c.list.Set(entries(list)...)
	default:
		for _, o := range gone {
			c.list.Remove(entry(o).Key)
		}
		for _, e := range entries(fresh) {
			c.list.Put(e)
		}
	}
	c.of = list
}

// worthFollowing is how many changes are made one by one; with more, the list is made anew.
const worthFollowing = 30

func (k *kind[T, P, In, Out]) entry(o *T) roster.Entry[T] {
	return roster.Entry[T]{Key: strings.ToLower(P(o).Label()) + "\x00" + P(o).Ident(),
		Text: strings.ToLower(k.text(o)), Of: o}
}

// find lists up to so many objects of a draft that fit, and whether there are more.
func (k *kind[T, P, In, Out]) find(list []*T, in *ListInput, sees func(*T) bool) (found []*T, more bool) {
	query := strings.ToLower(in.Query)
	if !k.ordered {
		k.catalogue.follow(list, k.entry)
		after := ""
		if o, at := config.Find[T, P](list, in.After); in.After != "" && at >= 0 {
			after = k.entry(o).Key
		}
		return k.catalogue.list.Page(after, in.Limit, func(e *roster.Entry[T]) bool {
			return strings.Contains(e.Text, query) && sees(e.Of)
		})
	}
	if at := slices.IndexFunc(list, func(o *T) bool { return P(o).Ident() == in.After }); in.After != "" && at >= 0 {
		list = list[at+1:]
	}
	for _, o := range list {
		if !strings.Contains(strings.ToLower(k.text(o)), query) {
			continue
		}
		if len(found) == in.Limit {
			return found, true
		}
		found = append(found, o)
	}
	return found, false
}

func page[T any, P config.Object[T], In, Out any](
	ctx context.Context,
	s *server,
	k *kind[T, P, In, Out],
	in *ListInput,
) apitype.Page[Out] {
	c := s.Revisions.Draft()
	found, more := k.find(*k.list(c), in, func(o *T) bool { return touch(ctx, o) == nil })
	out := apitype.Page[Out]{Items: []Out{}}
	view, problems := k.views(c), s.problemsOfDraft()
	for _, o := range found {
		out.Items = append(out.Items, view(o, s.meta(o, P(o).Ident(), problems)))
	}
	if more {
		out.Next = P(found[len(found)-1]).Ident()
	}
	return out
}

func (s *server) meta(object any, id string, problems map[string][]config.Problem) apitype.Meta {
	m := apitype.Meta{ID: id, Tag: revision.Tag(object), Problems: []config.Problem{}}
	if list := problems[id]; list != nil {
		m.Problems = list
	}
	if a, ok := s.Revisions.Author(id); ok {
		m.ChangedBy, m.ChangedAt = a.Operator, &a.At
	}
	return m
}

// problemsOfDraft sorts the problems of the draft by object.
func (s *server) problemsOfDraft() map[string][]config.Problem {
	out := map[string][]config.Problem{}
	for _, p := range s.Analyst.Problems(s.Revisions.CompiledDraft()) {
		out[p.ID] = append(out[p.ID], p)
	}
	return out
}

// editProblem makes problem details of a refused edit.
func editProblem(err error) error {
	var invalid *revision.Invalid
	if errors.Is(err, revision.ErrChanged) {
		return publishProblem(err)
	}
	if errors.As(err, &invalid) {
		return problem(http.StatusUnprocessableEntity, "Not saved. Correct the fields marked below.", "",
			faults(invalid.Problems, false)...)
	}
	return err
}

// publishProblem makes problem details of a refused publish.
func publishProblem(err error) error {
	var invalid *revision.Invalid
	var failed *revision.Unmet
	switch {
	case err == nil:
		return nil
	case errors.As(err, &failed):
		return &apitype.Problem{Code: "expectations.unmet", Title: http.StatusText(http.StatusConflict),
			Status: http.StatusConflict,
			Detail: "Not published: expectations would not be met.", Remedy: "Correct the draft or the expectations, " +
				"or publish despite them.", Errors: unmetFaults(failed)}
	case errors.As(err, &invalid):
		return problem(http.StatusUnprocessableEntity, "Not published: the draft has faults.",
			"Correct them; what is running stays as it is.", faults(invalid.Problems, true)...)
	case errors.Is(err, revision.ErrNothing):
		return problem(http.StatusConflict, err.Error(), "There is nothing to publish.")
	case errors.Is(err, revision.ErrOthers):
		return problem(http.StatusConflict, "saved in the draft, but not published: "+err.Error(),
			"Publish the whole draft, or discard it.")
	case errors.Is(err, revision.ErrChanged):
		return problem(http.StatusConflict, err.Error(), "Look at the draft again.")
	case errors.Is(err, revision.ErrDraft):
		return problem(http.StatusConflict, err.Error(), "")
	case errors.Is(err, store.ErrNotFound):
		return problem(http.StatusNotFound, err.Error(), "")
	}
	return err
}

func faults(problems []config.Problem, named bool) []apitype.Fault {
	var out []apitype.Fault
	for _, p := range problems {
		if p.Warning {
			continue
		}
		f := apitype.Fault{Field: p.Field, Message: p.Message, Remedy: p.Remedy, Column: p.Column}
		if named {
			f.Field = fmt.Sprintf("%s %q, %s", p.Kind, p.Object, p.Field)
		}
		if out = append(out, f); len(out) == 100 {
			break
		}
	}
	return out
}
