package gate

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/identity/device"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/mschap"
)

// prover is a visit whose proof is made in an EAP conversation; it answers what the conversation asks. What it says of
// a credential is a claim. Each question begins anew: nothing that was said of the credential before is left.
type prover struct {
	*Visit
	// client and station are who may go on with the conversation, as they were sent first.
	client, station string
	// refused are proofs of those whom policies refuse.
	refused []proof.Proof
}

// Method notes which method was agreed.
func (p *prover) Method(name string) { p.Facts.Method = name }

// Record is where steps are noted.
func (p *prover) Record() *facts.EAP { return p.Facts.EAP }

// Fail keeps why the proof failed.
func (p *prover) Fail(code reason.Code, detail string) { p.judged(code, detail) }

// find looks up whom a name inside the conversation stands for.
func (p *prover) find(ctx context.Context, who proof.Subject, name string) reason.Code {
	p.unclaimed()
	p.judged("", "")
	if p.Facts.Method == facts.MACBypass {
		return p.Find(ctx)
	}
	if who != proof.Machine {
		p.Facts.Inner = name
	}
	realm, store, why := p.snapshot.Plan.Name(p.before.Lane, name)
	p.before.Realm, p.before.Name = realm, store
	if why != reason.OK {
		if who == proof.Machine {
			return p.judged(reason.PersonUnknown, "the computer's name "+name+" belongs to no realm")
		}
		return why
	}
	if name == "" {
		return p.judged(reason.NameMissing, "")
	}
	if why = p.Find(ctx); p.claim == nil {
		return why
	}
	p.claim.Inner, p.claim.Subject = name, who
	if !who.Takes(p.claim.Person) { // somebody shows his own where the computer's was asked for, or the other way round
		p.unclaimed()
		if who == proof.Machine {
			return p.judged(reason.CertificateNoIdentity, name+" is no computer")
		}
		return p.judged(reason.CertificateNoIdentity, name+" is a computer, and the user was asked for")
	}
	return why
}

// made is the claim of a credential that was found right, nil of any other.
func (p *prover) made(code reason.Code) (*proof.Claim, reason.Code) {
	if code != reason.OK {
		return nil, code
	}
	return p.claim, code
}

// Password checks a clear password from inside a tunnel, and the one-time code behind it where the lane asks for one.
func (p *prover) Password(ctx context.Context, who proof.Subject, name, clear string) (*proof.Claim, reason.Code) {
	p.Facts.Certificate = nil
	if clear == "" {
		p.unclaimed()
		p.Facts.Inner = name
		return p.made(p.judged(reason.PasswordEmpty, ""))
	}
	if why := p.find(ctx, who, name); why != reason.OK {
		return nil, why
	}
	return p.made(p.CheckTyped(ctx, clear))
}

// Asked checks a clear password where the peer can be asked for the one-time code by itself. Whoever got the password
// wrong is asked as well.
func (p *prover) Asked(ctx context.Context, who proof.Subject, name, clear string) (*proof.Claim, string) {
	lane := p.before.Lane
	if who == proof.Machine || lane.Factor.Ask == config.AskAppend || !lane.TakesCode() || clear == "" {
		claim, _ := p.Password(ctx, who, name, clear)
		return claim, ""
	}
	p.Facts.Certificate = nil
	why := p.find(ctx, who, name)
	if s := p.Facts.Subject(); why == reason.OK && s != nil && lane.Factor.Ask != config.AskChallenge && p.asked() {
		if _, code := p.gate.Factors.Split(s.Store, s.Name, clear, p.Facts.At); code != "" {
			claim, _ := p.made(p.CheckTyped(ctx, clear))
			return claim, ""
		}
	}
	if why == reason.OK {
		why = p.CheckPassword(ctx, clear)
	}
	claim, why := p.made(why)
	if unreachable(why) || !p.asked() || why == reason.OK && !p.NeedsFactor() {
		return claim, ""
	}
	return claim, insideQuestion(lane)
}

// insideQuestion is what the person reads inside EAP, where no number can be shown.
func insideQuestion(lane *decide.Lane) string {
	switch text := lane.Factor.Text; {
	case text != "" && !strings.Contains(text, config.NumberPlace):
		return text
	case lane.TakesApproval():
		return "One-time code, or nothing to approve on your phone:"
	}
	return usualQuestion
}

