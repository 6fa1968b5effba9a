// Package results is what checks, tests, trials, searches and decisions came to, as plain values that are kept, shown
// and sent. Who makes them imports it, and who shows them needs nothing else.
package results

import "tollgate.example/key/internal/core/reason"

// Verdict is the outcome of an attempt.
type Verdict string

const (
	Admitted Verdict = "admitted"
	Refused  Verdict = "refused"
)

// State is how far the attempt came at a station.
type State string

const (
	Passed     State = "passed"
	Decided    State = "decided"
	NotReached State = "not-reached"
	NotAsked   State = "not-asked"
)

// Station is one part of the road.
type Station struct {
	Key    string `json:"key"`
	Title  string `json:"title"`
	Value  string `json:"value"`
	State  State  `json:"state" enum:"passed,decided,not-reached,not-asked"`
	Micros int64  `json:"micros"`
	// Wanted and Found are filled where they explain the outcome.
	Wanted string `json:"wanted,omitempty"`
	Found  string `json:"found,omitempty"`
}

// Row is one lane or policy that was looked at, or one row of a group table.
type Row struct {
	Number   int        `json:"number"`
	Name     string     `json:"name"`
	Wanted   string     `json:"wanted"`
	Fits     bool       `json:"fits"`
	Skipped  string     `json:"skipped,omitempty"`
	Compared []Compared `json:"compared"`
}

// Trace is the road an attempt took, with every comparison kept.
type Trace struct {
	Verdict  Verdict     `json:"verdict" enum:"admitted,refused"`
	Reason   reason.Code `json:"reason"`
	Sentence string      `json:"sentence"`
	Remedy   string      `json:"remedy"`
	Stations []Station   `json:"stations"`
	Lanes    []Row       `json:"lanes"`
	Policies []Row       `json:"policies"`
	Reply    []Text      `json:"reply"`
	VLAN     string      `json:"vlan,omitempty"`
}

// Text is one attribute for people.
type Text struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Hex   string `json:"hex" doc:"The attribute as it goes over the wire, its numbers apart; empty for a template"`
	// Place is where the attribute is in the dictionary: 64, or 26.VENDOR.NUMBER.
	Place string `json:"place" doc:"Number of the attribute; 26.VENDOR.NUMBER for one of a vendor"`
}

// Compared is one comparison of a condition and how it went.
type Compared struct {
	Wanted string `json:"wanted"`
	// Found is the value the field had, "" if none.
	Found string `json:"found"`
	Fits  bool   `json:"fits"`
}
