package apitype

import (
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
)

// Problem is a problem detail (RFC 9457). It never repeats input values, since they may be secrets.
type Problem struct {
	Type   string  `json:"type,omitempty" doc:"Always about:blank"`
	Title  string  `json:"title"`
	Status int     `json:"status"`
	Code   string  `json:"code,omitempty" doc:"Stable code of what programs may want to act on, such as expectations.unmet"`
	Detail string  `json:"detail"`
	Remedy string  `json:"remedy,omitempty"`
	Errors []Fault `json:"errors,omitempty"`
}

// Error makes a problem an error.
func (p *Problem) Error() string {
	text := p.Detail
	if len(p.Errors) > 0 && p.Errors[0].Message != p.Detail {
		text += ": " + p.Errors[0].String()
	}
	if p.Remedy != "" {
		text += " " + p.Remedy
	}
	return text
}

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of RFC 9457.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Fault is one thing wrong with the input.
type Fault struct {
	Field   string `json:"field" doc:"Path of the field"`
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
	Column  int    `json:"column,omitempty" doc:"1-based column, for conditions"`
}

func (f Fault) String() string {
	text := f.Message
	if f.Field != "" {
		text = f.Field + ": " + text
	}
	if f.Remedy != "" {
		text += ". " + f.Remedy
	}
	return text
}

// About says what is running.
type About struct {
	Version     string   `json:"version"`
	SetupNeeded bool     `json:"setupNeeded"`
	Node        string   `json:"node,omitempty" doc:"Name of this node, where there are several"`
	Operator    string   `json:"operator,omitempty" doc:"Who is signed in"`
	Role        string   `json:"role,omitempty"`
	Rights      []string `json:"rights,omitempty" doc:"What the role allows: enrol, self, watch, assist, read, configure, own"`
	// Enrolling, SecondFactor, Elsewhere and Limits are of whoever is signed in.
	Enrolling    bool     `json:"enrolling,omitempty" doc:"The role needs a second factor, and nothing is allowed before"`
	SecondFactor bool     `json:"secondFactor,omitempty" doc:"There is a second factor"`
	Elsewhere    bool     `json:"elsewhere,omitempty" doc:"Kept in a directory or by the identity provider"`
	ByProvider   bool     `json:"byProvider,omitempty" doc:"Kept by the identity provider: no password is known here"`
	Limits       []string `json:"limits,omitempty" doc:"Tags of the clients that the role is limited to"`
	IdleMinutes  int      `json:"idleMinutes,omitempty" doc:"After how long without use a session ends"`
	Mail         bool     `json:"mail,omitempty" doc:"Mail can be sent to people"`
	Provider     string   `json:"provider,omitempty" doc:"What stands on the button for the identity provider; absent without one"`
	Revision     int      `json:"revision,omitempty"`
	Changes      int      `json:"changes,omitempty" doc:"Changes in the draft"`
}

// SetupInput creates the first operator.
type SetupInput struct {
	Code     string `json:"code" maxLength:"100"`
	Name     string `json:"name" maxLength:"100"`
	Password string `json:"password" maxLength:"1024"`
}

// SignInInput signs an operator in.
type SignInInput struct {
	Name      string `json:"name" maxLength:"100"`
	Password  string `json:"password" maxLength:"1024"`
	Code      string `json:"code,omitempty" required:"false" maxLength:"40" doc:"Of the second factor, or a recovery code"`
	TokenName string `json:"tokenName,omitempty" required:"false" maxLength:"100" doc:"Make a command-line token instead of a browser session"`
	// Key is in place of the code.
	Key *KeyAnswer `json:"key,omitempty" required:"false" doc:"What a security key answered, in place of the code"`
}

// KeyAsked are the options for a browser to ask for a security key (Web Authentication), and the session to answer in.
type KeyAsked struct {
	Session string         `json:"session"`
	Options map[string]any `json:"options" doc:"PublicKeyCredentialRequestOptionsJSON, or CreationOptionsJSON"`
}

// KeyAnswer is what a browser says of a security key.
type KeyAnswer struct {
	Session  string         `json:"session" maxLength:"40"`
	Response map[string]any `json:"response" doc:"AuthenticationResponseJSON, or RegistrationResponseJSON"`
	Label    string         `json:"label,omitempty" required:"false" maxLength:"100" doc:"What a new key is called"`
}

// SignedIn is the answer to a sign-in.
type SignedIn struct {
	Operator string `json:"operator"`
	Token    string `json:"token,omitempty" doc:"The token, shown only here"`
}

