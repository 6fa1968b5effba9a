// Package config holds the whole configuration of Tollgate Key as one value: its types, how typed input is
// normalised, what makes it valid, and how two of them differ. It is pure: no I/O, no clock, no randomness.
//
// Objects refer to each other by name; names are unique within their kind without regard to case. Each object also
// has an ID that survives renaming. Secrets are carried sealed (see Secret): this package never sees clear text.
package config

import (
	"slices"
	"strings"
	"time"
)

// LocalStore is the name under which the local accounts appear in a realm's lookup order, DeviceStore the store of
// known devices, which MAC bypass looks in.
const (
	LocalStore  = "local"
	DeviceStore = "devices"
)

// Config is one complete configuration. Lanes and the policies inside them are ordered; the rest is a set.
//
// Configurations share the objects in which they do not differ: an object that stands in one is not changed any more.
// Whoever edits works on a Copy, and changes what Own returns.
type Config struct {
	Clients     []*Client    `json:"clients"`
	Directories []*Directory `json:"directories"`
	Realms      []*Realm     `json:"realms"`
	Lanes       []*Lane      `json:"lanes"`
	Passes      []*Pass      `json:"passes"`

	Authorities  []*Authority   `json:"authorities"`
	Certificates []*Certificate `json:"certificates"`
	Trusts       []*Trust       `json:"trusts"`

	Calendars    []*Calendar    `json:"calendars"`
	Pools        []*Pool        `json:"pools"`
	Remotes      []*Remote      `json:"remotes"`
	Vendors      []*Vendor      `json:"vendors"`
	Overrides    []*Override    `json:"overrides"`
	Expectations []*Expectation `json:"expectations"`
	CommandLists []*CommandList `json:"commandLists"`
	Feeds        []*Feed        `json:"feeds"`
	Sources      []*Source      `json:"sources"`
	Scopes       []*Scope       `json:"scopes"`
	Subscribers  []*Subscriber  `json:"subscribers"`
	DeviceKinds  []*DeviceKind  `json:"deviceKinds"`
}

// Secret is a secret sealed with the key file of the data directory, in text form; "" means not set.
// Its JSON form inside a stored configuration is the sealed text. API views never include it.
type Secret string

// Set reports whether there is a secret at all.
func (s Secret) Set() bool { return s != "" }

// MessageAuthenticator says what a client must do about the Message-Authenticator attribute (RFC 3579 section 3.2)
// in requests that do not need it by themselves.
type MessageAuthenticator string

const (
	// Require discards every Access-Request without a valid Message-Authenticator.
	Require MessageAuthenticator = "require"
	// Auto accepts its absence until the sender has been seen with one; from then on it is required.
	Auto MessageAuthenticator = "auto"
	// Off accepts its absence; requests and replies of such a client can be forged on the wire.
	Off MessageAuthenticator = "off"
)

// Client is a device that is allowed to ask.
type Client struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Enabled bool   `json:"enabled"`
	// Addresses are addresses or prefixes in canonical form; a request belongs to the client with the longest match.
	Addresses            []string             `json:"addresses"`
	Secret               Secret               `json:"secret"`
	Previous             Secret               `json:"previous,omitempty"`
	PreviousUntil        time.Time            `json:"previousUntil,omitzero"`
	MessageAuthenticator MessageAuthenticator `json:"messageAuthenticator"`
	Tags                 map[string]string    `json:"tags"`

	// TACACSSecret obfuscates the bodies of TACACS+ packets; TACACSPrevious does too until the date.
	TACACSSecret        Secret    `json:"tacacsSecret,omitempty"`
	TACACSPrevious      Secret    `json:"tacacsPrevious,omitempty"`
	TACACSPreviousUntil time.Time `json:"tacacsPreviousUntil,omitzero"`
	// TACACSPlain takes TACACS+ packets that are not obfuscated.
	TACACSPlain bool `json:"tacacsPlain,omitempty"`
	// TACACSByAddress takes it over TLS without a certificate, by the address it comes from alone.
	TACACSByAddress bool `json:"tacacsByAddress,omitempty"`
	// TLSNames are the names in the certificate by which the device proves itself in TLS.
	TLSNames []string `json:"tlsNames"`
	// TLSCertificate is what we show it in TLS, TLSTrust what its certificate is checked by; empty is the only
	// one.
	TLSCertificate string `json:"tlsCertificate,omitempty"`
	TLSTrust       string `json:"tlsTrust,omitempty"`

	// Sessions are how accounting is taken, and sessions changed; ChangeSecret signs changes, empty for Secret.
	Sessions     ClientSessions `json:"sessions,omitzero"`
	ChangeSecret Secret         `json:"changeSecret,omitempty"`

	Note string `json:"note,omitempty"`
}

// FormKind is the way in which a name shows the realm it belongs to.
type FormKind string

const (
	// Suffix is name@value (RFC 7542).
	Suffix FormKind = "suffix"
	// Prefix is VALUE\name.
	Prefix FormKind = "prefix"
	// Bare is a name without either.
	Bare FormKind = "bare"
)

// Form is one name form of a realm. Value is empty for Bare.
type Form struct {
	Kind  FormKind `json:"kind" enum:"suffix,prefix,bare"`
	Value string   `json:"value,omitempty"`
}

