package apitype

import (
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
)

// Group is a group of a directory.
type Group struct {
	results.Group
	Picked string `json:"picked" doc:"What policies call it; empty if it is not picked"`
}

// Groups are a page of groups, in the order of their names.
type Groups struct {
	Items []Group `json:"items"`
	Next  string  `json:"next" doc:"Continues the list; empty at its end"`
	Total int     `json:"total" doc:"How many fit, -1 while the list of all is still being read"`
	More  bool    `json:"more" doc:"There are others that cannot be paged to yet; search for a longer text"`
}

// Entries are what lies below an entry of a directory.
type Entries struct {
	Items []results.Entry `json:"items"`
	More  bool            `json:"more" doc:"There are others that are not listed"`
}

// PickInput picks a group, so that policies can name it.
type PickInput struct {
	ID   string `json:"id" maxLength:"500" doc:"What identifies it in the directory"`
	Name string `json:"name,omitempty" required:"false" maxLength:"200" doc:"What policies are to call it; empty is its present name"`
}

// Picked are the picked groups of a directory, and what became of them.
type Picked struct {
	Items []results.PickedState `json:"items"`
}

// ForgetInput says whom to forget.
type ForgetInput struct {
	Person string `json:"person,omitempty" required:"false" maxLength:"200" doc:"Name given to the stores; empty is everybody, and the groups"`
}

// Forgotten tells how many people were remembered.
type Forgotten struct {
	People int `json:"people"`
}

// CopiedPerson is the copy of a person that a directory keeps.
type CopiedPerson struct {
	ID         string              `json:"id"`
	Name       string              `json:"name"`
	Display    string              `json:"display"`
	DN         string              `json:"dn"`
	State      string              `json:"state"`
	Attributes map[string][]string `json:"attributes"`
	Missing    string              `json:"missing" doc:"Wanted attributes that are empty"`
	Seen       time.Time           `json:"seen"`
	Gone       *time.Time          `json:"gone,omitempty" doc:"When this person was no longer there"`
}

// Copy is a page of the copies of people, with the last run.
type Copy struct {
	Items []CopiedPerson `json:"items"`
	Next  string         `json:"next"`
	Run   *results.Copy  `json:"run,omitempty"`
}

// HeldBack are people whose passwords are not passed on for now.
type HeldBack struct {
	Items []results.Held `json:"items"`
	After int            `json:"after" doc:"Wrong passwords of a person after which no more are passed on; 0 is no guard"`
	// Threshold is that of the domain.
	Threshold int `json:"threshold" doc:"Wrong passwords after which the domain locks an account; 0 is never, or not known"`
	Minutes   int `json:"minutes" doc:"How long they count, since the last"`
}

// ReleaseInput says whom to release.
type ReleaseInput struct {
	Person string `json:"person,omitempty" required:"false" maxLength:"200" doc:"Empty is everybody"`
}

// Found is a person looked up.
type Found struct {
	Person      *facts.Person        `json:"person,omitempty"`
	Reason      string               `json:"reason"`
	Text        string               `json:"text"`
	Remedy      string               `json:"remedy,omitempty"`
	Names       []string             `json:"names" doc:"Forms of the name by which this person can sign in"`
	Memberships []results.Membership `json:"memberships"`
	Prospects   []results.Prospect   `json:"prospects" doc:"What the lanes of the draft could give"`
	Problem     string               `json:"problem,omitempty" doc:"Why a part of this could not be said"`
}
