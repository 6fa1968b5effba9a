package apitype

import (
	"time"

	"tollgate.example/key/internal/core/config"
)

// SourceFields are what can be edited of a source of sightings.
type SourceFields struct {
	Name    string                `json:"name" required:"false" maxLength:"200" example:"harbour-relays"`
	Enabled bool                  `json:"enabled" required:"false"`
	Way     string                `json:"way" required:"false" enum:"reports,hosts,logons,dhcp,syslog,sessions,attempts,accounting,operators,portal" default:"reports" doc:"How it reports. sessions, attempts, accounting, operators and portal are there without a source; one of such a way changes how far they count"`
	From    []string              `json:"from" required:"false" doc:"Prefixes that it may send from"`
	Trust   int                   `json:"trust" required:"false" doc:"1 for what counts most, up to 9; 0 is that of the way"`
	Minutes int                   `json:"minutes" required:"false" doc:"How long a report holds without another one; 0 is that of the way"`
	Shared  bool                  `json:"shared" required:"false" doc:"Several people may be at one address, as it reports them"`
	Readers []config.SourceReader `json:"readers" required:"false" maxItems:"200" doc:"syslog: forms of lines, the first that fits"`
	Note    string                `json:"note" required:"false" maxLength:"4000"`
}

// SourceInput adds or replaces a source. reports and logons have a token, which is made with the source.
type SourceInput struct {
	SourceFields
	NewToken bool `json:"newToken,omitempty" required:"false" doc:"Make another token; it is returned once, and the one before ends when this is published"`
}

// Source is a source with how it does.
type Source struct {
	Meta
	SourceFields
	TokenSet bool `json:"tokenSet"`
}

// SourceState is how a source in effect does.
type SourceState struct {
	ID      string     `json:"id,omitempty" doc:"Empty for one that is there by itself"`
	Name    string     `json:"name"`
	Way     string     `json:"way"`
	Enabled bool       `json:"enabled"`
	Trust   int        `json:"trust"`
	Minutes int        `json:"minutes"`
	State   string     `json:"state" enum:"reports,silent,refused,never,off"`
	Says    string     `json:"says" doc:"The state in words"`
	Seen    *time.Time `json:"seen,omitempty"`
	Taken   int64      `json:"taken" doc:"Sightings since the service started"`
	LeftOut int64      `json:"leftOut" doc:"Out of scope"`
	Refused int64      `json:"refused"`
	Unread  int64      `json:"unread" doc:"Lines that no reader fits"`
	Node    string     `json:"node,omitempty" doc:"The other node that it reports to; empty for this one"`
}

// ScopeFields are what can be edited of a scope.
type ScopeFields struct {
	Name     string   `json:"name" required:"false" maxLength:"200" example:"printers"`
	LeaveOut bool     `json:"leaveOut" required:"false" doc:"Leave out what fits; else its networks are watched"`
	Networks []string `json:"networks" required:"false" doc:"Prefixes; of all scopes the longest decides"`
	Accounts []string `json:"accounts" required:"false" doc:"Names that are never people; * stands for any characters"`
	Hosts    []string `json:"hosts" required:"false" doc:"Hosts that are nobody's; * stands for any characters"`
	MACs     []string `json:"macs" required:"false" doc:"Beginnings of addresses of devices that are nobody's"`
	Note     string   `json:"note" required:"false" maxLength:"4000"`
}

// Scope is a scope with how much it left out.
type Scope struct {
	Meta
	ScopeFields
	Dropped int64 `json:"dropped" doc:"Sightings that it left out since the service started"`
}

// SubscriberFields are what can be edited of a subscriber.
type SubscriberFields struct {
	Name     string   `json:"name" required:"false" maxLength:"200" example:"hh-firewall-1"`
	Enabled  bool     `json:"enabled" required:"false"`
	From     []string `json:"from" required:"false" doc:"Prefixes that it may come from; none is any"`
	Networks []string `json:"networks" required:"false" doc:"Prefixes that it is told of; none is all"`
	Groups   []string `json:"groups" required:"false" doc:"Groups whose people it is told of; none is everybody"`
	To       string   `json:"to" required:"false" maxLength:"100" doc:"host:port of one that is told as RADIUS accounting; empty for one that asks"`
	Note     string   `json:"note" required:"false" maxLength:"4000"`
}

