package chain

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
)

// Row is one line in a file: a JSON object a row, with the hash before the line and its own.
type Row struct {
	Line   json.RawMessage `json:"line"`
	Before string          `json:"before"`
	Hash   string          `json:"hash"`
}

// MaxRow is how long a row of a file may be, in octets.
const MaxRow = 1 << 20

// Report is what checking came to.
type Report struct {
	First  int64   `json:"first" doc:"Number of the first line"`
	Last   int64   `json:"last" doc:"Number of the last line"`
	Lines  int64   `json:"lines"`
	Hash   string  `json:"hash" doc:"Hash of the last line"`
	Breaks []Break `json:"breaks" doc:"Where the chain does not hold, the first ones"`
	Broken int     `json:"broken" doc:"How many such places there are"`
}

// Report is what was found.
func (c *Checker) Report(first int64) Report {
	out := Report{
		First:  first,
		Last:   c.Last,
		Lines:  c.Lines,
		Hash:   c.Hash.String(),
		Breaks: c.Breaks,
		Broken: c.Broken,
	}
	if out.Breaks == nil {
		out.Breaks = []Break{}
	}
	return out
}

// Noted compares the chain with a head that was noted: hash is that of its line as the chain has it, found whether it
// has that line.
func (c *Checker) Noted(head *Head, hash Sum, found bool) {
	switch {
	case head.Number > c.Last:
		c.fault(
			head.Number,
			"the head that was noted is line %d, and the last one here is line %d",
			head.Number,
			c.Last,
		)
	case found && hash.String() != head.Hash:
		c.fault(
			head.Number,
			"line %d is another one than was noted: it, or a line before it, was changed",
			head.Number,
		)
	}
}

// Read checks a file. It may begin at any line, which the report names. The error tells that it cannot be read as one.
func Read(from io.Reader, head *Head) (Report, error) {
	lines := bufio.NewScanner(from)
	lines.Buffer(make([]byte, 64<<10), MaxRow)
	var c Checker
	var noted Sum
	var first int64
	var found bool
	for at := 1; lines.Scan(); at++ {
		if len(lines.Bytes()) == 0 {
			continue
		}
		var row Row
		var line struct {
			Number int64 `json:"number"`
		}
		if err := json.Unmarshal(lines.Bytes(), &row); err != nil {
			return Report{}, fmt.Errorf("row %d is not one of an exported audit: %w", at, err)
		}
		if err := json.Unmarshal(row.Line, &line); err != nil || line.Number < 1 {
			return Report{}, fmt.Errorf("row %d holds no line with a number", at)
		}
		hash, err := ParseSum(row.Hash)
		if err != nil {
			return Report{}, fmt.Errorf("row %d: %w", at, err)
		}
		if first == 0 {
			if c.Hash, err = ParseSum(row.Before); err != nil {
				return Report{}, fmt.Errorf("row %d: %w", at, err)
			}
			first, c.Last = line.Number, line.Number-1
		}
		if c.Add(line.Number, row.Line, hash); head != nil && head.Number == line.Number {
			noted, found = hash, true
		}
	}
	if err := lines.Err(); err != nil {
		return Report{}, fmt.Errorf("reading the exported audit: %w", err)
	}
	if head != nil {
		c.Noted(head, noted, found)
	}
	return c.Report(first), nil
}
