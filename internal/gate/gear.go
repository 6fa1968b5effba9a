package gate

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/command"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/wire/tacacs"
)

// GearFacts begins the facts of a TACACS+ request.
func GearFacts(client *config.Client, address netip.Addr, user, port, remote []byte, at time.Time) facts.Facts {
	f := facts.Facts{At: at, Protocol: "tacacs", Service: facts.DeviceLogin, Client: client.Name, ClientTags: client.Tags, Address: address,
		Port: clean(port), Sent: string(user), Gear: &facts.Gear{}}
	if addr, err := netip.ParseAddr(string(remote)); err == nil {
		f.From = addr.Unmap().WithZone("")
	} else if len(remote) > 0 {
		f.Attributes = []facts.Attribute{{Name: "rem_addr", Value: clean(remote)}}
	}
	return f
}

// Sign is a sign-in on gear that is under way: the person is found, and how it ends is not known yet.
type Sign struct {
	*Visit
	why  reason.Code
	over bool
}

// SignIn begins a sign-in with the facts of a START; its method is set. It chooses the lane and looks the person up.
func (g *Gate) SignIn(ctx context.Context, s *Snapshot, f facts.Facts, begun time.Time) *Sign {
	v, why := g.Arrive(s, f, begun)
	if why == reason.OK && len(v.before.Lane.Forward) > 0 {
		why = reason.RemoteUnknown
	}
	if why == reason.OK {
		why = v.Find(ctx)
	}
	return &Sign{Visit: v, why: why}
}

// Password checks the password. The reason tells how far that came; password.expired and password.must-change may be followed
// by Change.
func (s *Sign) Password(ctx context.Context, clear string) reason.Code {
	switch {
	case clear == "":
		s.Facts.Credential = reason.PasswordEmpty
		return reason.PasswordEmpty
	case s.why != reason.OK:
		return s.why
	}
	return s.CheckPassword(ctx, clear)
}

// Typed checks a password that a one-time code may follow at once, as PAP hands it over.
func (s *Sign) Typed(ctx context.Context, typed string) {
	switch {
	case typed == "":
		s.Facts.Credential = reason.PasswordEmpty
	case s.why == reason.OK:
		s.CheckTyped(ctx, typed)
	}
}

// Code checks the one-time code of a person whose password was taken, be it one that has to be changed.
func (s *Sign) Code(ctx context.Context, code string) reason.Code { return s.CheckCode(ctx, code) }

// Change gives the person, who typed the old password, a new one.
func (s *Sign) Change(ctx context.Context, old, next string) reason.Code {
	if s.claim == nil {
		return s.judged(reason.PersonUnknown, "")
	}
	begun, p := time.Now(), s.claim.Person
	code, detail := reason.Code(""), ""
	switch {
	case p.Kind == facts.EmergencyAccount:
		code, detail = reason.PasswordRejected, "the password of an emergency account is set by an operator"
	case next == "":
		code = reason.PasswordEmpty
	case p.Store == config.LocalStore:
		if code, detail = s.gate.Accounts.CheckPassword(ctx, p.Name, old, s.Facts.At); code == reason.OK {
			code, detail = s.gate.Accounts.ChangePassword(ctx, p.Name, next, time.Now())
		}
	default:
		d := s.snapshot.Directory(p.Store)
		code, detail = s.guarded(ctx, d, p, func() (reason.Code, string) { return d.ChangePassword(ctx, p.ID, old, next) })
		if code == reason.OK {
			d.Forget(s.before.Name)
		}
	}
	if code == reason.OK {
		p.State = reason.OK
	} else {
		s.claim = nil // the old password may have been right; what was asked for has failed all the same
	}
	s.Facts.Spent.Credential += time.Since(begun).Microseconds()
	return s.judged(code, detail)
}

// CHAP checks a response of CHAP (RFC 8907 section 5.4.2.3).
func (s *Sign) CHAP(ctx context.Context, identifier byte, challenge, response []byte) {
	if s.why == reason.OK {
		s.CheckCHAP(ctx, server.CHAP{Identifier: identifier, Challenge: challenge, Response: response})
	}
}

// MSCHAP checks the response of MS-CHAP of either version to a challenge that was derived for it.
func (s *Sign) MSCHAP(ctx context.Context, challenge [8]byte, response [24]byte) {
	if s.why == reason.OK {
		_, _ = s.CheckMSCHAP(ctx, server.MSCHAP{Challenge: challenge, NT: response}) // the facts tell
	}
}

// Unreadable notes a credential that cannot be read.
func (s *Sign) Unreadable(detail string) {
	s.claim = nil
	s.judged(reason.PasswordUnreadable, detail)
}

// Abort notes that the dialogue was broken off.
func (s *Sign) Abort(detail string) {
	s.unclaimed()
	s.judged(reason.DialogueAborted, detail)
}

