package apitype

import (
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
)

// PassFields are what can be edited of a pass. Texts may hold templates such as {{person.mail}}.
type PassFields struct {
	Name           string             `json:"name" required:"false" maxLength:"200" example:"ticketing"`
	Extends        string             `json:"extends" required:"false" maxLength:"200" doc:"Pass that gives whatever this one leaves open"`
	VLAN           string             `json:"vlan" required:"false" doc:"Identifier from 1 to 4094, or a name"`
	SessionTimeout int                `json:"sessionTimeout" required:"false" doc:"Seconds; 0 is none"`
	AtTimeout      string             `json:"atTimeout" required:"false" enum:",sign-in-again" doc:"What happens at the session time-out; empty ends the session"`
	IdleTimeout    int                `json:"idleTimeout" required:"false" doc:"Seconds; 0 is none"`
	MaxSessions    int                `json:"maxSessions" required:"false" doc:"How many sessions with this pass one person may have at once; 0 is any number"`
	AtLimit        string             `json:"atLimit" required:"false" enum:",refuse,end-oldest" doc:"What happens to one session more: it is refused, or the oldest is ended"`
	Role           string             `json:"role" required:"false" doc:"Sent as Filter-Id"`
	AccessRules    []string           `json:"accessRules" required:"false" doc:"IPFilterRules (RFC 6733 section 4.3.1), sent as NAS-Filter-Rule"`
	Address        string             `json:"address" required:"false" doc:"Address that the person gets"`
	Pool           string             `json:"pool" required:"false" maxLength:"200" doc:"Pool that gives the address instead; needs a session time-out"`
	ReportName     string             `json:"reportName" required:"false" doc:"User-Name by which the device is to report the session"`
	Class          string             `json:"class" required:"false" doc:"Comes back with the accounting of the session"`
	RateDown       int                `json:"rateDown" required:"false" doc:"kbit/s towards the person; 0 is no limit. Attributes of vendors carry it"`
	RateUp         int                `json:"rateUp" required:"false" doc:"kbit/s from the person; 0 is no limit"`
	Attributes     []config.Attribute `json:"attributes" required:"false" doc:"Further attributes, standard or of a vendor"`
	PrivilegeLevel string             `json:"privilegeLevel" required:"false" maxLength:"2" doc:"On network gear, 0 to 15; empty says nothing"`
	Commands       string             `json:"commands" required:"false" maxLength:"200" doc:"Command list for network gear"`
	Arguments      []config.Argument  `json:"arguments" required:"false" doc:"Further arguments for network gear over TACACS+"`
	Note           string             `json:"note" required:"false" maxLength:"4000"`
}

// Apply writes the fields into a pass.
func (in *PassFields) Apply(p *config.Pass) {
	p.Name, p.Extends, p.VLAN, p.SessionTimeout, p.AtTimeout, p.IdleTimeout = in.Name, in.Extends, in.VLAN,
		in.SessionTimeout, config.AtTimeout(in.AtTimeout), in.IdleTimeout
	p.MaxSessions, p.AtLimit = in.MaxSessions, config.AtLimit(in.AtLimit)
	p.Role, p.AccessRules, p.Address, p.Pool, p.ReportName, p.Class = in.Role, in.AccessRules, in.Address, in.Pool,
		in.ReportName, in.Class
	p.RateDown, p.RateUp, p.Attributes, p.Note = in.RateDown, in.RateUp, in.Attributes, in.Note
	p.PrivilegeLevel, p.Commands, p.Arguments = in.PrivilegeLevel, in.Commands, in.Arguments
}

// FieldsOfPass shows a pass.
func FieldsOfPass(p *config.Pass) PassFields {
	return PassFields{Name: p.Name, Extends: p.Extends, VLAN: p.VLAN, SessionTimeout: p.SessionTimeout,
		AtTimeout: string(p.AtTimeout), IdleTimeout: p.IdleTimeout,
		MaxSessions: p.MaxSessions, AtLimit: string(p.AtLimit),
		Role: p.Role, AccessRules: p.AccessRules, Address: p.Address, Pool: p.Pool, ReportName: p.ReportName,
		Class: p.Class, RateDown: p.RateDown, RateUp: p.RateUp, Attributes: p.Attributes, Note: p.Note,
		PrivilegeLevel: p.PrivilegeLevel, Commands: p.Commands, Arguments: p.Arguments}
}

