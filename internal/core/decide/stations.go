package decide

import (
	"fmt"
	"strconv"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

var titles = map[string]string{
	reason.Client: "Client", reason.Name: "Name", reason.Lane: "Lane", reason.Directory: "Directory",
	reason.Credential: "Credential", reason.SecondFactor: "Second factor", reason.Policy: "Policy", reason.Pass: "Pass",
}

func (p *Plan) stations(f *facts.Facts, d *Decision) []results.Station {
	decided := reason.Lookup(d.Reason).Station
	out := make([]results.Station, 0, len(reason.Stations))
	state := results.Passed
	for _, key := range reason.Stations {
		s := results.Station{Key: key, Title: titles[key], State: state}
		if key == decided {
			s.State, state = results.Decided, results.NotReached
		}
		if s.State != results.NotReached {
			p.fill(&s, f, d)
		}
		out = append(out, s)
	}
	return out
}

func (p *Plan) fill(s *results.Station, f *facts.Facts, d *Decision) {
	refused := s.State == results.Decided && d.Verdict == results.Refused
	if d.Lane != nil && len(d.Lane.Forward) > 0 && p.fillForwarded(s, f, d) {
		return
	}
	switch s.Key {
	case reason.Client:
		s.Value, s.Micros = f.Client, f.Spent.Client
		if f.Transport != "" {
			s.Wanted, s.Found = "the certificate of the client", "over "+strings.ToUpper(f.Transport)+", from "+
				f.Address.String()
		}
	case reason.Name:
		s.Value, s.Micros = f.Name(), f.Spent.Name
		if f.Inner != "" && f.Inner != f.Sent {
			s.Wanted, s.Found = "the name inside", "outside: "+f.Sent
		}
		if d.Realm != nil && d.Reason != reason.RealmOther {
			s.Value = d.Name
			s.Wanted, s.Found = "realm "+d.Realm.Name, f.Name()
			if f.Inner != "" && f.Inner != f.Sent {
				s.Found += ", outside the tunnel " + f.Sent
			}
		}
		if refused {
			s.Wanted, s.Found = p.forms(d), f.Name()
			if f.Name() == "" {
				s.Found = "no User-Name"
			}
		}
	case reason.Lane:
		s.Micros = f.Spent.Lane
		if d.Lane != nil {
			s.Value = d.Lane.Name
			s.Wanted, s.Found = titleList(d.Lane.Methods), config.Title(f.Method)
			if f.Credential != "" && reason.Lookup(f.Credential).Station == reason.Lane && refused {
				s.Found = f.CredentialDetail
			}
		} else {
			s.Value = "none fits"
		}
	case reason.Directory:
		s.Micros = f.Spent.Directory
		p.fillDirectory(s, f, d)
	case reason.Credential:
		s.Value, s.Micros = config.Title(f.Method), f.Spent.Credential
		if f.Vouched() {
			s.Value, s.State, s.Wanted, s.Found = "signed in before", results.NotAsked, "", "authenticated by "+
				f.Gear.Authenticated
			if f.Gear.Authenticated == "" {
				s.Found = "the device does not say how"
			}
			return
		}
		if refused {
			s.Wanted, s.Found = proofWanted(f), string(d.Reason)
			if f.CredentialDetail != "" {
				s.Found = f.CredentialDetail
			}
		}
	case reason.SecondFactor:
		fillFactor(s, f, d)
	case reason.Policy:
		s.Micros = f.Spent.Policy
		s.Value, s.Wanted = "none fits", d.Lane.wanted()
		if d.Policy != nil {
			s.Value = d.Policy.Name
			s.Wanted = d.Policy.wanted()
		}
		if f.Person != nil {
			s.Found = strings.Join(f.Person.Groups, ", ")
		}
	case reason.Pass:
		if d.Pass != nil {
			s.Value = d.Pass.Name
			if d.Override != nil {
				s.Wanted, s.Found = "the pass of policy "+d.Policy.Name, fmt.Sprintf("override %q of %s",
					d.Override.Name, d.Override.Person)
			}
			if f.Gear != nil {
				fillGear(s, f, d)
				return
			}
			if d.Reason == reason.SessionsLimit {
				s.Wanted, s.Found = fmt.Sprintf("fewer than %d open sessions with pass %s", d.Pass.MaxSessions,
					d.Pass.Name), strconv.Itoa(d.Pass.Taken(f))
			}
			if d.Reason == reason.PoolExhausted {
				s.Wanted, s.Found = "an address of pool "+d.Pass.Pool, "all are taken"
			}
			if _, err := d.Pass.Reply.For(f); err != nil {
				s.Wanted, s.Found = "a value for everything in pass "+d.Pass.Name, err.Error()
			}
		}
	}
}

// fillForwarded fills the stations behind a lane that forwards: one remote server stands for all of them.
func (p *Plan) fillForwarded(s *results.Station, f *facts.Facts, d *Decision) bool {
	switch s.Key {
	case reason.Client, reason.Name:
		return false
	case reason.Lane:
		s.Value, s.Micros, s.Wanted, s.Found = d.Lane.Name, f.Spent.Lane, "forwarded to "+strings.Join(d.Lane.Forward,
			", "), config.Title(f.Method)
	case reason.Directory:
		s.Title, s.Value = "Remote server", strings.Join(d.Lane.Forward, ", ")
		if f.Forwarded != nil {
			s.Value, s.Micros, s.Wanted, s.Found = f.Forwarded.Server, f.Forwarded.Micros, "an Access-Accept",
				f.Forwarded.Detail
		}
	default:
		s.Value = "there"
		if s.State == results.Passed {
			s.State = results.NotAsked
		}
	}
	return true
}

func titleList(names []string) string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = config.Title(name)
	}
	return strings.Join(out, ", ")
}

