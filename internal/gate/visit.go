package gate

import (
	"context"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/mschap"
)

// Visit is one attempt on its way.
type Visit struct {
	gate     *Gate
	snapshot *snapshot.Snapshot
	Facts    facts.Facts
	before   decide.Decision
	begun    time.Time
	// claim is whom the credential under way names, nil for nobody; see package proof.
	claim *proof.Claim
	// anew asks directories for people even where they were asked a moment ago.
	anew bool
	// pass is what was given, nil before Leave and for a refusal.
	pass *decide.Pass
	// class is the Class that was given, as it is recorded; "" for none.
	class string
}

// Answer is the outcome of a visit.
type Answer struct {
	Verdict results.Verdict
	Reason  reason.Code
	// Reply are the attributes of the pass, nil if refused.
	Reply []pass.Attribute
	// Class is what clients send back in accounting, so that the session is joined with the attempt; nil for none.
	Class []byte
	// Message is what a refusing policy wants the person to read.
	Message string
	// Forwarded is the answer of a remote server, nil if we decided.
	Forwarded *upstream.Answer
	// Delay is how long a refusal is to be held back.
	Delay time.Duration

	// Err tells that there is not a verdict, since it could not be put into the journal.
	Err error
	// Discard tells that nothing is to be answered.
	Discard bool
	// Held tells that the answer comes later.
	Held bool
	// Challenge asks for another round; State comes back with it.
	Challenge bool
	State     []byte
	// Wait is how long the device may wait for its person before it sends a challenge again, 0 for as it likes.
	Wait time.Duration
	// EAP is the EAP packet of the answer, MSK the master session key of a success.
	EAP []byte
	MSK []byte
	// MSCHAP is the hash of the NT hash, from which the reply to MS-CHAP outside EAP makes its proof and its keys; nil
	// if no response was checked.
	MSCHAP *mschap.Hash
}

// noHash is that of nobody.
var noHash mschap.Hash

// Arrive begins a visit with the facts of a request: it chooses the lane and the realm. A reason other than OK means
// that the verdict is clear already and the visit should Leave.
func (g *Gate) Arrive(s *snapshot.Snapshot, f facts.Facts, begun time.Time) (*Visit, reason.Code) {
	v := &Visit{gate: g, snapshot: s, Facts: f, begun: begun}
	now := time.Now()
	if f.MAC != "" {
		if d := g.Devices.Find(f.MAC); d != nil {
			v.Facts.Device = d.Facts(f.At)
		}
		v.Facts.MachineSeen = g.Computers.Seen(f.MAC)
		if g.Traits != nil {
			v.Facts.Traits = g.Traits(f.MAC)
		}
	}
	v.Facts.Spent.Client = now.Sub(begun).Microseconds()
	why := s.Plan.Before(&v.Facts, &v.before)
	v.Facts.Spent.Lane = time.Since(now).Microseconds()
	return v, why
}

// claimed notes who was found. Nothing is proven by that.
func (v *Visit) claimed(person *facts.Person) reason.Code {
	v.Facts.Claimed, v.claim = person, &proof.Claim{Person: person, Stamp: v.stamp(person)}
	return person.State
}

// unclaimed forgets whom the last credential was for.
func (v *Visit) unclaimed() { v.Facts.Claimed, v.claim = nil, nil }

// judged notes what a credential came to. Only a right one lets the claim be finished.
func (v *Visit) judged(code reason.Code, detail string) reason.Code {
	v.Facts.Credential, v.Facts.CredentialDetail = code, detail
	if code == reason.OK && v.claim != nil {
		v.claim.Right()
	}
	return code
}

// finish ends a method outside EAP, whose credential came in one piece.
func (v *Visit) finish() proof.Proof { return v.claim.Finish(v.Facts.Method) }

// Find looks the person up in the stores of the realm, in order.
func (v *Visit) Find(ctx context.Context) reason.Code {
	v.unclaimed()
	if v.Facts.Method == facts.MACBypass {
		return v.findDevice()
	}
	if e := v.gate.Accounts.Emergency(v.before.Name, v.Facts.At); e != nil && v.before.Realm != nil {
		return v.findEmergency(ctx, e)
	}
	begun := time.Now()
	defer func() { v.Facts.Spent.Directory += time.Since(begun).Microseconds() }()
	realm := v.before.Realm
	for i := range realm.Lookup {
		step := &realm.Lookup[i]
		at := time.Now()
		person, outcome, detail := v.ask(ctx, step.Store)
		if detail == directory.Remembered && (v.anew || v.refuses(person)) { // perhaps a group was given meanwhile
			v.snapshot.Directory(step.Store).Forget(v.before.Name)
			person, outcome, detail = v.ask(ctx, step.Store)
		}
		v.Facts.Lookups = append(v.Facts.Lookups, facts.Lookup{Store: step.Store, Outcome: outcome, Detail: detail,
			Micros: time.Since(at).Microseconds()})
		switch outcome {
		case reason.OK:
			return v.claimed(person)
		case reason.PersonUnknown:
			continue
		case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed, reason.Busy:
			if step.Unreachable == config.Next {
				continue
			}
		}
		break
	}
	return decide.Lookup(&v.Facts, realm)
}

// refuses reports whether policies would refuse somebody whose proof is right.
func (v *Visit) refuses(person *facts.Person) bool {
	f := v.Facts
	proof.Suppose(&f, person)
	f.Factor = &facts.Factor{Outcome: reason.OK}
	why := v.snapshot.Plan.Decide(&f).Reason
	return why == reason.PolicyNone || why == reason.PolicyRefused
}

func (v *Visit) ask(ctx context.Context, name string) (*facts.Person, reason.Code, string) {
	if strings.EqualFold(name, config.LocalStore) {
		if person := v.gate.Accounts.Person(v.before.Name, v.Facts.At); person != nil {
			return person, reason.OK, ""
		}
		return nil, reason.PersonUnknown, ""
	}
	return v.snapshot.Directory(name).Find(ctx, v.before.Name)
}

// CheckPassword checks a clear password where the person was found.
func (v *Visit) CheckPassword(ctx context.Context, clear string) reason.Code {
	begun := time.Now()
	if v.claim == nil {
		return v.judged(reason.ProofUnfinished, "")
	}
	person := v.claim.Person
	var code reason.Code
	var detail string
	if person.Store == config.DeviceStore {
		code = reason.OK // the client vouches for the address; a password proves nothing more
	} else if person.Store == config.LocalStore && v.gate.Accounts.Recognises(person.Name, clear, v.Facts.At) {
		code = reason.OK
		v.gate.Lockout.Right(config.LocalStore, person.Name)
	} else if person.Store == config.LocalStore {
		code, detail = v.braked(ctx, person, func() (reason.Code, string) {
			return v.gate.Accounts.CheckPassword(ctx, person.Name, clear, v.Facts.At)
		})
	} else {
		d := v.snapshot.Directory(person.Store)
		code, detail = v.guarded(ctx, d.Directory, person, func() (reason.Code, string) {
			return d.CheckPassword(ctx, person.ID, clear)
		})
	}
	v.Facts.Spent.Credential = time.Since(begun).Microseconds()
	return v.judged(code, detail)
}
