package decide

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/core/rule"
)

// Known tells what the configuration itself cannot.
type Known struct {
	// Group reports whether a group exists as far as is known, and whether it was picked and is gone.
	Group func(name string) (exists, gone bool)
	// At is the moment around which conditions over time are examined.
	At time.Time
}

const (
	// steps bounds the search about one policy.
	steps = 3_000
	// maxFindings bounds what is reported.
	maxFindings = 1_000
	// allSteps bounds the search about all of them: some seconds.
	allSteps = 1_000_000
	// near is how many policies before another are compared with it for overlaps.
	near = 40
)

type analysis struct {
	plan  *Plan
	known Known
	left  int
	out   []results.Finding
}

// Analyse looks for policies that nothing can reach, conditions that ask for nothing, things that nobody uses and the
// like. It never calls unreachable what can be reached; what it cannot find out it passes over.
func (p *Plan) Analyse(known Known) []results.Finding {
	a := &analysis{plan: p, known: known, left: allSteps, out: []results.Finding{}}
	for i, lane := range p.Lanes {
		a.lane(i, lane)
	}
	if a.left <= 0 {
		a.add(results.Finding{Code: results.Incomplete, Note: true, Kind: "lane",
			Message: "there are too many interdependent conditions to examine them all",
			Remedy:  "Split long conditions over several policies, or use group tables."})
	}
	a.unused()
	slices.SortStableFunc(a.out, func(x, y results.Finding) int { // mistakes are not to be cut off by notes
		return map[bool]int{false: 0, true: 1}[x.Note] - map[bool]int{false: 0, true: 1}[y.Note]
	})
	if n := len(a.out) - maxFindings; n > 0 {
		a.out = append(a.out[:maxFindings], results.Finding{Code: results.Incomplete, Note: true, Kind: "lane",
			Message: fmt.Sprintf("%d further findings are not listed", n), Remedy: "Resolve these first.",
			Example: []string{}})
	}
	return a.out
}

// AnalyseLane is Analyse for one lane alone, by its place.
func (p *Plan) AnalyseLane(n int, known Known) []results.Finding {
	a := &analysis{plan: p, known: known, left: allSteps, out: []results.Finding{}}
	a.lane(n, p.Lanes[n])
	return a.out[:min(len(a.out), maxFindings)]
}

func (a *analysis) add(f results.Finding) {
	kept := []string{}
	for _, line := range f.Example { // the method stands there only because every lane has some
		if !strings.HasPrefix(line, "proof ") {
			kept = append(kept, line)
		}
	}
	f.Example = kept
	a.out = append(a.out, f)
}

// find looks for facts that fulfil goals and are not taken by what comes before.
func (a *analysis) find(blocked func(*facts.Facts) []rule.Goal, goals ...rule.Goal) (*rule.Witness, rule.Answer) {
	granted := max(0, min(steps, a.left))
	s := rule.Search{At: a.known.At, Steps: granted, Blocked: blocked}
	w, answer := s.Find(goals...)
	a.left -= granted - max(0, s.Steps)
	return w, answer
}

// earlier returns goals that miss the first lane before number n that facts would take, nil if they take none.
func (a *analysis) earlier(n int) func(*facts.Facts) []rule.Goal {
	return func(f *facts.Facts) []rule.Goal {
		at := a.plan.lanes.first(f, func(i int) bool { return i < n && a.plan.Lanes[i].when.Fits(f) })
		if at < 0 {
			return nil
		}
		return []rule.Goal{a.plan.Lanes[at].when.MustNot()}
	}
}

func (a *analysis) lane(n int, lane *Lane) {
	on := results.Finding{Kind: "lane", Object: lane.Name, ID: lane.ID, Field: "when"}
	if !a.condition(on, lane.when, lane.when.Must()) {
		return
	}
	if _, answer := a.find(a.earlier(n), lane.when.Must()); answer == rule.Impossible {
		on.Code = results.Unreachable
		on.Message, on.Instead, on.Others = a.takenBy("lane", n, func(i int) (string, []rule.Goal) {
			return a.plan.Lanes[i].Name, []rule.Goal{a.plan.Lanes[i].when.MustNot()}
		}, lane.when.Must())
		on.Remedy = "Move it up, or remove it."
		if w, found := a.find(nil, lane.when.Must()); found == rule.Possible {
			on.Example = w.Lines()
		}
		a.add(on)
		return
	}
	for i, policy := range lane.Policies {
		if policy.Enabled && len(lane.Forward) == 0 {
			a.policy(n, lane, i, policy)
		}
	}
}