// proofWanted says in words what the method asks for.
func proofWanted(f *facts.Facts) string {
	m := config.FindMethod(f.Method)
	switch {
	case m == nil:
		return "an EAP conversation to the end"
	case m.Needs == config.NeedsCertificate:
		return "a certificate that the trust list accepts"
	case m.Needs == config.NeedsAddress:
		return "a known device"
	}
	return "the password of the account"
}

func (p *Plan) fillDirectory(s *results.Station, f *facts.Facts, d *Decision) {
	if p := f.Subject(); p != nil {
		s.Value = p.Store
		s.Wanted, s.Found = d.Name, p.ID
		if p.State != reason.OK {
			s.Wanted, s.Found = "an account that may sign in", string(p.State)
		}
		return
	}
	if len(f.Lookups) == 0 { // the credential was refused before anybody was looked up
		s.Value, s.State = "not asked", results.NotAsked
		return
	}
	var asked, said []string
	for _, l := range f.Lookups {
		asked = append(asked, l.Store)
		text := l.Store + ": " + string(l.Outcome)
		if l.Detail != "" {
			text += ", " + l.Detail
		}
		said = append(said, text)
	}
	s.Value = strings.Join(asked, ", ")
	s.Wanted, s.Found = d.Name, strings.Join(said, "; ")
}

// forms lists the name forms that would have been accepted.
func (p *Plan) forms(d *Decision) string {
	var list []string
	for i := range p.Config.Realms {
		r := p.Config.Realms[i]
		if d.Lane != nil && d.Lane.Realm != "" && !strings.EqualFold(d.Lane.Realm, r.Name) {
			continue
		}
		for _, form := range r.Forms {
			if form.Kind == config.Bare {
				list = append(list, "a bare name")
			} else if form.Kind == config.Suffix {
				list = append(list, "name"+form.String())
			} else {
				list = append(list, form.String()+"name")
			}
		}
	}
	return strings.Join(list, ", ")
}
