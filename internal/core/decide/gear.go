package decide

import (
	"fmt"
	"strconv"
	"strings"

	"tollgate.example/key/internal/core/command"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

// Commands is a compiled command list with everything that it extends.
type Commands struct {
	*config.CommandList
	List *command.List
}

// compileCommands compiles the command lists, by name in lower case.
func compileCommands(c *config.Config) map[string]*Commands {
	out := make(map[string]*Commands, len(c.CommandLists))
	for i := range c.CommandLists {
		l := c.CommandLists[i]
		whole, _ := c.WholeList(l) // the check has told
		out[strings.ToLower(l.Name)] = &Commands{l, whole}
	}
	return out
}

// gear decides what network gear asks about somebody to whom a pass was given.
func (p *Plan) gear(f *facts.Facts, d *Decision) reason.Code {
	switch f.Gear.Asks {
	case facts.AsksLogin, facts.AsksPassword:
		return reason.OK
	case facts.AsksEnable:
		if f.Gear.Level > d.Pass.Grant.Level {
			return reason.LevelTooHigh
		}
		return reason.OK
	case facts.AsksCommand:
		if d.Pass.commands == nil {
			return reason.CommandNoList
		}
		d.Commands = d.Pass.commands
		at, permit := d.Commands.List.Decide(command.Words(f.Gear.Command))
		d.CommandLine = at
		switch {
		case permit:
			return reason.OK
		case at < 0:
			return reason.CommandNone
		}
		return reason.CommandRefused
	}
	if !d.Pass.Grant.Answers(f.Gear.Asks) {
		return reason.ServiceNotGranted
	}
	if _, err := d.Pass.Grant.For(f, f.Gear.Asks); err != nil {
		return reason.PassValueMissing
	}
	return reason.OK
}

// LineText says which line of a command list decided, "" if none was asked.
func (d *Decision) LineText() string {
	if d.Commands == nil {
		return ""
	}
	if d.CommandLine < 0 {
		return "no line matches; default " + map[bool]string{true: "permit", false: "refuse"}[d.Commands.List.Otherwise]
	}
	line := &d.Commands.List.Lines[d.CommandLine]
	text := fmt.Sprintf("line %d: %s %s", line.Number, map[bool]string{true: "permit", false: "refuse"}[line.Permit],
		line.Pattern)
	if line.List != d.Commands.Name {
		text = line.List + ", " + text
	}
	return text
}

// replyOf writes the answer that a pass makes, for people.
func (d *Decision) replyOf(f *facts.Facts) []results.Text {
	if f.Gear == nil {
		return d.Pass.Reply.TextsFor(f)
	}
	out := []results.Text{}
	if f.Gear.Asks == facts.AsksCommand || !f.Vouched() {
		return out
	}
	args, _ := d.Pass.Grant.For(f, f.Gear.Asks)
	for _, a := range args {
		out = append(out, results.Text{Name: a.Name, Value: a.Value, Place: f.Gear.Asks})
	}
	return out
}

// gearSentence says in words what was admitted, "" if it is no question of gear that needs other words than a sign-in.
func (d *Decision) gearSentence(f *facts.Facts) string {
	if f.Gear == nil {
		return ""
	}
	switch f.Gear.Asks {
	case facts.AsksLogin:
		return ""
	case facts.AsksCommand:
		return fmt.Sprintf("Permitted by command list %s, %s", d.Commands.Name, d.LineText())
	case facts.AsksEnable:
		return fmt.Sprintf("Privilege level %d is granted by pass %s", f.Gear.Level, d.Pass.Name)
	case facts.AsksPassword:
		return "The password was changed"
	}
	return fmt.Sprintf("The service %s is granted by pass %s", f.Gear.Asks, d.Pass.Name)
}

// gearValues are the placeholders of what gear asks.
func gearValues(f *facts.Facts, d *Decision, v map[string]string) {
	if f.Gear == nil {
		return
	}
	v["asks"], v["command"], v["asked"] = f.Gear.Asks, f.Gear.Command, strconv.Itoa(f.Gear.Level)
	v["line"], v["level"] = d.LineText(), "none"
	if d.Commands != nil {
		v["list"] = d.Commands.Name
	}
	if d.Pass != nil {
		if _, err := d.Pass.Grant.For(f, f.Gear.Asks); err != nil {
			v["detail"] = err.Error()
		}
	}
	if d.Pass != nil && d.Pass.Grant.Level >= 0 {
		v["level"] = "level " + strconv.Itoa(d.Pass.Grant.Level)
	}
}

// fillGear fills the station of the pass with what gear asked for.
func fillGear(s *results.Station, f *facts.Facts, d *Decision) {
	switch f.Gear.Asks {
	case facts.AsksCommand:
		if s.Wanted, s.Found = "a command list", "none in pass "+d.Pass.Name; d.Commands != nil {
			s.Wanted, s.Found = "command list "+d.Commands.Name+" permits "+f.Gear.Command, d.LineText()
		}
	case facts.AsksEnable:
		s.Wanted, s.Found = fmt.Sprintf("level %d or higher", f.Gear.Level), "no level"
		if d.Pass.Grant.Level >= 0 {
			s.Found = fmt.Sprintf("level %d", d.Pass.Grant.Level)
		}
	case facts.AsksLogin, facts.AsksPassword:
	default:
		s.Wanted, s.Found = "something for the service "+f.Gear.Asks, "nothing"
		if d.Pass.Grant.Answers(f.Gear.Asks) {
			var given []string
			for _, t := range d.replyOf(f) {
				given = append(given, t.Name+"="+t.Value)
			}
			if s.Found = strings.Join(given, ", "); s.Found == "" {
				s.Found = "granted, without arguments"
			}
		}
	}
}

// commandLists looks for lines of command lists that can never decide, and for lists that no pass names.
func (a *analysis) commandLists() {
	c := a.plan.Config
	used := map[string]bool{}
	for i := range c.Passes {
		used[strings.ToLower(c.Passes[i].Commands)] = true
	}
	for i := range c.CommandLists {
		for _, base := range c.CommandLists[i].Extends {
			used[strings.ToLower(base)] = true
		}
	}
	for i := range c.CommandLists {
		l := c.CommandLists[i]
		on := results.Finding{Kind: "command-list", Object: l.Name, ID: l.ID, Field: "name"}
		if !used[strings.ToLower(l.Name)] {
			on.Code, on.Note, on.Message, on.Remedy = results.Unused, true, "no pass uses this command list",
				"Remove it, or use it."
			a.add(on)
		}
		whole := a.plan.commands[strings.ToLower(l.Name)].List
		for _, f := range whole.Analyse() {
			// lines of other lists are told there
			if line := whole.Lines[f.Line]; line.List == l.Name && f.Taken != nil {
				a.add(LineFinding(on, whole, f))
			}
		}
	}
}

// LineFinding puts into words that a line can never decide.
func LineFinding(on results.Finding, whole *command.List, f command.Finding) results.Finding {
	line := &whole.Lines[f.Line]
	var by []string
	for _, at := range f.Taken {
		by = append(by, fmt.Sprintf("line %d (%s)", whole.Lines[at].Number, whole.Lines[at].Pattern))
	}
	on.Code, on.Note, on.Field = results.Unreachable, false, fmt.Sprintf("lines[%d]", line.Number-1)
	on.Message = fmt.Sprintf("line %d (%s) never decides: %s before it %s all its commands", line.Number, line.Pattern,
		strings.Join(by, " and "), map[bool]string{true: "takes", false: "take together"}[len(by) == 1])
	on.Remedy = "Move it up, or remove it."
	on.Example, on.Instead = []string{"command " + line.Pattern.Example()}, ""
	if at, _ := whole.Decide(command.Words(line.Pattern.Example())); at >= 0 {
		on.Instead = fmt.Sprintf("line %d: %s", whole.Lines[at].Number, map[bool]string{true: "permit",
			false: "refuse"}[whole.Lines[at].Permit])
	}
	return on
}
