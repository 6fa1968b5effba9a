// Package audit records who did what: each change in the transaction that makes it, chained by hashes.
package audit

import (
	"encoding/json"
	"time"
)

// moment is how times stand in lines: in UTC, and of one length, so that they compare as text.
const moment = "2006-01-02T15:04:05.000Z"

// Moment writes a time as it stands in lines; "" for none.
func Moment(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.UTC().Format(moment)
}

// Results of a line.
const (
	Done    = "done"
	Refused = "refused"
	Failed  = "failed"
)

// Actor is who does something, from where and how.
type Actor struct {
	Who  string `json:"who,omitempty"`
	Role string `json:"role,omitempty"`
	From string `json:"from,omitempty"`
	// How is console, command with the name of the token, token likewise, host or service.
	How string `json:"how,omitempty"`
}

// Change is one value that is another one now. Secrets are never in it.
type Change struct {
	Field  string `json:"field"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Line is one line of the audit.
type Line struct {
	Number int64  `json:"number"`
	At     string `json:"at"`
	Actor
	// Call is the operation of the API, or another name for what was done.
	Call string `json:"call"`
	What string `json:"what"`
	// Kind, Object and Name say what was changed: its kind, identifier and name.
	Kind   string `json:"kind,omitempty"`
	Object string `json:"object,omitempty"`
	Name   string `json:"name,omitempty"`
	Result string `json:"result"`
	Why    string `json:"why,omitempty"`

	Changes []Change        `json:"changes,omitempty"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
	// First and Chain are of a line that tells of removed lines: the first that stayed, and the hash before it.
	First int64  `json:"first,omitempty"`
	Chain string `json:"chain,omitempty"`
}

// maxText bounds texts that come from outside.
const maxText = 300

func cut(text string) string {
	if runes := []rune(text); len(runes) > maxText {
		return string(runes[:maxText-1]) + "…"
	}
	return text
}

// encode is the text of a line, which its hash covers.
func (l *Line) encode(number int64) []byte {
	l.Number = number
	l.What, l.Why, l.Name, l.Who = cut(l.What), cut(l.Why), cut(l.Name), cut(l.Who)
	text, err := json.Marshal(l)
	if err != nil { // what was compared was no JSON; nothing is recorded rather than half of it
		l.Before, l.After = nil, nil
		text, _ = json.Marshal(l)
	}
	return text
}
