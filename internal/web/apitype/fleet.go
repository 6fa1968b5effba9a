package apitype

import (
	"time"

	"tollgate.example/key/internal/core/results"
)

// ClientImport is what became of an import of clients.
type ClientImport struct {
	results.Import
	Secrets string `json:"secrets,omitempty" doc:"CSV with the secrets that were made, told only once"`
}

// ClientsChange is one change of many clients of the draft.
type ClientsChange struct {
	Clients  []string          `json:"clients,omitempty" required:"false" maxItems:"100000" doc:"Identifiers or names"`
	Matching string            `json:"matching,omitempty" required:"false" maxLength:"200" doc:"Instead: all that hold this text"`
	All      bool              `json:"all,omitempty" required:"false" doc:"Instead: all there are"`
	Tags     map[string]string `json:"tags,omitempty" required:"false" doc:"Tags to set"`
	Untag    []string          `json:"untag,omitempty" required:"false" maxItems:"50" doc:"Tags to take away"`
	Enabled  *bool             `json:"enabled,omitempty" required:"false" doc:"Switch on or off"`
	Mode     string            `json:"messageAuthenticator,omitempty" required:"false" enum:"require,auto,off" doc:"Message-Authenticator"`
	Rotate   bool              `json:"rotate,omitempty" required:"false" doc:"Make new shared secrets"`
	KeepFor  int               `json:"keepHours,omitempty" required:"false" minimum:"0" maximum:"8760" doc:"With rotate: how many hours the present ones are accepted"`
	Check    bool              `json:"check,omitempty" required:"false" doc:"Only count"`
}

// ClientsChanged is what a change of many clients did.
type ClientsChanged struct {
	Chosen    int        `json:"chosen" doc:"How many clients were chosen"`
	Secrets   string     `json:"secrets,omitempty" doc:"CSV with the secrets that were made, told only once"`
	KeptUntil *time.Time `json:"keptUntil,omitempty" doc:"Until when the present secrets are accepted"`
}
