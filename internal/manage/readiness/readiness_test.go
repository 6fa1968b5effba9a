package readiness

import (
	"context"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

// Each person counts once in each group, by what was said last; grace begins with the first such sign-in, and ends with
// an enrolment.
func TestGather(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	var rows []store.Attempt
	add := func(daysAgo int, name string, outcome reason.Code, change func(*facts.Facts), groups ...string) {
		f := facts.Facts{
			At:     now.AddDate(0, 0, -daysAgo),
			Person: &facts.Person{Store: "LANTERN", Name: name, Groups: groups},
		}
		if outcome != "" {
			f.Factor = &facts.Factor{Outcome: outcome}
		}
		if change != nil {
			change(&f)
		}
		rows = append(
			rows,
			store.Attempt{ID: ident.At(f.At) + ident.ID(len(rows)), At: f.At, Facts: f.AppendJSON(nil)},
		)
	}
	add(20, "v.vane", reason.FactorNotEnrolled, nil, "Contractors")
	add(12, "v.vane", reason.FactorNotEnrolled, nil, "Contractors")
	add(9, "k.nance", reason.FactorWrong, nil, "Crew")
	add(3, "k.nance", reason.FactorNotEnrolled, nil, "Crew", "Contractors")
	add(2, "K.Nance", "", nil, "Crew")
	add(1, "m.wade", reason.FactorLocked, nil, "Contractors")
	add(1, "printer", "", func(f *facts.Facts) { f.Person.Kind = facts.KnownDevice }, "Contractors")
	add(1, "tried", "", func(f *facts.Facts) { f.Tried = "o.brandt" }, "Contractors")
	r, err := Gather(t.Context(), Input{Since: now.AddDate(0, 0, -30), Now: now, Patience: time.Minute,
		Accounts: []Person{{Store: "local", Name: "ann", Groups: []string{"Crew"}}},
		Enrolled: func(_, name string) (bool, bool) {
			return strings.EqualFold(name, "k.nance") || name == "m.wade", false
		},
		Facts: func(_ context.Context, span store.Span, limit int) (out []store.Attempt, _ error) {
			for _, a := range rows {
				if !a.At.Before(span.Since) && a.At.Before(span.Until) && a.ID > span.After && len(out) < limit {
					out = append(out, a)
				}
			}
			return out, nil
		}})
	if err != nil || len(r.People) != 4 || !r.BackTo.Equal(now.AddDate(0, 0, -30)) {
		t.Fatalf("%+v, %v", r, err)
	}
	if v := r.People[3]; v.Name != "v.vane" || !v.Graced.Equal(now.AddDate(0, 0, -20)) {
		t.Errorf("in grace: %+v", v)
	}
	if k := r.People[1]; !k.Enrolled || !k.Graced.IsZero() || k.Failed != 0 || len(k.Groups) != 1 {
		t.Errorf("enrolled meanwhile: %+v", k)
	}
	for _, want := range []Group{{"", 4, 2, 1, 1}, {"Contractors", 2, 1, 1, 1}, {"Crew", 2, 1, 0, 0}} {
		found := false
		for _, g := range r.Groups {
			found = found || g == want
		}
		if !found {
			t.Errorf("no %+v among %+v", want, r.Groups)
		}
	}
	if !r.People[3].Has("contractors") || r.People[3].Has("Crew") || !r.People[0].Has("") {
		t.Error("who is a member of what")
	}
}
