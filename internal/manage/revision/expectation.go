package revision

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/core/command"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/front/radius/access"
	"tollgate.example/key/internal/wire/radius"
	"tollgate.example/key/internal/wire/tacacs"
)

// DryRun decides under a plan, which need not be in effect, what the attempt that an expectation describes would come
// to. People are looked up where they are kept now; nothing is recorded. The error tells that it could not be found
// out, such as for a directory that does not answer.
func (k *Keeper) DryRun(ctx context.Context, plan *decide.Plan, e *config.Expectation, now time.Time) (decide.Decision,
	*facts.Facts, error) {
	f, err := expected(plan, e, now)
	if err != nil {
		return decide.Decision{}, nil, err
	}
	d, f, err := k.gate.DryRun(ctx, plan, *f, e.Method, now)
	if err != nil {
		return d, f, err
	}
	switch d.Reason {
	case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed:
		if e.Reason != string(d.Reason) {
			sentence, _ := reason.Explain(d.Reason, plan.Values(f, &d))
			return d, f, fmt.Errorf("%s", sentence)
		}
	}
	return d, f, nil
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
		return expectedGear(client, prefix.Addr(), e, now), nil
	}
	return expectedRADIUS(plan, client, prefix.Addr(), e, now)
}

// expectedGear makes the facts of an expectation about the command line of a device.
func expectedGear(client *config.Client, from netip.Addr, e *config.Expectation, now time.Time) *facts.Facts {
	f := facts.OfGear(client.Name, client.Tags, from, []byte(e.Sent), nil, nil, now)
	f.Gear.Asks, f.Gear.Level = e.Asks, e.Level
	if e.Asks == facts.AsksCommand {
		f.Service, f.Gear.Command = facts.DeviceCommand, strings.Join(command.Words(e.Command), " ")
	}
	if f.Vouched() {
		f.Gear.Authenticated = tacacs.MethodTACACS.String()
	} else {
		f.Method = e.Method
	}
	return &f
}

// expectedRADIUS makes the facts of an expectation by way of the packet that a device would send.
func expectedRADIUS(plan *decide.Plan, client *config.Client, from netip.Addr, e *config.Expectation, now time.Time) (
	*facts.Facts, error) {
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
	f := &facts.Facts{At: now, Address: from}
	access.Facts(&p, client, plan.Dictionary, f)
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

// together bounds how long all expectations may take; what is not tried by then stays unchecked.
const together = 20 * time.Second

// ExpectationState is what became of an expectation.
type ExpectationState string

const (
	Met       ExpectationState = "met"
	Failed    ExpectationState = "failed"
	Unchecked ExpectationState = "unchecked"
)

// Expected is one expectation with what would happen.
type Expected struct {
	ID, Name string
	State    ExpectationState
	Wanted   string
	// Got and Ending are what would happen, "" and nil if that could not be found out.
	Got    string
	Ending *results.Ending
	// Sentence says why.
	Sentence string
}

// Unmet is the error of a configuration whose expectations fail.
type Unmet struct{ List []Expected }

func (u *Unmet) Error() string { return fmt.Sprintf("%d expectations would not be met", len(u.List)) }

// expect returns an Unmet if an expectation of a plan fails.
func (k *Keeper) expect(ctx context.Context, plan *decide.Plan) error {
	var failed []Expected
	for _, e := range k.Expect(ctx, plan) {
		if e.State == Failed {
			failed = append(failed, e)
		}
	}
	if len(failed) > 0 {
		return &Unmet{failed}
	}
	return nil
}

// Expect tries the expectations of a plan.
func (k *Keeper) Expect(ctx context.Context, plan *decide.Plan) []Expected {
	ctx, cancel := context.WithTimeout(ctx, together)
	defer cancel()
	out := make([]Expected, 0, len(plan.Config.Expectations))
	for i := range plan.Config.Expectations {
		e := plan.Config.Expectations[i]
		one := Expected{ID: e.ID, Name: e.Name, State: Unchecked, Wanted: wanted(e)}
		d, f, err := k.DryRun(ctx, plan, e, time.Now())
		if f != nil {
			ending := decide.EndingOf(&d, f)
			one.Ending, one.Got = &ending, got(&ending)
			one.Sentence, _ = reason.Explain(d.Reason, plan.Values(f, &d))
		}
		switch {
		case err != nil:
			one.Sentence = err.Error()
		case meets(e, one.Ending):
			one.State = Met
		default:
			one.State = Failed
		}
		out = append(out, one)
	}
	return out
}

func wanted(e *config.Expectation) string {
	if !e.Admitted {
		return strings.TrimSpace("refused " + e.Reason)
	}
	text := "admitted"
	if e.Pass != "" {
		text += ", pass " + e.Pass
	}
	if e.VLAN != "" {
		text += ", VLAN " + e.VLAN
	}
	return text
}

func got(e *results.Ending) string {
	if e.Verdict != results.Admitted {
		return "refused " + string(e.Reason)
	}
	text := "admitted, pass " + e.Pass
	if e.VLAN != "" {
		text += ", VLAN " + e.VLAN
	}
	return text
}

func meets(e *config.Expectation, have *results.Ending) bool {
	if e.Admitted != (have.Verdict == results.Admitted) {
		return false
	}
	return (e.Pass == "" || strings.EqualFold(e.Pass, have.Pass)) && (e.VLAN == "" || e.VLAN == have.VLAN) &&
		(e.Reason == "" || e.Reason == string(have.Reason))
}
