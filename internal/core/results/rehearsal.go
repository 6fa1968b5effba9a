package results

import (
	"time"

	"tollgate.example/key/internal/core/reason"
)

// Ending is how an attempt ends, as far as the device and the person notice.
type Ending struct {
	Verdict Verdict     `json:"verdict" enum:"admitted,refused"`
	Reason  reason.Code `json:"reason"`
	Lane    string      `json:"lane"`
	Policy  string      `json:"policy"`
	Pass    string      `json:"pass"`
	VLAN    string      `json:"vlan"`
	// Reply is what the device is told, in words.
	Reply string `json:"reply"`
}

// Example is one attempt of a difference.
type Example struct {
	ID     string `json:"id"`
	Person string `json:"person"`
}

// Difference are all attempts whose ending would change in the same way.
type Difference struct {
	Before   Ending    `json:"before"`
	After    Ending    `json:"after"`
	Attempts int       `json:"attempts"`
	People   int       `json:"people"`
	Examples []Example `json:"examples"`
}

// Progress tells how far a rehearsal is.
type Progress struct {
	Done    int `json:"done"`
	Total   int `json:"total"`
	Changed int `json:"changed"`
}

// Rehearsal is what a rehearsal found.
type Rehearsal struct {
	Progress
	// Revision is what was in effect, Draft marks the draft that was compared with it.
	Revision int       `json:"revision"`
	Draft    string    `json:"draft"`
	Since    time.Time `json:"since"`
	Until    time.Time `json:"until"`
	Ended    time.Time `json:"ended"`
	Micros   int64     `json:"micros"`
	// Sample tells that an imported sample was decided, and not what was recorded here.
	Sample bool `json:"sample"`
	// Unreadable are attempts whose facts cannot be read any more.
	Unreadable  int          `json:"unreadable"`
	Differences []Difference `json:"differences"`
}
