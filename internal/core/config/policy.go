package config

import (
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/command"
)

// Calendar is hours of the week in a time zone, less holidays; conditions ask for it by name (time is office-hours).
type Calendar struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Zone is a name of the time zone database.
	Zone     string             `json:"zone"`
	Spans    []calendar.Span    `json:"spans"`
	Holidays []calendar.Holiday `json:"holidays"`
	Note     string             `json:"note,omitempty"`
}

// Override gives one person another pass than the policy that admits does.
type Override struct {
	ID string `json:"id"`
	// Name says what it is for.
	Name string `json:"name"`
	// Person is the name in the store; Store and Lane limit it, empty is any.
	Person string `json:"person"`
	Store  string `json:"store,omitempty"`
	Lane   string `json:"lane,omitempty"`
	Pass   string `json:"pass"`
	// Until is when it ends, zero for never.
	Until time.Time `json:"until,omitzero"`
	Owner string    `json:"owner,omitempty"`
	Note  string    `json:"note,omitempty"`
}

// Expectation says what an attempt is to come to; it is checked before each publish.
type Expectation struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Sent is the name as the device would send it; Client and Method as for a trial. The proof is taken to be right.
	Sent       string      `json:"sent"`
	Client     string      `json:"client"`
	Method     string      `json:"method"`
	Attributes []Attribute `json:"attributes"`
	// Asks is TACACS+ request: login, enable, shell, command, or a service; empty for RADIUS. Command is
	// what is typed, Level what enable asks for.
	Asks    string `json:"asks,omitempty"`
	Command string `json:"command,omitempty"`
	Level   int    `json:"level,omitempty"`
	// At is the moment it is tried for, zero for the moment of the check.
	At time.Time `json:"at,omitzero"`
	// Admitted says whether it is to be admitted; Pass and VLAN what it is to get, Reason why not, empty for any.
	Admitted bool   `json:"admitted"`
	Pass     string `json:"pass,omitempty"`
	VLAN     string `json:"vlan,omitempty"`
	Reason   string `json:"reason,omitempty"`
	Note     string `json:"note,omitempty"`
}

func (c *Calendar) Ident() string        { return c.ID }
func (c *Calendar) Label() string        { return c.Name }
func (c *Calendar) Identify(id string)   { c.ID = id }
func (o *Override) Ident() string        { return o.ID }
func (o *Override) Label() string        { return o.Name }
func (o *Override) Identify(id string)   { o.ID = id }
func (e *Expectation) Ident() string     { return e.ID }
func (e *Expectation) Label() string     { return e.Name }
func (e *Expectation) Identify(s string) { e.ID = s }

// Compile makes the calendar ready for asking, or lists its faults.
func (c *Calendar) Compile() (*calendar.Calendar, []calendar.Fault) {
	return calendar.Compile(c.Zone, c.Spans, c.Holidays)
}

func (c *Calendar) normalise() {
	orEmpty(&c.Spans)
	orEmpty(&c.Holidays)
	trim(&c.Name, &c.Zone, &c.Note)
	for i := range c.Spans {
		s := &c.Spans[i]
		trim(&s.From, &s.To)
		for _, at := range []*string{&s.From, &s.To} {
			if len(*at) == 4 && (*at)[1] == ':' {
				*at = "0" + *at
			}
		}
		for j, day := range s.Days {
			letters := []rune(strings.ToLower(strings.TrimSpace(day)))
			s.Days[j] = string(letters[:min(3, len(letters))]) // Monday is mon
		}
		s.Days = unique(s.Days)
	}
	for i := range c.Holidays {
		trim(&c.Holidays[i].Date, &c.Holidays[i].Name)
	}
}

func (c *Config) checkCalendars(k *checker) {
	for i := range c.Calendars {
		one := c.Calendars[i]
		k.on("calendar", one.Name, one.ID)
		_, faults := one.Compile()
		for _, f := range faults {
			k.fail(f.Field, Malformed, f.Remedy, "%s", f.Message)
		}
	}
}

