package gate

import (
	"hash/maphash"
	"log/slog"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
)

// Leave decides, records the attempt and returns the answer. Whoever is to be admitted needs a finished proof; without
// one, the facts hold no person, and every policy refuses.
func (v *Visit) Leave(proofs ...proof.Proof) Answer {
	begun := time.Now()
	proof.Into(&v.Facts, proofs...)
	defer v.alone()()
	d := v.decide()
	now := time.Now()
	v.Facts.Spent.Policy = now.Sub(begun).Microseconds()
	if err := v.enterJournal(&d); err != nil { // no record, no answer
		return Answer{Verdict: results.Refused, Err: err, Discard: true}
	}
	var class []byte
	if d.Verdict == results.Admitted && v.Facts.Gear == nil && v.Facts.Tried == "" &&
		v.gate.Sessions != nil {
		class, v.class = session.NewClass()
	}
	v.record(&d, now.Sub(v.begun))
	if d.Verdict == results.Admitted {
		out := v.admit(&d)
		out.Class = class
		v.makeRoom(&d)
		return out
	}
	out := v.refuse(&d)
	out.Discard = v.silent(d.Reason)
	return out
}

// alone has the sign-ins of one person decided one after the other where sessions are counted: each counts what those
// before were given. Nothing waits for a disk meanwhile.
func (v *Visit) alone() (done func()) {
	if !v.snapshot.Plan.CountsSessions || v.Facts.Person == nil || v.Facts.Gear != nil {
		return func() {}
	}
	lock := &v.gate.counting[maphash.String(countingSeed, strings.ToLower(v.Facts.Person.Name))%uint64(
		len(v.gate.counting))]
	lock.Lock()
	return lock.Unlock
}

var countingSeed = maphash.MakeSeed()

// makeRoom has the oldest sessions of a person ended who has one more now than the pass allows.
func (v *Visit) makeRoom(d *decide.Decision) {
	p := d.Pass
	if p == nil || p.MaxSessions == 0 || p.AtLimit != config.EndOldest || v.class == "" || v.gate.EndSessions == nil {
		return
	}
	if over := p.Taken(&v.Facts) + 1 - p.MaxSessions; over > 0 {
		v.gate.EndSessions(v.gate.Sessions.Oldest(strings.ToLower(d.Name), v.Facts.MAC, p.Name, over),
			"the limit of pass "+p.Name)
	}
}

// silent reports whether a refusal is kept to ourselves: the person's store could not be asked, and the realm wants the
// device to ask its other server then.
func (v *Visit) silent(why reason.Code) bool {
	switch why {
	case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed, reason.DomainUnreachable,
		reason.DomainRefuses:
	default:
		return false
	}
	if v.before.Realm == nil || v.Facts.Gear != nil {
		return false
	}
	for _, step := range v.before.Realm.Lookup {
		if step.Unreachable == config.Silent && (v.Facts.Claimed == nil || v.Facts.Claimed.Store == step.Store) {
			return true
		}
	}
	return false
}

// decide decides by the plan, once more after an address was taken for the pass: the pool may have run out.
func (v *Visit) decide() decide.Decision {
	d := v.snapshot.Plan.Decide(&v.Facts)
	if v.snapshot.Plan.CountsSessions && v.gate.Sessions != nil && d.Name != "" && v.Facts.Gear == nil &&
		v.Facts.Person != nil && v.Facts.Open == nil {
		if v.Facts.Open = v.gate.Sessions.Count(strings.ToLower(d.Name), v.Facts.MAC); v.Facts.Open != nil {
			d = v.snapshot.Plan.Decide(&v.Facts)
		}
	}
	if v.Facts.Person != nil && v.locate() {
		d = v.snapshot.Plan.Decide(&v.Facts)
	}
	if d.Verdict == results.Admitted && d.Pass != nil && d.Pass.Pool != "" && v.Facts.Tried == "" &&
		v.Facts.Gear == nil {
		v.takeAddress(d.Pass)
		d = v.snapshot.Plan.Decide(&v.Facts)
	}
	return d
}

// locate finds out where the person is already, if some condition asks for that and it is not known yet.
func (v *Visit) locate() bool {
	if !v.snapshot.Plan.AsksPresence || v.gate.Present == nil || v.before.Name == "" || v.Facts.Present != nil {
		return false
	}
	v.Facts.Present = v.gate.Present(v.before.Name, v.Facts.From)
	return true
}

