package document

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strconv"
)

const (
	// short is up to what size a text is parsed in one piece, partSize the size from which on a part of a longer one
	// ends: what a text is parsed to takes many times its size in memory.
	short    = 256 << 10
	partSize = 128 << 10
)

// part is a piece of a text that can be parsed alone.
type part struct {
	text []byte
	// line is what is to be added to a number of a line in it.
	line int
}

// outerKey is a line that begins something at the outermost level, and whether nothing but a list can follow.
var outerKey = regexp.MustCompile(`^([A-Za-z]+):[ \t]*(?:#.*)?\r?\n?$|^([A-Za-z]+):`)

// divide cuts a long text where an object of a list at the outermost level begins, or a list. What it cannot make sense
// of stays together, for the parser to read or refuse.
func divide(text []byte) ([]part, error) {
	if len(text) <= short {
		return []part{{text: text}}, nil
	}
	var (
		out    []part
		seen   = map[string]bool{}
		list   string // the list that is read, "" outside of one
		indent int    // how far its entries are indented; -1 while none was seen
		head   string // what goes in front of the part, so that it continues a list
		begun  int    // where the part begins
		first  int    // and with which line
	)
	end := func(at int) {
		p := part{append([]byte(head), text[begun:at]...), first}
		if head != "" {
			p.line--
		}
		out = append(out, p)
	}
	cut := func(at, line int, next string) {
		if at-begun >= partSize {
			end(at)
			begun, first, head = at, line, next
		}
	}
	line := 0
	for at := 0; at < len(text); line++ {
		now := text[at:]
		if n := bytes.IndexByte(now, '\n'); n >= 0 {
			now = now[:n+1]
		}
		entry := bytes.TrimLeft(now, " ")
		depth := len(now) - len(entry)
		var m [][]byte
		if c := now[0] | 0x20; c >= 'a' && c <= 'z' {
			m = outerKey.FindSubmatch(now)
		}
		if m != nil {
			key := string(m[1]) + string(m[2])
			if seen[key] {
				return nil, fmt.Errorf("line %d begins %s a second time", line+1, key)
			}
			seen[key] = true
			cut(at, line, "")
			list, indent = string(m[1]), -1
		} else if list != "" && (bytes.HasPrefix(entry, []byte("- ")) || bytes.HasPrefix(entry, []byte("-\n"))) {
			if indent < 0 {
				indent = depth
			}
			if depth == indent {
				cut(at, line, list+":\n")
			}
		}
		at += len(now)
	}
	end(len(text))
	return out, nil
}

var lineNumber = regexp.MustCompile(`\[(\d+):|\bline (\d+)\b`)

// shifted moves the numbers of lines in the message of an error.
func shifted(err error, lines int) error {
	if err == nil || lines == 0 {
		return err
	}
	return errors.New(lineNumber.ReplaceAllStringFunc(err.Error(), func(found string) string {
		m := lineNumber.FindStringSubmatch(found)
		if m[1] != "" {
			n, _ := strconv.Atoi(m[1])
			return "[" + strconv.Itoa(n+lines) + ":"
		}
		n, _ := strconv.Atoi(m[2])
		return "line " + strconv.Itoa(n+lines)
	}))
}