// condition examines a condition by itself, and reports whether anything can fulfil it. within are the goals of the
// place where it stands, its own among them.
func (a *analysis) condition(on results.Finding, when *rule.Condition, within ...rule.Goal) bool {
	if text := when.String(); text != "always" {
		if _, answer := a.find(nil, when.MustNot()); answer == rule.Impossible {
			on.Code, on.Message, on.Remedy = results.AlwaysTrue,
				fmt.Sprintf("the condition is always true: %s", text),
				"Write always if that is intended; otherwise look for an or that should be an and."
			a.add(on)
			return true
		}
		if _, answer := a.find(nil, when.Must()); answer == rule.Impossible {
			on.Code, on.Message, on.Remedy = results.NeverTrue,
				fmt.Sprintf("the condition is never true: %s", text),
				"Look for an and that should be an or, or for an impossible value."
			a.add(on)
			return false
		}
	}
	if len(within) > 1 {
		if _, answer := a.find(nil, within...); answer == rule.Impossible {
			on.Code, on.Message, on.Remedy = results.NeverTrue, "the condition is never true in this lane: the "+
				"lane's own condition and methods exclude it",
				"Correct one of the two, or move the policy to another lane."
			a.add(on)
			return false
		}
	}
	return true
}

// goals are what an attempt has to fulfil to fit a policy of a lane: the condition of the lane, one of its methods, the
// condition of the policy and a group of its table.
func (l *Lane) goals(p *Policy) []rule.Goal {
	out := append([]rule.Goal{p.when.Must(), l.when.Must()}, rule.MustBeOneOf("proof", l.Methods))
	if len(p.Groups) > 0 {
		out = append(out, p.member())
	}
	return out
}

// member is the goal to be in a group of the table.
func (p *Policy) member() rule.Goal {
	groups := make([]string, len(p.Groups))
	for i := range p.Groups {
		groups[i] = p.Groups[i].Group
	}
	return rule.MustBeOneOf("group", groups)
}

// misses are the goals of which one has to be fulfilled to miss the policy; facts are those that fit it.
func (p *Policy) misses() rule.Goal {
	if len(p.Groups) == 0 {
		return p.when.MustNot()
	}
	return rule.Either(p.when.MustNot(), p.member().Turned())
}

// covers reports whether the policy counts whenever the other does.
func (p *Policy) covers(other *Policy) bool {
	return p.Enabled && (p.From.IsZero() || !other.From.IsZero() && !other.From.Before(p.From)) &&
		(p.Until.IsZero() || !other.Until.IsZero() && !other.Until.After(p.Until))
}

// matches is fits, whatever the time.
func (p *Policy) matches(f *facts.Facts) bool {
	return p.when.Fits(f) && (len(p.Groups) == 0 || p.row(f.Person) >= 0)
}

// before returns goals that miss what takes facts before policy n of a lane: an earlier lane, or an earlier policy.
func (a *analysis) before(lanes int, lane *Lane, n int) func(*facts.Facts) []rule.Goal {
	earlier := a.earlier(lanes)
	return func(f *facts.Facts) []rule.Goal {
		if more := earlier(f); more != nil {
			return more
		}
		at := lane.policies.first(f, func(i int) bool {
			return i < n && lane.Policies[i].covers(lane.Policies[n]) && lane.Policies[i].matches(f)
		})
		if at < 0 {
			return nil
		}
		return []rule.Goal{lane.Policies[at].misses()}
	}
}

func (a *analysis) policy(lanes int, lane *Lane, n int, policy *Policy) {
	on := results.Finding{Kind: "lane", Object: lane.Name, ID: lane.ID, Field: fmt.Sprintf("policies[%d].when", n),
		Policy: policy.Name}
	goals := lane.goals(policy)
	a.groups(on, n, policy)
	a.ambiguous(on, n, lane, policy)
	if !a.condition(on, policy.when, goals...) {
		return
	}
	if _, answer := a.find(a.before(lanes, lane, n), goals...); answer == rule.Impossible {
		on.Code, on.Remedy = results.Unreachable, "Move it up, or remove it."
		on.Message, on.Instead, on.Others = a.takenBy("policy", n, func(i int) (string, []rule.Goal) {
			if !lane.Policies[i].covers(policy) {
				return "", nil
			}
			return lane.Policies[i].Name, []rule.Goal{lane.Policies[i].misses()}
		}, goals...)
		if w, found := a.find(a.earlier(lanes), goals...); found == rule.Possible {
			on.Example = w.Lines()
		}
		a.add(on)
		return
	}
	a.rows(lanes, lane, n, policy)
	a.overlap(on, lane, n, policy)
}

