package apitype

import (
	"time"

	"tollgate.example/key/internal/core/facts"
)

// Session is a session, open or ended, as accounting tells it.
type Session struct {
	Node    string    `json:"node,omitempty" doc:"Node that recorded it, where there are several"`
	ID      string    `json:"id"`
	Open    bool      `json:"open"`
	User    string    `json:"user"`
	Person  string    `json:"person,omitempty"`
	MAC     string    `json:"mac,omitempty"`
	Address string    `json:"address,omitempty" doc:"IP address that the client says the device has"`
	Client  string    `json:"client"`
	NAS     string    `json:"nas,omitempty" doc:"What the client calls itself"`
	Place   string    `json:"place,omitempty" doc:"Port or network"`
	Lane    string    `json:"lane,omitempty"`
	Pass    string    `json:"pass,omitempty" doc:"Pass that was given"`
	VLAN    string    `json:"vlan,omitempty" doc:"VLAN that was given"`
	Applied string    `json:"applied,omitempty" doc:"VLAN that the client says it applied"`
	Began   time.Time `json:"began"`
	Last    time.Time `json:"last" doc:"Last word of the client"`
	Seconds int64     `json:"seconds" doc:"Length as the client counts it"`
	In      int64     `json:"in" doc:"Octets from the device"`
	Out     int64     `json:"out" doc:"Octets to the device"`
	Cause   string    `json:"cause,omitempty" doc:"Why it ended"`
	Note    string    `json:"note,omitempty" doc:"What is odd about it, or what the client answered last"`
	Session string    `json:"session" doc:"Acct-Session-Id"`
}

// SessionDetail is a session with its story.
type SessionDetail struct {
	Session
	// Story is what was recorded of it, the oldest first.
	Story   []SessionEvent `json:"story"`
	Attempt *Attempt       `json:"attempt,omitempty" doc:"The attempt that admitted it"`
	Earlier []Session      `json:"earlier" doc:"Sessions of the same person or device that ended"`
}

// SessionEvent is one record of a session.
type SessionEvent struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind" doc:"start, interim, stop, lost, asked"`
	Text    string    `json:"text"`
	Note    string    `json:"note,omitempty"`
	Seconds int64     `json:"seconds"`
	In      int64     `json:"in"`
	Out     int64     `json:"out"`
	Address string    `json:"address,omitempty"`
	// Attributes are what the client sent.
	Attributes []facts.Attribute `json:"attributes"`
}

// SessionRecord is one record as it arrives, with the session it is about.
type SessionRecord struct {
	Session Session      `json:"session"`
	Event   SessionEvent `json:"event"`
}

// SessionAsk asks the client of a session to change it.
type SessionAsk struct {
	Action string `json:"action" enum:"disconnect,reauthenticate,change" doc:"What is to become of the session"`
	Pass   string `json:"pass,omitempty" required:"false" maxLength:"200" doc:"Pass to change to"`
}

// SessionAnswer is what a client answered.
type SessionAnswer struct {
	ID     string `json:"id"`
	User   string `json:"user"`
	Client string `json:"client"`
	Done   bool   `json:"done"`
	Answer string `json:"answer" doc:"The answer, or why there is none"`
	Cause  int    `json:"cause,omitempty" doc:"Error-Cause"`
	Tries  int    `json:"tries"`
	Micros int64  `json:"micros"`
}

// SessionsAsk asks for many sessions: those that the filter selects.
type SessionsAsk struct {
	SessionAsk
	User    string `json:"user,omitempty" required:"false" maxLength:"200"`
	MAC     string `json:"mac,omitempty" required:"false" maxLength:"40"`
	Client  string `json:"client,omitempty" required:"false" maxLength:"200"`
	OfPass  string `json:"ofPass,omitempty" required:"false" maxLength:"200" doc:"Sessions with this pass"`
	Address string `json:"address,omitempty" required:"false" maxLength:"60"`
	Text    string `json:"text,omitempty" required:"false" maxLength:"200"`
	Preview bool   `json:"preview,omitempty" required:"false" doc:"Count them, and ask nobody"`
}

// SessionsAnswer is what became of it.
type SessionsAnswer struct {
	Count   int             `json:"count" doc:"Sessions that the filter selects"`
	Done    int             `json:"done"`
	Answers []SessionAnswer `json:"answers"`
	Missing []string        `json:"missing,omitempty" doc:"Nodes whose sessions were not asked for, since they do not answer"`
}

// DifferingSession is an open session whose person would now get something else.
type DifferingSession struct {
	Session Session `json:"session"`
	Why     string  `json:"why"`
}

// DifferingSessions are those of the sessions that were looked at.
type DifferingSessions struct {
	Looked int                `json:"looked"`
	All    bool               `json:"all" doc:"All open sessions were looked at"`
	Items  []DifferingSession `json:"items"`
	// Missing are nodes that do not answer: each follows the sessions that are reported to it.
	Missing []string `json:"missing,omitempty" doc:"Nodes whose sessions were not looked at, since they do not answer"`
}

// SessionPage is a page of sessions.
type SessionPage struct {
	Page[Session]
	Open int `json:"open" doc:"How many sessions are open in all"`
}
