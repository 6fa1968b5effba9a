package readiness

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

// Client is what attempts say of a client at which a second factor was asked for.
type Client struct {
	Name, Lane string
	// Codes and Approvals were shown; Unanswered were asked for, and nothing came; Unasked had the password alone where
	// the client was to carry a code; Lost were answers to questions that were over.
	Codes, Approvals, Unanswered, Unasked, Lost int
}

// maxClients bounds the clients that are told of.
const maxClients = 5000

func noteClient(a *store.Attempt, f *facts.Facts, all map[string]*Client) {
	lost := a.Reason == string(reason.FactorLost)
	if f.Factor == nil && !lost || f.Tried != "" || f.Client == "" {
		return
	}
	key := f.Client + "\x00" + a.Lane
	c := all[key]
	if c == nil {
		if len(all) >= maxClients {
			return
		}
		c = &Client{Name: f.Client, Lane: a.Lane}
		all[key] = c
	}
	if lost {
		c.Lost++
		return
	}
	switch f.Factor.Outcome {
	case reason.OK:
		if f.Factor.By == facts.ByApproval {
			c.Approvals++
		} else if f.Factor.By != facts.ByRest {
			c.Codes++
		}
	case reason.FactorUnanswered:
		c.Unanswered++
	case reason.FactorMissing:
		c.Unasked++
	}
}

func sorted(all map[string]*Client) (out []Client) {
	for _, c := range all {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Client) int {
		if n := strings.Compare(a.Name, b.Name); n != 0 {
			return n
		}
		return strings.Compare(a.Lane, b.Lane)
	})
	return out
}

// State of a check.
type State string

const (
	Good State = "good"
	Warn State = "warn"
	Bad  State = "bad"
)

// Check is one line of the report: what was looked at, what was found, and what to do.
type Check struct {
	Area, Title   string
	State         State
	Found, Remedy string
}

// Server is what the report says of the service itself.
type Server struct {
	// Portal is how people reach their pages, "" where there are none; Ends is when their certificate does, zero where
	// they are served on this machine without.
	Portal string
	Ends   time.Time
	// Own tells that the certificate was made by the service itself.
	Own  bool
	Mail bool
	// KeyFault is what is wrong with the file that seeds and keys are sealed with, "" for nothing.
	KeyFault string
	// Clocks are faults of the clock, or of those of other nodes.
	Clocks []string
	Now    time.Time
}

// seldom is how many sign-ins are too few to say something of a client.
const seldom = 3

// Checks says whether servers and gear are ready for a second factor, by the lanes that ask for one.
func Checks(r *Report, lanes []*config.Lane, s *Server) (out []Check) {
	add := func(area, title string, state State, found, remedy string) {
		out = append(out, Check{area, title, state, found, remedy})
	}
	if len(s.Clocks) == 0 {
		add("Server", "Time", Good, "no clock was set, and none is apart", "")
	}
	for _, c := range s.Clocks {
		add(
			"Server",
			"Time",
			Bad,
			c,
			"Codes go by the time: have all machines set their clocks by the same source.",
		)
	}
	if s.KeyFault == "" {
		add("Server", "Seeds and keys", Good, "sealed, with a key file that the service alone may read", "")
	} else {
		add("Server", "Seeds and keys", Bad, s.KeyFault, "Put it back from a backup, and let nobody else read it.")
	}
	approvals, graces := false, false
	byName := map[string]*config.Lane{}
	for _, l := range lanes {
		if l.SecondFactor != "" {
			byName[l.Name] = l
			approvals = approvals || l.TakesApproval()
			graces = graces || s.Now.Before(l.Factor.Until) || l.Factor.Pass != ""
		}
	}
	s.pages(approvals || graces, add)
	if s.Mail {
		add("Server", "Mail", Good, "invitations can be sent", "")
	} else {
		add("Server", "Mail", Warn, "no server is set", "Start the service with -mail, or hand the links over.")
	}
	if len(byName) == 0 {
		add("Lanes", "Asking", Warn, "no lane asks for a second factor", "See Who is ready before one does.")
	}
	for _, l := range lanes {
		if byName[l.Name] == nil {
			continue
		}
		title := l.Name + " asks for " + map[string]string{config.OneTimeCode: "a code", config.Approval: "an approval",
			config.AnyFactor: "a code or an approval"}[l.SecondFactor]
		switch days := l.Factor.Until.Sub(s.Now); {
		case days > 0:
			add("Lanes", title, Warn, fmt.Sprintf("people without are admitted for another %d days",
				int(days.Hours()/24)+1), "Invite them before.")
		case l.Factor.Pass != "":
			add("Lanes", title, Warn, "people without get pass "+l.Factor.Pass, "")
		default:
			add("Lanes", title, Good, "people without are refused", "")
		}
	}
	for i := range r.Clients {
		if l := byName[r.Clients[i].Lane]; l != nil {
			out = append(out, r.Clients[i].check(l))
		}
	}
	return out
}

