package tacacs

import (
	"bytes"
	"fmt"
	"strings"

	"tollgate.example/key/internal/core/command"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/wire/tacacs"
)

// badArgument says what is wrong with the arguments of a request, "" if nothing is.
func badArgument(args [][]byte) string {
	size := 0
	for i, a := range args {
		size += len(a)
		if _, _, _, ok := tacacs.SplitArg(a); !ok {
			return fmt.Sprintf("argument %d of %d has neither = nor *, no name, or control characters", i+1, len(args))
		}
	}
	if size > command.MaxCommand { // nobody types this; cut off, it might be taken for another command
		return fmt.Sprintf("the arguments have %d octets, at most %d are looked at", size, command.MaxCommand)
	}
	return ""
}

// readRequest reads what the arguments of an authorization request ask for.
func readRequest(f *facts.Facts, q *tacacs.Request) {
	f.Gear.Level, f.Gear.Authenticated = int(q.Level), q.Method.String()
	service, cmd := "", ""
	var words []byte
	for _, a := range q.Args {
		f.Gear.Args = append(f.Gear.Args, facts.Clean(a))
		name, value, _, _ := tacacs.SplitArg(a)
		switch string(name) {
		case "service":
			service = facts.Clean(value)
		case "cmd":
			cmd = facts.Clean(value)
		case "cmd-arg":
			words = append(append(words, ' '), value...)
		}
	}
	switch {
	case service == config.Shell && cmd != "":
		f.Service, f.Gear.Asks = facts.DeviceCommand, facts.AsksCommand
		f.Gear.Command = strings.Join(command.Words(cmd+facts.Clean(words)), " ")
	default:
		f.Gear.Asks = service
	}
}

// join makes the reply of what was asked with and what the pass gives. Arguments that the pass does not speak of stay
// as they were asked; where it gives another value, its own take the place of all (PASS_REPL), else they are added
// (PASS_ADD).
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

// readRecord reads what an accounting request reports (RFC 8907 section 7).
func readRecord(r *tacacs.Record, client string, tried bool) gate.Report {
	out := gate.Report{Event: r.Event(), Client: client, User: string(r.User), Origin: facts.Clean(r.Remote),
		Port: facts.Clean(r.Port), Level: int(r.Level), Tried: tried}
	var words []byte
	for _, a := range r.Args {
		out.Args = append(out.Args, facts.Clean(a))
		name, value, _, _ := tacacs.SplitArg(a)
		switch string(name) {
		case "task_id":
			out.Task = facts.Clean(value)
		case "cmd":
			words = append(bytes.Clone(value), words...)
		case "cmd-arg":
			words = append(append(words, ' '), value...)
		}
	}
	out.Command = strings.Join(command.Words(facts.Clean(words)), " ")
	return out
}

// Methods of sign-ins by their kind in TACACS+; ASCII shows the password like PAP.
var methods = map[tacacs.Kind]string{
	tacacs.ASCII: "pap", tacacs.PAP: "pap", tacacs.CHAP: "chap", tacacs.MSCHAP: "mschap", tacacs.MSCHAPv2: "mschapv2",
}
