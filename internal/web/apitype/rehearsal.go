package apitype

import (
	"encoding/json"

	"tollgate.example/key/internal/core/results"
)

// RehearsalInput says which attempts to decide again.
type RehearsalInput struct {
	Hours int `json:"hours" required:"false" minimum:"1" maximum:"8784" default:"24" doc:"Attempts of the last so many hours"`
	// Sample are facts as they were exported, here or from another server.
	Sample []json.RawMessage `json:"sample,omitempty" required:"false" maxItems:"100000" doc:"Facts of attempts to decide instead, as exported"`
}

// Rehearsal is the last rehearsal.
type Rehearsal struct {
	*results.Rehearsal
	// Outdated tells that the draft, or what is in effect, has changed since.
	Outdated bool `json:"outdated"`
}

// RehearsalEnd closes the stream of a rehearsal: what it found, or why it found nothing.
type RehearsalEnd struct {
	Result  *results.Rehearsal `json:"result,omitempty"`
	Problem string             `json:"problem,omitempty"`
}