func (c *Config) checkOverrides(k *checker) {
	taken := map[string]string{}
	for i := range c.Overrides {
		o := c.Overrides[i]
		k.on("override", o.Name, o.ID)
		if o.Person == "" {
			k.fail("person", Required, "Enter the name as in the directory.", "no person")
		}
		if _, at := Find(c.Directories, o.Store); o.Store != "" && at < 0 && !strings.EqualFold(o.Store, LocalStore) &&
			!strings.EqualFold(o.Store, DeviceStore) {
			k.fail("store", NotFound, "Choose one of the directories, local, or leave it empty.",
				"there is no directory %q", o.Store)
		}
		if _, at := Find(c.Lanes, o.Lane); o.Lane != "" && at < 0 {
			k.fail("lane", NotFound, "Choose one of the lanes, or leave it empty for all.", "there is no lane %q",
				o.Lane)
		}
		c.checkPassName(k, "pass", o.Pass)
		key := strings.ToLower(o.Person + "\x00" + o.Store + "\x00" + o.Lane)
		if other := taken[key]; other != "" {
			k.fail("person", Taken, "Remove one of the two.", "override %q is for the same person there", other)
		}
		taken[key] = o.Name
	}
}

// checkAsks checks what is asked, and by which method.
func (e *Expectation) checkAsks(k *checker) {
	m := FindMethod(e.Method)
	proves := e.Asks == "" || e.Asks == "login" || e.Asks == "enable"
	if proves && m == nil {
		k.fail("method", Unknown, "Use one of: "+strings.Join(Methods, ", ")+".", "%q is not a method", e.Method)
	}
	if e.Asks == "" {
		if e.Command != "" || e.Level != 0 {
			k.fail("asks", Conflict, "Use command or enable, or leave both empty.",
				"commands and levels exist in TACACS+ only")
		}
		return
	}
	if proves && m != nil && (m.EAP || m.Needs == NeedsAddress) {
		k.fail("method", Conflict, "Use pap, which stands for the dialogue too, chap, mschap or mschapv2.",
			"%s is not used in TACACS+", m.Title)
	}
	switch {
	case len(e.Asks) > 60 || strings.ContainsAny(e.Asks, " =*"):
		k.fail("asks", Unknown, "Use login, enable, shell, command, or a service such as ppp.",
			"%q is not a TACACS+ request", e.Asks)
	case e.Asks == "command" && strings.TrimSpace(e.Command) == "":
		k.fail("command", Required, "Write what somebody would type.", "no command")
	case e.Asks != "command" && e.Command != "":
		k.fail("command", Conflict, "Leave it empty, or choose command.",
			"a command is given, but the request is not about a command")
	case len(e.Command) > command.MaxCommand:
		k.fail("command", TooLong, fmt.Sprintf("Use at most %d.", command.MaxCommand),
			"a command of %d octets is too long", len(e.Command))
	}
	if e.Level < 0 || e.Level > 15 {
		k.fail("level", NotFound, "Use 0 to 15.", "%d is not a privilege level", e.Level)
	}
	if len(e.Attributes) > 0 {
		k.fail("attributes", Conflict, "Leave them out.", "attributes exist in RADIUS only")
	}
	if e.VLAN != "" {
		k.fail("vlan", Conflict, "Leave it empty.", "TACACS+ assigns no VLAN")
	}
}

func (c *Config) checkExpectations(k *checker) {
	for i := range c.Expectations {
		e := c.Expectations[i]
		k.on("expectation", e.Name, e.ID)
		if k.clients == nil {
			k.clients = known(c.Clients)
		}
		if !k.clients[e.Client] && !k.clients[strings.ToLower(e.Client)] {
			k.fail("client", NotFound, "Choose one of the clients.", "there is no client %q", e.Client)
		}
		if e.Sent == "" {
			k.fail("sent", Required, "Enter it as the device sends it.", "no name")
		}
		e.checkAsks(k)
		if e.Admitted && e.Reason != "" {
			k.fail("reason", Conflict, "Leave it empty, or expect a refusal.",
				"an admission has no reason")
		}
		if !e.Admitted && (e.Pass != "" || e.VLAN != "") {
			k.fail("pass", Conflict, "Leave both empty, or expect an admission.",
				"a refusal grants no pass and no VLAN")
		}
		if e.Pass != "" {
			c.checkPassName(k, "pass", e.Pass)
		}
		if len(e.Attributes) > 60 {
			k.fail("attributes", TooMany, "Remove some.", "more than 60 attributes")
		}
	}
}
