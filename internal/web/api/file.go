package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/document"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

type fileInput struct {
	RawBody []byte `contentType:"application/yaml"`
}

type fileOutput struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

// files registers the configuration as one readable file.
func (s *server) files() {
	huma.Register(s.api, operation("GET", "/file", "export-file", "The configuration as one YAML file"),
		func(ctx context.Context, in *struct {
			Of      string `query:"of" default:"draft" maxLength:"20" doc:"draft, running, or the number of a revision"`
			Secrets bool   `query:"secrets" doc:"With secrets, sealed by the key file of this server; otherwise they are left out"`
		}) (*fileOutput, error) {
			c, err := s.configOf(ctx, in.Of)
			if err != nil {
				return nil, err
			}
			if in.Secrets {
				if c, err = s.Revisions.ForFile(c); err != nil {
					return nil, err
				}
			}
			return &fileOutput{"application/yaml; charset=utf-8", document.Write(c, in.Secrets)}, nil
		})
	compare := operation("POST", "/file/compare", "compare-file", "What applying a file would change, of the draft "+
		"or of a revision; nothing is changed")
	compare.MaxBodyBytes = maxFile
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
		next, err := s.Revisions.Over(doc, base, s.newID)
		if err != nil {
			return nil, fileProblem(err)
		}
		revision.CanonicalSince(next, base)
		next.Share(base)
		problems := s.Revisions.Compile(next).Problems
		changes := revision.Differences(base, next)
		out := apitype.FileComparison{Changes: changes.List, More: changes.More, Problems: problems, Lists: doc.Lists,
			Comments: doc.Comments, Mark: s.Revisions.Mark(), Others: []string{}}
		if out.Problems == nil {
			out.Problems = []config.Problem{}
		}
		for _, c := range s.Revisions.Changes().List {
			out.Others = append(out.Others, fmt.Sprintf("%s %q %s", c.Kind, c.Object, c.What))
		}
		return ok(out), nil
	})
	apply := operation("POST", "/file/apply", "apply-file", "Make the draft what a file says, all of it or nothing")
	apply.MaxBodyBytes = maxFile
	huma.Register(s.api, apply, func(ctx context.Context, in *struct {
		fileInput
		Mark string `query:"mark" maxLength:"100" doc:"Mark of the draft that was compared; refused if the draft has changed since"`
	}) (*body[apitype.Draft], error) {
		doc, err := s.readFile(in.RawBody)
		if err != nil {
			return nil, err
		}
		err = s.Revisions.Replace(ctx, who(ctx).Name, in.Mark, func(draft *config.Config) (*config.Config, error) {
			return s.Revisions.Over(doc, draft, s.newID)
		})
		if err != nil {
			return nil, fileProblem(err)
		}
		_, number := s.Revisions.Running()
		c := s.Revisions.CompiledDraft()
		changes := s.Revisions.Changes()
		return ok(apitype.Draft{Revision: number, Changes: changes.List, More: changes.More,
			Problems: s.Analyst.Problems(c), Mark: s.Revisions.Mark(), Publishable: true}), nil
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
		return nil, problem(http.StatusUnprocessableEntity, fmt.Sprintf("%q is not a configuration", of),
			"Use draft, running, or the number of a revision.")
	}
	c, err := s.Revisions.Config(ctx, number)
	return c, missing(err, "revision")
}

func (s *server) readFile(text []byte) (*document.Document, error) {
	doc, err := document.Read(text)
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, err.Error(),
			"Nothing was changed. Correct the file; `tollgate config export` shows the form.")
	}
	return doc, nil
}

func fileProblem(err error) error {
	var file *revision.FileError
	if errors.As(err, &file) {
		return problem(http.StatusUnprocessableEntity, file.Detail, file.Remedy)
	}
	p := publishProblem(err)
	if e, ok := p.(*apitype.Problem); ok && e.Status == http.StatusUnprocessableEntity {
		e.Detail, e.Remedy = "Not applied: the file has faults.", "Correct them in the file."
	}
	return p
}
