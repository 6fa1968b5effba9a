package apitype

import (
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

// Make says what kind of certificate to make.
type Make struct {
	Subject string   `json:"subject" required:"false" maxLength:"200" doc:"Common name"`
	Names   []string `json:"names,omitempty" required:"false" maxItems:"50" doc:"DNS names and addresses"`
	Days    int      `json:"days,omitempty" required:"false" minimum:"0" maximum:"36500" doc:"How long it is valid; 0 takes what is usual"`
	Key     string   `json:"key,omitempty" required:"false" doc:"p256 (usual) or rsa2048"`
}

// AuthorityInput makes an authority of our own, or imports one.
type AuthorityInput struct {
	Name        string `json:"name" required:"false" maxLength:"200"`
	Note        string `json:"note" required:"false" maxLength:"4000"`
	Make        *Make  `json:"make,omitempty" required:"false" doc:"Make a new one"`
	Certificate string `json:"certificate,omitempty" required:"false" maxLength:"262144" doc:"Import: PEM"`
	Key         string `json:"key,omitempty" required:"false" maxLength:"65536" doc:"Import: private key, PEM"`
}

// Authority is an authority of our own.
type Authority struct {
	Meta
	Name   string              `json:"name"`
	Note   string              `json:"note"`
	Info   results.Certificate `json:"info"`
	PEM    string              `json:"pem"`
	Issued int                 `json:"issued" doc:"Certificates it issued here"`
	Days   int                 `json:"days" doc:"Whole days until it expires; negative if it has"`
}

// CertificateInput makes a server certificate with an authority of our own, makes a signing request, takes the answer
// to one, or imports. Without any of these only name and note change.
type CertificateInput struct {
	Name      string `json:"name" required:"false" maxLength:"200"`
	Note      string `json:"note" required:"false" maxLength:"4000"`
	Make      *Make  `json:"make,omitempty" required:"false" doc:"Make a new key, and a certificate by the authority, or else a signing request"`
	Authority string `json:"authority,omitempty" required:"false" maxLength:"200" doc:"With make: the authority of our own that signs it; empty makes a signing request"`
	Chain     string `json:"chain,omitempty" required:"false" maxLength:"262144" doc:"Import, or the answer to the signing request: PEM"`
	Key       string `json:"key,omitempty" required:"false" maxLength:"65536" doc:"Import: private key, PEM; empty for the key that is here already"`
	PKCS12    []byte `json:"pkcs12,omitempty" required:"false" maxLength:"400000" doc:"Import: PKCS #12 file"`
	Password  string `json:"password,omitempty" required:"false" maxLength:"1024" doc:"Import: password of the PKCS #12 file"`
}

// ServerCertificate is a server certificate.
type ServerCertificate struct {
	Meta
	Name    string                `json:"name"`
	Note    string                `json:"note"`
	Chain   []results.Certificate `json:"chain" doc:"The certificate, then what lies between it and its authority"`
	PEM     string                `json:"pem"`
	Request string                `json:"request,omitempty" doc:"Signing request that waits for its answer, PEM"`
	UsedBy  []string              `json:"usedBy" doc:"Lanes that show it"`
	Days    int                   `json:"days" doc:"Whole days until it expires; negative if it has"`
}

// TrustFields are what can be edited of a trust list.
type TrustFields struct {
	Name        string   `json:"name" required:"false" maxLength:"200"`
	Authorities []string `json:"authorities" required:"false" doc:"Authorities of our own, by name"`
	PEM         string   `json:"pem" required:"false" maxLength:"262144" doc:"Other authorities, PEM"`
	Identity    []string `json:"identity" required:"false" doc:"Where the name is read from, in order: upn, dns, email, uri, subject"`
	CRLs        []string `json:"crls" required:"false" doc:"Addresses or files of revocation lists"`
	Listed      bool     `json:"listed,omitempty" required:"false" doc:"Also the lists that certificates name"`
	OCSP        string   `json:"ocsp" required:"false" maxLength:"500" doc:"Address of a responder"`
	Responder   bool     `json:"responder,omitempty" required:"false" doc:"Also the responder that a certificate names"`
	Unanswered  string   `json:"unanswered" required:"false" enum:"refuse,take" default:"refuse" doc:"What happens if nobody can say whether a certificate is revoked"`
	Note        string   `json:"note" required:"false" maxLength:"4000"`
}

// Trust is a trust list.
type Trust struct {
	Meta
	TrustFields
	Infos  []results.Certificate `json:"infos" doc:"All its authorities"`
	UsedBy []string              `json:"usedBy" doc:"Lanes that use it"`
}

// IssueInput issues a client certificate.
type IssueInput struct {
	Make
	UPN      string `json:"upn,omitempty" required:"false" maxLength:"253" doc:"User principal name"`
	Email    string `json:"email,omitempty" required:"false" maxLength:"253"`
	Password string `json:"password,omitempty" required:"false" maxLength:"200" doc:"Password of the PKCS #12 file; one is made if it is empty"`
	Legacy   bool   `json:"legacy,omitempty" required:"false" doc:"PKCS #12 with old ciphers, for devices that know no others"`
}

// IssuedCertificate is a certificate that an authority of ours issued.
type IssuedCertificate struct {
	ID        string     `json:"id"`
	Authority string     `json:"authority"`
	Subject   string     `json:"subject"`
	Serial    string     `json:"serial"`
	Purpose   string     `json:"purpose"`
	Until     time.Time  `json:"until"`
	IssuedAt  time.Time  `json:"issuedAt"`
	IssuedBy  string     `json:"issuedBy"`
	RevokedAt *time.Time `json:"revokedAt,omitempty"`
	PEM       string     `json:"pem"`
}

// NewlyIssued is the answer to issuing; the key is shown only here.
type NewlyIssued struct {
	Certificate IssuedCertificate `json:"certificate"`
	Key         string            `json:"key"`
	Chain       string            `json:"chain" doc:"The certificate and its authority, PEM"`
	PKCS12      []byte            `json:"pkcs12"`
	Password    string            `json:"password" doc:"Password of the PKCS #12 file"`
}

// SupplicantText is what to type or install on a device.
type SupplicantText struct {
	Text  string                `json:"text" doc:"For reading"`
	Files map[string]string     `json:"files" doc:"Configuration files by the name of the supplicant's format"`
	CA    []results.Certificate `json:"ca"`
}

// DeviceFields are what can be edited of a known device.
type DeviceFields struct {
	Match   string            `json:"match" required:"false" maxLength:"100" doc:"MAC address in any form, or its beginning and *" example:"02-00-5E-10-7A-31"`
	Name    string            `json:"name" required:"false" maxLength:"400"`
	Owner   string            `json:"owner" required:"false" maxLength:"400"`
	Tags    map[string]string `json:"tags" required:"false"`
	Note    string            `json:"note" required:"false" maxLength:"400"`
	Enabled bool              `json:"enabled"`
	Expires *time.Time        `json:"expires,omitempty" required:"false"`
}

// Device is a known device.
type Device struct {
	ID        string    `json:"id"`
	Tag       string    `json:"tag" doc:"Entity tag for If-Match"`
	ChangedAt time.Time `json:"changedAt"`
	ChangedBy string    `json:"changedBy"`
	DeviceFields
}

// Sheet is a CSV file of devices or accounts.
type Sheet struct {
	CSV     string `json:"csv" maxLength:"67108864"`
	Check   bool   `json:"check,omitempty" required:"false" doc:"Only report what would happen"`
	Partial bool   `json:"partial,omitempty" required:"false" doc:"Store the good lines even if others are wrong"`
}

// SheetReport is what became of an import.
type SheetReport = results.Import

// Hashing tells how many passwords of an import are still to be hashed.
type Hashing struct {
	Left int `json:"left" doc:"Accounts whose password is kept sealed until it has been hashed; they can sign in"`
}

// UnknownDevice is an address that was refused lately because it is not known.
type UnknownDevice struct {
	MAC    string    `json:"mac"`
	Client string    `json:"client"`
	Place  string    `json:"place"`
	First  time.Time `json:"first"`
	Last   time.Time `json:"last"`
	Count  int       `json:"count"`
}

// Method is one way to prove an identity.
type Method = config.Method
