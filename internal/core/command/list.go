package command

// Line is one line of a list.
type Line struct {
	Permit  bool
	Pattern *Pattern
	// List and Number say where the line is written: the name of the list, and its place there from 1.
	List   string
	Number int
}

// List is a whole list: its own lines, and those of the lists that it extends behind them.
type List struct {
	Lines []Line
	// Otherwise permits what no line fits.
	Otherwise bool
}

// Decide finds the first line that fits a command. at is -1 if none does, and the fallback decides.
func (l *List) Decide(words []string) (at int, permit bool) {
	for i := range l.Lines {
		if l.Lines[i].Pattern.Fits(words) {
			return i, l.Lines[i].Permit
		}
	}
	return -1, l.Otherwise
}

// Finding tells of one line whether it can decide anything.
type Finding struct {
	// Line is its place in the list.
	Line int
	// Example is a command that this line decides, "" if there is none.
	Example string
	// Taken are the earlier lines that take all its commands, in order; none if it decides something.
	Taken []int
	// Unknown tells that the search was given up.
	Unknown bool
}

// Analyse finds for each line a command that it decides, or the earlier lines that leave it none.
func (l *List) Analyse() []Finding {
	out := make([]Finding, len(l.Lines))
	for i := range l.Lines {
		out[i] = l.analyse(i)
	}
	return out
}

func (l *List) analyse(at int) Finding {
	target := l.Lines[at].Pattern
	var before []int
	for i := range at {
		if !apart(l.Lines[i].Pattern, target) {
			before = append(before, i)
		}
	}
	example, known := l.beyond(target, before)
	f := Finding{Line: at, Example: example, Unknown: !known}
	if example != "" || !known {
		return f
	}
	for i := len(before) - 1; i >= 0; i-- { // leave out those that are not needed, the later ones first
		fewer := append(append([]int{}, before[:i]...), before[i+1:]...)
		if example, known := l.beyond(target, fewer); known && example == "" {
			before = fewer
		}
	}
	f.Taken = before
	return f
}

func (l *List) beyond(target *Pattern, before []int) (string, bool) {
	taken := make([]*Pattern, len(before))
	for i, n := range before {
		taken[i] = l.Lines[n].Pattern
	}
	return beyond(target, taken)
}

// apart reports patterns that surely have no command in common: some word of theirs is literal in both, and differs.
func apart(a, b *Pattern) bool {
	if len(a.words) > len(b.words) && !b.rest || len(b.words) > len(a.words) && !a.rest {
		return true
	}
	for i := range min(len(a.words), len(b.words)) {
		if disjoint(a.words[i], b.words[i]) {
			return true
		}
	}
	return false
}

func disjoint(a, b word) bool {
	for _, x := range a {
		for _, y := range b {
			if len(x) == 1 && !y.fits(x[0]) || len(y) == 1 && !x.fits(y[0]) {
				continue
			}
			return false
		}
	}
	return true
}
