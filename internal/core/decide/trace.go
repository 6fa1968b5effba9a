package decide

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/core/rule"
)

// Explain decides like Decide and says in words why: the reason with its sentence and remedy.
func (p *Plan) Explain(f *facts.Facts) (why reason.Code, sentence, remedy string) {
	f = p.own(f)
	d := p.decide(f)
	sentence, remedy = p.explain(f, &d)
	return d.Reason, sentence, remedy
}

func (p *Plan) explain(f *facts.Facts, d *Decision) (sentence, remedy string) {
	sentence, remedy = reason.Explain(d.Reason, p.Values(f, d))
	if d.Reason != reason.OK {
		return sentence, remedy
	}
	if d.Lane != nil && len(d.Lane.Forward) > 0 {
		sentence = "Admitted by remote server " + f.Forwarded.Server
	}
	if asked := d.gearSentence(f); asked != "" {
		sentence = asked
	}
	return sentence, remedy
}

// Trace decides like Decide and keeps everything it looked at.
func (p *Plan) Trace(f *facts.Facts) results.Trace {
	f = p.own(f)
	d := p.decide(f)
	t := results.Trace{Verdict: d.Verdict, Reason: d.Reason, Lanes: []results.Row{}, Policies: []results.Row{},
		Reply: []results.Text{}}
	t.Sentence, t.Remedy = p.explain(f, &d)
	if d.Reason == reason.OK && d.Lane != nil && len(d.Lane.Forward) > 0 {
		t.VLAN = f.Forwarded.VLAN()
		for _, a := range f.Forwarded.Reply {
			t.Reply = append(t.Reply, results.Text{Name: a.Name, Value: a.Value})
		}
	}
	p.traceLanes(f, &d, &t)
	tracePolicies(f, &d, &t)
	if d.Pass != nil && d.Verdict == results.Admitted {
		if t.Reply = d.replyOf(f); f.Gear == nil {
			t.VLAN = d.Pass.VLANFor(f)
		}
	}
	t.Stations = p.stations(f, &d)
	return t
}

func (p *Plan) traceLanes(f *facts.Facts, d *Decision, t *results.Trace) {
	if d.Reason == reason.NameMissing || d.Reason == reason.NameInvalid {
		return
	}
	for _, lane := range p.Lanes {
		t.Lanes = append(t.Lanes, results.Row{Number: lane.Number, Name: lane.Name, Wanted: lane.when.String(),
			Fits: lane == d.Lane, Compared: lane.when.Explain(f)})
		if lane == d.Lane {
			return
		}
	}
}

// atPolicies reports whether the attempt came as far as the policies.
func (d *Decision) atPolicies() bool {
	station := reason.Lookup(d.Reason).Station
	return station == reason.Policy || station == reason.Pass
}

func tracePolicies(f *facts.Facts, d *Decision, t *results.Trace) {
	if d.Lane == nil || len(d.Lane.Forward) > 0 || !d.atPolicies() {
		return
	}
	for _, policy := range d.Lane.Policies {
		row := results.Row{Number: policy.Number, Name: policy.Name, Wanted: policy.wanted(), Fits: policy == d.Policy,
			Compared: policy.when.Explain(f)}
		row.Skipped = policy.rests(f)
		if len(policy.Groups) > 0 {
			found := ""
			if d.Policy == policy && d.Row >= 0 {
				found = policy.Groups[d.Row].Group
			} else if f.Person != nil {
				found = strings.Join(f.Person.Groups, ", ")
			}
			_, fits := policy.fits(f)
			row.Compared = append(row.Compared, results.Compared{Wanted: policy.table(), Found: found, Fits: fits})
			if policy.when.String() == "always" {
				row.Compared = row.Compared[len(row.Compared)-1:]
			}
		}
		t.Policies = append(t.Policies, row)
		if policy == d.Policy {
			return
		}
	}
}

// wanted writes what would have been needed to fit any policy of the lane.
func (l *Lane) wanted() string {
	var list []string
	for _, policy := range l.Policies {
		if policy.Enabled && policy.Outcome == config.Admit && len(list) < 20 {
			list = append(list, policy.wanted())
		}
	}
	if len(list) == 0 {
		return "a policy that admits; the lane has none"
	}
	return strings.Join(list, "; or ")
}

// wanted writes what a policy asks for in one line.
func (p *Policy) wanted() string {
	text := p.when.String()
	if len(p.Groups) == 0 {
		return text
	}
	if text == "always" {
		return p.table()
	}
	return text + " and " + p.table()
}

// table writes the groups of a short group table, or the size of a long one.
func (p *Policy) table() string {
	if len(p.Groups) > 8 {
		return fmt.Sprintf("group table, %d rows", len(p.Groups))
	}
	names := make([]string, len(p.Groups))
	for i, row := range p.Groups {
		names[i] = rule.Quote(row.Group)
	}
	return "group in " + strings.Join(names, ", ")
}

// Values are the placeholders of the reason's sentence and remedy.
func (p *Plan) Values(f *facts.Facts, d *Decision) map[string]string {
	v := map[string]string{
		"client": f.Client, "service": f.Service, "portType": f.PortType, "sent": f.Name(), "name": d.Name,
		"method": config.Title(f.Method), "forms": p.forms(d), "detail": f.CredentialDetail, "person": d.Name,
	}
	if d.Lane != nil {
		v["lane"], v["methods"] = d.Lane.Name, titleList(d.Lane.Methods)
	}
	if d.Lane != nil && len(d.Lane.Forward) > 0 {
		v["remote"] = strings.Join(d.Lane.Forward, " or ")
		if f.Forwarded != nil {
			v["remote"], v["detail"] = f.Forwarded.Server, f.Forwarded.Detail
		}
	}
	if d.Realm != nil {
		v["realm"] = d.Realm.Name
	}
	if d.Policy != nil {
		v["policy"] = d.Policy.Name
	}
	if d.Pass != nil {
		v["pass"], v["pool"] = d.Pass.Name, d.Pass.Pool
		v["open"], v["most"] = strconv.Itoa(d.Pass.Taken(f)), strconv.Itoa(d.Pass.MaxSessions)
		if _, err := d.Pass.Reply.For(f); err != nil && f.Gear == nil {
			v["detail"] = err.Error()
		}
	}
	gearValues(f, d, v)
	if f.Factor != nil && f.Factor.Outcome == d.Reason {
		v["detail"] = f.Factor.Detail
	}
	var stores []string
	for _, l := range f.Lookups {
		stores = append(stores, l.Store)
		if l.Outcome == d.Reason {
			v["store"], v["detail"] = l.Store, l.Detail
		}
	}
	v["stores"] = strings.Join(stores, " or ")
	if p := f.Subject(); p != nil {
		v["store"], v["person"] = p.Store, p.Label()
		v["usable"] = config.KeepsHash.Usable()
		v["membership"] = membership(p, d.Lane)
	}
	return v
}

// membership says how the person's groups relate to those the lane asks about.
func membership(person *facts.Person, lane *Lane) string {
	if lane == nil {
		return ""
	}
	var asked []string
	for _, policy := range lane.Policies {
		for _, row := range policy.Groups {
			asked = append(asked, row.Group)
		}
		asked = append(asked, policy.when.Uses()["group"]...)
	}
	switch {
	case len(asked) == 0:
		return "no policy here matches anything in this attempt"
	case len(person.Groups) == 0:
		return "is in no group at all"
	case !slices.ContainsFunc(asked, person.InGroup):
		return "is in none of the groups that this lane asks for"
	}
	return "the other conditions do not match"
}
