package gate

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/certificate"
	"tollgate.example/key/internal/conversation"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/device"
	"tollgate.example/key/internal/domain"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/netlogon"
)

// prover is a visit whose proof is made in an EAP conversation; it answers what the conversation asks.
type prover struct {
	*Visit
	// machine tells that what is proven now is the computer.
	machine bool
	// client and station are who may go on with the conversation, as they were sent first.
	client, station string
	// machineName is the name by which the computer was proven.
	machineName string
}

// Method notes which method was agreed.
func (p *prover) Method(name string) { p.Facts.Method = name }

// Machine switches between computer and user in TEAP.
func (p *prover) Machine(is bool) { p.machine = is }

// Record is where steps are noted.
func (p *prover) Record() *facts.EAP { return p.Facts.EAP }

// Fail keeps why the proof failed.
func (p *prover) Fail(code reason.Code, detail string) {
	p.Facts.Credential, p.Facts.CredentialDetail = code, detail
}

// find looks up whom a name inside the conversation stands for.
func (p *prover) find(ctx context.Context, name string) reason.Code {
	if p.Facts.Method == facts.MACBypass {
		return p.Find(ctx)
	}
	if !p.machine {
		p.Facts.Inner = name
	}
	realm, store, why := p.snapshot.Plan.Name(p.before.Lane, name)
	p.before.Realm, p.before.Name = realm, store
	if why != reason.OK {
		if p.machine {
			p.Fail(reason.PersonUnknown, "the computer's name "+name+" belongs to no realm")
		}
		return why
	}
	if name == "" {
		p.Fail(reason.NameMissing, "")
		return reason.NameMissing
	}
	why = p.Find(ctx)
	if p.machine && p.Facts.Person != nil && p.Facts.Person.Kind != facts.Computer { // somebody shows his own where the computer's was asked for
		p.Facts.Person = nil
		p.Fail(reason.CertificateNoIdentity, name+" is no computer")
		return reason.CertificateNoIdentity
	}
	if p.machine && p.Facts.Person != nil { // the person comes after it
		p.Facts.Machine, p.Facts.Person, p.machineName = p.Facts.Person, nil, name
	}
	return why
}

func (p *prover) outcome(code reason.Code, detail string, begun time.Time) reason.Code {
	p.Facts.Credential, p.Facts.CredentialDetail = code, detail
	p.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return code
}

// Password checks a clear password from inside a tunnel.
func (p *prover) Password(ctx context.Context, name, clear string) reason.Code {
	if clear == "" {
		p.Facts.Inner = name
		p.Fail(reason.PasswordEmpty, "")
		return reason.PasswordEmpty
	}
	if why := p.find(ctx, name); why != reason.OK {
		return why
	}
	return p.CheckPassword(ctx, clear)
}

// CHAP checks a response of CHAP or EAP-MD5; for a known device the address is the proof.
func (p *prover) CHAP(ctx context.Context, name string, identifier byte, challenge, response []byte) reason.Code {
	if why := p.find(ctx, name); why != reason.OK {
		return why
	}
	return p.CheckCHAP(identifier, challenge, response)
}

// MSCHAP checks a response of either version.
func (p *prover) MSCHAP(ctx context.Context, name string, challenge [8]byte, response [24]byte) (mschap.Hash, reason.Code) {
	if why := p.find(ctx, name); why != reason.OK {
		return mschap.Hash{}, why
	}
	return p.CheckMSCHAP(ctx, challenge, response)
}

// Certificate verifies the chain of the peer against the lane's trust list, and looks up whom it names.
func (p *prover) Certificate(ctx context.Context, state *tls.ConnectionState) reason.Code {
	begun := time.Now()
	trust := p.snapshot.lane(p.before.Lane.Number).trust
	if len(state.PeerCertificates) == 0 || trust == nil {
		p.Fail(reason.CertificateMissing, "")
		return reason.CertificateMissing
	}
	leaf := state.PeerCertificates[0]
	record := certificate.Facts(leaf)
	record.Trust = trust.Name
	p.Facts.Certificate = record
	p.Facts.EAP.Add(time.Since(p.begun), "peer", fmt.Sprintf("certificate %s, issued by %s", record.Subject, record.Issuer))
	verdict := trust.Verify(ctx, state.PeerCertificates, state.OCSPResponse, begun)
	record.Revocation = verdict.Revocation
	name, source := certificate.Identity(leaf, trust.Sources)
	record.Source = source
	if verdict.Code == reason.OK && name == "" {
		verdict.Code, verdict.Detail = reason.CertificateNoIdentity, fmt.Sprintf("it looks at %v of %s", trust.Sources, record.Subject)
	}
	if verdict.Code != reason.OK {
		if !p.machine {
			p.Facts.Inner = name
		}
		return p.outcome(verdict.Code, verdict.Detail, begun)
	}
	p.Facts.Spent.Credential += time.Since(begun).Microseconds()
	if why := p.find(ctx, name); why != reason.OK {
		return why
	}
	return p.outcome(reason.OK, "", begun)
}

// Proven is what a resumed conversation may build on.
func (p *prover) Proven() conversation.Proven {
	out := conversation.Proven{Name: p.Facts.Inner, Method: p.Facts.Method, Certificate: p.Facts.Certificate, Stamp: p.stamp()}
	if p.Facts.Machine != nil {
		out.Machine = p.machineName
	}
	return out
}

// stamp changes when a local account's password does, so that old sessions end.
func (p *prover) stamp() string {
	if p.Facts.Person != nil && p.Facts.Person.Store == config.LocalStore {
		return p.gate.Accounts.Stamp(p.Facts.Person.Name)
	}
	return ""
}

