package apitype

import (
	"time"

	"tollgate.example/key/internal/core/results"
)

// Checkup is the last outcome of every check, the worst first.
type Checkup struct {
	Ran     *time.Time       `json:"ran,omitempty" doc:"When the last run ended; missing before the first"`
	Every   int              `json:"every" doc:"Minutes between the runs that happen by themselves"`
	Lines   []results.Line   `json:"lines"`
	Changes []results.Change `json:"changes" doc:"The newest changes, the newest first"`
}

// CheckupInput says what to check.
type CheckupInput struct {
	Directory string `json:"directory,omitempty" required:"false" maxLength:"200" doc:"One directory in use, by name or identifier; empty is everything"`
}

// CheckupEnd closes the stream of a checkup.
type CheckupEnd struct {
	OK bool `json:"ok" doc:"Nothing failed"`
}