// Broken records a sign-in that was broken off before anything was checked; the facts say how.
func (g *Gate) Broken(s *Snapshot, f facts.Facts, begun time.Time) {
	v, _ := g.Arrive(s, f, begun)
	v.Leave()
}

// End decides, records, and returns the answer. Later calls do nothing.
func (s *Sign) End() Answer {
	if s.over {
		return Answer{Verdict: decide.Refused}
	}
	s.over = true
	return s.Leave(s.finish())
}

// OtherType reports whether it was refused only because of its type of authentication, and the lane allows dialogues and PAP.
func (s *Sign) OtherType() bool {
	return s.why == reason.MethodNotAllowed && s.before.Lane != nil && s.before.Lane.Allows("pap")
}

// Over reports that the sign-in has ended.
func (s *Sign) Over() bool { return s.over }

// Grant is the answer to an authorization request.
type Grant struct {
	Answer
	// Args are the arguments of the reply; Replace says that they take the place of those of the request.
	Args    []pass.Argument
	Replace bool
}

// Authorize answers an authorization request (RFC 8907 section 6). Its arguments have been checked for their form.
func (g *Gate) Authorize(ctx context.Context, s *Snapshot, f facts.Facts, q *tacacs.Request, begun time.Time) Grant {
	gearAsks(&f, q)
	v, why := g.Arrive(s, f, begun)
	if why == reason.OK && f.Credential == "" && len(v.before.Lane.Forward) == 0 && v.Find(ctx) == reason.OK {
		v.judged(reason.OK, "") // the device vouches for the person
	}
	out := Grant{Answer: v.Leave(v.finish())}
	if out.Verdict == decide.Admitted && out.Err == nil && v.Facts.Gear.Asks != facts.AsksCommand {
		own, _ := v.pass.Grant.For(&v.Facts, v.Facts.Gear.Asks) // the decision has seen that it can be made
		out.Args, out.Replace = join(q.Args, own)
	}
	return out
}

// gearAsks reads what the arguments of an authorization request ask for.
func gearAsks(f *facts.Facts, q *tacacs.Request) {
	f.Gear.Level, f.Gear.Authenticated = int(q.Level), q.Method.String()
	service, cmd := "", ""
	var words []byte
	for _, a := range q.Args {
		f.Gear.Args = append(f.Gear.Args, clean(a))
		name, value, _, _ := tacacs.SplitArg(a)
		switch string(name) {
		case "service":
			service = clean(value)
		case "cmd":
			cmd = clean(value)
		case "cmd-arg":
			words = append(append(words, ' '), value...)
		}
	}
	switch {
	case service == config.Shell && cmd != "":
		f.Service, f.Gear.Asks = facts.DeviceCommand, facts.AsksCommand
		f.Gear.Command = strings.Join(command.Words(cmd+clean(words)), " ")
	default:
		f.Gear.Asks = service
	}
}

// join makes the reply of what was asked with and what the pass gives. Arguments that the pass does not speak of stay as they
// were asked; where it gives another value, its own take the place of all (PASS_REPL), else they are added (PASS_ADD).
func join(asked [][]byte, own []pass.Argument) (out []pass.Argument, replace bool) {
	given := map[string]int{}
	for i := range own {
		given[own[i].Name] = i
	}
	said := map[string]bool{}
	for _, a := range asked {
		name, value, _, _ := tacacs.SplitArg(a)
		if i, ours := given[string(name)]; ours {
			said[string(name)] = said[string(name)] || own[i].Value == string(value)
			replace = replace || own[i].Value != string(value)
		}
	}
	if !replace {
		for _, a := range own {
			if !said[a.Name] {
				out = append(out, a)
			}
		}
		return out, false
	}
	for _, a := range asked {
		name, value, optional, _ := tacacs.SplitArg(a)
		if _, ours := given[string(name)]; !ours {
			out = append(out, pass.Argument{Name: string(name), Value: string(value), Optional: optional})
		}
	}
	return append(out, own...), true
}

// Report records what gear reports (RFC 8907 section 7), and returns when that is on the disk.
func (g *Gate) Report(ctx context.Context, s *Snapshot, client *config.Client, address netip.Addr, r *tacacs.Record, by string, at time.Time) error {
	e := &store.Entry{At: at, Kind: r.Event(), Client: client.Name, Who: bareName(s, string(r.User)), More: store.More{Origin: clean(r.Remote), Port: clean(r.Port), Level: int(r.Level), Trial: by != ""}}
	var words []byte
	for _, a := range r.Args {
		e.Args = append(e.Args, clean(a))
		name, value, _, _ := tacacs.SplitArg(a)
		switch string(name) {
		case "task_id":
			e.Task = clean(value)
		case "cmd":
			words = append(bytes.Clone(value), words...)
		case "cmd-arg":
			words = append(append(words, ' '), value...)
		}
	}
	e.Command = strings.Join(command.Words(clean(words)), " ")
	return g.Journal.Record(ctx, e)
}