// CalendarFields are what can be edited of a calendar.
type CalendarFields struct {
	Name     string             `json:"name" required:"false" maxLength:"200" example:"office-hours"`
	Zone     string             `json:"zone" required:"false" maxLength:"100" example:"Europe/Lisbon"`
	Spans    []calendar.Span    `json:"spans" required:"false"`
	Holidays []calendar.Holiday `json:"holidays" required:"false" doc:"Days on which no span begins"`
	Note     string             `json:"note" required:"false" maxLength:"4000"`
}

// Calendar is a calendar.
type Calendar struct {
	Meta
	CalendarFields
	Holds bool `json:"holds" doc:"It holds now"`
}

// PoolFields are what can be edited of a pool.
type PoolFields struct {
	Name   string   `json:"name" required:"false" maxLength:"200" example:"vpn"`
	Ranges []string `json:"ranges" required:"false" doc:"Prefixes, or a first and a last address joined by a hyphen"`
	Note   string   `json:"note" required:"false" maxLength:"4000"`
}

// Lease is an address of a pool that is taken.
type Lease struct {
	Address netip.Addr `json:"address"`
	Pool    string     `json:"pool"`
	Who     string     `json:"who"`
	Client  string     `json:"client"`
	At      time.Time  `json:"at"`
	Until   time.Time  `json:"until"`
}

// Pool is a pool with what is taken of it.
type Pool struct {
	Meta
	PoolFields
	Size  int `json:"size" doc:"How many addresses it holds"`
	Taken int `json:"taken" doc:"How many of them are taken"`
}

// RemoteFields are what can be edited of a remote server.
type RemoteFields struct {
	Name           string                `json:"name" required:"false" maxLength:"200" example:"port-authority"`
	Servers        []config.RemoteServer `json:"servers" required:"false" maxItems:"16" doc:"Its machines, in the order to ask them"`
	Weighted       bool                  `json:"weighted" required:"false" doc:"Share requests out by weight, instead of asking the first that answers"`
	Transport      string                `json:"transport,omitempty" required:"false" enum:"udp,tls,dtls" default:"udp"`
	CA             string                `json:"ca" required:"false" maxLength:"262144" doc:"Over TLS: PEM of the authority of its certificate; empty trusts those of the system"`
	ServerName     string                `json:"serverName" required:"false" maxLength:"253" doc:"Over TLS: name that its certificate must carry, if not the address"`
	Certificate    string                `json:"certificate" required:"false" maxLength:"200" doc:"Over TLS: certificate by which this server proves itself to it"`
	TimeoutMillis  int                   `json:"timeoutMillis" required:"false" default:"2000" doc:"How long each try is waited for"`
	Tries          int                   `json:"tries" required:"false" default:"2" doc:"How often it is asked over UDP"`
	DeadSeconds    int                   `json:"deadSeconds" required:"false" default:"30" doc:"How long a machine that did not answer is asked last"`
	ProbeSeconds   *int                  `json:"probeSeconds,omitempty" required:"false" default:"20" doc:"How often it is asked by Status-Server whether it is there; 0 is never"`
	Unsigned       bool                  `json:"unsigned" required:"false" doc:"Accept answers without Message-Authenticator"`
	Accounting     bool                  `json:"accounting" required:"false" doc:"Send it the accounting of the lanes that forward to it, too"`
	AccountingPort int                   `json:"accountingPort" required:"false" doc:"Its UDP port for accounting; 0 is 1813"`
	Rules          []config.RemoteRule   `json:"rules" required:"false" maxItems:"50" doc:"What is changed in requests to it, and in its answers"`
	// Grants and Pass bound what it may grant.
	Grants []string `json:"grants" required:"false" doc:"Attributes of an Access-Accept that are passed on, beside those that the protocol needs; * passes on all"`
	Pass   string   `json:"pass" required:"false" maxLength:"200" doc:"Pass whose attributes override those of its answers"`
	Note   string   `json:"note" required:"false" maxLength:"4000"`
}

// RemoteInput adds or replaces a remote server. Without a secret the present one stays.
type RemoteInput struct {
	RemoteFields
	Secret string `json:"secret,omitempty" required:"false" minLength:"6" maxLength:"128"`
}

// Remote is a remote server.
type Remote struct {
	Meta
	RemoteFields
	SecretSet bool          `json:"secretSet"`
	Silent    bool          `json:"silent" doc:"None of its machines answered lately"`
	States    []RemoteState `json:"states" doc:"How its machines are doing; empty unless it is in use"`
	UsedBy    []string      `json:"usedBy" doc:"Lanes that forward to it"`
	Sent      []FeedState   `json:"sent" doc:"How far accounting has been forwarded; empty unless it is"`
}