// SubscriberInput adds or replaces a subscriber. Its token is made with it.
type SubscriberInput struct {
	SubscriberFields
	// PushSecret is kept if it is empty.
	PushSecret string `json:"pushSecret,omitempty" required:"false" maxLength:"128" doc:"Shared secret for RADIUS accounting"`
	NewToken   bool   `json:"newToken,omitempty" required:"false" doc:"Make another token; it is returned once, and the one before ends when this is published"`
}

// Subscriber is a subscriber.
type Subscriber struct {
	Meta
	SubscriberFields
	TokenSet      bool `json:"tokenSet"`
	PushSecretSet bool `json:"pushSecretSet"`
}

// SubscriberState is how a subscriber in effect does on this node.
type SubscriberState struct {
	ID       string     `json:"id"`
	Name     string     `json:"name"`
	State    string     `json:"state" enum:"live,behind,silent,never,off"`
	Says     string     `json:"says" doc:"The state in words"`
	From     string     `json:"from,omitempty" doc:"Where it came from last"`
	Since    *time.Time `json:"since,omitempty" doc:"Since when it is connected"`
	Contact  *time.Time `json:"contact,omitempty" doc:"When it was last told something, or asked"`
	Snapshot *time.Time `json:"snapshot,omitempty" doc:"When it last took everything"`
	Told     int64      `json:"told" doc:"Entries and changes since the service started"`
	Behind   int64      `json:"behind" doc:"Changes that it has not been told of"`
	Node     string     `json:"node,omitempty" doc:"The other node that it is at; empty for this one"`
}

// Presence is somebody at an address.
type Presence struct {
	Address string    `json:"address"`
	Ports   string    `json:"ports,omitempty" doc:"Block of ports that belongs to the person; empty is the whole address"`
	Who     string    `json:"who"`
	Display string    `json:"display,omitempty"`
	Groups  []string  `json:"groups"`
	Role    string    `json:"role,omitempty"`
	MAC     string    `json:"mac,omitempty"`
	Host    string    `json:"host,omitempty"`
	Kind    string    `json:"kind,omitempty" doc:"What the device is taken for"`
	Source  string    `json:"source" doc:"Source by which the person is there"`
	Way     string    `json:"way"`
	Trust   int       `json:"trust"`
	Since   time.Time `json:"since"`
	Signed  time.Time `json:"signed" doc:"The latest sign-in"`
	Until   time.Time `json:"until" doc:"When it is over without another word"`
}

// PresencePage is a part of who is where, by address.
type PresencePage struct {
	Items    []Presence `json:"items"`
	Next     string     `json:"next,omitempty" doc:"Address to go on after"`
	Total    int        `json:"total" doc:"Who is where altogether"`
	Complete bool       `json:"complete" doc:"What was known before the start is known again"`
	Missing  []string   `json:"missing,omitempty" doc:"Nodes that did not answer, where the sessions of some clients are asked for"`
}

// PresenceChanges are what changed, and the position after it.
type PresenceChanges struct {
	Items []PresenceChange `json:"items"`
	Next  string           `json:"next"`
}

// PresenceChange is somebody who is somewhere, or no more.
type PresenceChange struct {
	Presence
	At   time.Time `json:"at"`
	Gone bool      `json:"gone"`
}

// Standing is a claim at an address with what becomes of it.
type Standing struct {
	Presence
	Outcome string    `json:"outcome" enum:"holds,agrees,outranked,earlier,handed-on,given-back,left,ended,expired"`
	Says    string    `json:"says" doc:"The outcome in words"`
	Counts  bool      `json:"counts"`
	Last    time.Time `json:"last" doc:"The latest word of its source"`
}

// PresenceAnswer is who is at an address, and why.
type PresenceAnswer struct {
	Address   string         `json:"address"`
	Port      int            `json:"port,omitempty"`
	At        time.Time      `json:"at"`
	Here      *Standing      `json:"here,omitempty" doc:"Who is there; missing for nobody"`
	Says      string         `json:"says" doc:"The answer in words"`
	Standings []Standing     `json:"standings" doc:"All claims, the strongest first"`
	Lease     *PresenceLease `json:"lease,omitempty"`
	LeftOut   string         `json:"leftOut,omitempty" doc:"Rule by which the address is left out"`
	Missing   []string       `json:"missing,omitempty" doc:"Nodes that did not answer, where the sessions of some clients are asked for"`
}

