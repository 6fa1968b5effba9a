package results

import (
	"time"

	"tollgate.example/key/internal/core/config"
)

// Copy is what one run did, or has done so far.
type Copy struct {
	Directory string     `json:"directory"`
	Started   time.Time  `json:"started"`
	Ended     *time.Time `json:"ended,omitempty" doc:"Missing while it runs"`
	// Below is the subtree that is being read.
	Below   string `json:"below"`
	Read    int    `json:"read" doc:"People read"`
	Missing int    `json:"missing" doc:"Of them, people who lack a wanted attribute"`
	Gone    int    `json:"gone" doc:"People who were there in the run before and are no longer"`
	Problem string `json:"problem,omitempty" doc:"Why it did not end well; nobody is marked as gone then"`
}

// PickedState tells what became of a picked group.
type PickedState struct {
	config.PickedGroup
	// Now is its name in the directory, "" if it is gone.
	Now string `json:"now"`
	DN  string `json:"dn"`
}

// Candidate is a server that was looked at.
type Candidate struct {
	Host   string `json:"host"`
	From   string `json:"from"`
	Micros int64  `json:"micros"`
	// Ports are those that answered.
	Ports   []int  `json:"ports"`
	Problem string `json:"problem,omitempty"`

	// Port is the one given by DNS or typed, 0 for the usual ones.
	Port int `json:"-"`
}

// Proposal is what discovery found; its settings can be taken as they are.
type Proposal struct {
	Name       string               `json:"name"`
	Kind       config.DirectoryKind `json:"kind"`
	Servers    []string             `json:"servers"`
	TLS        config.TLSMode       `json:"tls"`
	ServerName string               `json:"serverName"`
	BindName   string               `json:"bindName"`
	Base       string               `json:"base"`
	DNS        string               `json:"dns"`
	Source     string               `json:"source"`
	// Trusted tells that the certificate is trusted already, Bound that the service account was let in.
	Trusted bool `json:"trusted"`
	Bound   bool `json:"bound"`
	// Domain is the domain of the directory, "" if it has none.
	Domain       string      `json:"domain"`
	Contexts     []string    `json:"contexts"`
	Candidates   []Candidate `json:"candidates"`
	Certificates []Presented `json:"certificates"`
}

// Group is one group: what identifies it for good, its name, and where it lies.
type Group struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	DN   string `json:"dn"`
}

// Delegation is the least right that somebody needs to make our machine account.
type Delegation struct {
	Container string `json:"container"`
	Account   string `json:"account"`
	SID       string `json:"sid"`
	// ACE is the entry to add to the access control list of the container (MS-DTYP section 2.5.1, SDDL).
	ACE string `json:"ace"`
}

// Membership is a group of a person with the way that leads to it.
type Membership struct {
	Group
	// Counts is the name by which policies see it.
	Counts string `json:"counts"`
	// Through are the groups between the person and this one, the nearest to the person first; empty if direct.
	Through []string `json:"through"`
	// Primary tells that it is the primary group, of which nobody is listed as a member.
	Primary bool `json:"primary,omitempty"`
}

// Entry is one entry of the tree.
type Entry struct {
	DN   string `json:"dn"`
	Name string `json:"name"`
	Kind string `json:"kind" doc:"What it is, in a word"`
	Leaf bool   `json:"leaf" doc:"It has nothing below it"`
}

// Details are the attributes of one entry.
type Details struct {
	DN         string           `json:"dn"`
	Attributes []EntryAttribute `json:"attributes"`
}

// EntryAttribute is one attribute with its values as people read them.
type EntryAttribute struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// Presented is a certificate that a server showed.
type Presented struct {
	Subject  string    `json:"subject"`
	Issuer   string    `json:"issuer"`
	Names    []string  `json:"names"`
	NotAfter time.Time `json:"notAfter"`
	// SHA256 is its fingerprint, as people compare it.
	SHA256 string `json:"sha256"`
	// Authority tells that it may issue others; the server's own certificate changes with each renewal.
	Authority bool   `json:"authority"`
	PEM       string `json:"pem"`
}
