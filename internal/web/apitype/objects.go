// Package apitype holds the JSON types of the HTTP API, for the service and for its Go clients alike.
package apitype

import (
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

// Meta is what every object of the draft is shown with.
type Meta struct {
	ID string `json:"id" doc:"Identifier; survives renaming"`
	// Tag is what If-Match takes.
	Tag       string     `json:"tag" doc:"Entity tag for If-Match"`
	ChangedBy string     `json:"changedBy,omitempty" doc:"Operator who changed it in the draft"`
	ChangedAt *time.Time `json:"changedAt,omitempty" doc:"When it was changed in the draft"`
	// Problems are those of this object in the draft.
	Problems []config.Problem `json:"problems"`
}

// ClientFields are what can be edited of a client.
type ClientFields struct {
	Name                 string            `json:"name" required:"false" maxLength:"200" example:"np-switch-1"`
	Enabled              bool              `json:"enabled"`
	Addresses            []string          `json:"addresses" required:"false" doc:"Addresses or prefixes; the longest prefix wins" example:"[\"192.0.2.11\"]"`
	MessageAuthenticator string            `json:"messageAuthenticator" required:"false" enum:"require,auto,off" default:"require"`
	Tags                 map[string]string `json:"tags" required:"false"`
	Note                 string            `json:"note" required:"false" maxLength:"4000"`

	TACACSPlain     bool     `json:"tacacsPlain" required:"false" doc:"Take TACACS+ packets that are not obfuscated"`
	TACACSByAddress bool     `json:"tacacsByAddress" required:"false" doc:"Take it over TLS without a certificate, by its address alone"`
	TLSNames        []string `json:"tlsNames" required:"false" doc:"Names in the certificate by which the device proves itself over TLS"`
	TLSCertificate  string   `json:"tlsCertificate" required:"false" maxLength:"200" doc:"Server certificate shown to it over TLS; empty is the first"`
	TLSTrust        string   `json:"tlsTrust" required:"false" maxLength:"200" doc:"Trust list for its certificate; empty is the only one"`

	Sessions config.ClientSessions `json:"sessions,omitzero" required:"false" doc:"How its accounting is taken, and its sessions changed"`
}

// ClientInput adds or replaces a client. Without a secret the present one stays.
type ClientInput struct {
	ClientFields
	Secret         string `json:"secret,omitempty" required:"false" minLength:"6" maxLength:"128" doc:"Shared secret; at least 16 characters are advisable"`
	GenerateSecret bool   `json:"generateSecret,omitempty" required:"false" doc:"Make a secret; it is returned once"`
	// A secret for TACACS+ is set in the same ways.
	TACACSSecret         string    `json:"tacacsSecret,omitempty" required:"false" minLength:"6" maxLength:"128" doc:"Shared secret for TACACS+"`
	GenerateTACACSSecret bool      `json:"generateTacacsSecret,omitempty" required:"false" doc:"Make a secret for TACACS+; it is returned once"`
	RemoveTACACSSecret   bool      `json:"removeTacacsSecret,omitempty" required:"false" doc:"Take no TACACS+ from it, but over TLS"`
	ChangeSecret         string    `json:"changeSecret,omitempty" required:"false" minLength:"6" maxLength:"128" doc:"Secret for changes of authorization; without one the shared secret is used"`
	RemoveChangeSecret   bool      `json:"removeChangeSecret,omitempty" required:"false" doc:"Use the shared secret for changes of authorization"`
	KeepPreviousUntil    time.Time `json:"keepPreviousUntil,omitzero" required:"false" doc:"With a new secret: until when the present one is still accepted"`
}

// Client is a client with what was seen of it.
type Client struct {
	Meta
	ClientFields
	SecretSet     bool       `json:"secretSet"`
	PreviousUntil *time.Time `json:"previousUntil,omitempty"`

	TACACSSecretSet     bool       `json:"tacacsSecretSet"`
	ChangeSecretSet     bool       `json:"changeSecretSet"`
	TACACSPreviousUntil *time.Time `json:"tacacsPreviousUntil,omitempty"`

	LastSeen *time.Time `json:"lastSeen,omitempty"`
	Learned  []string   `json:"learned,omitempty" doc:"Mode auto: addresses seen with a Message-Authenticator, from which it is required now"`
	Good     int64      `json:"good"`
	Dropped  int64      `json:"dropped"`
	Problem  *Contact   `json:"problem,omitempty"`
}

// Unlearned tells from how many addresses of a client a Message-Authenticator is no longer required.
type Unlearned struct {
	Addresses int `json:"addresses"`
}

// Contact is a source address with its current or last problem.
type Contact struct {
	Address  string    `json:"address"`
	Client   string    `json:"client,omitempty" doc:"Name of the client; empty for an unknown source"`
	ClientID string    `json:"clientId,omitempty"`
	Fault    string    `json:"fault"`
	Sentence string    `json:"sentence"`
	Remedy   string    `json:"remedy"`
	Detail   string    `json:"detail,omitempty"`
	Since    time.Time `json:"since"`
	Last     time.Time `json:"last"`
	Count    int       `json:"count"`
	Current  bool      `json:"current" doc:"No good request came since"`
	Earlier  []Trouble `json:"earlier,omitempty" doc:"The problems of this address before that, the latest first"`
}

// Trouble is an earlier problem of an address.
type Trouble struct {
	Fault    string    `json:"fault"`
	Sentence string    `json:"sentence"`
	Detail   string    `json:"detail,omitempty"`
	Since    time.Time `json:"since"`
	Last     time.Time `json:"last"`
	Count    int       `json:"count"`
}

// DirectoryFields are what can be edited of a directory.
type DirectoryFields struct {
	Name          string   `json:"name" required:"false" maxLength:"200" example:"LANTERN"`
	Kind          string   `json:"kind" required:"false" enum:"generic,active-directory" default:"generic"`
	Servers       []string `json:"servers" required:"false" doc:"host, host:port or ldap URL, in the order to try"`
	TLS           string   `json:"tls" required:"false" enum:"ldaps,starttls,plain" default:"ldaps"`
	CA            string   `json:"ca" required:"false" doc:"PEM of the trusted authority; empty trusts those of the system" maxLength:"262144"`
	ServerName    string   `json:"serverName" required:"false" doc:"Name that the certificate must carry, if not the host"`
	BindName      string   `json:"bindName" required:"false" doc:"DN, name@domain, DOMAIN\\name or bare name of the service account"`
	Base          string   `json:"base" required:"false" doc:"Base DN; empty asks the server"`
	GroupBase     string   `json:"groupBase" required:"false" doc:"Base DN of groups; empty is the base"`
	Attributes    []string `json:"attributes" required:"false" doc:"Further attributes of people to read; they become facts"`
	TimeoutMillis int      `json:"timeoutMillis" required:"false" default:"3000"`
	Note          string   `json:"note" required:"false" maxLength:"4000"`

	Groups       []config.PickedGroup `json:"groups" required:"false" doc:"Picked groups: policies name them as here, whatever they are called in the directory"`
	CacheSeconds *int                 `json:"cacheSeconds,omitempty" required:"false" default:"60" doc:"How long what was found of a person is taken again; 0 asks each time"`
	DNS          string               `json:"dns" required:"false" maxLength:"400" doc:"DNS servers to ask, separated by commas; empty asks those of the operating system"`
	Source       string               `json:"source" required:"false" maxLength:"100" doc:"Address that connections go out from"`
	CopyBelow    []string             `json:"copyBelow" required:"false" doc:"Subtrees whose people are copied"`
	CopyWanted   []string             `json:"copyWanted" required:"false" doc:"Attributes that everybody copied should have"`
	CopyMinutes  int                  `json:"copyMinutes" required:"false" default:"0" doc:"How often people are copied by themselves; 0 is on demand only"`
	GuardAfter   int                  `json:"guardAfter" required:"false" default:"0" doc:"Wrong passwords of a person after which no more are passed on; 0 goes by the domain, -1 passes on all"`
}

// DirectoryInput adds or replaces a directory. Without a password the present one stays.
type DirectoryInput struct {
	DirectoryFields
	BindPassword string `json:"bindPassword,omitempty" required:"false" maxLength:"1024"`
}

// Directory is a directory.
type Directory struct {
	Meta
	DirectoryFields
	BindPasswordSet bool   `json:"bindPasswordSet"`
	Domain          string `json:"domain" doc:"Short name of the domain we are a member of; empty for none"`
	Computer        string `json:"computer" doc:"Our machine account there"`
	// PasswordSet is when the password of the machine account was set.
	PasswordSet *time.Time `json:"machinePasswordSet,omitempty" doc:"When the password of our machine account was set"`
}

// LeaveInput says who may remove the machine account. The password is used once and not kept.
type LeaveInput struct {
	Name     string `json:"name,omitempty" required:"false" maxLength:"300"`
	Password string `json:"password,omitempty" required:"false" maxLength:"1024"`
}

// Rotated tells when the password of a machine account was set.
type Rotated struct {
	Changed time.Time `json:"changed"`
}

// JoinInput joins the domain of a directory. The password is used once and not kept.
type JoinInput struct {
	Name     string `json:"name" maxLength:"300" doc:"Who may create the machine account"`
	Password string `json:"password" maxLength:"1024"`
	Computer string `json:"computer" maxLength:"15" doc:"Name of the machine account; each of our nodes needs its own"`
	OU       string `json:"ou,omitempty" required:"false" maxLength:"500" doc:"Container, as a DN; empty is the one for computers"`
}

// Joined is what a join did.
type Joined struct {
	DN         string `json:"dn" doc:"The machine account"`
	Controller string `json:"controller" doc:"Domain controller with which the secure channel was tried"`
	Revision   int    `json:"revision,omitempty"`
}

// DirectoryTest is what to test: a directory as typed, which need not be saved.
type DirectoryTest struct {
	DirectoryInput
	ID     string `json:"id,omitempty" required:"false" doc:"Directory of the draft whose password is used if none is given"`
	Person string `json:"person,omitempty" required:"false" doc:"Somebody to look up" maxLength:"200"`
}

// RealmFields are what can be edited of a realm.
type RealmFields struct {
	Name    string          `json:"name" required:"false" maxLength:"200" example:"shore"`
	Forms   []config.Form   `json:"forms" required:"false"`
	Rewrite string          `json:"rewrite" required:"false" default:"{name}" doc:"Name handed to the stores: {name} is the part without the realm, {sent} the name as sent"`
	Lookup  []config.Lookup `json:"lookup" required:"false"`
	Note    string          `json:"note" required:"false" maxLength:"4000"`
}

// Realm is a realm.
type Realm struct {
	Meta
	RealmFields
}

// LaneFields are what can be edited of a lane, its policies included.
type LaneFields struct {
	Name              string            `json:"name" required:"false" maxLength:"200" example:"Wired ports"`
	When              string            `json:"when" required:"false" default:"always" doc:"Condition over facts of the request"`
	Methods           []string          `json:"methods" required:"false"`
	Realm             string            `json:"realm" required:"false" doc:"Only names of this realm; empty lets the form of the name decide"`
	Forward           []string          `json:"forward" required:"false" doc:"Remote servers, in the order to ask them; with any, they decide and not the policies"`
	TLS               config.LaneTLS    `json:"tls" required:"false" doc:"For methods that run in TLS"`
	RejectDelayMillis int               `json:"rejectDelayMillis" doc:"1000 is usual"`
	SecondFactor      string            `json:"secondFactor" required:"false" doc:"What has to be shown beside the credential: code, or empty for nothing"`
	FactorRestMinutes int               `json:"factorRestMinutes" required:"false" doc:"For how long the same person is not asked for a code again on the same client, from the same place"`
	Factor            config.LaneFactor `json:"factor,omitzero" required:"false" doc:"How the second factor is asked for, of whom, and what becomes of people who have none"`
	Follow            bool              `json:"follow" required:"false" doc:"Have open sessions authenticated again when their people would now get something else"`
	Policies          []*config.Policy  `json:"policies" required:"false" doc:"In order; the first that fits decides"`
	Note              string            `json:"note" required:"false" maxLength:"4000"`
}

// Lane is a lane.
type Lane struct {
	Meta
	LaneFields
	Number int `json:"number" doc:"Place in the order, from 1"`
}

// Pass is a pass with the attributes it becomes.
type Pass struct {
	Meta
	PassFields
	Reply  []results.Text `json:"reply"`
	Gear   []results.Text `json:"gear" doc:"What network gear gets over TACACS+; place is the service"`
	UsedBy []string       `json:"usedBy" doc:"Policies that give this pass"`
}

// Page is one page of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page; missing on the last"`
	// Searched is set where the search took long, and goes on with the next page.
	Searched   *time.Time `json:"searched,omitempty" doc:"How far back was searched, where it took long; go on with the next page"`
	Missing    []string   `json:"missing,omitempty" doc:"Nodes that did not answer, whose records are not in the list"`
	Copied     []Copied   `json:"copied,omitempty" doc:"Nodes that did not answer or were removed, whose records are in the list as another node has them"`
	Unreadable int        `json:"unreadable,omitempty" doc:"Records that were left out, since the file is damaged where they are"`
}

// MissingHeader names, of an export, the nodes whose records are not in it, as a JSON list; CopiedHeader those whose
// records come from copies, as a list of Copied.
const (
	MissingHeader = "X-Tollgate-Missing"
	CopiedHeader  = "X-Tollgate-Copied"
)

// Copied is a node that does not answer or was removed, of whose records another node has copies.
type Copied struct {
	Node    string     `json:"node"`
	Removed bool       `json:"removed,omitempty" doc:"It was removed"`
	Until   *time.Time `json:"until,omitempty" doc:"When the copies had everything that it had recorded; missing if that is not known"`
}

// Saved is the answer to an edit.
type Saved[T any] struct {
	Object   T      `json:"object"`
	Secret   string `json:"secret,omitempty" doc:"The generated secret, shown only here"`
	Revision int    `json:"revision,omitempty" doc:"The revision, if it was published at once"`
}

// PassPreview is what a pass as typed becomes.
type PassPreview struct {
	Reply  []results.Text `json:"reply"`
	Gear   []results.Text `json:"gear" doc:"What network gear gets over TACACS+; place is the service"`
	Faults []Fault        `json:"faults"`
}