// takenBy says who is before an object that nothing can reach: one that takes all of it by itself, or several together.
func (a *analysis) takenBy(kind string, n int, at func(i int) (name string, misses []rule.Goal),
	goals ...rule.Goal) (message, by string, others []string) {
	for i := range n {
		name, misses := at(i)
		if misses == nil {
			continue
		}
		if _, answer := a.find(nil, append(slices.Clone(goals), misses...)...); answer == rule.Impossible {
			by = fmt.Sprintf("%s %d, %s", kind, i+1, name)
			return fmt.Sprintf("can never be reached: %s, matches everything that this could match", by), by,
				[]string{name}
		}
	}
	by = "those above it, together"
	return fmt.Sprintf("can never be reached: no %s above matches everything by itself, but all of them together do",
		kind), by, nil
}

// rows looks for rows of the group table that nobody gets to.
func (a *analysis) rows(lanes int, lane *Lane, n int, policy *Policy) {
	if len(policy.Groups) < 2 && n == 0 {
		return
	}
	var above []string
	for r, row := range policy.Groups {
		goals := append(lane.goals(policy), rule.MustBeOneOf("group", []string{row.Group}))
		if len(above) > 0 {
			goals = append(goals, rule.MustBeNoneOf("group", above))
		}
		above = append(above, row.Group)
		if _, answer := a.find(a.before(lanes, lane, n), goals...); answer != rule.Impossible {
			continue
		}
		a.add(results.Finding{Code: results.Unreachable, Kind: "lane", Object: lane.Name, ID: lane.ID,
			Field: fmt.Sprintf("policies[%d].groups[%d].group", n, r), Policy: policy.Name,
			Message: fmt.Sprintf("row %d never decides: everyone in %s who could reach it is matched by a row or "+
				"policy above", r+1, row.Group),
			Remedy: "Move the row above, or remove it.", Example: []string{"group " + row.Group}})
	}
}

// overlap looks for a policy shortly before that the same person can fit, with another outcome, where neither is a
// special case of the other: there it is only the order that decides.
func (a *analysis) overlap(on results.Finding, lane *Lane, n int, policy *Policy) {
	for i := n - 1; i >= 0 && i >= n-near; i-- {
		other := lane.Policies[i]
		if !other.Enabled || policy.same(other) || disjoint(policy, other) {
			continue
		}
		goals := lane.goals(policy)
		both, answer := a.find(nil, append(goals, lane.goals(other)...)...)
		if answer != rule.Possible {
			continue
		}
		if _, answer := a.find(nil, append(lane.goals(other), policy.misses())...); answer != rule.Possible {
			continue // the other is a special case, put before the general one as it should be
		}
		on.Code, on.Note, on.Example, on.Others = results.Overlap, true, both.Lines(), []string{other.Name}
		on.Instead = fmt.Sprintf("policy %d, %s: %s", i+1, other.Name, other.gives(both.Facts))
		on.Message = fmt.Sprintf("people who also match policy %d, %s, get %s from it, not %s from here", i+1,
			other.Name, gain(other, both.Facts), gain(policy, both.Facts))
		on.Remedy = "If this policy should win, move it up."
		if other.gives(both.Facts) != policy.gives(both.Facts) {
			a.add(on)
		}
		return
	}
}

// disjoint reports whether two policies ask for different values of one field that has a single value.
func disjoint(a, b *Policy) bool {
	for _, x := range a.when.Anchors() {
		for _, y := range b.when.Anchors() {
			if x.Name() == y.Name() && x.Single() && !slices.ContainsFunc(x.Wanted, func(v string) bool {
				return slices.ContainsFunc(y.Wanted, func(w string) bool { return strings.EqualFold(v, w) })
			}) {
				return true
			}
		}
	}
	return false
}

// same reports whether two policies lead to the same for everybody.
func (p *Policy) same(other *Policy) bool {
	return p.Outcome == other.Outcome && strings.EqualFold(p.Pass, other.Pass) && len(p.Groups) == 0 &&
		len(other.Groups) == 0
}

// gain is what somebody gets from a policy.
func gain(p *Policy, f *facts.Facts) string {
	if p.Outcome == config.Refusal {
		return "a refusal"
	}
	return p.gives(f)
}

// gives writes what the policy does with somebody who fits it.
func (p *Policy) gives(f *facts.Facts) string {
	if p.Outcome == config.Refusal {
		return "refuse"
	}
	if row := p.row(f.Person); row >= 0 {
		return "pass " + p.Groups[row].Pass
	}
	return "pass " + p.Pass
}
