package presence

import (
	"net/netip"
	"slices"
	"strings"
)

// Regroup sets what groups a person is in, and lists the addresses at which that may change something.
func (b *Book) Regroup(name, display string, groups []string) (touched []netip.Addr) {
	p := b.people[name]
	if p == nil || p.turn > 0 && slices.Equal(p.Groups, groups) && (display == "" || display == p.Display) {
		return nil
	}
	if p.Groups = groups; display != "" && display != p.Display {
		p.Display = strings.Clone(display)
	}
	p.turn++
	for _, c := range p.claims {
		touched = b.around(c, touched)
	}
	return touched
}

// Groups are those of a person, as they were set last; known is false for one whom nothing is known of.
func (b *Book) Groups(name string) (groups []string, known bool) {
	p := b.people[name]
	if p == nil || p.turn == 0 {
		return nil, false
	}
	return p.Groups, true
}

// Display is what people call a person, "" if that is not known.
func (b *Book) Display(name string) string {
	if p := b.people[name]; p != nil {
		return p.Display
	}
	return ""
}

// Find lists people whose name or display name holds a text in lower case, up to a limit.
func (b *Book) Find(text string, limit int) (names []string) {
	for name, p := range b.people {
		if strings.Contains(name, text) || strings.Contains(strings.ToLower(p.Display), text) {
			if names = append(names, name); len(names) >= limit {
				break
			}
		}
	}
	slices.Sort(names)
	return names
}

// People goes through everybody of whom there are claims.
func (b *Book) People(each func(*Person)) {
	for _, p := range b.people {
		each(p)
	}
}
