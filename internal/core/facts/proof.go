package facts

import (
	"time"

	"tollgate.example/key/internal/core/reason"
)

// MACBypass is the method of devices that are known by their MAC address alone.
const MACBypass = "mac"

// What a Person may be beside a person.
const (
	Computer    = "computer"
	KnownDevice = "device"
	// EmergencyAccount is an account that works only while no directory answers.
	EmergencyAccount = "emergency"
)

// EAP is what a conversation was like.
type EAP struct {
	Rounds int `json:"rounds"`
	// TLS is the version, such as TLS 1.3, "" without a tunnel; Suite its cipher suite.
	TLS     string `json:"tls,omitempty"`
	Suite   string `json:"suite,omitempty"`
	Resumed bool   `json:"resumed,omitempty"`
	// Server is the server certificate that was shown.
	Server string `json:"server,omitempty"`
	// Steps are what was said, in order, at most MaxSteps.
	Steps []Step `json:"steps,omitempty"`
}

// MaxSteps bounds what is recorded of one conversation.
const MaxSteps = 40

// Step is one thing said in a conversation.
type Step struct {
	// Micros is the time since the first packet.
	Micros int64 `json:"micros"`
	// From is peer or server.
	From string `json:"from"`
	Text string `json:"text"`
}

// Add records a step.
func (e *EAP) Add(at time.Duration, from, text string) {
	if len(e.Steps) < MaxSteps {
		e.Steps = append(e.Steps, Step{at.Microseconds(), from, text})
	}
}

// Certificate is what a peer's certificate says.
type Certificate struct {
	Subject string    `json:"subject"`
	Issuer  string    `json:"issuer"`
	Serial  string    `json:"serial"`
	Until   time.Time `json:"until"`
	UPN     []string  `json:"upn,omitempty"`
	DNS     []string  `json:"dns,omitempty"`
	Email   []string  `json:"email,omitempty"`
	// Trust is the trust list it was checked against; Source where the name was taken from.
	Trust  string `json:"trust,omitempty"`
	Source string `json:"source,omitempty"`
	// Revocation is how its revocation was checked, in words.
	Revocation string `json:"revocation,omitempty"`
}

// Device is a known device.
type Device struct {
	ID    string            `json:"id"`
	Name  string            `json:"name"`
	Owner string            `json:"owner,omitempty"`
	Tags  map[string]string `json:"tags,omitempty"`
	// Match is the address or prefix it is known by.
	Match string      `json:"match"`
	State reason.Code `json:"state"`
}

// MachineSeen tells of an earlier machine authentication from the same MAC address.
type MachineSeen struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}
