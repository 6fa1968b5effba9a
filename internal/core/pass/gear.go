package pass

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/core/rule"
)

// Grant is what a pass gives to network gear over TACACS+ (RFC 8907 section 8.2).
type Grant struct {
	// Level is the privilege level, -1 if the pass says nothing of it.
	Level int
	args  []grantArgument
}

// Argument is one argument of a reply.
type Argument struct {
	Name, Value string
	Optional    bool
}

// String writes the argument as it goes over the wire.
func (a Argument) String() string {
	if a.Optional {
		return a.Name + "*" + a.Value
	}
	return a.Name + "=" + a.Value
}

type grantArgument struct {
	Argument
	service  string
	template *rule.Template
}

// CompileGrant reads the part of a resolved pass that is for gear, or lists what is wrong with it.
func CompileGrant(p *config.Pass) (*Grant, []config.Problem) {
	g := &Grant{Level: -1}
	var problems []config.Problem
	add := func(name, value string) {
		g.args = append(g.args, grantArgument{Argument: Argument{Name: name, Value: value}, service: config.Shell})
	}
	if n, err := strconv.Atoi(p.PrivilegeLevel); err == nil {
		g.Level = n
		add("priv-lvl", p.PrivilegeLevel)
	}
	for _, limit := range []struct {
		name    string
		seconds int
	}{{"timeout", p.SessionTimeout}, {"idletime", p.IdleTimeout}} {
		if limit.seconds > 0 { // in minutes there
			add(limit.name, strconv.Itoa((limit.seconds+59)/60))
		}
	}
	for i, a := range p.Arguments {
		made := grantArgument{Argument: Argument{a.Name, a.Value, a.Optional}, service: a.Service}
		if made.service == "" {
			made.service = config.Shell
		}
		if strings.Contains(a.Value, "{{") {
			template, err := rule.ParseTemplate(a.Value)
			var at *rule.Error
			if errors.As(err, &at) {
				problem := config.NewProblem(config.Malformed, "%s", err)
				problem.Column = at.Column
				problems = append(problems, problem.On("pass", p.Name, p.ID, fmt.Sprintf("arguments[%d].value", i),
					at.Remedy))
				continue
			}
			made.template = template
		}
		g.args = append(g.args, made)
	}
	return g, problems
}

// Answers reports whether the pass gives anything for a service; every pass does for shell.
func (g *Grant) Answers(service string) bool {
	if service == config.Shell {
		return true
	}
	for i := range g.args {
		if g.args[i].service == service {
			return true
		}
	}
	return false
}

// For returns the arguments for a service. The error says which value is missing or does not fit.
func (g *Grant) For(f *facts.Facts, service string) ([]Argument, error) {
	var out []Argument
	for i := range g.args {
		a := g.args[i].Argument
		if g.args[i].service != service {
			continue
		}
		if t := g.args[i].template; t != nil {
			text, missing := t.Fill(f)
			if missing != "" {
				return nil, fmt.Errorf("%s of %s has no value", missing, t)
			}
			if a.Value = text; len(a.String()) > 255 || strings.ContainsFunc(text, func(r rune) bool {
				return r < 0x20 || r == 0x7f
			}) {
				return nil, fmt.Errorf("%s gives more than 255 octets, or control characters", t)
			}
		}
		out = append(out, a)
	}
	return out, nil
}

// Texts writes all arguments for people, templates as they are written.
func (g *Grant) Texts() []results.Text {
	out := []results.Text{}
	for i := range g.args {
		place := g.args[i].service
		if g.args[i].Optional {
			place += ", optional"
		}
		out = append(out, results.Text{Name: g.args[i].Name, Value: g.args[i].Value, Place: place})
	}
	return out
}