// bareName is the name under which the journal has a person: in the store, if the form of the name has a realm.
func bareName(s *Snapshot, sent string) string {
	if _, name, why := s.Plan.Name(&decide.Lane{Lane: &config.Lane{}}, sent); why == reason.OK {
		sent = name
	}
	return strings.ToLower(clean([]byte(sent)))
}

// journal puts a visit about the command line of a device into the journal, and returns when that is on the disk.
func (v *Visit) journal(d *decide.Decision) error {
	f := &v.Facts
	e := &store.Entry{At: f.At, Kind: facts.AsksLogin, Client: f.Client, Who: strings.ToLower(d.Name), Verdict: string(d.Verdict),
		More: store.More{Port: f.Port, Reason: string(d.Reason), Revision: v.snapshot.Revision, Trial: f.Tried != "", Line: d.LineText()}}
	if e.Who == "" {
		e.Who = strings.ToLower(clean([]byte(f.Sent)))
	}
	if f.From.IsValid() {
		e.Origin = f.From.String()
	}
	if p := f.Subject(); p != nil {
		e.Display = p.Label()
	}
	switch {
	case d.Verdict != decide.Admitted:
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

// GearKeys are the opened TACACS+ secrets of one client; Current is nil if it has none.
type GearKeys struct {
	Current, Previous []byte
	Until             time.Time
}

// At are the keys that count at a moment, the current one first.
func (k *GearKeys) At(now time.Time) [][]byte {
	out := make([][]byte, 0, 2)
	if k.Current != nil {
		out = append(out, k.Current)
	}
	if k.Previous != nil && now.Before(k.Until) {
		out = append(out, k.Previous)
	}
	return out
}

// SpeaksGear reports whether a client may speak TACACS+ at all.
func SpeaksGear(c *config.Client) bool {
	return c.TACACSSecret.Set() || c.TACACSPlain || c.TACACSByAddress || len(c.TACACSNames) > 0
}

// Methods of sign-ins by their kind in TACACS+; ASCII shows the password like PAP.
var gearMethods = map[tacacs.Kind]string{tacacs.ASCII: "pap", tacacs.PAP: "pap", tacacs.CHAP: "chap", tacacs.MSCHAP: "mschap", tacacs.MSCHAPv2: "mschapv2"}

// GearMethod is the method of a kind, "" for one that is not spoken.
func GearMethod(k tacacs.Kind) string { return gearMethods[k] }

// GearClient finds the client that has one of the names in a certificate, and its place; nil if none has.
func (s *Snapshot) GearClient(names []string) (*config.Client, int) {
	for _, name := range names {
		if at, ok := s.gearNames[strings.ToLower(name)]; ok {
			return &s.Plan.Config.Clients[at], at
		}
	}
	return nil, -1
}

// NamesGear reports whether any client proves itself by a certificate.
func (s *Snapshot) NamesGear() bool { return len(s.gearNames) > 0 }

// GearCertificate is what a client is shown in TLS, nil if there is none; with no client, the first there is.
func (s *Snapshot) GearCertificate(c *config.Client) *tls.Certificate {
	if c != nil && c.TACACSCertificate != "" {
		return s.servers[strings.ToLower(c.TACACSCertificate)]
	}
	for i := range s.Plan.Config.Certificates {
		if made := s.servers[strings.ToLower(s.Plan.Config.Certificates[i].Name)]; made != nil {
			return made
		}
	}
	return nil
}

// GearTrust is the trust list by which the certificate of a client is checked, nil for none.
func (s *Snapshot) GearTrust(c *config.Client) *certificate.Trust {
	return s.trust(c.TACACSTrust)
}

// openGear opens the TACACS+ secrets of a client, and keeps the names of its certificate.
func (s *Snapshot) openGear(at int, box *seal.Box) error {
	c, keys := &s.Plan.Config.Clients[at], &s.Gear[at]
	for _, one := range []struct {
		from config.Secret
		to   *[]byte
	}{{c.TACACSSecret, &keys.Current}, {c.TACACSPrevious, &keys.Previous}} {
		if !one.from.Set() {
			continue
		}
		text, err := box.Open(c.TACACSPlace(), one.from)
		if err != nil {
			return fmt.Errorf("the TACACS+ secret of client %s: %w", c.Name, err)
		}
		*one.to = []byte(text)
	}
	keys.Until = c.TACACSPreviousUntil
	for _, name := range c.TACACSNames {
		s.gearNames[strings.ToLower(name)] = at
	}
	return nil
}
