package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/document"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

// clearMark begins a secret that stands in a file as it is; it is sealed when the file is applied.
const clearMark = "clear:"

type fileInput struct {
	RawBody []byte `contentType:"application/yaml"`
}

type fileOutput struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

// files registers the configuration as one readable file.
func (s *server) files() {
	huma.Register(s.api, operation("GET", "/file", "export-file", "The configuration as one YAML file"), func(ctx context.Context, in *struct {
		Of      string `query:"of" default:"draft" maxLength:"20" doc:"draft, running, or the number of a revision"`
		Secrets bool   `query:"secrets" doc:"With secrets, sealed by the key file of this server; otherwise they are left out"`
	}) (*fileOutput, error) {
		c, err := s.configOf(ctx, in.Of)
		if err != nil {
			return nil, err
		}
		if in.Secrets {
			if c, err = s.forFile(c); err != nil {
				return nil, err
			}
		}
		return &fileOutput{"application/yaml; charset=utf-8", document.Write(c, in.Secrets)}, nil
	})
	compare := operation("POST", "/file/compare", "compare-file", "What applying a file would change, of the draft or of a revision; nothing is changed")
	compare.MaxBodyBytes = maxImport
	huma.Register(s.api, compare, func(ctx context.Context, in *struct {
		fileInput
		With string `query:"with" default:"draft" maxLength:"20" doc:"draft, running, or the number of a revision"`
	}) (*body[apitype.FileComparison], error) {
		base, err := s.configOf(ctx, in.With)
		if err != nil {
			return nil, err
		}
		doc, err := s.readFile(in.RawBody)
		if err != nil {
			return nil, err
		}
		next, err := s.over(doc, base)
		if err != nil {
			return nil, err
		}
		revision.Canonical(next)
		_, problems := decide.Compile(next)
		out := apitype.FileComparison{Changes: config.Diff(base, next), Problems: problems, Lists: doc.Lists, Comments: doc.Comments, Mark: revision.Tag(s.Revisions.Draft()), Others: []string{}}
		if out.Problems == nil {
			out.Problems = []config.Problem{}
		}
		for _, c := range s.Revisions.Changes() {
			out.Others = append(out.Others, fmt.Sprintf("%s %q %s", c.Kind, c.Object, c.What))
		}
		return ok(out), nil
	})
	apply := operation("POST", "/file/apply", "apply-file", "Make the draft what a file says, all of it or nothing")
	apply.MaxBodyBytes = maxImport
	huma.Register(s.api, apply, func(ctx context.Context, in *struct {
		fileInput
		Mark string `query:"mark" maxLength:"100" doc:"Mark of the draft that was compared; refused if the draft has changed since"`
	}) (*body[apitype.Draft], error) {
		doc, err := s.readFile(in.RawBody)
		if err != nil {
			return nil, err
		}
		err = s.Revisions.Replace(ctx, who(ctx).Name, in.Mark, func(draft *config.Config) (*config.Config, error) { return s.over(doc, draft) })
		if err != nil {
			return nil, fileProblem(err)
		}
		_, number := s.Revisions.Running()
		c := s.Revisions.Draft()
		return ok(apitype.Draft{Revision: number, Changes: s.Revisions.Changes(), Problems: s.problems(c), Mark: revision.Tag(c), Publishable: true}), nil
	})
}

func (s *server) newID() string { return s.IDs.New(time.Now()).String() }

// configOf returns the draft, what is running, or a revision.
func (s *server) configOf(ctx context.Context, of string) (*config.Config, error) {
	switch of {
	case "", "draft":
		return s.Revisions.Draft(), nil
	case "running":
		c, _ := s.Revisions.Running()
		return c, nil
	}
	number, err := strconv.Atoi(of)
	if err != nil || number < 1 {
		return nil, problem(http.StatusUnprocessableEntity, fmt.Sprintf("%q is not a configuration", of), "Use draft, running, or the number of a revision.")
	}
	c, err := s.Revisions.Config(ctx, number)
	return c, missing(err, "revision")
}

func (s *server) readFile(text []byte) (*document.Document, error) {
	doc, err := document.Read(text)
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, err.Error(), "Nothing was changed. Correct the file; `tollgate config export` shows the form.")
	}
	return doc, nil
}

// inFile is the place of a secret in a file, where objects have names and no identifiers.
func inFile(at config.Place, path string) config.Place {
	return config.Place{Purpose: "file " + at.Purpose, Object: strings.ToLower(path)}
}

// forFile seals the secrets of a configuration for a file, each for the object of its name; the same secret comes out the same.
func (s *server) forFile(c *config.Config) (*config.Config, error) {
	out := c.Clone()
	err := out.Secrets(func(at config.Place, path string, secret *config.Secret) error {
		clear, err := s.Box.Open(at, *secret)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		*secret = s.Box.SealAlike(inFile(at, path), clear)
		return nil
	})
	return &out, err
}

// over puts a file over a configuration, and seals its secrets for the objects they belong to there: those that stand in it as they
// are, and those that were sealed for a file. Secrets that did not change stay as they were.
func (s *server) over(doc *document.Document, base *config.Config) (*config.Config, error) {
	next := doc.Over(base, s.newID)
	before := map[config.Place][]config.Secret{}
	kept := base.Clone()
	_ = kept.Secrets(func(at config.Place, _ string, secret *config.Secret) error {
		before[at] = append(before[at], *secret)
		return nil
	})
	err := next.Secrets(func(at config.Place, path string, secret *config.Secret) error {
		if slices.Contains(before[at], *secret) {
			return nil
		}
		clear, plain := strings.CutPrefix(string(*secret), clearMark)
		if !plain {
			var err error
			if clear, err = s.Box.Open(inFile(at, path), *secret); err != nil {
				return problem(http.StatusUnprocessableEntity, path+" cannot be opened: it was sealed by the key file of another server, for another object, or is not sealed", "Nothing was changed. Leave it out to keep the present one, or write "+clearMark+" in front of the secret itself.")
			}
		}
		for _, old := range before[at] {
			if was, err := s.Box.Open(at, old); err == nil && was == clear {
				*secret = old
				return nil
			}
		}
		*secret = s.Box.Seal(at, clear)
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i := range next.Directories { // a stored password goes to no other servers than it was given for
		d := &next.Directories[i]
		if old, at := config.Find(base.Directories, d.ID); at >= 0 && d.BindPassword.Set() && d.BindPassword == old.BindPassword && d.Destination() != old.Destination() {
			return nil, problem(http.StatusUnprocessableEntity, fmt.Sprintf("directory %q gets other servers, TLS, authority or DNS than those that its stored password was given for", d.Name), "Nothing was changed. Write the password into the file, as bindPassword: \""+clearMark+"…\".")
		}
	}
	return next, nil
}

func fileProblem(err error) error {
	p := publishProblem(err)
	if e, ok := p.(*apitype.Problem); ok && e.Status == http.StatusUnprocessableEntity {
		e.Detail, e.Remedy = "nothing was changed, since the file has faults", "Correct them in the file."
	}
	return p
}
