package decide

import (
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/kind"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/core/rule"
)

// Decision is the outcome and the parts of the plan that led to it; those not reached are nil.
type Decision struct {
	Verdict results.Verdict
	Reason  reason.Code
	Lane    *Lane
	Realm   *Realm
	// Name is the name handed to the stores.
	Name   string
	Policy *Policy
	// Row is the row of the group table that fitted, -1 if none did.
	Row int
	// Override is what gave the pass in place of the policy, nil for none.
	Override *Override
	Pass     *Pass
	// Commands is the command list that was asked, nil for none; CommandLine the line that decided, -1 for its
	// fallback.
	Commands    *Commands
	CommandLine int
}

// Lane returns the first lane that fits the request, nil if none does.
func (p *Plan) Lane(f *facts.Facts) *Lane {
	at := p.lanes.first(f, func(i int) bool { return p.Lanes[i].when.Fits(f) })
	if at < 0 {
		return nil
	}
	return p.Lanes[at]
}

// Name finds the realm of a name as sent and rewrites it for the stores. The reason is OK, or why it has no realm.
func (p *Plan) Name(lane *Lane, sent string) (*Realm, string, reason.Code) {
	form, name := SplitName(sent)
	realm := p.realms[form]
	if lane.Realm != "" {
		wanted := p.Realm(lane.Realm)
		if realm != wanted {
			return wanted, "", reason.RealmOther
		}
	}
	if realm == nil {
		return nil, "", reason.RealmNone
	}
	if realm.Rewrite != "{name}" {
		name = strings.NewReplacer("{name}", name, "{sent}", sent).Replace(realm.Rewrite)
	}
	return realm, name, reason.OK
}

// SplitName recognises PREFIX\name, name@suffix (RFC 7542) and bare names. The form comes out as configured ones are
// normalised: suffixes in lower case, prefixes in upper case.
func SplitName(sent string) (config.Form, string) {
	form, name, realm := facts.SplitName(sent)
	switch {
	case form == "prefix":
		return config.Form{Kind: config.Prefix, Value: strings.ToUpper(realm)}, name
	case form == "suffix" || form == "host" && len(name) < len(sent):
		return config.Form{Kind: config.Suffix, Value: strings.ToLower(realm)}, name
	}
	return config.Form{Kind: config.Bare}, sent
}

// Decide walks the road with the facts. It does not allocate for names that need no rewriting.
func (p *Plan) Decide(f *facts.Facts) Decision { return p.decide(p.own(f)) }

// decide is Decide with the groups that count.
func (p *Plan) decide(f *facts.Facts) Decision {
	d := Decision{Verdict: results.Refused, Row: -1}
	d.Reason = p.walk(f, &d)
	if d.Reason == reason.OK {
		d.Verdict = results.Admitted
	}
	return d
}

// Kinds are the rules by which devices are taken for something.
func (p *Plan) Kinds() *kind.Rules { return p.kinds }

// Before decides everything that can be decided before anybody is looked up. The reason is OK if the attempt may go
// on to the stores of the realm.
func (p *Plan) Before(f *facts.Facts, d *Decision) reason.Code {
	if f.Sent == "" {
		return reason.NameMissing
	}
	if strings.ToValidUTF8(f.Sent, "") != f.Sent || strings.ContainsRune(f.Sent, 0) {
		return reason.NameInvalid
	}
	f.Kind = p.kinds.Of(f.MAC, f.Traits)
	if d.Lane = p.Lane(f); d.Lane == nil {
		return reason.LaneNone
	}
	if len(d.Lane.Forward) > 0 {
		d.Name = f.Sent
		return reason.OK
	}
	if f.Method == "" && !f.Vouched() {
		return reason.MethodMissing
	}
	if f.Method != "" && !d.Lane.Allows(f.Method) {
		return reason.MethodNotAllowed
	}
	if f.Method == facts.MACBypass {
		d.Name = f.MAC
		return reason.OK
	}
	if f.EAP != nil && f.Inner == "" {
		d.Name = f.Sent // who it is shows only inside
		return reason.OK
	}
	realm, name, why := p.Name(d.Lane, f.Name())
	d.Realm, d.Name = realm, name
	return why
}

func (p *Plan) walk(f *facts.Facts, d *Decision) reason.Code {
	if why := p.Before(f, d); why != reason.OK {
		return why
	}
	if len(d.Lane.Forward) > 0 {
		return forwarded(f)
	}
	if p := f.Claimed; f.Person == nil && p != nil { // somebody was found, and nobody proven
		switch {
		case p.State != reason.OK:
			return p.State
		case f.Credential != "" && f.Credential != reason.OK:
			return f.Credential
		}
		return reason.ProofUnfinished
	}
	if f.Person == nil {
		if f.Credential != "" && f.Credential != reason.OK {
			return f.Credential // noticed before anybody was looked up
		}
		if f.Method == facts.MACBypass {
			return reason.DeviceUnknown
		}
		if d.Realm == nil {
			return reason.EAPAbandoned
		}
		return Lookup(f, d.Realm)
	}
	if f.Person.State != reason.OK {
		return f.Person.State
	}
	if f.Credential != reason.OK {
		if f.Credential == "" {
			return reason.PasswordWrong
		}
		return f.Credential
	}
	if why := d.Lane.factor(f); why != reason.OK {
		return why
	}
	return p.policies(f, d)
}

