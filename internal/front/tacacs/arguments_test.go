package tacacs

import (
	"strings"
	"testing"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/wire/tacacs"
)

func octets(list ...string) [][]byte {
	var out [][]byte
	for _, text := range list {
		out = append(out, []byte(text))
	}
	return out
}

// What of a request stays, and what a pass replaces (RFC 8907 section 6.2).
func TestArgumentsAreAddedOrReplaced(t *testing.T) {
	own := []pass.Argument{{Name: "priv-lvl", Value: "7"}, {Name: "acl", Value: "5", Optional: true}}
	for _, c := range []struct {
		asked   []string
		want    string
		replace bool
	}{
		{[]string{"service=shell", "cmd="}, "priv-lvl=7 acl*5", false},
		{[]string{"service=shell", "cmd=", "priv-lvl=7"}, "acl*5", false},
		{[]string{"service=shell", "cmd=", "priv-lvl*7", "acl=5"}, "", false},
		{[]string{"service=shell", "cmd=", "priv-lvl*1"}, "service=shell cmd= priv-lvl=7 acl*5", true},
		{[]string{"service=shell", "own*x", "acl=6"}, "service=shell own*x priv-lvl=7 acl*5", true},
	} {
		out, replace := join(octets(c.asked...), own)
		var got []string
		for _, a := range out {
			got = append(got, a.String())
		}
		if strings.Join(got, " ") != c.want || replace != c.replace {
			t.Errorf("%q: %q, %v", c.asked, got, replace)
		}
	}
}

func TestWhatARequestAsksFor(t *testing.T) {
	for _, c := range []struct {
		args                   []string
		asks, service, command string
	}{
		{[]string{"service=shell", "cmd="}, "shell", facts.DeviceLogin, ""},
		{[]string{"service=shell", "cmd*"}, "shell", facts.DeviceLogin, ""},
		{[]string{"service=shell"}, "shell", facts.DeviceLogin, ""},
		{[]string{"service=shell", "cmd=show", "cmd-arg=ip", "cmd-arg=route  all", "cmd-arg=<cr>"}, "command",
			facts.DeviceCommand, "show ip route all"},
		{[]string{"service=ppp", "protocol=ip"}, "ppp", facts.DeviceLogin, ""},
		{[]string{"service=ppp", "cmd=show"}, "ppp", facts.DeviceLogin, ""},
		{nil, "", facts.DeviceLogin, ""},
	} {
		f := facts.Facts{Service: facts.DeviceLogin, Gear: &facts.Gear{}}
		readRequest(&f, &tacacs.Request{Method: tacacs.MethodTACACS, Level: 15, Args: octets(c.args...)})
		if f.Gear.Asks != c.asks || f.Service != c.service || f.Gear.Command != c.command ||
			f.Gear.Authenticated != "tacacs" || f.Gear.Level != 15 || !f.Vouched() {
			t.Errorf("%q: %+v for %s", c.args, f.Gear, f.Service)
		}
	}
}

func FuzzArguments(f *testing.F) {
	f.Add("service=shell\ncmd=show\ncmd-arg=x")
	f.Fuzz(func(t *testing.T, text string) {
		fs := facts.Facts{Gear: &facts.Gear{}}
		args := octets(strings.Split(text, "\n")...)
		readRequest(&fs, &tacacs.Request{Args: args})
		join(args, []pass.Argument{{Name: "x", Value: "y"}})
	})
}