// PresencePerson is where a person is, and was.
type PresencePerson struct {
	Name      string         `json:"name"`
	Display   string         `json:"display,omitempty"`
	Groups    []string       `json:"groups"`
	Role      string         `json:"role,omitempty"`
	From      time.Time      `json:"from"`
	To        time.Time      `json:"to"`
	Here      []Presence     `json:"here" doc:"Where the person is now"`
	Conflicts []Standing     `json:"conflicts" doc:"Claims on the person that lost, or beside which others lost"`
	Stays     []PresenceStay `json:"stays"`
	Sightings []Sighting     `json:"sightings"`
}

// PresenceStay is a time that somebody spent somewhere, as one source has it.
type PresenceStay struct {
	Source  string    `json:"source"`
	Way     string    `json:"way"`
	Address string    `json:"address,omitempty" doc:"Empty where the source knows the device alone"`
	Ports   string    `json:"ports,omitempty"`
	MAC     string    `json:"mac,omitempty"`
	Host    string    `json:"host,omitempty"`
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Open    bool      `json:"open"`
	Detail  string    `json:"detail,omitempty"`
}

// PresenceLease is the lease of an address.
type PresenceLease struct {
	MAC   string    `json:"mac"`
	Since time.Time `json:"since"`
	Until time.Time `json:"until"`
	Over  bool      `json:"over"`
}

// SightingFields report who is where, by hand.
type SightingFields struct {
	Kind    string `json:"kind" required:"false" enum:"signed-in,still,signed-out,leased,released" default:"signed-in"`
	Who     string `json:"who" required:"false" maxLength:"300"`
	Address string `json:"address" required:"false" maxLength:"100"`
	Ports   string `json:"ports" required:"false" maxLength:"20" example:"20000-20999"`
	MAC     string `json:"mac" required:"false" maxLength:"30"`
	Host    string `json:"host" required:"false" maxLength:"300"`
	Minutes int    `json:"minutes" required:"false" minimum:"0" maximum:"1440" doc:"How long it holds; 0 is that of what operators report"`
	Why     string `json:"why" required:"false" maxLength:"200" doc:"Kept with it"`
}

// Sighting is one report as it was taken.
type Sighting struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`
	Source  string    `json:"source"`
	Way     string    `json:"way"`
	Who     string    `json:"who,omitempty"`
	Display string    `json:"display,omitempty"`
	Address string    `json:"address,omitempty"`
	Ports   string    `json:"ports,omitempty"`
	MAC     string    `json:"mac,omitempty"`
	Host    string    `json:"host,omitempty"`
	Until   time.Time `json:"until"`
	Detail  string    `json:"detail,omitempty"`
}

// PresenceState is how sources and subscribers do, and what is left out.
type PresenceState struct {
	Total       int               `json:"total"`
	Complete    bool              `json:"complete"`
	Sources     []SourceState     `json:"sources"`
	Subscribers []SubscriberState `json:"subscribers"`
	Rules       []RuleCount       `json:"rules" doc:"What each rule of scope left out since the service started"`
	Strangers   []ReportStranger  `json:"strangers" doc:"Who reports without being a source"`
	Conflicts   []Standing        `json:"conflicts" doc:"Claims that lost to another person"`
	Warnings    []string          `json:"warnings"`
}

// RuleCount is what a rule left out.
type RuleCount struct {
	Rule  string `json:"rule"`
	Count int64  `json:"count"`
}

// ReportStranger is who reports without being a source.
type ReportStranger struct {
	Way     string    `json:"way"`
	Address string    `json:"address"`
	Last    time.Time `json:"last"`
	Count   int64     `json:"count"`
	Node    string    `json:"node,omitempty" doc:"The other node that it reports to; empty for this one"`
}

// ReadersInput tries readers on lines.
type ReadersInput struct {
	Readers []config.SourceReader `json:"readers" maxItems:"200"`
	Lines   []string              `json:"lines" maxItems:"200"`
}

// ReadLine is what readers make of a line.
type ReadLine struct {
	Line   string            `json:"line"`
	Reader int               `json:"reader" doc:"Number of the reader that fits, 0 for none"`
	Means  string            `json:"means,omitempty"`
	Fields map[string]string `json:"fields"`
	Fault  string            `json:"fault,omitempty"`
}
