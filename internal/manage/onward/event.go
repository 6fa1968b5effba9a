// Package onward sends records on while they are made: to receivers of syslog (RFC 5424), into files of JSON lines, and
// accounting to the remote servers that lanes forward to. Each keeps its position, so that what was made while the
// other side was down, or the service, is sent later.
package onward

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// event is a record on its way.
type event struct {
	id   ident.ID
	at   time.Time
	kind string
	// warning tells that something was refused, or is odd.
	warning bool
	// text says it in one sentence.
	text   string
	fields []field
	// verdict, client, who and lane are what feeds select by.
	verdict, client, who, lane string
	accounted                  *store.Accounted
}

// field is one value with its name; number ones are numbers in JSON.
type field struct {
	name, value string
	number      bool
}

func (e *event) add(name, value string) {
	if value != "" {
		e.fields = append(e.fields, field{name: name, value: value})
	}
}

func (e *event) count(name string, n int64) {
	if n != 0 {
		e.fields = append(e.fields, field{name, strconv.FormatInt(n, 10), true})
	}
}

func ofAttempt(a *store.Attempt) event {
	e := event{id: a.ID, at: a.At, kind: "attempt", warning: a.Verdict != "admitted", verdict: a.Verdict,
		client: a.Client,
		who:    a.Who, lane: a.Lane}
	who := a.Who
	if who == "" {
		who = "somebody without a name"
	}
	e.text = fmt.Sprintf("%s was %s at %s", who, a.Verdict, a.Client)
	if e.warning {
		e.text += ": " + a.Reason
	} else if a.Pass != "" {
		e.text += " with pass " + a.Pass
	}
	for _, f := range [...]struct{ name, value string }{{"verdict", a.Verdict}, {"reason", a.Reason},
		{"client", a.Client}, {"user", a.Who}, {"sent", a.Sent}, {"person", a.Display}, {"mac", a.MAC},
		{"place", a.Place}, {"method", a.Method}, {"lane", a.Lane}, {"policy", a.Policy}, {"pass", a.Pass},
		{"vlan", a.VLAN},
		{"class", a.Class}} {
		e.add(f.name, f.value)
	}
	e.count("revision", int64(a.Revision))
	e.count("micros", a.Micros)
	return e
}

func ofAccounted(a *store.Accounted) event {
	e := event{id: a.ID, at: a.At, kind: "accounting", warning: a.Note != "", client: a.Client, who: a.Who,
		lane:      a.Lane,
		accounted: a}
	e.text = fmt.Sprintf("%s of session %s of %s at %s", a.Kind, a.Session, a.Who, a.Client)
	if a.Session == "" {
		e.text = fmt.Sprintf("accounting %s at %s", a.Kind, a.Client)
	}
	for _, f := range [...]struct{ name, value string }{{"record", a.Kind}, {"client", a.Client}, {"nas", a.NAS},
		{"session", a.Session}, {"user", a.Who}, {"person", a.Display}, {"mac", a.MAC}, {"address", a.Address},
		{"place", a.Place}, {"lane", a.Lane}, {"pass", a.Pass}, {"vlan", a.VLAN}, {"applied", a.Applied},
		{"class", a.Class}, {"cause", a.Cause}, {"note", a.Note}} {
		e.add(f.name, f.value)
	}
	e.count("seconds", a.Seconds)
	e.count("inOctets", a.In)
	e.count("outOctets", a.Out)
	return e
}

func ofEntry(j *store.Entry) event {
	e := event{id: j.ID, at: j.At, kind: "journal", warning: j.Verdict == "refused", verdict: j.Verdict,
		client: j.Client,
		who:    j.Who}
	e.text = strings.TrimSpace(fmt.Sprintf("%s on %s: %s %s %s", j.Who, j.Client, j.Kind, j.Command, j.Verdict))
	for _, f := range [...]struct{ name, value string }{{"action", j.Kind}, {"client", j.Client}, {"user", j.Who},
		{"person", j.Display}, {"command", j.Command}, {"verdict", j.Verdict}, {"reason", j.Reason},
		{"origin", j.Origin}, {"port", j.Port}, {"task", j.Task}, {"pass", j.Pass}, {"line", j.Line}} {
		e.add(f.name, f.value)
	}
	e.count("level", int64(j.Level))
	return e
}

// ofLine is an event of the audit. Its number is its identifier; whoever reads the events sees by it that none is
// missing. The object before and after stays in the audit, since it can be long.
func ofLine(l *audit.Line) event {
	at, _ := time.Parse(time.RFC3339, l.At) // the zero time says that there is none
	e := event{id: ident.ID(l.Number), at: at, kind: "audit", warning: l.Result != audit.Done, who: l.Who}
	if e.warning {
		e.verdict = "refused"
	}
	e.text = strings.TrimSpace(cmp.Or(l.Who, "somebody") + ": " + l.What)
	if l.Why != "" {
		e.text += ": " + l.Why
	}
	e.count("number", l.Number)
	for _, f := range [...]struct{ name, value string }{{"operator", l.Who}, {"role", l.Role}, {"from", l.From},
		{"how", l.How}, {"call", l.Call}, {"objectKind", l.Kind}, {"object", l.Object}, {"name", l.Name},
		{"result", l.Result}, {"why", l.Why}} {
		e.add(f.name, f.value)
	}
	for _, c := range l.Changes {
		e.add("changed."+c.Field, c.Before+" -> "+c.After)
	}
	return e
}

// line writes the event as one line of JSON.
func (e *event) line(to []byte) []byte {
	quote := func(text string) {
		data, _ := json.Marshal(strings.ToValidUTF8(text, "?"))
		to = append(to, data...)
	}
	to = append(to, `{"kind":`...)
	quote(e.kind)
	to = append(to, `,"id":`...)
	quote(e.id.String())
	to = append(to, `,"at":"`...)
	to = append(e.at.UTC().AppendFormat(to, time.RFC3339Nano), '"')
	for _, f := range e.fields {
		to = append(to, ',')
		quote(f.name)
		if to = append(to, ':'); f.number {
			to = append(to, f.value...)
		} else {
			quote(f.value)
		}
	}
	to = append(to, `,"text":`...)
	quote(e.text)
	return append(to, "}\n"...)
}

// filter selects events as a feed says.
type filter struct {
	verdict           string
	client, who, lane *record.Pattern
}

func newFilter(f *config.Feed) filter {
	pattern := func(text string) *record.Pattern {
		if text == "" {
			return nil
		}
		p := record.NewPattern(text)
		return &p
	}
	return filter{f.Verdict, pattern(f.Client), pattern(f.Who), pattern(f.Lane)}
}

func (f *filter) fits(e *event) bool {
	return (f.verdict == "" || f.verdict == e.verdict) && (f.client == nil || f.client.Match(e.client)) &&
		(f.who == nil || f.who.Match(e.who)) && (f.lane == nil || f.lane.Match(e.lane))
}