// Token is a command-line token.
type Token struct {
	ID       string    `json:"id"`
	Name     string    `json:"name"`
	Operator string    `json:"operator"`
	Created  time.Time `json:"created"`
	Used     time.Time `json:"used"`
	// Until is nil for tokens from before they had an end.
	Until *time.Time `json:"until,omitempty" doc:"When it ends; absent is never"`
	Scope string     `json:"scope,omitempty" doc:"Role whose rights it has at most"`
	From  []string   `json:"from" doc:"Prefixes that it is good from; none is anywhere"`
}

// TokenInput makes a token for oneself.
type TokenInput struct {
	Name  string   `json:"name" minLength:"1" maxLength:"100"`
	Days  int      `json:"days,omitempty" required:"false" minimum:"0" maximum:"3660" doc:"How long it is good; 0 is 90, or as long as the token that makes it"`
	Scope string   `json:"scope,omitempty" required:"false" enum:"owner,engineer,helpdesk,reception,auditor" doc:"Role whose rights it has at most; absent is all of one's own"`
	From  []string `json:"from,omitempty" required:"false" maxItems:"16" doc:"Prefixes that it is good from; none is anywhere"`
}

// Operator is an operator.
type Operator struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Role    string    `json:"role"`
	Created time.Time `json:"created"`
	Source  string    `json:"source" doc:"Directory or provider that keeps the operator; empty is here"`
	// Seen is of those who are kept elsewhere.
	Seen         *time.Time `json:"seen,omitempty" doc:"Last sign-in"`
	Clients      []string   `json:"clients" doc:"Tags of the clients that the role is limited to; none is all"`
	SecondFactor bool       `json:"secondFactor"`
	Lacking      bool       `json:"lacking" doc:"The role needs a second factor, and there is none"`
}

// OperatorInput adds an operator.
type OperatorInput struct {
	Name     string `json:"name" maxLength:"100"`
	Password string `json:"password" maxLength:"1024"`
	Role     string `json:"role,omitempty" required:"false" enum:"owner,engineer,helpdesk,reception,auditor" default:"engineer"`
}

// RoleInput gives an operator another role.
type RoleInput struct {
	Role    string   `json:"role" enum:"owner,engineer,helpdesk,reception,auditor"`
	Clients []string `json:"clients,omitempty" required:"false" maxItems:"10" doc:"Tags of the clients that the role is limited to, key=value; none is all"`
}

// Draft is the state of the draft.
type Draft struct {
	// Asked and NeedsSecond are of what a second operator has to agree to.
	Asked       *Asked           `json:"asked,omitempty"`
	NeedsSecond bool             `json:"needsSecond,omitempty" doc:"A second operator has to agree to it"`
	Revision    int              `json:"revision" doc:"The revision that is running; 0 if none"`
	Changes     []config.Change  `json:"changes"`
	More        int              `json:"more" doc:"Changes that are not listed because there are so many"`
	Problems    []config.Problem `json:"problems"`
	// Mark is what the draft is like; it changes with it.
	Mark string `json:"mark" doc:"Changes with the draft"`
	// Publishable tells that no problem stops a publish.
	Publishable bool `json:"publishable"`
}

// Published is the answer to a publish.
type Published struct {
	Revision int              `json:"revision"`
	Warnings []config.Problem `json:"warnings"`
}

// Revision is a published configuration.
type Revision struct {
	Number   int             `json:"number"`
	At       time.Time       `json:"at"`
	Operator string          `json:"operator"`
	Note     string          `json:"note"`
	Running  bool            `json:"running"`
	Changes  []config.Change `json:"changes"`
	More     int             `json:"more" doc:"Changes that are not listed because there are so many"`
}

// Account is a local account.
type Account struct {
	ID string `json:"id"`
	AccountFields
	Tag       string     `json:"tag"`
	ChangedAt time.Time  `json:"changedAt"`
	ChangedBy string     `json:"changedBy"`
	OpenedAt  *time.Time `json:"openedAt,omitempty" doc:"When the seal of an emergency account was broken"`
	OpenedOn  string     `json:"openedOn" doc:"On which device that was"`
	Uses      int        `json:"uses" doc:"How often an emergency account was used since it was sealed"`
}

// AccountFields are what can be edited of a local account.
type AccountFields struct {
	Name      string     `json:"name" required:"false" maxLength:"200"`
	Display   string     `json:"display" required:"false" maxLength:"400"`
	Mail      string     `json:"mail" required:"false" maxLength:"400"`
	Groups    []string   `json:"groups" required:"false"`
	Enabled   bool       `json:"enabled"`
	Expires   *time.Time `json:"expires,omitempty" required:"false"`
	Emergency string     `json:"emergency" required:"false" maxLength:"1000" doc:"For an emergency account: the condition over devices that it is for; it works there while no directory answers"`
	Keeps     string     `json:"keeps" required:"false" doc:"What is kept of the password: hash (only clear passwords can be checked), nt-hash (MS-CHAP too) or password (CHAP too); empty leaves it"`
}

