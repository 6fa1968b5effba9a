package presence

import (
	"strings"
	"testing"
)

func TestReaders(t *testing.T) {
	for _, test := range []struct {
		pattern, line, who, address, ports string
		fits                               bool
	}{
		{"session opened for {who} from {address} port {}",
			"gate sshd[7]:  session  opened for k.oake from 192.0.2.50 port 22",
			"k.oake", "192.0.2.50", "", true},
		{"{who} logged in at {address}:{ports};", `LANTERN\k.oake logged in at 203.0.113.5:20000-20999; welcome`,
			`LANTERN\k.oake`, "203.0.113.5", "20000-20999", true},
		{"user={who} ip={address}", "time=1 user=k.oake ip=2001:db8::1 rest", "k.oake", "2001:db8::1", "", true},
		{"user={who} ip={address}", "user=no body ip=192.0.2.1", "", "", "", false},
		{"user={who} ip={address}", "user= ip=192.0.2.1", "", "", "", false},
		{"user={who} ip={address}", "nothing of the kind", "", "", "", false},
		{"opened {} by {who} on {address}", "opened a door by k.oake on 192.0.2.1", "k.oake", "192.0.2.1", "", true},
	} {
		r, err := CompileReader(test.pattern, SignedIn)
		if err != nil {
			t.Errorf("%q: %v", test.pattern, err)
			continue
		}
		s, fits, err := r.Read(test.line)
		if fits != test.fits || err != nil || s.Who != test.who || s.Ports.String() != test.ports ||
			fits && s.Address.String() != test.address {
			t.Errorf("%q reads %q as %+v, %v, %v", test.pattern, test.line, s, fits, err)
		}
	}
	for pattern, want := range map[string]string{"{who} {address}": "nearly every line", "from {who": "not closed",
		"logged in {name} {address}": "no field {name}", "login {who}{address}": "side by side",
		"login of {who}": "it needs {who}, and", "login {who} {who} {address}": "twice",
		strings.Repeat("login ", 100) + "{who} {address}": "longer than"} {
		if _, err := CompileReader(pattern, SignedIn); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", pattern, err)
		}
	}
	r, err := CompileReader("login {who} at {address}", SignedIn)
	if err != nil {
		t.Fatal(err)
	}
	if _, fits, err := r.Read("login k.oake at home"); !fits || err == nil ||
		!strings.Contains(err.Error(), "home") {
		t.Errorf("an address that is none: %v, %v", fits, err)
	}
}

func FuzzReader(f *testing.F) {
	f.Add("session opened for {who} from {address}", "session opened for k.oake from 192.0.2.50")
	f.Add("{who} on {host} ({mac}) {address} {ports}", "k.oake on a b (02-00-5e-00-00-01) ::1 1-2")
	f.Fuzz(func(t *testing.T, pattern, line string) {
		r, err := CompileReader(pattern, SignedIn)
		if err != nil {
			return
		}
		if s, fits, err := r.Read(line); fits && err == nil && s.Who == "" {
			t.Errorf("%q reads nobody in %q", pattern, line)
		}
	})
}
