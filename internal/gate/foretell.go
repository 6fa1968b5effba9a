package gate

import (
	"context"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/core/command"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/radius"
	"tollgate.example/key/internal/wire/tacacs"
)

// Foretell decides under a plan, which need not be in effect, what an attempt with the right proof would come to. People are
// looked up where they are kept now; nothing is recorded. The error tells that it could not be found out.
func (g *Gate) Foretell(ctx context.Context, plan *decide.Plan, e *config.Expectation, now time.Time) (decide.Decision, *facts.Facts, error) {
	f, err := expected(plan, e, now)
	if err != nil {
		return decide.Decision{}, nil, err
	}
	current := g.Current()
	s := &Snapshot{Plan: plan, Revision: current.Revision, directories: current.directories}
	v, why := g.Arrive(s, *f, now)
	if why == reason.OK && len(v.before.Lane.Forward) == 0 {
		if v.before.Realm != nil {
			for _, step := range v.before.Realm.Lookup {
				if step.Store != config.LocalStore && s.Directory(step.Store) == nil {
					return decide.Decision{}, nil, fmt.Errorf("directory %s is not in effect yet, so nobody can be looked up there", step.Store)
				}
			}
		}
		why = v.Find(ctx)
		person := v.Facts.Claimed
		if code, detail := g.usable(plan, person, e.Method); why == reason.OK && code == reason.OK {
			proof.Suppose(&v.Facts, person)
		} else {
			v.judged(code, detail)
		}
		if p := person; p != nil && v.before.Lane.NeedsCode(&v.Facts) {
			v.Facts.Factor = &facts.Factor{Outcome: reason.FactorNotEnrolled}
			if g.Factors.Enrolled(p.Store, p.Name) {
				v.Facts.Factor.Outcome = reason.OK
			}
		}
	}
	d := plan.Decide(&v.Facts)
	switch d.Reason {
	case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed:
		if e.Reason != string(d.Reason) {
			sentence, _ := reason.Explain(d.Reason, plan.Values(&v.Facts, &d))
			return d, &v.Facts, fmt.Errorf("%s", sentence)
		}
	}
	return d, &v.Facts, nil
}

// usable tells whether a right proof could be checked at all where the person is kept.
func (g *Gate) usable(plan *decide.Plan, person *facts.Person, method string) (reason.Code, string) {
	m := config.FindMethod(method)
	if person == nil || m == nil || person.Store == config.DeviceStore || m.Needs != config.NeedsNTHash && m.Needs != config.NeedsClear {
		return reason.OK, ""
	}
	if person.Store == config.LocalStore {
		return g.Accounts.Usable(person.Name, m.Needs)
	}
	if d, at := config.Find(plan.Config.Directories, person.Store); at >= 0 && m.Needs == config.NeedsNTHash && d.Member() {
		return reason.OK, ""
	}
	return reason.MethodUnusable, noHashes
}

// expected makes the facts of an expectation; over RADIUS by way of the packet that a device would send.
func expected(plan *decide.Plan, e *config.Expectation, now time.Time) (*facts.Facts, error) {
	client, at := config.Find(plan.Config.Clients, e.Client)
	if at < 0 {
		return nil, fmt.Errorf("there is no client %q", e.Client)
	}
	prefix, err := config.ParsePrefix(client.Addresses[0])
	if err != nil {
		return nil, err
	}
	if !e.At.IsZero() {
		now = e.At
	}
	if e.Asks != "" {
		f := GearFacts(client, prefix.Addr(), []byte(e.Sent), nil, nil, now)
		f.Gear.Asks, f.Gear.Level = e.Asks, e.Level
		if e.Asks == facts.AsksCommand {
			f.Service, f.Gear.Command = facts.DeviceCommand, strings.Join(command.Words(e.Command), " ")
		}
		if f.Vouched() {
			f.Gear.Authenticated = tacacs.MethodTACACS.String()
		} else {
			f.Method = e.Method
		}
		return &f, nil
	}
	b := radius.NewRequest(radius.AccessRequest, 1, [16]byte{}, false)
	b.AddText(radius.UserName, e.Sent)
	for _, a := range e.Attributes {
		entry := plan.Dictionary.ByName(a.Name)
		if entry == nil {
			return nil, fmt.Errorf("there is no attribute %q", a.Name)
		}
		value, err := entry.Encode(a.Value)
		if err != nil {
			return nil, err
		}
		b.Add(entry.Type, value)
	}
	data, err := b.SignRequest(radius.NewKey([]byte("never sent")))
	if err != nil {
		return nil, fmt.Errorf("the attributes do not fit into one request: %w", err)
	}
	p, err := radius.Decode(data)
	if err != nil {
		return nil, fmt.Errorf("the attributes do not fit into one request: %w", err)
	}
	f := &facts.Facts{At: now, Address: prefix.Addr()}
	RADIUSFacts(&p, client, plan.Dictionary, f)
	f.Method, f.Credential = e.Method, ""
	if m := config.FindMethod(e.Method); m != nil && m.EAP {
		f.EAP, f.Inner = &facts.EAP{TLS: "TLS 1.3"}, e.Sent
		if !m.TLS {
			f.EAP.TLS = ""
		}
	}
	if f.Method == facts.MACBypass {
		mac, ok := facts.FormatMAC(e.Sent)
		if !ok {
			return nil, fmt.Errorf("%q is not a MAC address, which is the name of a device in MAC bypass", e.Sent)
		}
		f.MAC, f.Service = mac, facts.CallCheck
	}
	return f, nil
}