// AccountInput adds or replaces an account. Without a password the present one stays.
type AccountInput struct {
	AccountFields
	Password string `json:"password,omitempty" required:"false" maxLength:"1024"`
}

// Attempt is one attempt in a list.
type Attempt struct {
	Node     string    `json:"node,omitempty" doc:"Node that recorded it, where there are several"`
	ID       string    `json:"id"`
	At       time.Time `json:"at"`
	Verdict  string    `json:"verdict" enum:"admitted,refused"`
	Reason   string    `json:"reason"`
	Sentence string    `json:"sentence"`
	Client   string    `json:"client"`
	Sent     string    `json:"sent"`
	Person   string    `json:"person"`
	User     string    `json:"user" doc:"The name as looked up"`
	MAC      string    `json:"mac"`
	Where    string    `json:"where"`
	Method   string    `json:"method,omitempty" doc:"How the identity was to be proven"`
	Lane     string    `json:"lane"`
	Policy   string    `json:"policy"`
	Pass     string    `json:"pass"`
	VLAN     string    `json:"vlan"`
	Revision int       `json:"revision"`
	Micros   int64     `json:"micros"`
	// Session is the one that it led to, if its client reports accounting.
	Session *AttemptSession `json:"session,omitempty"`
	Class   string          `json:"-"`
}

// AttemptSession is what the client says of the session that an attempt led to.
type AttemptSession struct {
	ID      string    `json:"id"`
	Open    bool      `json:"open"`
	Address string    `json:"address,omitempty" doc:"IP address that the device really has"`
	VLAN    string    `json:"vlan,omitempty" doc:"VLAN that the client says it applied"`
	Began   time.Time `json:"began"`
	Last    time.Time `json:"last"`
}

// AttemptDetail is one attempt with its facts and its road.
type AttemptDetail struct {
	Attempt
	Facts facts.Facts   `json:"facts"`
	Trace results.Trace `json:"trace"`
	// Under says what the trace was computed with: the revision, or the draft.
	Under   string    `json:"under"`
	Earlier []Attempt `json:"earlier" doc:"Attempts of the same person before"`
}

// Minute counts one minute.
type Minute struct {
	At       time.Time `json:"at"`
	Admitted int       `json:"admitted"`
	Refused  int       `json:"refused"`
	Dropped  int       `json:"dropped"`
}

// Attention is something that needs an operator.
type Attention struct {
	Code     string `json:"code" doc:"Stable: what it is about"`
	Severity string `json:"severity" enum:"fail,warn"`
	Title    string `json:"title"`
	Text     string `json:"text"`
	// Kind and ID name what to open; Action is the label.
	Kind   string            `json:"kind" doc:"Kind of the object to open, such as client"`
	ID     string            `json:"id" doc:"Identifier of the object; empty for the list of its kind"`
	Action string            `json:"action"`
	Params map[string]string `json:"params" doc:"What title and text speak of"`
}

// Now is the last hour.
type Now struct {
	At           time.Time   `json:"at"`
	Minutes      []Minute    `json:"minutes"`
	Admitted     int         `json:"admitted"`
	Refused      int         `json:"refused"`
	Dropped      int         `json:"dropped"`
	Waiting      int         `json:"waiting"`
	MedianMicros int64       `json:"medianMicros"`
	Attention    []Attention `json:"attention"`
	Refusals     []Attempt   `json:"refusals"`
	Gear         int         `json:"gear" doc:"Connections of network gear over TACACS+"`
	Lost         int64       `json:"lost" doc:"Attempts that could not be recorded"`
}

// DictionaryEntry is one attribute of the dictionary.
type DictionaryEntry struct {
	Type   int      `json:"type"`
	Place  string   `json:"place" doc:"Its number; 26.VENDOR.NUMBER for one of a vendor"`
	Vendor string   `json:"vendor" doc:"Name of the vendor; empty for a standard attribute"`
	Name   string   `json:"name"`
	Data   string   `json:"data"`
	Reply  bool     `json:"reply" doc:"May be set by a pass"`
	Values []string `json:"values"`
}

// Gap tells a follower that records were left out: because too many came at once, or because too many were recorded
// while it was away.
type Gap struct {
	// Lost counts those left out, 0 if that is not known.
	Lost int `json:"lost"`
	// Since is when the first of them was recorded, at the earliest; Until when the stream went on.
	Since time.Time `json:"since" doc:"Nothing before this is missing"`
	Until time.Time `json:"until" doc:"Nothing after this is missing"`
}
