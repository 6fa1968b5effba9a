package trial

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/wire/tacacs"
)

// GearAsk is one thing to ask over TACACS+.
type GearAsk struct {
	// Ask is login, enable, password, shell, command, start, stop, update, or a service to be authorized, such as ppp.
	Ask string `json:"ask"`
	// Method is ascii (also if empty), pap, chap, mschap or mschapv2.
	Method   string `json:"method"`
	User     string `json:"user"`
	Password string `json:"password"`
	// Code is a one-time code: typed when one is asked for, behind the password in PAP.
	Code string `json:"code"`
	// New is the new password where one is asked for.
	New string `json:"newPassword"`
	// Level is what enable asks for, and what the person has for everything else.
	Level  int    `json:"level"`
	Port   string `json:"port"`
	Remote string `json:"remote"`
	// Command is the command to ask about, or to report.
	Command string `json:"command"`
	// Args are further arguments, NAME=VALUE or NAME*VALUE.
	Args []string `json:"args"`
}

// GearAsks are the things that can be asked by a name of their own.
var GearAsks = []string{"login", "enable", "password", "shell", "command", "start", "stop", "update"}

// GearMethods are the ways to sign in over TACACS+.
var GearMethods = []string{"ascii", "pap", "chap", "mschap", "mschapv2"}

var gearKinds = map[string]tacacs.Kind{"": tacacs.ASCII, "ascii": tacacs.ASCII, "pap": tacacs.PAP, "chap": tacacs.CHAP,
	"mschap": tacacs.MSCHAP, "mschapv2": tacacs.MSCHAPv2}

// Try asks one thing.
func (g *Gear) Try(ctx context.Context, a GearAsk) (results.GearReply, error) {
	t := &gearTry{out: results.GearReply{Args: []string{}, Rounds: []results.Round{}}, begun: time.Now()}
	var err error
	switch a.Ask {
	case "login", "enable", "password":
		err = t.authenticate(ctx, g, &a)
	case "start", "stop", "update":
		err = t.account(ctx, g, &a)
	default:
		err = t.authorize(ctx, g, &a)
	}
	t.out.Took = time.Since(t.begun)
	return t.out, err
}

type gearTry struct {
	out   results.GearReply
	begun time.Time
}

func (t *gearTry) say(from, format string, args ...any) {
	t.out.Rounds = append(t.out.Rounds, results.Round{Micros: time.Since(t.begun).Microseconds(), From: from,
		Text: fmt.Sprintf(format, args...)})
}

func (t *gearTry) authenticate(ctx context.Context, g *Gear, a *GearAsk) error {
	kind, known := gearKinds[a.Method]
	if !known {
		return fmt.Errorf("%q is no way to sign in over TACACS+: use one of %s", a.Method, strings.Join(GearMethods,
			", "))
	}
	start := tacacs.Start{Action: tacacs.Login, Level: byte(a.Level), Kind: kind, Service: tacacs.ServiceLogin,
		User: []byte(a.User), Port: []byte(a.Port), Remote: []byte(a.Remote)}
	switch a.Ask {
	case "enable":
		start.Service = tacacs.ServiceEnable
	case "password":
		start.Action = tacacs.ChangePassword
	}
	if kind != tacacs.ASCII {
		start.Data = Credential(kind, a.User, a.Password+a.Code)
	}
	t.say("peer", "START %s by %s, user %q", a.Ask, map[tacacs.Kind]string{tacacs.ASCII: "an ASCII dialogue",
		tacacs.PAP: "PAP", tacacs.CHAP: "CHAP", tacacs.MSCHAP: "MS-CHAP", tacacs.MSCHAPv2: "MS-CHAPv2"}[kind], a.User)
	first := true
	reply, err := g.Authenticate(ctx, start, func(asked tacacs.AuthenReply) (string, bool) {
		t.say("server", "%s %q", asked.Status, asked.Message)
		answer := a.New
		switch {
		case asked.Status == tacacs.AuthenGetUser:
			t.say("peer", "CONTINUE %q", a.User)
			return a.User, false
		case first:
			answer, first = a.Password, false
		case strings.Contains(string(asked.Message), "code"), strings.Contains(string(asked.Message), "phone"):
			t.say("peer", "CONTINUE with a one-time code")
			return a.Code, false
		case a.New == "":
			t.say("peer", "abort: no new password was given")
			return "", true
		}
		t.say("peer", "CONTINUE with a password")
		return answer, false
	})
	if err != nil {
		return err
	}
	t.say("server", "%s %q", reply.Status, reply.Message)
	t.out.Status, t.out.Passed, t.out.Message, t.out.Data = reply.Status.String(), reply.Status == tacacs.AuthenPass,
		string(reply.Message), string(reply.Data)
	return nil
}

// request makes the part that authorization and accounting share.
func (a *GearAsk) request() tacacs.Request {
	q := tacacs.Request{Method: tacacs.MethodTACACS, Level: byte(a.Level), Kind: tacacs.ASCII,
		Service: tacacs.ServiceLogin, User: []byte(a.User), Port: []byte(a.Port), Remote: []byte(a.Remote)}
	add := func(text string) { q.Args = append(q.Args, []byte(text)) }
	switch {
	case a.Command != "":
		words := strings.Fields(a.Command)
		add("service=shell")
		add("cmd=" + words[0])
		for _, w := range append(words[1:], "<cr>") {
			add("cmd-arg=" + w)
		}
	case a.Ask == "shell":
		add("service=shell")
		add("cmd=")
	case !slices.Contains(GearAsks, a.Ask):
		add("service=" + a.Ask)
	}
	for _, text := range a.Args {
		add(text)
	}
	return q
}

func (t *gearTry) authorize(ctx context.Context, g *Gear, a *GearAsk) error {
	q := a.request()
	t.say("peer", "REQUEST %q", q.Args)
	reply, err := g.Authorize(ctx, q)
	if err != nil {
		return err
	}
	t.say("server", "%s %q", reply.Status, reply.Args)
	t.out.Status, t.out.Passed, t.out.Message, t.out.Data = reply.Status.String(), reply.Status == tacacs.AuthorAdd ||
		reply.Status == tacacs.AuthorReplace, string(reply.Message), string(reply.Data)
	for _, arg := range reply.Args {
		t.out.Args = append(t.out.Args, string(arg))
	}
	return nil
}

func (t *gearTry) account(ctx context.Context, g *Gear, a *GearAsk) error {
	r := tacacs.Record{Flags: map[string]byte{"start": tacacs.FlagStart, "stop": tacacs.FlagStop,
		"update": tacacs.FlagWatchdog}[a.Ask], Request: a.request()}
	t.say("peer", "REQUEST %s %q", a.Ask, r.Args)
	reply, err := g.Account(ctx, r)
	if err != nil {
		return err
	}
	t.say("server", "%s", reply.Status)
	t.out.Status, t.out.Passed, t.out.Message, t.out.Data = reply.Status.String(), reply.Status == tacacs.AcctSuccess,
		string(reply.Message), string(reply.Data)
	return nil
}
