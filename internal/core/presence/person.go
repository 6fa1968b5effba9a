package presence

import (
	"net/netip"
	"slices"
	"strings"
)

// Person is somebody whom sightings name. There may be a million: 64 octets.
type Person struct {
	Name    string
	Display string
	groups  *[]string // never changed, since others are in the same; nil for none
	one     [1]*claim // the only one, where there are no others
	others  *[]*claim // all, where there were several
	turn    uint32    // counts the changes of the groups
}

// Groups are those that the person is in.
func (p *Person) Groups() []string {
	if p.groups == nil {
		return nil
	}
	return *p.groups
}

// claims are those on the person.
func (p *Person) claims() []*claim {
	switch {
	case p.others != nil:
		return *p.others
	case p.one[0] != nil:
		return p.one[:]
	}
	return nil
}

func (p *Person) add(c *claim) {
	switch {
	case p.others != nil:
		*p.others = append(*p.others, c)
	case p.one[0] == nil:
		p.one[0] = c
	default:
		p.others, p.one[0] = &[]*claim{p.one[0], c}, nil
	}
}

func (p *Person) remove(c *claim) {
	if p.others == nil {
		if p.one[0] == c {
			p.one[0] = nil
		}
		return
	}
	list := *p.others
	i := slices.Index(list, c)
	if i < 0 {
		return
	}
	last := len(list) - 1
	list[i], list[last] = list[last], nil
	if *p.others = list[:last]; last == 0 {
		p.others = nil
	}
}

// named is the person of a name, nil if nothing is known of that one.
func (b *Book) named(name string) *Person {
	return b.people.find(hashOf(name), func(p *Person) bool { return p.Name == name })
}

// maxGroups bounds how many lists of groups are remembered, so that people share them.
const maxGroups = 10_000

// shared is a list of groups that has an equal one in common.
func (b *Book) shared(groups []string) *[]string {
	if len(groups) == 0 {
		return nil
	}
	text := strings.Join(groups, "\x00")
	have := b.groups[text]
	if have == nil {
		if len(b.groups) >= maxGroups {
			clear(b.groups)
		}
		have = &groups
		b.groups[text] = have
	}
	return have
}

// Regroup sets what groups a person is in, and lists the addresses at which that may change something.
func (b *Book) Regroup(name, display string, groups []string) (touched []netip.Addr) {
	p := b.named(name)
	if p == nil || !b.regroup(p, display, groups) {
		return nil
	}
	for _, c := range p.claims() {
		touched = b.touch(c, touched)
	}
	return touched
}

// regroup tells whether it changed something.
func (b *Book) regroup(p *Person, display string, groups []string) bool {
	if p.turn > 0 && slices.Equal(p.Groups(), groups) && (display == "" || display == p.Display) {
		return false
	}
	if p.groups = b.shared(groups); display != "" && display != p.Display {
		p.Display = strings.Clone(display)
	}
	p.turn++
	return true
}

// Groups are those of a person, as they were set last; known is false for one whom nothing is known of.
func (b *Book) Groups(name string) (groups []string, known bool) {
	p := b.named(name)
	if p == nil || p.turn == 0 {
		return nil, false
	}
	return p.Groups(), true
}

// Display is what people call a person, "" if that is not known.
func (b *Book) Display(name string) string {
	if p := b.named(name); p != nil {
		return p.Display
	}
	return ""
}

// Find lists people whose name or display name holds a text in lower case, up to a limit.
func (b *Book) Find(text string, limit int) (names []string) {
	for p := range b.people.each {
		if strings.Contains(p.Name, text) || strings.Contains(strings.ToLower(p.Display), text) {
			if names = append(names, p.Name); len(names) >= limit {
				break
			}
		}
	}
	slices.Sort(names)
	return names
}

// People goes through everybody of whom there are claims.
func (b *Book) People(each func(*Person)) {
	for p := range b.people.each {
		each(p)
	}
}
