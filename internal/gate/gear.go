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
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/store"
)

// Gear answers what one session of network gear asks: a sign-in, an authorization or a report. It is used by one
// goroutine at a time.
type Gear struct {
	*Visit
	gate     *Gate
	snapshot *snapshot.Snapshot
	why      reason.Code
	over     bool
	// ticket is what the phone is asked by, nil where it is not, for what is in none.
	ticket *approval.Ticket
	none   *facts.Factor
	// right tells that the password was taken.
	right bool
}

// Gear begins to answer a session under a snapshot.
func (g *Gate) Gear(s *snapshot.Snapshot) *Gear { return &Gear{gate: g, snapshot: s} }

// SignIn begins a sign-in with its facts; the method is set. It chooses the lane and looks the person up.
func (g *Gear) SignIn(ctx context.Context, f facts.Facts, begun time.Time) {
	g.Visit, g.why = g.gate.Arrive(g.snapshot, f, begun)
	if g.why == reason.OK && len(g.before.Lane.Forward) > 0 {
		g.why = reason.RemoteRADIUSOnly
	}
	if g.why == reason.OK {
		g.why = g.Find(ctx)
	}
}

// Password checks the password. The reason tells how far that came; password.expired and password.must-change may be
// followed by Change.
func (g *Gear) Password(ctx context.Context, clear string) reason.Code {
	switch {
	case clear == "":
		g.Facts.Credential = reason.PasswordEmpty
		return reason.PasswordEmpty
	case g.why != reason.OK:
		return g.why
	}
	return g.CheckPassword(ctx, clear)
}

// Typed checks a password that a one-time code may follow at once, as PAP hands it over.
func (g *Gear) Typed(ctx context.Context, typed string) {
	switch {
	case typed == "":
		g.Facts.Credential = reason.PasswordEmpty
	case g.why == reason.OK:
		g.CheckTyped(ctx, typed)
	}
}

// Question begins to ask for the second factor, and returns what the person reads. right tells that the password was
// taken: only then the phone is asked, but whoever got it wrong reads the same.
func (g *Gear) Question(right bool) string {
	lane := g.before.Lane
	g.right = right
	if !lane.TakesApproval() {
		return usualQuestion + " "
	}
	number := approval.Number()
	if right {
		g.ticket, g.none = g.askPhone(number, time.Now().Add(answerWithin))
	}
	return numbered(questionOf(lane), number) + " "
}

// Code checks what a person typed: a one-time code, or nothing where the phone approves, for which it waits. Of
// somebody who got the password wrong nothing is looked at, but it takes as long.
func (g *Gear) Code(ctx context.Context, code string) reason.Code {
	lane := g.before.Lane
	if !lane.TakesApproval() || lane.TakesCode() && isCode(code) {
		if g.ticket != nil {
			g.ticket.Close(false, time.Now())
		}
		if !g.right {
			return reason.FactorMissing
		}
		return g.CheckCode(ctx, code)
	}
	long, came := lane.ApprovalWait(false), reason.FactorMissing
	answered := func(verdict approval.Verdict, by string) Answer {
		switch {
		case g.ticket != nil:
			g.approved(g.ticket, verdict, by)
		case g.right:
			g.Facts.Factor = g.none
		}
		if g.Facts.Factor != nil {
			came = g.Facts.Factor.Outcome
		}
		return Answer{}
	}
	g.wait(g.ticket, long, nil, answered, func() Answer { return answered(approval.Waiting, long.String()) })
	return came
}

// Change gives the person, who typed the old password, a new one. The detail says why it failed.
func (g *Gear) Change(ctx context.Context, old, next string) (reason.Code, string) {
	code := g.change(ctx, old, next)
	return code, g.Facts.CredentialDetail
}

func (g *Gear) change(ctx context.Context, old, next string) reason.Code {
	if g.claim == nil {
		return g.judged(reason.PersonUnknown, "")
	}
	begun, p := time.Now(), g.claim.Person
	code, detail := reason.Code(""), ""
	switch {
	case p.Kind == facts.EmergencyAccount:
		code, detail = reason.PasswordRejected, "the password of an emergency account is set by an operator"
	case next == "":
		code = reason.PasswordEmpty
	case p.Store == config.LocalStore:
		if code, detail = g.gate.Accounts.CheckPassword(ctx, p.Name, old, g.Facts.At); code == reason.OK {
			code, detail = g.gate.Accounts.ChangePassword(ctx, p.Name, next, time.Now())
		}
	default:
		d := g.snapshot.Directory(p.Store)
		code, detail = g.guarded(ctx, d.Directory, p, func() (reason.Code, string) {
			return d.ChangePassword(ctx, p.ID, old, next)
		})
		if code == reason.OK {
			d.Forget(g.before.Name)
		}
	}
	if code == reason.OK {
		p.State = reason.OK
	} else {
		g.claim = nil // the old password may have been right; what was asked for has failed all the same
	}
	g.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return g.judged(code, detail)
}

// CHAP checks a response of CHAP (RFC 8907 section 5.4.2.3).
func (g *Gear) CHAP(ctx context.Context, identifier byte, challenge, response []byte) {
	if g.why == reason.OK {
		g.CheckCHAP(ctx, server.CHAP{Identifier: identifier, Challenge: challenge, Response: response})
	}
}