// Second takes the one-time code of whoever gave the right password. Nothing leaves it to the phone where the lane
// takes approvals. Devices that keep the password send it once more: that is no code, and uses up no try.
func (p *prover) Second(ctx context.Context, password, typed string) {
	switch {
	case strings.TrimSpace(typed) == "" && p.hasPhone():
	case typed == password:
		p.Facts.Factor = &facts.Factor{Outcome: reason.FactorMissing, Detail: "the device sent the password again"}
	default:
		p.CheckCode(ctx, typed)
	}
}

// CHAP checks a response of CHAP or EAP-MD5; for a known device the address is the proof.
func (p *prover) CHAP(ctx context.Context, who proof.Subject, name string, r server.CHAP) (*proof.Claim, reason.Code) {
	p.Facts.Certificate = nil
	if why := p.find(ctx, who, name); why != reason.OK {
		return nil, why
	}
	return p.made(p.CheckCHAP(ctx, r))
}

// MSCHAP checks a response of either version.
func (p *prover) MSCHAP(ctx context.Context, who proof.Subject, name string, r server.MSCHAP) (*proof.Claim,
	mschap.Hash, reason.Code) {
	p.Facts.Certificate = nil
	if why := p.find(ctx, who, name); why != reason.OK {
		return nil, mschap.Hash{}, why
	}
	again, code := p.CheckMSCHAP(ctx, r)
	claim, code := p.made(code)
	return claim, again, code
}

// Certificate verifies the chain of the peer against the lane's trust list, and looks up whom it names. The peer has
// not shown yet that it holds the key.
func (p *prover) Certificate(ctx context.Context, who proof.Subject, state *tls.ConnectionState) (*proof.Claim,
	reason.Code) {
	begun := time.Now()
	p.unclaimed()
	trust := p.snapshot.Lane(p.before.Lane.Number).Trust
	if len(state.PeerCertificates) == 0 || trust == nil {
		return p.made(p.judged(reason.CertificateMissing, ""))
	}
	record, name, verdict := readCertificate(ctx, trust, state.PeerCertificates, state.OCSPResponse, begun)
	p.Facts.Certificate = record
	p.Facts.EAP.Add(time.Since(p.begun), "peer", fmt.Sprintf("certificate %s, issued by %s", record.Subject,
		record.Issuer))
	p.Facts.Spent.Credential += time.Since(begun).Microseconds()
	if verdict.Code != reason.OK {
		if who != proof.Machine {
			p.Facts.Inner = name
		}
		return p.made(p.judged(verdict.Code, verdict.Detail))
	}
	if why := p.find(ctx, who, name); why != reason.OK {
		return nil, why
	}
	p.claim.Certificate, p.claim.Chain = record, state.PeerCertificates
	return p.made(p.judged(reason.OK, ""))
}

// readCertificate verifies a chain and reads who it names.
func readCertificate(ctx context.Context, trust *certificate.Trust, chain []*x509.Certificate, staple []byte,
	now time.Time) (*facts.Certificate, string, certificate.Verdict) {
	record := certificate.Facts(chain[0])
	record.Trust = trust.Name
	verdict := trust.Verify(ctx, chain, staple, now)
	record.Revocation = verdict.Revocation
	name, source := certificate.Identity(chain[0], trust.Sources)
	record.Source = source
	if verdict.Code == reason.OK && name == "" {
		verdict.Code, verdict.Detail = reason.CertificateNoIdentity, fmt.Sprintf("it looks at %v of %s", trust.Sources,
			record.Subject)
	}
	return record, name, verdict
}

// Resume looks up again whom a session proved, and looks at their certificates again. It leaves no facts about them:
// the peer has not shown yet that the session is its own.
func (p *prover) Resume(ctx context.Context, before []proof.Before) []*proof.Claim {
	var out []*proof.Claim
	for _, was := range before {
		visit := *p.Visit
		visit.Facts.Lookups = nil
		visit.anew = true
		again := &prover{Visit: &visit}
		again.Facts.Method = was.Method
		var record *facts.Certificate
		var chain []*x509.Certificate
		if was.Shown {
			trust := p.snapshot.Lane(p.before.Lane.Number).Trust
			if chain = parse(was.Chain); trust == nil || len(chain) == 0 {
				return nil
			}
			made, name, verdict := readCertificate(ctx, trust, chain, nil, time.Now())
			if verdict.Code != reason.OK || name != was.Inner {
				return nil
			}
			record = made
		}
		if again.find(ctx, was.Subject, was.Inner) != reason.OK || again.claim.Stamp != was.Stamp ||
			again.claim.Person.Store != was.Store || again.claim.Person.ID != was.ID {
			return nil
		}
		p.Facts.Lookups = append(p.Facts.Lookups, visit.Facts.Lookups...)
		p.Facts.Spent.Directory += visit.Facts.Spent.Directory
		again.claim.Certificate, again.claim.Chain = record, chain
		again.claim.Right()
		out = append(out, again.claim)
	}
	return out
}