// String writes the form as people do: @value, VALUE\ or the word bare.
func (f Form) String() string {
	switch f.Kind {
	case Suffix:
		return "@" + f.Value
	case Prefix:
		return f.Value + `\`
	}
	return "bare"
}

// Unreachable says what a lookup does when a store cannot be asked.
type Unreachable string

const (
	Refuse Unreachable = "refuse"
	Next   Unreachable = "next"
	// Silent answers nothing, so that the device asks its other server.
	Silent Unreachable = "silent"
)

// Lookup is one step of a realm's lookup order.
type Lookup struct {
	Store       string      `json:"store"`
	Unreachable Unreachable `json:"unreachable" required:"false" enum:"refuse,next,silent"`
}

// Realm says which name forms belong together, how the name is rewritten, and where it is looked up.
type Realm struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Forms []Form `json:"forms"`
	// Rewrite is the name handed to the stores: {name} is the part without the realm, {sent} the name as sent.
	Rewrite string   `json:"rewrite"`
	Lookup  []Lookup `json:"lookup"`
	Note    string   `json:"note,omitempty"`
}

// Lane is the first choice, made by the facts of the request alone; the first lane that fits is taken.
type Lane struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// When is a condition over facts of the request.
	When    string   `json:"when"`
	Methods []string `json:"methods"`
	// Realm limits the names accepted here to one realm; empty means that the form of the name decides.
	Realm string `json:"realm,omitempty"`
	// Forward names remote servers, in the order to ask them; with any, they decide and not the policies.
	Forward []string `json:"forward"`
	// TLS is for methods that run in TLS.
	TLS LaneTLS `json:"tls"`
	// RejectDelayMillis holds each refusal back.
	RejectDelayMillis int `json:"rejectDelayMillis"`
	// SecondFactor is what has to be shown beside the credential: OneTimeCode, or empty for nothing.
	SecondFactor string `json:"secondFactor,omitempty"`
	// FactorRestMinutes is for how long the same person is not asked for a code again on the same client, from the same
	// place.
	FactorRestMinutes int `json:"factorRestMinutes,omitempty"`
	// Factor says how it is asked for, of whom, and what becomes of people who have none.
	Factor LaneFactor `json:"factor,omitzero"`
	// Follow has open sessions authenticated again when their people would now get something else.
	Follow   bool      `json:"follow,omitempty"`
	Policies []*Policy `json:"policies"`
	Note     string    `json:"note,omitempty"`
}

// Outcome is what a policy does with those that fit.
type Outcome string

const (
	Admit   Outcome = "admit"
	Refusal Outcome = "refuse"
)

// GroupRow is one row of a group table.
type GroupRow struct {
	Group string `json:"group"`
	Pass  string `json:"pass"`
}

// Policy is a condition and what follows from it. With a group table it fits only members of one of its groups.
type Policy struct {
	ID      string     `json:"id" required:"false"`
	Name    string     `json:"name"`
	Enabled bool       `json:"enabled"`
	When    string     `json:"when" required:"false"`
	Outcome Outcome    `json:"outcome" enum:"admit,refuse"`
	Pass    string     `json:"pass,omitempty"`
	Groups  []GroupRow `json:"groups" required:"false"`
	// Message is sent to the person as Reply-Message with a refusal.
	Message string `json:"message,omitempty"`
	// From and Until limit when the policy counts, zero for always; Until is not included.
	From  time.Time `json:"from,omitzero" required:"false"`
	Until time.Time `json:"until,omitzero" required:"false"`
	// Owner is person responsible for it.
	Owner string `json:"owner,omitempty"`
	Note  string `json:"note,omitempty"`
}

// Attribute is one attribute by its name, standard or of a vendor, and its value in text form.
type Attribute struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Find returns the object of that ID, or else of that name without regard to case, and its place; -1 if none.
func Find[T any, P Object[T]](list []*T, ref string) (P, int) {
	// Most lists are in the order of identifiers.
	at, there := slices.BinarySearchFunc(list, ref, func(o *T, ref string) int {
		return strings.Compare(P(o).Ident(), ref)
	})
	if there {
		return list[at], at
	}
	for i, o := range list {
		if P(o).Ident() == ref {
			return o, i
		}
	}
	for i, o := range list {
		if strings.EqualFold(P(o).Label(), ref) {
			return o, i
		}
	}
	return nil, -1
}

// Object is what every kind in a configuration has in common.
type Object[T any] interface {
	*T
	Ident() string
	Label() string
	Identify(string)
}

func (c *Client) Ident() string         { return c.ID }
func (c *Client) Label() string         { return c.Name }
func (c *Client) Identify(id string)    { c.ID = id }
func (d *Directory) Ident() string      { return d.ID }
func (d *Directory) Label() string      { return d.Name }
func (d *Directory) Identify(id string) { d.ID = id }
func (r *Realm) Ident() string          { return r.ID }
func (r *Realm) Label() string          { return r.Name }
func (r *Realm) Identify(id string)     { r.ID = id }
func (l *Lane) Ident() string           { return l.ID }
func (l *Lane) Label() string           { return l.Name }
func (l *Lane) Identify(id string)      { l.ID = id }
func (p *Policy) Ident() string         { return p.ID }
func (p *Policy) Label() string         { return p.Name }
func (p *Policy) Identify(id string)    { p.ID = id }
func (p *Pass) Ident() string           { return p.ID }
func (p *Pass) Label() string           { return p.Name }
func (p *Pass) Identify(id string)      { p.ID = id }
