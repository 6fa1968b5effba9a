package results

import "tollgate.example/key/internal/core/config"

// FindingKind is what kind of mistake, or of thing worth knowing, was found.
type FindingKind string

const (
	// Unreachable is a lane, policy or row that nothing can come to.
	Unreachable FindingKind = "unreachable"
	// Overlap is two policies that the same person can fit, with different outcomes, neither being the special case of
	// the other.
	Overlap FindingKind = "overlap"
	// AlwaysTrue and NeverTrue are conditions that ask for nothing, or for what cannot be.
	AlwaysTrue FindingKind = "always-true"
	NeverTrue  FindingKind = "never-true"
	// Unused is an object that nothing refers to.
	Unused FindingKind = "unused"
	// NoPolicy is a lane without any policy.
	NoPolicy FindingKind = "no-policy"
	// GroupGone is a group that was picked and no longer exists, GroupUnknown one that is known from nowhere.
	GroupGone    FindingKind = "group-gone"
	GroupUnknown FindingKind = "group-unknown"
	// GroupAmbiguous is a group by its bare name that counts from several stores.
	GroupAmbiguous FindingKind = "group-ambiguous"
	// Incomplete says that the analysis gave up before it had seen everything.
	Incomplete FindingKind = "incomplete"
)

// Finding is one outcome of the analysis.
type Finding struct {
	Code FindingKind `json:"code" enum:"unreachable,overlap,always-true,never-true,no-policy,unused,group-gone,group-unknown,group-ambiguous,incomplete"`
	// Note findings are worth knowing; others are probably mistakes.
	Note bool `json:"note" doc:"Worth knowing; not necessarily a mistake"`
	// Kind, Object and ID name the object; Field is the path inside it.
	Kind   string `json:"kind"`
	Object string `json:"object"`
	ID     string `json:"id"`
	Field  string `json:"field"`
	Policy string `json:"policy" doc:"Name of the policy; empty for the whole object"`
	// Others are the lanes or policies that decide instead.
	Others []string `json:"others,omitempty" doc:"Names of the lanes or policies that decide instead"`
	// Message says what was found, Remedy what to do.
	Message string `json:"message"`
	Remedy  string `json:"remedy"`
	// Example is an attempt that shows it, one fact a line.
	Example []string `json:"example" doc:"An attempt that shows it, one fact each"`
	// Instead is what happens to that attempt.
	Instead string `json:"instead" doc:"What decides that attempt"`
}

// Prospect is what a policy of a lane would give somebody, known before any request.
type Prospect struct {
	Lane   string `json:"lane"`
	Policy string `json:"policy" doc:"Empty: no policy of the lane can fit, and the lane refuses"`
	// If is what the request still has to fulfil, "" if the person alone is enough.
	If      string         `json:"if"`
	Outcome config.Outcome `json:"outcome"`
	Pass    string         `json:"pass"`
	VLAN    string         `json:"vlan"`
}

// Tree is a condition as a tree, for forms that edit it. Op is always, and, or, not, or compare.
type Tree struct {
	Op    string `json:"op" enum:"always,and,or,not,compare"`
	Parts []Tree `json:"parts,omitempty" doc:"Of and, or and not"`
	// Field, Operator and Values are those of a comparison.
	Field    string   `json:"field,omitempty"`
	Operator string   `json:"operator,omitempty"`
	Values   []string `json:"values,omitempty"`
}