// RemoteState is how a machine of a remote server is doing.
type RemoteState struct {
	Address string    `json:"address"`
	Silent  bool      `json:"silent" doc:"It did not answer lately, and is asked last"`
	Heard   time.Time `json:"heard,omitzero" doc:"When it last answered"`
	Since   time.Time `json:"since,omitzero" doc:"Since when it has not"`
	Fault   string    `json:"fault,omitempty" doc:"What went wrong last"`
	Micros  int64     `json:"micros" doc:"How long its last answer took"`
	Asked   int64     `json:"asked"`
	Answers int64     `json:"answers"`
	Speaks  bool      `json:"speaks" doc:"It answers Status-Server"`
	Version string    `json:"version,omitempty" doc:"Version of RADIUS over TLS that is spoken"`
}

// VendorFields are what can be edited of a vendor.
type VendorFields struct {
	Name         string                   `json:"name" required:"false" maxLength:"200" example:"Harbour Instruments"`
	Number       uint32                   `json:"number" required:"false" doc:"Enterprise number given by IANA" example:"32473"`
	TypeOctets   int                      `json:"typeOctets" required:"false" default:"1"`
	LengthOctets *int                     `json:"lengthOctets,omitempty" required:"false" default:"1"`
	Attributes   []config.VendorAttribute `json:"attributes" required:"false"`
	Note         string                   `json:"note" required:"false" maxLength:"4000"`
}

// Vendor is a vendor.
type Vendor struct {
	Meta
	VendorFields
	// Forms are one attribute of each kind as it would go over the wire.
	Forms []results.Text `json:"forms" doc:"Each attribute with an example value, as it would go over the wire"`
}

// OverrideFields are what can be edited of an override.
type OverrideFields struct {
	Name   string    `json:"name" required:"false" maxLength:"200" example:"Ines at the workshop"`
	Person string    `json:"person" required:"false" maxLength:"200" doc:"Name of the person in the store"`
	Store  string    `json:"store" required:"false" maxLength:"200" doc:"Only as found there; empty is any"`
	Lane   string    `json:"lane" required:"false" maxLength:"200" doc:"Only in this lane; empty is any"`
	Pass   string    `json:"pass" required:"false" maxLength:"200"`
	Until  time.Time `json:"until,omitzero" required:"false" doc:"When it ends"`
	Owner  string    `json:"owner" required:"false" maxLength:"200"`
	Note   string    `json:"note" required:"false" maxLength:"4000"`
}

// Override is a person's own pass.
type Override struct {
	Meta
	OverrideFields
	Over bool `json:"over" doc:"It has ended"`
}

// ExpectationFields are what can be edited of an expectation.
type ExpectationFields struct {
	Name       string             `json:"name" required:"false" maxLength:"200" example:"Ticketing at a counter"`
	Sent       string             `json:"sent" required:"false" maxLength:"253" doc:"Name as the device would send it"`
	Client     string             `json:"client" required:"false" maxLength:"200"`
	Method     string             `json:"method" required:"false" maxLength:"50" example:"peap-mschapv2"`
	Attributes []config.Attribute `json:"attributes" required:"false" doc:"Further attributes of the request"`
	Asks       string             `json:"asks" required:"false" maxLength:"60" doc:"What gear asks over TACACS+: login, enable, shell, command, or a service; empty for RADIUS"`
	Command    string             `json:"command" required:"false" maxLength:"4096" doc:"What is typed, for command"`
	Level      int                `json:"level" required:"false" doc:"Privilege level that enable asks for"`
	At         time.Time          `json:"at,omitzero" required:"false" doc:"Moment it is tried for; empty is now"`
	Admitted   bool               `json:"admitted" doc:"Whether it is to be admitted"`
	Pass       string             `json:"pass" required:"false" maxLength:"200" doc:"Pass that it is to get; empty for any"`
	VLAN       string             `json:"vlan" required:"false" maxLength:"32" doc:"VLAN that it is to get; empty for any"`
	Reason     string             `json:"reason" required:"false" maxLength:"100" doc:"Reason of the refusal; empty for any"`
	Note       string             `json:"note" required:"false" maxLength:"4000"`
}

// Expectation is an expectation.
type Expectation struct {
	Meta
	ExpectationFields
}