// pages says whether people can reach their pages. needed tells that some lane counts on that.
func (s *Server) pages(needed bool, add func(area, title string, state State, found, remedy string)) {
	const title = "Pages for people"
	switch {
	case s.Portal == "" && needed:
		add("Server", title, Bad, "there are none, and a lane counts on them", "Start the service with -portal.")
	case s.Portal == "":
		add(
			"Server",
			title,
			Warn,
			"there are none",
			"Start the service with -portal, so that people enrol by themselves.",
		)
	case s.Ends.IsZero():
		add("Server", title, Warn, s.Portal+" is served without TLS, on this machine alone",
			"Give it an address that phones reach, with -portal-url, -portal-cert and -portal-key.")
	case s.Own:
		add(
			"Server",
			title,
			Warn,
			s.Portal+" has a certificate that the service made itself, which phones do not trust",
			"Give it one with -portal-cert and -portal-key.",
		)
	case s.Ends.Sub(s.Now) < 30*24*time.Hour:
		add(
			"Server",
			title,
			Bad,
			fmt.Sprintf("the certificate of %s ends on %s", s.Portal, s.Ends.Format(time.DateOnly)),
			"Replace it.",
		)
	default:
		add("Server", title, Good, s.Portal+", certificate until "+s.Ends.Format(time.DateOnly), "")
	}
}

// check says whether a client asks its people, and waits long enough.
func (c *Client) check(l *config.Lane) Check {
	out := Check{Area: "Gear", Title: c.Name + ", lane " + l.Name, State: Good}
	shown := c.Codes + c.Approvals
	out.Found = fmt.Sprintf("codes %d, approvals %d, unanswered %d, without %d, too late %d",
		c.Codes,
		c.Approvals,
		c.Unanswered,
		c.Unasked,
		c.Lost,
	)
	holds := l.TakesApproval() && l.Factor.Ask == config.AskAppend
	switch {
	case shown == 0 && c.Unanswered+c.Unasked < seldom:
		out.State, out.Remedy = Warn, "Too few sign-ins to tell: try one."
	case shown == 0 && c.Unanswered > 0 && !holds:
		out.State = Bad
		out.Remedy = "It seems to show no question (Access-Challenge): take the code behind the password, or " +
			"approvals without a challenge."
	case shown == 0 && c.Unasked > 0:
		out.State = Bad
		out.Remedy = "Nobody gives a code here: tell people to append it, or have the lane ask by challenge."
	case c.Lost > shown/2:
		out.State = Bad
		out.Remedy = "Its answers come too late, or go to another server than the question: let it wait, and send " +
			"them to the same one."
	case c.Unanswered > shown:
		out.State, out.Remedy = Warn, "Most sign-ins are left: ask people what they see."
	}
	if l.TakesApproval() {
		least := int(l.ApprovalWait(!holds).Seconds()) + 5
		out.Remedy = strings.TrimSpace(out.Remedy + fmt.Sprintf(" It has to wait %d seconds for an answer.", least))
	}
	return out
}