// parse reads the certificates of a chain, none if one cannot be read.
func parse(chain [][]byte) (out []*x509.Certificate) {
	for _, der := range chain {
		certificate, err := x509.ParseCertificate(der)
		if err != nil {
			return nil
		}
		out = append(out, certificate)
	}
	return out
}

// stamp changes when the password of an account does, so that TLS sessions made with the old one end.
func (v *Visit) stamp(person *facts.Person) string {
	if person.Store == config.LocalStore {
		return v.gate.Accounts.Stamp(person.Name)
	}
	return person.PasswordSet
}

// Settle decides by policy, so that success and failure can be said under protection.
func (p *prover) Settle(proofs ...proof.Proof) bool {
	f := p.Facts
	proof.Into(&f, proofs...)
	if f.Person != nil {
		p.Facts.Claimed = f.Person // also of a session that is resumed
		if p.supposesApproval() {
			f.Factor = &facts.Factor{Outcome: reason.OK}
		} else {
			f.Factor = p.Facts.Factor
		}
	}
	if f.Person == nil || p.snapshot.Plan.Decide(&f).Verdict != results.Admitted {
		p.refused = proofs
		return false
	}
	return true
}

// CheckCHAP checks a response of CHAP or EAP-MD5.
func (v *Visit) CheckCHAP(ctx context.Context, r server.CHAP) reason.Code {
	begun := time.Now()
	if v.claim == nil {
		return v.judged(reason.ProofUnfinished, "")
	}
	code, detail := reason.OK, ""
	switch person := v.claim.Person; {
	case v.Facts.Method == facts.MACBypass: // the client vouches for the address; the response proves nothing more
	case person.Store == config.LocalStore:
		code, detail = v.braked(ctx, person, func() (reason.Code, string) {
			return v.gate.Accounts.CheckCHAP(person.Name, r.Identifier, r.Challenge, r.Response)
		})
	default:
		code, detail = reason.MethodUnusable, noHashes
	}
	v.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return v.judged(code, detail)
}

const noHashes = "a directory does not hand out password hashes, and this server is not joined to its domain"

// CheckMSCHAP checks a response of MS-CHAP: here for a local account, by its domain for somebody of a directory. The
// hash is that of the NT hash.
func (v *Visit) CheckMSCHAP(ctx context.Context, r server.MSCHAP) (mschap.Hash, reason.Code) {
	begun := time.Now()
	if v.claim == nil {
		return mschap.Hash{}, v.judged(reason.ProofUnfinished, "")
	}
	var again mschap.Hash
	code, detail := reason.MethodUnusable, noHashes
	person := v.claim.Person
	if open := v.snapshot.Directory(person.Store); open != nil && open.Member != nil {
		code, detail = v.guarded(ctx, open.Directory, person, func() (why reason.Code, said string) {
			again, why, said = open.Member.CheckPerson(ctx, person, r.Challenge, r.NT)
			return why, said
		})
	} else if person.Store == config.LocalStore {
		code, detail = v.braked(ctx, person, func() (why reason.Code, said string) {
			again, why, said = v.gate.Accounts.CheckMSCHAP(person.Name, r.Challenge, r.NT)
			return why, said
		})
	}
	v.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return again, v.judged(code, detail)
}

// findDevice is Find for MAC bypass.
func (v *Visit) findDevice() reason.Code {
	begun := time.Now()
	defer func() { v.Facts.Spent.Directory = time.Since(begun).Microseconds() }()
	if v.Facts.Credential == reason.DeviceMismatch {
		return reason.DeviceMismatch
	}
	if v.Facts.Device == nil {
		v.Facts.Lookups = append(v.Facts.Lookups, facts.Lookup{Store: config.DeviceStore,
			Outcome: reason.DeviceUnknown})
		v.gate.Devices.Refused(v.Facts.MAC, v.Facts.Client, v.Facts.Where(), v.Facts.At)
		return reason.DeviceUnknown
	}
	v.Facts.Lookups = append(v.Facts.Lookups, facts.Lookup{Store: config.DeviceStore, Outcome: reason.OK})
	return v.claimed(device.Person(v.Facts.Device, v.Facts.MAC))
}