// forwarded is what a remote server decided.
func forwarded(f *facts.Facts) reason.Code {
	switch {
	case f.Gear != nil:
		return reason.RemoteRADIUSOnly
	case f.Forwarded == nil:
		return reason.RemoteUnknown
	case f.Forwarded.Answer == "accept":
		return reason.OK
	case f.Forwarded.Answer == "reject":
		return reason.RemoteRefused
	}
	return reason.RemoteUnreachable
}

// Lookup says why nobody was found: the first store that could not be asked and must not be passed over, or else
// that nobody is known.
func Lookup(f *facts.Facts, realm *Realm) reason.Code {
	why := reason.PersonUnknown
	for i := range f.Lookups {
		switch out := f.Lookups[i].Outcome; out {
		case reason.OK, reason.PersonUnknown:
		case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed:
			if why == reason.PersonUnknown || !passesOver(realm, f.Lookups[i].Store) {
				why = out
			}
		default:
			return out
		}
	}
	return why
}

func passesOver(realm *Realm, store string) bool {
	for i := range realm.Lookup {
		if strings.EqualFold(realm.Lookup[i].Store, store) {
			return realm.Lookup[i].Unreachable == config.Next
		}
	}
	return false
}

func (p *Plan) policies(f *facts.Facts, d *Decision) reason.Code {
	lane := d.Lane
	at := lane.policies.first(f, func(i int) bool { _, fits := lane.Policies[i].fits(f); return fits })
	if at < 0 {
		return reason.PolicyNone
	}
	policy := lane.Policies[at]
	row, _ := policy.fits(f)
	d.Policy, d.Row = policy, row
	if policy.Outcome == config.Refusal {
		return reason.PolicyRefused
	}
	d.Pass = policy.pass
	if row >= 0 {
		d.Pass = policy.rows[row]
	}
	if d.Override = p.override(f, lane); d.Override != nil {
		d.Pass = d.Override.pass
	}
	if pass := lane.instead(f); pass != nil {
		d.Pass, d.Override = pass, nil
	}
	if f.Gear != nil {
		return p.gear(f, d)
	}
	if n := d.Pass.Taken(f); d.Pass.MaxSessions > 0 && n >= d.Pass.MaxSessions && d.Pass.AtLimit != config.EndOldest {
		return reason.SessionsLimit
	}
	if l := f.Lease; d.Pass.Pool != "" && l != nil && strings.EqualFold(l.Pool, d.Pass.Pool) && !l.Address.IsValid() {
		return reason.PoolExhausted
	}
	if d.Pass.Reply.Dynamic() {
		if _, err := d.Pass.Reply.For(f); err != nil {
			return reason.PassValueMissing
		}
	}
	return reason.OK
}

// override returns the override of the person there, nil for none.
func (p *Plan) override(f *facts.Facts, lane *Lane) *Override {
	if len(p.overrides) == 0 {
		return nil
	}
	var space [128]byte
	for _, o := range p.overrides[string(rule.Fold(space[:0], f.Person.Name))] {
		if (o.Store == "" || strings.EqualFold(o.Store, f.Person.Store)) && (o.Lane == "" || strings.EqualFold(o.Lane,
			lane.Name)) && (o.Until.IsZero() || f.At.Before(o.Until)) {
			return o
		}
	}
	return nil
}

// fits reports whether the policy takes this attempt, and by which row of its group table (-1 without a table).
func (p *Policy) fits(f *facts.Facts) (row int, ok bool) {
	if p.rests(f) != "" || !p.when.Fits(f) {
		return -1, false
	}
	if len(p.Groups) == 0 {
		return -1, true
	}
	row = p.row(f.Person)
	return row, row >= 0
}

// rests says why a policy does not count for an attempt, whatever its condition; "" if it does.
func (p *Policy) rests(f *facts.Facts) string {
	switch {
	case !p.Enabled:
		return "switched off"
	case !p.From.IsZero() && f.At.Before(p.From):
		return "not before its first day"
	case !p.Until.IsZero() && !f.At.Before(p.Until):
		return "its last day is over"
	}
	return ""
}

// row is the first row of the group table that takes a person, -1 if none does.
func (p *Policy) row(person *facts.Person) int {
	if person == nil {
		return -1
	}
	best := 0
	var space [128]byte
	for _, group := range person.Groups {
		if at := p.byGroup[string(rule.Fold(space[:0], group))]; at > 0 && (best == 0 || at < best) {
			best = at
		}
	}
	return best - 1
}
