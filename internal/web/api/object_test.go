package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

func TestNobodyOverwritesUnknowingly(t *testing.T) {
	pass := &config.Pass{ID: "1", Name: "crew"}
	authors := func(id string) (revision.Author, bool) {
		return revision.Author{Operator: "o.brandt", At: time.Date(2026, 3, 1, 9, 30, 0, 0, time.UTC)}, id == "1"
	}
	for _, c := range []struct {
		given  string
		status int
	}{{"*", 0}, {revision.Tag(pass), 0}, {"", http.StatusPreconditionRequired},
		{`"older"`, http.StatusPreconditionFailed}} {
		err := match(authors, "pass", c.given, pass, "1")
		p := (*apitype.Problem)(nil)
		if c.status == 0 && err != nil || c.status != 0 && (!errors.As(err, &p) || p.Status != c.status ||
			p.Remedy == "") {
			t.Errorf("with the tag %q: %v", c.given, err)
		}
		if c.status == http.StatusPreconditionFailed && !strings.Contains(p.Detail, "by o.brandt at 09:30:00") {
			t.Errorf("who changed it is not said: %s", p.Detail)
		}
	}
}

// Whatever stops a publish is told with its own status, and the fields that are wrong.
func TestPublishProblems(t *testing.T) {
	fault := config.NewProblem(config.NotFound, "there is no pass %q", "x").On("lane", "Wired", "1",
		"policies[0].pass", "Choose one.")
	for _, c := range []struct {
		err    error
		status int
		code   string
		wants  []string
	}{
		{&revision.Invalid{Problems: []config.Problem{fault.AsWarning(), fault}}, http.StatusUnprocessableEntity, "",
			[]string{`lane "Wired", policies[0].pass`, `there is no pass "x"`}},
		{&revision.Unmet{List: []revision.Expected{{Name: "Crew at sea", Wanted: "admitted",
			Got: "refused policy.none"}}},
			http.StatusConflict, "expectations.unmet", []string{`expectation "Crew at sea"`,
				"wanted: admitted; it would be: refused policy.none"}},
		{revision.ErrNothing, http.StatusConflict, "", nil},
		{fmt.Errorf("%w: a client", revision.ErrOthers), http.StatusConflict, "",
			[]string{"saved in the draft, but not published"}},
		{revision.ErrChanged, http.StatusConflict, "", nil},
		{revision.ErrDraft, http.StatusConflict, "", nil},
		{fmt.Errorf("revision 9: %w", store.ErrNotFound), http.StatusNotFound, "", []string{"revision 9"}},
	} {
		p := (*apitype.Problem)(nil)
		if !errors.As(publishProblem(c.err), &p) || p.Status != c.status || p.Code != c.code {
			t.Errorf("%v becomes %+v", c.err, p)
			continue
		}
		if _, list := c.err.(*revision.Invalid); list && len(p.Errors) != 1 {
			t.Errorf("warnings stop a publish: %+v", p.Errors)
		}
		text := p.Detail + fmt.Sprint(p.Errors) + fmt.Sprintf("%+v", p.Errors)
		for _, want := range c.wants {
			if !strings.Contains(text, want) {
				t.Errorf("%v: %q is missing in %s", c.err, want, text)
			}
		}
	}
	if publishProblem(nil) != nil {
		t.Error("no error is a problem")
	}
}

// Whoever was away gets what was missed, up to a limit, and is told from when on something is missing.
func TestCatchUp(t *testing.T) {
	first := ident.At(time.Now().Add(-time.Hour))
	rows := make([]ident.ID, maxCatchUp+100)
	for i := range rows {
		rows[i] = first + ident.ID(i+1)<<22
	}
	f := follower[ident.ID]{id: func(id *ident.ID) ident.ID { return *id }, view: func(id *ident.ID) any { return *id },
		after: func(id ident.ID, limit int) (out record.Page[ident.ID], err error) {
			for _, r := range rows {
				if r <= id {
					continue
				}
				if len(out.Items) == limit {
					out.Next = out.Items[limit-1]
					break
				}
				out.Items = append(out.Items, r)
			}
			return out, nil
		}}
	for _, c := range []struct {
		last   ident.ID
		sent   int
		gap    bool
		newest ident.ID
		unread bool
	}{
		{0, 0, false, 0, false},
		{rows[len(rows)-1], 0, false, rows[len(rows)-1], false},
		{rows[len(rows)-11], 10, false, rows[len(rows)-1], false},
		{first, maxCatchUp, true, rows[maxCatchUp-1], false},
		{first, 0, true, first, true},
	} {
		f := f
		if c.unread {
			f.after = func(ident.ID, int) (out record.Page[ident.ID], err error) {
				return out, errors.New("the disk")
			}
		}
		sent, gap := 0, (*apitype.Gap)(nil)
		newest, err := f.catchUp(func(m sse.Message) error {
			if g, ok := m.Data.(apitype.Gap); ok {
				gap = &g
				return nil
			}
			sent++
			return nil
		}, c.last)
		if err != nil || sent != c.sent || newest != c.newest || (gap != nil) != c.gap {
			t.Errorf("from %d on: %d sent, gap %v, newest %d, %v", c.last, sent, gap, newest, err)
		}
		if gap != nil && (!gap.Since.Equal(newest.Time()) || gap.Until.Before(gap.Since)) {
			t.Errorf("the gap is told as %+v", gap)
		}
	}
	if _, err := f.catchUp(func(sse.Message) error { return errors.New("gone") }, first); err == nil {
		t.Error("a follower that went away is sent everything")
	}
}