// Holds tells whether a local account is still as it was: after a change of its password everything is proven anew.
func (p *prover) Holds(before conversation.Proven) bool {
	if before.Stamp == "" {
		return true
	}
	_, name, why := p.snapshot.Plan.Name(p.before.Lane, before.Name)
	return why == reason.OK && p.gate.Accounts.Stamp(name) == before.Stamp
}

// Resume looks up again who was proven before.
func (p *prover) Resume(ctx context.Context, before conversation.Proven) reason.Code {
	p.Facts.Method, p.Facts.Certificate = before.Method, before.Certificate
	if before.Machine != "" {
		p.machine = true
		why := p.find(ctx, before.Machine)
		p.machine = false
		if why != reason.OK {
			return why
		}
	}
	if before.Name != "" {
		if why := p.find(ctx, before.Name); why != reason.OK {
			return why
		}
	}
	p.Facts.Credential = reason.OK
	return reason.OK
}

// Settle decides by policy, so that success and failure can be said under protection.
func (p *prover) Settle() bool {
	if p.Facts.Person == nil && p.Facts.Machine != nil { // nobody signed in on the computer: it stands for itself
		p.Facts.Person, p.Facts.Machine = p.Facts.Machine, nil
		p.Facts.Inner = p.machineName
	}
	return p.snapshot.Plan.Decide(&p.Facts).Verdict == decide.Admitted
}

// CheckCHAP checks a response of CHAP or EAP-MD5.
func (v *Visit) CheckCHAP(identifier byte, challenge, response []byte) reason.Code {
	begun := time.Now()
	code, detail := reason.OK, ""
	switch person := v.Facts.Person; {
	case v.Facts.Method == facts.MACBypass: // the client vouches for the address; the response proves nothing more
	case person.Store == config.LocalStore:
		code, detail = v.gate.Accounts.CheckCHAP(person.Name, identifier, challenge, response)
	default:
		code, detail = reason.MethodUnusable, noHashes
	}
	v.Facts.Credential, v.Facts.CredentialDetail = code, detail
	v.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return code
}

const noHashes = "a directory hands out no hashes, and we are no member of its domain"

// CheckMSCHAP checks a response of MS-CHAP: here for a local account, by its domain for somebody of a directory. The
// hash is that of the NT hash.
func (v *Visit) CheckMSCHAP(ctx context.Context, challenge [8]byte, response [24]byte) (mschap.Hash, reason.Code) {
	begun := time.Now()
	var again mschap.Hash
	code, detail := reason.MethodUnusable, noHashes
	person := v.Facts.Person
	if open := v.snapshot.directories[strings.ToLower(person.Store)]; open != nil && open.member != nil {
		code, detail = v.guarded(ctx, open.Directory, person, func() (why reason.Code, said string) {
			again, why, said = askDomain(ctx, open.member, person, challenge, response)
			return why, said
		})
	} else if person.Store == config.LocalStore {
		again, code, detail = v.gate.Accounts.CheckMSCHAP(person.Name, challenge, response)
	}
	v.Facts.Credential, v.Facts.CredentialDetail = code, detail
	v.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return again, code
}

// askDomain has a domain controller check a response, and puts its answer into a reason.
func askDomain(ctx context.Context, member *domain.Member, person *facts.Person, challenge [8]byte, response [24]byte) (mschap.Hash, reason.Code, string) {
	again, status, err := member.Check(ctx, person.Domain, person.Name, person.Kind == facts.Computer, challenge, response)
	var refused netlogon.Status
	switch {
	case errors.As(err, &refused):
		return again, reason.DomainRefuses, refused.Error()
	case err != nil:
		return again, reason.DomainUnreachable, err.Error()
	}
	if code, known := statuses[status]; known {
		return again, code, ""
	}
	switch status {
	case netlogon.StatusSkew:
		return again, reason.ClockSkew, status.Error()
	case netlogon.StatusNoLogonServers:
		return again, reason.DomainUnreachable, status.Error()
	}
	return again, reason.DomainRefuses, status.Error()
}

var statuses = map[netlogon.Status]reason.Code{
	netlogon.StatusOK: reason.OK, netlogon.StatusNoUser: reason.PersonUnknown, netlogon.StatusWrongPassword: reason.PasswordWrong, netlogon.StatusLogonFailure: reason.PasswordWrong,
	netlogon.StatusDisabled: reason.PersonDisabled, netlogon.StatusAccountExpired: reason.PersonExpired, netlogon.StatusExpired: reason.PasswordExpired, netlogon.StatusMustChange: reason.PasswordMustChange,
	netlogon.StatusLocked: reason.PersonLocked, netlogon.StatusHours: reason.PersonHours, netlogon.StatusWorkstation: reason.PersonStation,
}

// findDevice is Find for MAC bypass.
func (v *Visit) findDevice() reason.Code {
	begun := time.Now()
	defer func() { v.Facts.Spent.Directory = time.Since(begun).Microseconds() }()
	if v.Facts.Credential == reason.DeviceMismatch {
		return reason.DeviceMismatch
	}
	if v.Facts.Device == nil {
		v.Facts.Lookups = append(v.Facts.Lookups, facts.Lookup{Store: config.DeviceStore, Outcome: reason.DeviceUnknown})
		v.gate.Devices.Refused(v.Facts.MAC, v.Facts.Client, v.Facts.Where(), v.Facts.At)
		return reason.DeviceUnknown
	}
	v.Facts.Lookups = append(v.Facts.Lookups, facts.Lookup{Store: config.DeviceStore, Outcome: reason.OK})
	v.Facts.Person = device.Person(v.Facts.Device, v.Facts.MAC)
	return v.Facts.Person.State
}
