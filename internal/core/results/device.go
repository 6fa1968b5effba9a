package results

import (
	"fmt"
	"time"
)

// ImportLine is what became of one line of an import.
type ImportLine struct {
	Number int    `json:"number"`
	Match  string `json:"match"`
	// What is added, changed, same or wrong.
	What    string `json:"what" enum:"added,changed,same,wrong"`
	Field   string `json:"field,omitempty"`
	Message string `json:"message,omitempty"`
}

// Import is what became of an import.
type Import struct {
	Lines   []ImportLine `json:"lines" doc:"What became of each line; up to a thousand that are wrong, and a thousand others"`
	Added   int          `json:"added"`
	Changed int          `json:"changed"`
	Same    int          `json:"same"`
	Wrong   int          `json:"wrong"`
	// Done tells that it was stored.
	Done bool `json:"done"`
}

// Held is somebody whose passwords are held back.
type Held struct {
	Store  string    `json:"store"`
	Person string    `json:"person"`
	Wrong  int       `json:"wrong"`
	After  int       `json:"after"`
	Device string    `json:"device" doc:"The one device that is held back; empty if it is the person"`
	Until  time.Time `json:"until"`
}

// String tells how many wrong passwords came, and how long the next are held back.
func (h *Held) String() string {
	of := "of this person"
	if h.Device != "" {
		of = "from " + h.Device
	}
	return fmt.Sprintf("%d wrong ones %s came; it goes on at %s", h.Wrong, of, h.Until.UTC().Format("15:04 MST"))
}

// maxListed bounds the lines that are listed: those that are wrong, and the others.
const maxListed = 1000

// Add counts a line.
func (r *Import) Add(line ImportLine) {
	count := &r.Wrong
	switch line.What {
	case "added":
		count = &r.Added
	case "changed":
		count = &r.Changed
	case "same":
		count = &r.Same
	}
	wrong, good := r.Wrong, r.Added+r.Changed+r.Same
	if *count++; line.What == "wrong" && wrong < maxListed || line.What != "wrong" && good < maxListed {
		r.Lines = append(r.Lines, line)
	}
}
