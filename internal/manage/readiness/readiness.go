// Package readiness tells who is ready for a second factor: of the people of each group, how many have one, and who has
// none, so that asking for it can be planned before anybody is refused.
package readiness

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

const (
	// batch is how many attempts are read at a time, failingFor for how long somebody whose code did not count is
	// failing.
	batch      = 2000
	failingFor = 7 * 24 * time.Hour
	// maxPeople bounds who is looked at.
	maxPeople = 500_000
)

// Person is somebody who signed in, or has an account here.
type Person struct {
	Store, Name, Display string
	Groups               []string
	// Enrolled tells that there is a second factor, Locked that none of its codes is looked at now.
	Enrolled, Locked bool
	// Seen is the latest sign-in, zero for none in the time that was looked at.
	Seen time.Time
	// Graced is the first sign-in that was admitted for want of a second factor, zero for none.
	Graced time.Time
	// Failed counts sign-ins of the last seven days that were refused by the second factor.
	Failed int
}

// Group sums up the people of a group.
type Group struct {
	Name                              string
	People, Enrolled, Graced, Failing int
}

// Without is how many have no second factor: so many would be refused today if it were asked of the group.
func (g *Group) Without() int { return g.People - g.Enrolled }

// Input is what is looked at.
type Input struct {
	// Facts reads attempts of a span, the oldest first.
	Facts func(ctx context.Context, span store.Span, limit int) ([]store.Attempt, error)
	// Accounts are the people who have an account here.
	Accounts []Person
	// Enrolled tells whether somebody has a second factor, and whether it is locked.
	Enrolled func(store, name string) (enrolled, locked bool)
	// Since is from when on attempts are looked at, Now when it is; Patience is how long it may take.
	Since, Now time.Time
	Patience   time.Duration
}

// Report is who is ready.
type Report struct {
	// People are in the order of their names, Groups those with the most people without a second factor first.
	People []Person
	Groups []Group
	// Clients are those at which a second factor was asked for, in the order of their names.
	Clients []Client
	// BackTo is from when on attempts were looked at: later than wanted if there are very many.
	BackTo time.Time
}

// everybody is the group of all.
const everybody = ""

// Gather looks at the attempts of some time, the latest days first, and at the accounts.
func Gather(ctx context.Context, in Input) (*Report, error) {
	people := map[string]*Person{}
	of := func(store, name string) *Person {
		key := strings.ToLower(store) + "\x00" + strings.ToLower(name)
		p := people[key]
		if p == nil && len(people) < maxPeople {
			p = &Person{Store: store, Name: name}
			people[key] = p
		}
		return p
	}
	for i := range in.Accounts {
		if p := of(in.Accounts[i].Store, in.Accounts[i].Name); p != nil {
			*p = in.Accounts[i]
		}
	}
	out := &Report{}
	clients := map[string]*Client{}
	backTo, err := in.walk(ctx, func(a *store.Attempt, f *facts.Facts) {
		note(f, of, in.Now)
		noteClient(a, f, clients)
	})
	if err != nil {
		return nil, err
	}
	out.BackTo, out.Clients = backTo, sorted(clients)
	groups := map[string]*Group{}
	for _, p := range people {
		p.Enrolled, p.Locked = in.Enrolled(p.Store, p.Name)
		if p.Enrolled {
			p.Graced = time.Time{}
		}
		out.People = append(out.People, *p)
		for _, name := range append([]string{everybody}, p.Groups...) {
			sum(groups, name, p)
		}
	}
	slices.SortFunc(out.People, func(a, b Person) int {
		return cmp.Or(
			strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)),
			strings.Compare(a.Store, b.Store),
		)
	})
	for _, g := range groups {
		out.Groups = append(out.Groups, *g)
	}
	slices.SortFunc(out.Groups, func(a, b Group) int {
		return cmp.Or(cmp.Compare(b.Without(), a.Without()), strings.Compare(a.Name, b.Name))
	})
	return out, nil
}

// walk reads the attempts, the latest days first, and returns how far back it came.
func (in *Input) walk(ctx context.Context, see func(a *store.Attempt, f *facts.Facts)) (time.Time, error) {
	backTo, until := in.Now, time.Now().Add(in.Patience)
	var f facts.Facts
	for end := in.Now.Add(time.Minute); end.After(in.Since) && time.Now().Before(until); {
		begin := end.Add(-24 * time.Hour)
		if begin.Before(in.Since) {
			begin = in.Since
		}
		for span := (store.Span{Since: begin, Until: end, After: 1}); ; {
			rows, err := in.Facts(ctx, span, batch)
			if err != nil {
				return backTo, fmt.Errorf("reading the attempts of %s: %w", begin.Format(time.DateOnly), err)
			}
			for i := range rows {
				if f.ParseJSON(rows[i].Facts) == nil {
					see(&rows[i], &f)
				}
			}
			if len(rows) < batch {
				break
			}
			span.After = rows[len(rows)-1].ID
		}
		backTo, end = begin, begin
	}
	return backTo, nil
}

// note notes what one attempt says of a person.
func note(f *facts.Facts, of func(store, name string) *Person, now time.Time) {
	who := f.Person
	if who == nil || who.Kind != "" || f.Tried != "" {
		return
	}
	p := of(who.Store, who.Name)
	if p == nil {
		return
	}
	if !f.At.Before(p.Seen) {
		p.Seen, p.Groups, p.Display = f.At, who.Groups, cmp.Or(who.Display, p.Display)
	}
	if f.Factor == nil {
		return
	}
	switch f.Factor.Outcome {
	case reason.OK:
	case reason.FactorNotEnrolled:
		if p.Graced.IsZero() || f.At.Before(p.Graced) {
			p.Graced = f.At
		}
	default:
		if now.Sub(f.At) < failingFor {
			p.Failed++
		}
	}
}

func sum(groups map[string]*Group, name string, p *Person) {
	g := groups[name]
	if g == nil {
		g = &Group{Name: name}
		groups[name] = g
	}
	g.People++
	if p.Enrolled {
		g.Enrolled++
	}
	if !p.Graced.IsZero() {
		g.Graced++
	}
	if p.Failed > 0 || p.Locked {
		g.Failing++
	}
}

// Has tells that somebody is a member of a group; everybody is one of "".
func (p *Person) Has(group string) bool {
	return group == everybody ||
		slices.ContainsFunc(p.Groups, func(g string) bool { return strings.EqualFold(g, group) })
}