// ConditionInput is a condition to check, as text or as a tree.
type ConditionInput struct {
	Text string        `json:"text" required:"false" maxLength:"8000"`
	Tree *results.Tree `json:"tree,omitempty" required:"false" doc:"Instead of the text"`
	Lane bool          `json:"lane,omitempty" required:"false" doc:"Only facts of the request, as in a lane"`
}

// ConditionCheck is the outcome.
type ConditionCheck struct {
	Valid     bool          `json:"valid"`
	Canonical string        `json:"canonical,omitempty"`
	Tree      *results.Tree `json:"tree,omitempty"`
	Error     *Fault        `json:"error,omitempty"`
}

// Field is a field of conditions with what it can be compared with.
type Field struct {
	Name string `json:"name" doc:"As written; a name that ends in .* stands for a family, such as client.site"`
	Type string `json:"type"`
	Help string `json:"help"`
	// Examples are values to complete with; where Closed, there are no others.
	Examples  []string `json:"examples,omitempty"`
	Closed    bool     `json:"closed,omitempty"`
	Operators []string `json:"operators"`
	Lane      bool     `json:"lane" doc:"Lanes may ask for it too"`
}

// Completion is a value that a field may have, and where it is known from.
type Completion struct {
	Value string `json:"value"`
	From  string `json:"from"`
}

// Analysis is what was found in the draft.
type Analysis struct {
	Items    []results.Finding `json:"items"`
	Policies int               `json:"policies" doc:"How many policies were looked at"`
	Micros   int64             `json:"micros"`
	Problem  string            `json:"problem" doc:"Why there is no analysis; empty if there is"`
}

// Hits is how often a policy, or a row of its group table, decided.
type Hits struct {
	Policy string     `json:"policy" doc:"Identifier of the policy"`
	Group  string     `json:"group" doc:"Group of the row; empty for a policy without a table"`
	Since  int64      `json:"since" doc:"Under the running revision"`
	Before int64      `json:"before" doc:"Under all others"`
	Last   *time.Time `json:"last,omitempty"`
	Hours  []int64    `json:"hours" doc:"Of each of the last 48 hours, the present one last"`
	Stale  bool       `json:"stale" doc:"It is older than 90 days, and decided nothing in that time"`
}

// AllHits is the hits of every policy that is running, those that never decided anything too.
type AllHits struct {
	Revision int    `json:"revision"`
	Items    []Hits `json:"items"`
	// Missing are the nodes whose hits are not among them.
	Missing []string `json:"missing,omitempty" doc:"Nodes that do not answer, whose hits are missing"`
}

// Expected is the outcome of one expectation.
type Expected struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	State string `json:"state" enum:"met,failed,unchecked"`
	// Wanted and Got say in words what was expected and what would happen.
	Wanted   string          `json:"wanted"`
	Got      string          `json:"got"`
	Sentence string          `json:"sentence"`
	Ending   *results.Ending `json:"ending,omitempty"`
}

// DryRun is what an attempt would come to. Nothing was recorded.
type DryRun struct {
	Under string        `json:"under"`
	Facts facts.Facts   `json:"facts"`
	Trace results.Trace `json:"trace"`
	// Unsure says why it may end otherwise; empty if it is sure.
	Unsure string `json:"unsure"`
}

// AllExpected is the outcome of all expectations.
type AllExpected struct {
	Items  []Expected `json:"items"`
	Failed int        `json:"failed"`
}

// PublishBody says why, and whether failed expectations are to be passed over.
type PublishBody struct {
	Note    string `json:"note" required:"false" maxLength:"1000"`
	Despite bool   `json:"despite,omitempty" required:"false" doc:"Publish although expectations fail"`
}

// DiscardPart names a change of the draft that is to be taken back.
type DiscardPart struct {
	Kind string `json:"kind" maxLength:"50" doc:"As in the list of changes"`
	ID   string `json:"id" maxLength:"50"`
	Lane string `json:"lane,omitempty" required:"false" maxLength:"50" doc:"Identifier of the lane of a policy"`
}

// FileComparison is what applying a file would change.
type FileComparison struct {
	Changes  []config.Change  `json:"changes"`
	More     int              `json:"more" doc:"Changes that are not listed because there are so many"`
	Problems []config.Problem `json:"problems"`
	Lists    []string         `json:"lists" doc:"The lists that stand in the file; others stay as they are"`
	Comments int              `json:"comments" doc:"Comments in the file, which are not kept"`
	Mark     string           `json:"mark" doc:"The draft that it was compared with, for applying"`
	// Others are changes of the draft that applying would overwrite.
	Others []string `json:"others" doc:"Changes that wait in the draft"`
}
