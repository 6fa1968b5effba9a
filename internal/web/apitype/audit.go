package apitype

import (
	"encoding/json"
	"time"

	"tollgate.example/key/internal/core/chain"
)

// AuditLine is a line of the audit.
type AuditLine struct {
	ID      string        `json:"id" doc:"Its number, as a cursor"`
	Number  int64         `json:"number"`
	At      time.Time     `json:"at"`
	Who     string        `json:"who" doc:"Operator; empty for the service itself and for strangers"`
	Role    string        `json:"role"`
	From    string        `json:"from" doc:"Address"`
	How     string        `json:"how" doc:"console, command or token with the name of the token, host, service"`
	Call    string        `json:"call" doc:"Operation of the API"`
	What    string        `json:"what" doc:"In words"`
	Kind    string        `json:"kind" doc:"Kind of what was changed"`
	Object  string        `json:"object" doc:"Its identifier"`
	Name    string        `json:"name" doc:"Its name"`
	Result  string        `json:"result" enum:"done,refused,failed"`
	Why     string        `json:"why"`
	Changes []AuditChange `json:"changes"`
	// Before and After are in one line alone, not in lists.
	Before json.RawMessage `json:"before,omitempty" doc:"The object before, with secrets masked"`
	After  json.RawMessage `json:"after,omitempty" doc:"The object afterwards, with secrets masked"`
	Hash   string          `json:"hash,omitempty" doc:"SHA-256 over the hash of the line before and this line"`
}

// AuditChange is one value that is another one now.
type AuditChange struct {
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// AuditVerification says whether the audit is as it was recorded.
type AuditVerification struct {
	chain.Report
	Intact bool       `json:"intact"`
	Head   chain.Head `json:"head" doc:"Where the audit stands now, signed"`
	Millis int64      `json:"millis" doc:"How long it took"`
}

// AuditNoted is a head that was noted before, to compare with; none is left out.
type AuditNoted struct {
	Head *chain.Head `json:"head,omitempty" required:"false"`
}
