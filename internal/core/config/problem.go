package config

import "fmt"

// Problem is something wrong with an object of the configuration, or worth a warning. Kind, Field and Code say what it
// is to programs, Params what it is about; Message and Remedy say it to people.
type Problem struct {
	// Kind and Object name the object ("client", "np-switch-1"), ID is its identifier.
	Kind   string `json:"kind"`
	Object string `json:"object"`
	ID     string `json:"id"`
	// Field is the path inside the object ("addresses[1]", "policies[2].when").
	Field   string      `json:"field"`
	Code    ProblemCode `json:"code" doc:"Stable; with kind and field it says what is wrong"`
	Params  []string    `json:"params,omitempty" doc:"What the message speaks of, in its order"`
	Message string      `json:"message"`
	Remedy  string      `json:"remedy"`
	// Column is the 1-based column for conditions, 0 elsewhere.
	Column int `json:"column,omitempty"`
	// Warning problems do not stop a publish.
	Warning bool `json:"warning"`
}

// ProblemCode says what kind of problem it is. Codes are stable.
type ProblemCode string

// Codes of faults.
const (
	Required   ProblemCode = "required"      // something that is needed is missing
	NotFound   ProblemCode = "not-found"     // what is named does not exist
	Unknown    ProblemCode = "unknown-value" // a word that is not among those that have a meaning here
	Malformed  ProblemCode = "malformed"     // text that cannot be read
	Taken      ProblemCode = "taken"         // something else has it already
	Conflict   ProblemCode = "conflict"      // two settings contradict each other
	OutOfRange ProblemCode = "out-of-range"
	TooMany    ProblemCode = "too-many"
	TooLong    ProblemCode = "too-long"
)

// Codes of warnings.
const (
	WeakMethod             ProblemCode = "method.weak"
	MethodUnusable         ProblemCode = "method.unusable" // the stores of the realm cannot check it
	OldTLS                 ProblemCode = "tls.old"
	OldPeers               ProblemCode = "tls.older-peers"
	RevocationUnknown      ProblemCode = "revocation.unknown"
	RequestPending         ProblemCode = "certificate.pending"
	LeafOnly               ProblemCode = "certificate.alone"
	WrongPurpose           ProblemCode = "certificate.purpose"
	EveryAddress           ProblemCode = "address.everywhere"
	NoMessageAuthenticator ProblemCode = "message-authenticator.off"
	UnsignedAnswers        ProblemCode = "message-authenticator.unsigned"
	PlainConnection        ProblemCode = "connection.plain"
	PlainBodies            ProblemCode = "tacacs.plain"
	AddressAlone           ProblemCode = "tacacs.address-alone"
	AnonymousBind          ProblemCode = "bind.anonymous"
	EmptyList              ProblemCode = "list.empty"
	ShortSession           ProblemCode = "session.short"
	SmallPool              ProblemCode = "pool.small"
	TagUnused              ProblemCode = "tag.unused"       // no client carries it
	AttributeUnread        ProblemCode = "attribute.unread" // no directory reads it
	Uncarried              ProblemCode = "attribute.none"   // no attribute carries the setting
	GrantsEverything       ProblemCode = "grants.everything"
	Ignored                ProblemCode = "ignored" // the setting has no effect
	// Finding begins the code of what the analysis found; the code of the finding follows.
	Finding ProblemCode = "finding."
)

// NewProblem makes a problem of a message and what it speaks of.
func NewProblem(code ProblemCode, format string, args ...any) Problem {
	p := Problem{Code: code, Message: fmt.Sprintf(format, args...)}
	for _, a := range args {
		p.Params = append(p.Params, fmt.Sprint(a))
	}
	return p
}

// On says which field of which object a problem is about, and what to do.
func (p Problem) On(kind, object, id, field, remedy string) Problem {
	p.Kind, p.Object, p.ID, p.Field, p.Remedy = kind, object, id, field, remedy
	return p
}

// AsWarning makes a problem one that does not stop a publish.
func (p Problem) AsWarning() Problem {
	p.Warning = true
	return p
}

// Error writes the problem in one line.
func (p Problem) Error() string {
	text := fmt.Sprintf("%s %q, %s: %s", p.Kind, p.Object, p.Field, p.Message)
	if p.Remedy != "" {
		text += ". " + p.Remedy
	}
	return text
}