// enterJournal puts what concerns the command line of a device into the journal, and waits for the disk.
func (v *Visit) enterJournal(d *decide.Decision) error {
	if !v.Facts.Administers() || v.gate.Journal == nil {
		return nil
	}
	err := v.journal(d)
	if err != nil {
		slog.Error("an answer to a device was not given, since it could not be put into the journal", "client",
			v.Facts.Client, "name", v.Facts.Sent, "error", err)
	}
	return err
}

// admit is the answer of an admission: the attributes of the pass.
func (v *Visit) admit(d *decide.Decision) Answer {
	v.pass = d.Pass
	if p := v.Facts.Person; p != nil && p.Kind == facts.EmergencyAccount && v.Facts.Tried == "" {
		v.noteEmergency()
	}
	out := Answer{Verdict: d.Verdict, Reason: d.Reason, Message: v.reminder(d)}
	if d.Pass != nil && v.Facts.Gear == nil { // nil if a remote server decided
		out.Reply, _ = d.Pass.Reply.For(&v.Facts) // the decision has seen that it can be made
	}
	return out
}

// usualDelay is how long a refusal is held back where no lane says.
const usualDelay = time.Second

// refuse is the answer of a refusal: the delay of the lane, and the message of the policy.
func (v *Visit) refuse(d *decide.Decision) Answer {
	out := Answer{Verdict: d.Verdict, Reason: d.Reason, Delay: usualDelay}
	if d.Lane != nil {
		out.Delay = time.Duration(d.Lane.RejectDelayMillis) * time.Millisecond
	}
	if d.Policy != nil {
		out.Message = d.Policy.Message
	}
	return out
}

// Refuse leaves without admitting anybody. Proofs are of those whom policies refuse, for the record.
func (v *Visit) Refuse(shown ...proof.Proof) Answer {
	f := v.Facts
	proof.Into(&f, shown...)
	if v.snapshot.Plan.Decide(&f).Verdict == results.Refused {
		v.Facts = f
	}
	return v.Leave()
}

// takeAddress takes an address for the session, for as long as it may last.
func (v *Visit) takeAddress(p *decide.Pass) {
	pool := v.snapshot.Pool(p.Pool)
	f := &v.Facts
	f.Lease = &facts.Lease{Pool: pool.Name(), Address: v.gate.Leases.Take(pool, holder(f), f.Person.Label(), f.Client,
		time.Now(), time.Duration(p.SessionTimeout)*time.Second)}
}

// holder tells sessions apart: by the device where its address is known, else by the port that the person is on; "" if
// nothing does.
func holder(f *facts.Facts) string {
	place := f.MAC
	if place == "" {
		if port, ok := f.Attribute("NAS-Port"); ok {
			place = port
		} else if place = f.Port; place == "" {
			return ""
		}
		calling, _ := f.Attribute("Calling-Station-Id")
		place += "\x00" + calling + "\x00" + f.Person.Name
	}
	return f.Client + "\x00" + place
}

func (v *Visit) record(d *decide.Decision, took time.Duration) {
	f := &v.Facts
	facts := f.AppendJSON(make([]byte, 0, 768))
	a := &store.Attempt{At: f.At, Verdict: string(d.Verdict), Reason: string(d.Reason), Client: f.Client,
		Who:  strings.ToLower(d.Name),
		Sent: f.Name(), MAC: f.MAC, Place: f.Where(), Revision: v.snapshot.Revision, Micros: took.Microseconds(),
		Facts: facts, Method: f.Method}
	if a.Who == "" {
		a.Who = strings.ToLower(f.Sent)
	}
	if p := f.Subject(); p != nil {
		a.Display = p.Label()
	}
	if d.Lane != nil {
		a.Lane = d.Lane.Name
	}
	if d.Policy != nil {
		a.Policy, a.PolicyID = d.Policy.Name, d.Policy.ID
		if d.Row >= 0 {
			a.Group = d.Policy.Groups[d.Row].Group
		}
	}
	if f.Forwarded != nil {
		a.VLAN = f.Forwarded.VLAN()
	}
	if d.Pass != nil && d.Verdict == results.Admitted { // a pass that cannot be given is not had
		a.Pass, a.VLAN = d.Pass.Name, d.Pass.VLANFor(f)
	}
	a.Trial = f.Tried != ""
	if a.Class = v.class; a.Class != "" {
		v.gate.Sessions.Gave(session.Given{At: f.At, Client: a.Client, Who: a.Who, Display: a.Display, MAC: a.MAC,
			Lane: a.Lane, Pass: a.Pass, VLAN: a.VLAN, Class: a.Class, Counted: v.snapshot.Plan.CountsSessions})
	}
	v.gate.Attempts.Add(a)
}
