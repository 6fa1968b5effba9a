// Package proof separates who somebody claims to be from who has been proven. A Claim is made when a credential names
// somebody; a Proof exists only once the credential was found right and the method came to its end. Facts about a
// person or computer that decisions may use come from proofs alone, so what was not finished admits nobody.
package proof

import (
	"crypto/x509"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// Subject is who a method is asked to prove.
type Subject int

const (
	// Anybody takes a person or a computer: the client asks for nobody in particular.
	Anybody Subject = iota
	// User takes people only, Machine computers only (RFC 7170 section 4.2.3).
	User
	Machine
)

// Takes reports whether somebody found is of the kind that is asked for.
func (s Subject) Takes(person *facts.Person) bool {
	computer := person.Kind == facts.Computer
	return s == Anybody || computer == (s == Machine)
}

// Claim is whom a credential names. It proves nothing: it becomes a Proof when Right was called and its method ends.
type Claim struct {
	// Inner is the name given inside EAP, "" outside.
	Inner string
	// Person is who was found.
	Person *facts.Person
	// Certificate and Chain are what was shown, nil for other credentials.
	Certificate *facts.Certificate
	Chain       []*x509.Certificate
	// Subject is who was asked for.
	Subject Subject
	// Stamp changes when the secret of the account does, so that TLS sessions made with the old one end.
	Stamp string

	right bool
}

// Right notes that the credential was checked and found right.
func (c *Claim) Right() { c.right = true }

// Proof is a subject whose method came to its end. The zero Proof proves nobody.
type Proof struct {
	claim  *Claim
	method string
}

// Finish ends a method. Only the code that has seen the whole method succeed calls it; the structure test lists where.
// A claim whose credential was not found right, or that names nobody who may sign in, makes no proof.
func (c *Claim) Finish(method string) Proof {
	if c == nil || !c.right || c.Person == nil || c.Person.State != reason.OK || !c.Subject.Takes(c.Person) {
		return Proof{}
	}
	return Proof{c, method}
}

// Finished reports whether the proof proves somebody.
func (p Proof) Finished() bool { return p.claim != nil }

// Claim returns a copy of what was proven; of the zero Proof it is empty.
func (p Proof) Claim() Claim {
	if p.claim == nil {
		return Claim{}
	}
	return *p.claim
}

// Method is the method that made the proof.
func (p Proof) Method() string { return p.method }

// Before tells whom a proof proved, so that they can be looked up again. Unlike the Proof it proves nobody, and may be
// kept, or handed to another node.
type Before struct {
	Method  string  `json:"method"`
	Subject Subject `json:"subject,omitempty"`
	Inner   string  `json:"inner,omitempty"`
	// Store and ID tell the person or computer, Stamp the secret that they had.
	Store string `json:"store"`
	ID    string `json:"id"`
	Stamp string `json:"stamp,omitempty"`
	// Shown tells that a certificate was shown; Chain is it with those that came with it, in DER.
	Shown bool     `json:"shown,omitempty"`
	Chain [][]byte `json:"chain,omitempty"`
}

// Before tells whom the proof proved; of the zero Proof it is empty.
func (p Proof) Before() Before {
	c := p.claim
	if c == nil {
		return Before{}
	}
	out := Before{Method: p.method, Subject: c.Subject, Inner: c.Inner, Store: c.Person.Store, ID: c.Person.ID,
		Stamp: c.Stamp, Shown: c.Certificate != nil}
	for _, certificate := range c.Chain {
		out.Chain = append(out.Chain, certificate.Raw)
	}
	return out
}

// Into makes proofs facts: of one subject, or of a computer and then the person on it. Nothing else makes somebody the
// person or computer of an attempt. Zero proofs are left out; without any the facts stay as they are.
func Into(f *facts.Facts, proofs ...Proof) {
	first := true
	for _, p := range proofs {
		if p.claim == nil {
			continue
		}
		if first { // whatever was shown before and not proven
			f.Certificate, first = nil, false
		}
		if f.Person != nil { // the computer that was proven before
			f.Machine = f.Person
		}
		c := p.claim
		f.Person, f.Claimed, f.Inner = c.Person, nil, c.Inner
		f.Method, f.Credential, f.CredentialDetail = p.method, reason.OK, ""
		if c.Certificate != nil {
			f.Certificate = c.Certificate
		}
	}
}

// Suppose makes somebody the person of facts without a proof, for questions such as what policies would say of a right
// password. Facts that were supposed are never an answer to a device.
func Suppose(f *facts.Facts, person *facts.Person) {
	f.Person, f.Claimed = person, nil
	f.Credential, f.CredentialDetail = reason.OK, ""
}
