package decide

import (
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/rule"
)

// index finds the first of many conditions that facts fulfil without trying them all. Each condition is put under one
// thing that it cannot do without, such as a group; only those under something that the facts have are tried, and those
// that cannot do without nothing in particular. Lists are in the order of the conditions, so the first that fits in any
// list, and comes before what was found so far, is the answer.
type index struct {
	// loose are tried always.
	loose []int32
	keyed []keyed
}

// keyed are the conditions under values of one field.
type keyed struct {
	rule.Source
	under map[string][]int32
}

// worthIndexing is how many conditions are tried faster than they are looked up.
const worthIndexing = 12

// newIndex makes an index over n conditions; anchors lists what each cannot do without.
func newIndex(n int, anchors func(i int) []rule.Anchor) *index {
	x := &index{}
	all := make([][]rule.Anchor, n)
	often := map[[2]string]int{}
	for i := range n {
		if n > worthIndexing {
			all[i] = anchors(i)
		}
		for _, a := range all[i] {
			for _, value := range a.Wanted {
				often[[2]string{a.Name(), rule.FoldString(value)}]++
			}
		}
	}
	place := map[string]int{}
	for i := range n {
		best, load := -1, 0
		for j, a := range all[i] {
			sum := 0
			for _, value := range a.Wanted {
				sum += often[[2]string{a.Name(), rule.FoldString(value)}]
			}
			if best < 0 || sum < load {
				best, load = j, sum
			}
		}
		if best < 0 {
			x.loose = append(x.loose, int32(i))
			continue
		}
		a := all[i][best]
		at, known := place[a.Name()]
		if !known {
			at = len(x.keyed)
			place[a.Name()] = at
			x.keyed = append(x.keyed, keyed{a.Source, map[string][]int32{}})
		}
		under := x.keyed[at].under
		for _, value := range a.Wanted {
			key := rule.FoldString(value)
			if list := under[key]; len(list) == 0 || list[len(list)-1] != int32(i) { // the same value twice
				under[key] = append(list, int32(i))
			}
		}
	}
	return x
}

// first returns the first condition that fits, -1 if none does. It does not allocate.
func (x *index) first(f *facts.Facts, fits func(i int) bool) int {
	best := firstOf(x.loose, -1, fits)
	var space [128]byte
	for k := range x.keyed {
		one, list, isList := x.keyed[k].Values(f)
		if !isList {
			best = firstOf(x.keyed[k].under[string(rule.Fold(space[:0], one))], best, fits)
			continue
		}
		for _, value := range list {
			best = firstOf(x.keyed[k].under[string(rule.Fold(space[:0], value))], best, fits)
		}
	}
	return best
}

// firstOf returns the first of the list that fits and comes before the one found so far.
func firstOf(list []int32, before int, fits func(i int) bool) int {
	for _, i := range list {
		if before >= 0 && int(i) >= before {
			break
		}
		if fits(int(i)) {
			return int(i)
		}
	}
	return before
}

// anchorsOf lists what a condition cannot do without; one that could not be read has none.
func anchorsOf(c *rule.Condition) []rule.Anchor {
	if c == nil {
		return nil
	}
	return c.Anchors()
}

// needs lists what a policy cannot do without: that of its condition, and a group of its table.
func (p *Policy) needs() []rule.Anchor {
	out := anchorsOf(p.when)
	if len(p.Groups) > 0 {
		a := rule.Anchor{Source: rule.GroupSource()}
		for _, row := range p.Groups {
			a.Wanted = append(a.Wanted, row.Group)
		}
		out = append(out, a)
	}
	return out
}
