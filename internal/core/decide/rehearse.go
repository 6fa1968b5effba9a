package decide

import (
	"cmp"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

const (
	// maxExamples is how many attempts of a difference are named, maxPeople how many people of it are told apart.
	maxExamples = 5
	maxPeople   = 10_000
	// maxDifferences bounds the kinds of differences that are told apart; further ones are counted only.
	maxDifferences = 1_000
)

// outcome is a decision as far as it tells differences apart.
type outcome struct {
	reason reason.Code
	lane   *Lane
	policy *Policy
	pass   *Pass
}

// difference is one kind of difference, with the people it was found for.
type difference struct {
	results.Difference
	people map[string]bool
}

// Rehearsal decides recorded attempts again, under two plans, and keeps how they differ. It is not safe for concurrent
// use.
type Rehearsal struct {
	before, after *Plan
	total, others int
	found         map[[2]outcome]*difference
	replies       map[*Pass]string
}

// NewRehearsal compares what is in effect with what would be.
func NewRehearsal(before, after *Plan) *Rehearsal {
	return &Rehearsal{before: before, after: after, found: map[[2]outcome]*difference{}, replies: map[*Pass]string{}}
}

// Add decides one recorded attempt under both. The person is taken as found then; client and tags are those of each
// plan.
func (r *Rehearsal) Add(id string, f *facts.Facts) {
	r.total++
	before, after := again(r.before, f), again(r.after, f)
	if !r.differ(&before, &after) {
		return
	}
	key := [2]outcome{before.outcome(), after.outcome()}
	d := r.found[key]
	if d == nil {
		if len(r.found) >= maxDifferences {
			r.others++
			return
		}
		d = &difference{people: map[string]bool{}}
		d.Before, d.After, d.Examples = r.ending(&before), r.ending(&after), []results.Example{}
		r.found[key] = d
	}
	d.Attempts++
	who := f.Name()
	if p := f.Subject(); p != nil {
		who = p.Label()
	}
	if name := strings.ToLower(who); !d.people[name] && len(d.people) < maxPeople {
		d.people[name] = true
		d.People++
		if len(d.Examples) < maxExamples {
			d.Examples = append(d.Examples, results.Example{ID: id, Person: who})
		}
	}
}

// again decides with the client as a plan has it.
func again(p *Plan, f *facts.Facts) Decision {
	name, tags := f.Client, f.ClientTags
	if c := p.Client(f.Address); c != nil {
		f.Client, f.ClientTags = c.Name, c.Tags
	}
	d := p.Decide(f)
	f.Client, f.ClientTags = name, tags
	return d
}

func (d *Decision) outcome() outcome { return outcome{d.Reason, d.Lane, d.Policy, d.Pass} }

// differ reports whether anybody would notice: the verdict, why not, or what is granted. Another policy that gives the
// same is no difference.
func (r *Rehearsal) differ(a, b *Decision) bool {
	if a.Reason != b.Reason || (a.Pass == nil) != (b.Pass == nil) {
		return true
	}
	return a.Pass != nil && (a.Pass.Name != b.Pass.Name || r.reply(a.Pass) != r.reply(b.Pass))
}

// EndingOf says how an attempt ends.
func EndingOf(d *Decision, f *facts.Facts) results.Ending {
	r := Rehearsal{replies: map[*Pass]string{}}
	out := r.ending(d)
	if d.Pass != nil {
		out.VLAN = d.Pass.VLANFor(f)
	}
	return out
}

func (r *Rehearsal) ending(d *Decision) results.Ending {
	out := results.Ending{Verdict: d.Verdict, Reason: d.Reason}
	if d.Lane != nil {
		out.Lane = d.Lane.Name
	}
	if d.Policy != nil {
		out.Policy = d.Policy.Name
	}
	if d.Pass != nil {
		out.Pass, out.VLAN, out.Reply = d.Pass.Name, d.Pass.VLAN, r.reply(d.Pass)
	}
	return out
}

func (r *Rehearsal) reply(p *Pass) string {
	text, known := r.replies[p]
	if !known {
		var parts []string
		for _, t := range p.Reply.Texts() {
			parts = append(parts, t.Name+"="+t.Value)
		}
		text = strings.Join(parts, ", ")
		r.replies[p] = text
	}
	return text
}

// Total counts the attempts that were decided again, Changed those that would end otherwise.
func (r *Rehearsal) Total() int { return r.total }

// Changed counts the attempts that would end otherwise.
func (r *Rehearsal) Changed() int {
	n := r.others
	for _, d := range r.found {
		n += d.Attempts
	}
	return n
}

// Differences lists how attempts would end otherwise: those that lose access first, then by how many they are.
func (r *Rehearsal) Differences() []results.Difference {
	out := make([]results.Difference, 0, len(r.found))
	for _, d := range r.found {
		out = append(out, d.Difference)
	}
	rank := func(d *results.Difference) int {
		switch {
		case d.Before.Verdict == results.Admitted && d.After.Verdict == results.Refused:
			return 0
		case d.Before.Verdict == results.Refused && d.After.Verdict == results.Admitted:
			return 1
		}
		return 2
	}
	slices.SortFunc(out, func(a, b results.Difference) int {
		return cmp.Or(rank(&a)-rank(&b), b.Attempts-a.Attempts, strings.Compare(a.Before.Policy+a.After.Policy,
			b.Before.Policy+b.After.Policy), strings.Compare(a.After.Reply, b.After.Reply))
	})
	return out
}
