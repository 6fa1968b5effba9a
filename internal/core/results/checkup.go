package results

import (
	"time"

	"tollgate.example/key/internal/core/facts"
)

// StepState is how a step of the test went.
type StepState string

const (
	Running StepState = "running"
	Pass    StepState = "pass"
	Warn    StepState = "warn"
	Fail    StepState = "fail"
)

// Step is one step of the test of a directory.
type Step struct {
	Key    string        `json:"key"`
	Title  string        `json:"title"`
	Server string        `json:"server,omitempty"`
	State  StepState     `json:"state" enum:"running,pass,warn,fail"`
	Detail string        `json:"detail"`
	Remedy string        `json:"remedy,omitempty"`
	Micros int64         `json:"micros"`
	Person *facts.Person `json:"person,omitempty"`
}

// Line is the outcome of one check.
type Line struct {
	Step
	// Subject is what was checked, and ID its identifier.
	Subject string `json:"subject"`
	ID      string `json:"id"`
	// At is when, Since when it first was so.
	At    time.Time `json:"at"`
	Since time.Time `json:"since"`
}

// Change is a line whose state is not what it was.
type Change struct {
	ID   int64     `json:"id"`
	Line Line      `json:"line"`
	Was  string    `json:"was" doc:"The state before; empty if it was never checked before"`
	At   time.Time `json:"at"`
}