// MSCHAP checks the response of MS-CHAP of either version to a challenge that was derived for it.
func (g *Gear) MSCHAP(ctx context.Context, challenge [8]byte, response [24]byte) {
	if g.why == reason.OK {
		_, _ = g.CheckMSCHAP(ctx, server.MSCHAP{Challenge: challenge, NT: response}) // the facts tell
	}
}

// Unreadable notes a credential that cannot be read.
func (g *Gear) Unreadable(detail string) {
	g.claim = nil
	g.judged(reason.PasswordUnreadable, detail)
}

// Abort notes that the dialogue was broken off.
func (g *Gear) Abort(detail string) {
	g.unclaimed()
	g.judged(reason.DialogueAborted, detail)
}

// Broken records a sign-in that was broken off before anything was checked; the facts say how.
func (g *Gear) Broken(f facts.Facts, begun time.Time) {
	v, _ := g.gate.Arrive(g.snapshot, f, begun)
	v.Leave()
}

// End decides, records, and returns the answer. Later calls do nothing.
func (g *Gear) End() Answer {
	if g.over {
		return Answer{Verdict: results.Refused}
	}
	g.over = true
	if g.ticket != nil && g.Facts.Factor == nil { // the dialogue ended before the person answered
		g.ticket.Close(true, time.Now())
	}
	return g.done(nil)
}

// OtherType reports whether it was refused only because of its type of authentication, and the lane allows dialogues
// and PAP.
func (g *Gear) OtherType() bool {
	return g.why == reason.MethodNotAllowed && g.before.Lane != nil && g.before.Lane.Allows("pap")
}

// Grant is the answer to an authorization request.
type Grant struct {
	Answer
	// Args are the arguments that the pass gives.
	Args []pass.Argument
}

// Authorize answers an authorization request (RFC 8907 section 6), whose facts say what is asked.
func (g *Gear) Authorize(ctx context.Context, f facts.Facts, begun time.Time) Grant {
	v, why := g.gate.Arrive(g.snapshot, f, begun)
	if why == reason.OK && f.Credential == "" && len(v.before.Lane.Forward) == 0 && v.Find(ctx) == reason.OK {
		v.judged(reason.OK, "") // the device vouches for the person
	}
	out := Grant{Answer: v.Leave(v.finish())}
	if out.Verdict == results.Admitted && out.Err == nil && v.Facts.Gear.Asks != facts.AsksCommand {
		out.Args, _ = v.pass.Grant.For(&v.Facts, v.Facts.Gear.Asks) // the decision has seen that it can be made
	}
	return out
}

// Report is what gear reports of a session or a command (RFC 8907 section 7).
type Report struct {
	// Event is start, stop or update.
	Event string
	// Client is the name of the client, User the name as it was sent.
	Client, User string
	Origin, Port string
	Level        int
	Args         []string
	Task         string
	Command      string
	// Tried tells that an operator tries this out.
	Tried bool
}

// Report records a report, and returns when it is on the disk.
func (g *Gear) Report(ctx context.Context, r Report, at time.Time) error {
	e := &store.Entry{
		At:      at,
		Kind:    r.Event,
		Client:  r.Client,
		Who:     bareName(g.snapshot, r.User),
		Command: r.Command,
		Task:    r.Task,
		Origin:  r.Origin,
		Port:    r.Port,
		Level:   r.Level,
		Trial:   r.Tried,
		Args:    r.Args,
	}
	return g.gate.Journal.Record(ctx, e)
}

// bareName is the name under which the journal has a person: in the store, if the form of the name has a realm.
func bareName(s *snapshot.Snapshot, sent string) string {
	if _, name, why := s.Plan.Name(&decide.Lane{Lane: &config.Lane{}}, sent); why == reason.OK {
		sent = name
	}
	return strings.ToLower(facts.Clean([]byte(sent)))
}

// journal puts a visit about the command line of a device into the journal, and returns when that is on the disk.
func (v *Visit) journal(d *decide.Decision) error {
	f := &v.Facts
	e := &store.Entry{At: f.At, Kind: facts.AsksLogin, Client: f.Client, Who: strings.ToLower(d.Name),
		Verdict: string(d.Verdict),
		Port:    f.Port, Reason: string(d.Reason), Revision: v.snapshot.Revision, Trial: f.Tried != "",
		Line: d.LineText()}
	if e.Who == "" {
		e.Who = strings.ToLower(facts.Clean([]byte(f.Sent)))
	}
	if f.From.IsValid() {
		e.Origin = f.From.String()
	}
	if p := f.Subject(); p != nil {
		e.Display = p.Label()
	}
	switch {
	case d.Verdict != results.Admitted:
		_, e.Sentence, _ = v.snapshot.Plan.Explain(f)
	case d.Pass != nil:
		e.Pass = d.Pass.Name
	}
	if f.Gear != nil {
		e.Kind, e.Command, e.Level = f.Gear.Asks, f.Gear.Command, f.Gear.Level
		if len(f.Gear.Args) > 0 && e.Kind != facts.AsksCommand {
			e.Args = f.Gear.Args
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), journalPatience)
	defer cancel()
	return v.gate.Journal.Record(ctx, e)
}

// journalPatience is how long an answer waits for the disk.
const journalPatience = 5 * time.Second
