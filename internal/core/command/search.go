package command

import (
	"encoding/binary"
	"slices"
	"strings"
)

// A pattern as an automaton over characters. Words are separated by one space and are never empty.

type op byte

const (
	opChar  op = iota // one character
	opInner           // any character but a space
	opSplit           // two ways, without a character
	opEnd             // the command ends here
)

type instruction struct {
	op   op
	char byte
	to   int // the next, but for opSplit the first way
	also int
}

// program is several patterns in one: an end of any of them ends all.
type program struct {
	code  []instruction
	start []int
}

func (m *program) emit(in instruction) int {
	m.code = append(m.code, in)
	return len(m.code) - 1
}

// add appends a pattern.
func (m *program) add(p *Pattern) {
	m.start = append(m.start, len(m.code))
	for i, w := range p.words {
		if i > 0 {
			m.char(' ')
		}
		m.word(w)
	}
	if p.rest {
		split := -1
		if len(p.words) > 0 { // nothing, or a space and at least one character
			split = m.emit(instruction{op: opSplit, to: len(m.code) + 1})
			m.char(' ')
		}
		m.emit(instruction{op: opInner, to: len(m.code) + 1})
		m.tail()
		if split >= 0 {
			m.code[split].also = len(m.code)
		}
	}
	m.emit(instruction{op: opEnd})
}

// tail is any characters in which each space is followed by one that is none: words, and nothing at the end of them.
func (m *program) tail() {
	loop := m.emit(instruction{op: opSplit})
	m.code[loop].to = len(m.code)
	space := m.emit(instruction{op: opSplit})
	m.code[space].to = len(m.code)
	m.char(' ')
	m.code[space].also = len(m.code)
	m.emit(instruction{op: opInner, to: loop})
	m.code[loop].also = len(m.code)
}

func (m *program) char(c byte) { m.emit(instruction{op: opChar, char: c, to: len(m.code) + 1}) }

func (m *program) word(w word) {
	var ends []int
	for i, g := range w {
		split := -1
		if i < len(w)-1 {
			split = m.emit(instruction{op: opSplit, to: len(m.code) + 1})
		}
		m.glob(g)
		if i < len(w)-1 {
			ends = append(ends, m.emit(instruction{op: opSplit}))
			m.code[split].also = len(m.code)
		}
	}
	for _, at := range ends {
		m.code[at].to, m.code[at].also = len(m.code), len(m.code)
	}
}

func (m *program) glob(g glob) {
	literal := 0
	for i, piece := range g {
		if i > 0 {
			loop := m.emit(instruction{op: opSplit, to: len(m.code) + 1})
			m.emit(instruction{op: opInner, to: loop})
			m.code[loop].also = len(m.code)
		}
		for _, c := range []byte(piece) {
			m.char(c)
		}
		literal += len(piece)
	}
	if literal == 0 { // a word is never empty
		m.emit(instruction{op: opInner, to: len(m.code) + 1})
	}
}

// close adds everything that is reached without a character, sorted.
func (m *program) close(from []int) []int {
	seen := make(map[int]bool, len(from)*2)
	stack := append([]int(nil), from...)
	out := make([]int, 0, len(from)*2)
	for len(stack) > 0 {
		at := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if seen[at] {
			continue
		}
		seen[at] = true
		if in := m.code[at]; in.op == opSplit {
			stack = append(stack, in.to, in.also)
		} else {
			out = append(out, at)
		}
	}
	slices.Sort(out)
	return out
}

func (m *program) step(from []int, c byte) []int {
	var out []int
	for _, at := range from {
		in := m.code[at]
		if in.op == opChar && in.char == c || in.op == opInner && c != ' ' {
			out = append(out, in.to)
		}
	}
	return m.close(out)
}

func (m *program) ended(at []int) bool {
	return slices.ContainsFunc(at, func(i int) bool { return m.code[i].op == opEnd })
}

// maxSearch bounds the states of a search; lists that people write need a few hundred.
const maxSearch = 20_000

// beyond finds the shortest command that fits a pattern and none of others. known is false if the search was given up;
// with it, "" is the proof that there is none.
func beyond(target *Pattern, others []*Pattern) (command string, known bool) {
	var want, taken program
	want.add(target)
	for _, p := range others {
		taken.add(p)
	}
	type node struct {
		want, taken []int
		before      int
		char        byte
	}
	key := func(n *node) string {
		b := make([]byte, 0, 4*(len(n.want)+len(n.taken))+4)
		for _, at := range n.want {
			b = binary.BigEndian.AppendUint32(b, uint32(at))
		}
		b = binary.BigEndian.AppendUint32(b, 0xffffffff)
		for _, at := range n.taken {
			b = binary.BigEndian.AppendUint32(b, uint32(at))
		}
		return string(b)
	}
	nodes := []node{{want: want.close(want.start), taken: taken.close(taken.start), before: -1}}
	seen := map[string]bool{key(&nodes[0]): true}
	letters := alphabet(&want, &taken)
	for i := 0; i < len(nodes); i++ {
		if want.ended(nodes[i].want) && !taken.ended(nodes[i].taken) {
			var back []byte
			for at := i; nodes[at].before >= 0; at = nodes[at].before {
				back = append(back, nodes[at].char)
			}
			slices.Reverse(back)
			return string(back), true
		}
		for _, c := range letters {
			next := node{want: want.step(nodes[i].want, c), before: i, char: c}
			if len(next.want) == 0 {
				continue
			}
			next.taken = taken.step(nodes[i].taken, c)
			if k := key(&next); !seen[k] {
				if len(nodes) == maxSearch {
					return "", false
				}
				seen[k] = true
				nodes = append(nodes, next)
			}
		}
	}
	return "", true
}

// alphabet is every character that is written in the patterns, a space, and one that stands for all others.
func alphabet(programs ...*program) []byte {
	var used [256]bool
	for _, m := range programs {
		for _, in := range m.code {
			if in.op == opChar {
				used[in.char] = true
			}
		}
	}
	out := []byte{}
	for _, c := range []byte("xyzwvqkjutsronmlihgfedcba0123456789-_./:~") {
		if !used[c] {
			out = append(out, c)
			break
		}
	}
	for c := range used {
		if used[c] && c != ' ' {
			out = append(out, byte(c))
		}
	}
	return append(out, ' ')
}

// Example writes a command that fits the pattern, for people.
func (p *Pattern) Example() string {
	command, _ := beyond(p, nil)
	return strings.TrimSpace(command)
}
