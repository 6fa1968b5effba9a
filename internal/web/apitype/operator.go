package apitype

import "time"

// OperatorSettings say how operators sign in, and what needs two of them.
type OperatorSettings struct {
	SecondFactor []string    `json:"secondFactor" doc:"Roles that need a second factor"`
	IdleMinutes  int         `json:"idleMinutes" doc:"After how long without use a session ends"`
	LastHours    int         `json:"lastHours" doc:"After how long it ends however much it is used"`
	FourEyes     bool        `json:"fourEyes" doc:"A second engineer agrees to what touches lanes or passes"`
	Groups       []GroupRole `json:"groups" doc:"Groups of directories whose members are operators"`
	Provider     *Provider   `json:"provider,omitempty" required:"false"`
	Tag          string      `json:"tag,omitempty" required:"false"`
}

// GroupRole gives the members of a group a role.
type GroupRole struct {
	Directory string `json:"directory,omitempty" required:"false" maxLength:"100" doc:"A directory in use; left out in groups of the provider"`
	Group     string `json:"group" maxLength:"200"`
	Role      string `json:"role" enum:"owner,engineer,helpdesk,reception,auditor"`
}

// Provider is an identity provider (OpenID Connect).
type Provider struct {
	Issuer      string      `json:"issuer" maxLength:"500" doc:"Identifier, from which discovery begins"`
	ClientID    string      `json:"clientId" maxLength:"200"`
	Secret      string      `json:"secret,omitempty" required:"false" maxLength:"500" doc:"Client secret; left out keeps the present one. Never shown"`
	SecretSet   bool        `json:"secretSet,omitempty" required:"false"`
	Label       string      `json:"label,omitempty" required:"false" maxLength:"60" doc:"What stands on the button"`
	CA          string      `json:"ca,omitempty" required:"false" maxLength:"20000" doc:"PEM certificate that the provider's has to be issued by; left out, what the system trusts"`
	Console     string      `json:"console" maxLength:"300" doc:"Address at which people open the console"`
	Back        string      `json:"back,omitempty" required:"false" doc:"Redirect address to enter at the provider"`
	NameClaim   string      `json:"nameClaim,omitempty" required:"false" maxLength:"100" doc:"Claim with the name; preferred_username unless said"`
	GroupsClaim string      `json:"groupsClaim,omitempty" required:"false" maxLength:"100" doc:"Claim with the groups; groups unless said"`
	Scopes      []string    `json:"scopes,omitempty" required:"false" maxItems:"20" doc:"Asked for beside openid"`
	Groups      []GroupRole `json:"groups" maxItems:"100"`
}

// OperatorSession is a browser session of an operator.
type OperatorSession struct {
	ID       string     `json:"id"`
	Operator string     `json:"operator"`
	From     string     `json:"from"`
	Agent    string     `json:"agent" doc:"What the browser calls itself"`
	Begun    time.Time  `json:"begun"`
	Used     time.Time  `json:"used"`
	Until    time.Time  `json:"until" doc:"When it ends if it is not used"`
	Last     *time.Time `json:"last,omitempty" doc:"When it ends whatever happens"`
	Own      bool       `json:"own" doc:"The session of this call"`
	Factor   bool       `json:"factor" doc:"A second factor was shown"`
}

// SignedOut is the answer to signing out.
type SignedOut struct {
	Provider string `json:"provider,omitempty" doc:"Where to sign out at the identity provider too"`
}

// OwnPassword changes one's own password.
type OwnPassword struct {
	Present string `json:"present" maxLength:"1024"`
	Next    string `json:"next" maxLength:"1024"`
}

// OwnFactor begins to enrol a second factor of one's own.
type OwnFactor struct {
	Password string `json:"password,omitempty" required:"false" maxLength:"1024" doc:"One's own, once more"`
	Code     string `json:"code,omitempty" required:"false" maxLength:"40" doc:"Of the present second factor, if there is one"`
}

// AskInput asks another operator to publish.
type AskInput struct {
	Note     string `json:"note,omitempty" required:"false" maxLength:"1000"`
	Revision int    `json:"revision,omitempty" required:"false" minimum:"0" doc:"To return to; left out for the draft"`
}

// Asked is what somebody asks another one to publish.
type Asked struct {
	Operator string    `json:"operator"`
	At       time.Time `json:"at"`
	Note     string    `json:"note"`
	Revision int       `json:"revision,omitempty" doc:"To return to; absent for the draft"`
	Own      bool      `json:"own" doc:"Whoever asks now has asked for it"`
	Stale    bool      `json:"stale" doc:"The draft was changed since: it has to be asked again"`
}
