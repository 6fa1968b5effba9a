package results

import "time"

// GearReply is what came back.
type GearReply struct {
	Status  string        `json:"status" doc:"As the protocol names it, such as PASS, FAIL, PASS_ADD or SUCCESS"`
	Passed  bool          `json:"passed"`
	Message string        `json:"message"`
	Data    string        `json:"data"`
	Args    []string      `json:"args"`
	Rounds  []Round       `json:"rounds"`
	Took    time.Duration `json:"took"`
}

// Attribute is one attribute by name.
type Attribute struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Round is one thing said.
type Round struct {
	Micros int64  `json:"micros"`
	From   string `json:"from" enum:"peer,server"`
	Text   string `json:"text"`
}

// Reply is what came back.
type Reply struct {
	Code       string        `json:"code"`
	Accepted   bool          `json:"accepted"`
	Attributes []Attribute   `json:"attributes"`
	Took       time.Duration `json:"took"`
	Tries      int           `json:"tries"`
	// Packets counts the requests of the whole conversation.
	Packets int     `json:"packets"`
	Rounds  []Round `json:"rounds"`
	// TLS is what the tunnel was like, nil without one.
	TLS *Tunnel `json:"tls,omitempty"`
	// Keys tells about the MPPE keys: match, differ, or "" if there are none.
	Keys string `json:"keys,omitempty"`
	// Fault is why the device itself broke off, such as a certificate that it does not trust.
	Fault string `json:"fault,omitempty"`
}

// Tunnel is what a tunnel was like.
type Tunnel struct {
	Version string   `json:"version"`
	Suite   string   `json:"suite"`
	Resumed bool     `json:"resumed"`
	Chain   []string `json:"chain"`
}
