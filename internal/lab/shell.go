package lab

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/wire/tacacs"
)

// Shell is the command line of a device of the demo: a person signs in with the real protocol, and each command is
// asked about and reported.
type Shell struct {
	Name, Kind string
	Gear       *trial.Gear
	In         *bufio.Reader
	Out        io.Writer
	// Secret reads a line without showing it. Without it nobody sits at a terminal: passwords are read like any other
	// line, and what is read is written too, so that what comes out reads like a screen.
	Secret func() (string, error)
	// Code looks at the phone of the person when a one-time code is asked for; nil has it typed.
	Code func() string
	// From is where the person sits.
	From string

	user  string
	level int
	task  int
	mode  string // what a configuration is about, "" outside of it
	// Tries is how often somebody may sign in wrongly, 3 if it is 0.
	Tries int
}

// errGone ends a shell: the person has left.
var errGone = errors.New("signed out")

// Run runs the shell until the person leaves, or may not sign in.
func (s *Shell) Run(ctx context.Context) error {
	fmt.Fprintf(s.Out, "%s (a stand-in of Lantern Ferries)\n\n", s.Name)
	if err := s.signIn(ctx); errors.Is(err, errGone) {
		return nil
	} else if err != nil {
		return err
	}
	begun := time.Now()
	s.task = int(begun.UnixMilli() % 1_000_000)
	if err := s.report(ctx, tacacs.FlagStart, "service=shell"); err != nil {
		return err
	}
	for {
		fmt.Fprint(s.Out, s.prompt())
		line, err := s.In.ReadString('\n')
		s.echo(line)
		if line = strings.Join(strings.Fields(line), " "); line != "" {
			err = errors.Join(err, s.typed(ctx, line))
		}
		if err != nil {
			s.report(ctx, tacacs.FlagStop, "service=shell", fmt.Sprintf("elapsed_time=%d",
				int(time.Since(begun).Seconds())))
			if errors.Is(err, errGone) || errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
	}
}

func (s *Shell) prompt() string {
	sign := ">"
	if s.level == 15 {
		sign = "#"
	}
	if s.mode != "" {
		return fmt.Sprintf("%s(%s)%s ", s.Name, s.mode, sign)
	}
	return s.Name + sign + " "
}

// echo writes what was read where no terminal does.
func (s *Shell) echo(line string) {
	if s.Secret == nil {
		fmt.Fprintln(s.Out, strings.TrimRight(line, "\r\n"))
	}
}

// typist reads what the server asks for.
func (s *Shell) typist(asked tacacs.AuthenReply) (string, bool) {
	fmt.Fprintf(s.Out, "%s", asked.Message)
	if s.Code != nil && strings.HasPrefix(string(asked.Message), "One-time code") {
		return s.Code(), false
	}
	if asked.Flags&tacacs.NoEcho != 0 && s.Secret != nil {
		text, err := s.Secret()
		return text, err != nil
	}
	text, err := s.In.ReadString('\n')
	text = strings.TrimRight(text, "\r\n")
	if asked.Flags&tacacs.NoEcho != 0 {
		s.echo("")
	} else {
		s.echo(text)
	}
	if asked.Status == tacacs.AuthenGetUser {
		s.user = text
	}
	return text, err != nil && text == ""
}

func (s *Shell) start(service tacacs.Service, level int) tacacs.Start {
	return tacacs.Start{Action: tacacs.Login, Level: byte(level), Kind: tacacs.ASCII, Service: service,
		User: []byte(s.user), Port: []byte("vty0"), Remote: []byte(s.From)}
}

func (s *Shell) signIn(ctx context.Context) error {
	for range cmp.Or(s.Tries, 3) {
		s.user = ""
		reply, err := s.Gear.Authenticate(ctx, s.start(tacacs.ServiceLogin, 1), s.typist)
		if err != nil {
			return fmt.Errorf("no server answers: %w", err)
		}
		if len(reply.Message) > 0 && reply.Status != tacacs.AuthenGetPass && reply.Status != tacacs.AuthenGetUser {
			fmt.Fprintf(s.Out, "%s\n", reply.Message)
		}
		switch reply.Status {
		case tacacs.AuthenPass:
			return s.enter(ctx)
		case tacacs.AuthenFail:
			fmt.Fprintln(s.Out)
			continue
		}
		if reply.Status == tacacs.AuthenError {
			return fmt.Errorf("the server is in trouble: %s", reply.Message)
		}
		return errGone
	}
	return errors.New("too many wrong tries")
}

// enter asks what the person gets.
func (s *Shell) enter(ctx context.Context) error {
	reply, err := s.Gear.Authorize(ctx, s.request("service=shell", "cmd="))
	if err != nil {
		return err
	}
	if reply.Status != tacacs.AuthorAdd && reply.Status != tacacs.AuthorReplace {
		return fmt.Errorf("signed in, but no shell is granted: %s", reply.Message)
	}
	s.level = 1
	for _, arg := range reply.Args {
		name, value, _, _ := tacacs.SplitArg(arg)
		switch string(name) {
		case "priv-lvl":
			s.level, _ = strconv.Atoi(string(value))
		case "timeout", "idletime":
			fmt.Fprintf(s.Out, "This session ends after %s minutes%s.\n", value,
				map[string]string{"idletime": " of silence"}[string(name)])
		}
	}
	fmt.Fprintln(s.Out)
	return nil
}

func (s *Shell) request(args ...string) tacacs.Request {
	q := tacacs.Request{Method: tacacs.MethodTACACS, Level: byte(s.level), Kind: tacacs.ASCII,
		Service: tacacs.ServiceLogin, User: []byte(s.user), Port: []byte("vty0"), Remote: []byte(s.From)}
	for _, a := range args {
		q.Args = append(q.Args, []byte(a))
	}
	return q
}

// commandArgs are the arguments by which gear asks about a command.
func commandArgs(line string) []string {
	words := strings.Fields(line)
	args := []string{"service=shell", "cmd=" + words[0]}
	for _, w := range append(words[1:], "<cr>") {
		args = append(args, "cmd-arg="+w)
	}
	return args
}

func (s *Shell) report(ctx context.Context, flags byte, args ...string) error {
	args = append(args, fmt.Sprintf("task_id=%d", s.task), "timezone=UTC")
	reply, err := s.Gear.Account(ctx, tacacs.Record{Flags: flags, Request: s.request(args...)})
	if err == nil && reply.Status != tacacs.AcctSuccess {
		err = fmt.Errorf("the server did not take the record: %s", reply.Message)
	}
	return err
}

// typed does what was typed, if that is permitted.
func (s *Shell) typed(ctx context.Context, line string) error {
	words := strings.Fields(line)
	switch words[0] {
	case "enable":
		return s.enable(ctx, words[1:])
	case "disable":
		s.level = 1
		return nil
	case "?", "help":
		fmt.Fprint(s.Out, help)
		return nil
	}
	if words[0] == "exit" || words[0] == "logout" || words[0] == "end" {
		if s.mode != "" {
			s.mode = ""
			return nil
		}
		return errGone
	}
	reply, err := s.Gear.Authorize(ctx, s.request(commandArgs(line)...))
	if err != nil {
		return err
	}
	if reply.Status != tacacs.AuthorAdd && reply.Status != tacacs.AuthorReplace {
		fmt.Fprintf(s.Out, "%% %s\n", reply.Message)
		return nil
	}
	s.do(words)
	s.task++
	return s.report(ctx, tacacs.FlagStop, append(commandArgs(line), fmt.Sprintf("priv-lvl=%d", s.level))...)
}

func (s *Shell) enable(ctx context.Context, words []string) error {
	level := 15
	if len(words) > 0 {
		var err error
		if level, err = strconv.Atoi(words[0]); err != nil || level < 0 || level > 15 {
			fmt.Fprintln(s.Out, "% a level is a number from 0 to 15")
			return nil
		}
	}
	reply, err := s.Gear.Authenticate(ctx, s.start(tacacs.ServiceEnable, level), s.typist)
	if err != nil {
		return err
	}
	if len(reply.Message) > 0 {
		fmt.Fprintf(s.Out, "%% %s\n", reply.Message)
	}
	if reply.Status == tacacs.AuthenPass {
		s.level = level
	}
	return nil
}

const help = `  show version | clock | interfaces | users | running-config
  ping ADDRESS                 configure terminal
  interface NAME               shutdown, no shutdown, description TEXT
  reload                       enable [LEVEL], disable, exit
`

// do makes believe to do a command.
func (s *Shell) do(words []string) {
	line := strings.Join(words, " ")
	say := func(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", args...) }
	switch {
	case line == "show version":
		say("%s, a stand-in %s, software 2026.11", s.Name, s.Kind)
	case line == "show clock":
		say("%s", time.Now().UTC().Format("15:04:05 MST Mon 2 Jan 2006"))
	case line == "show users":
		say("  vty0  %-14s from %s, level %d", s.user, s.From, s.level)
	case strings.HasPrefix(line, "show interfaces"):
		say("  eth0  up    192.0.2.1/24\n  eth1  up    203.0.113.1/28\n  eth2  down  -")
	case strings.HasPrefix(line, "show running-config"):
		say("hostname %s\ninterface eth0\n address 192.0.2.1/24\ninterface eth2\n shutdown", s.Name)
	case words[0] == "ping" && len(words) > 1:
		say("5 of 5 answers from %s, 1 ms", words[1])
	case line == "configure terminal":
		s.mode = "config"
	case words[0] == "interface" && s.mode != "" && len(words) > 1:
		s.mode = "config-" + words[1]
	case words[0] == "reload":
		say("This is a stand-in; it does not reload.")
	case s.mode != "":
	default:
		say("%% unknown command; try ?")
	}
}

// Gear is how a device of the demo asks: hh-router-1 keeps its connection, hh-firewall-1 asks over TLS, the others open
// a connection for each session. secured is what the firewall proves itself with.
func Gear(name, server, secure string, secured func() (*tls.Config, error)) (*trial.Gear, error) {
	for _, d := range devices {
		if d.name != name || d.gear == "" && d.tags["kind"] != "firewall" {
			continue
		}
		g := &trial.Gear{Server: server, From: mustAddr(d.address), Secret: d.gear, Single: d.tags["kind"] == "router",
			Timeout: 5 * time.Second}
		if d.gear != "" {
			return g, nil
		}
		cfg, err := secured()
		if err != nil {
			return nil, err
		}
		g.Server, g.Single, g.TLS = secure, true, cfg
		return g, nil
	}
	return nil, fmt.Errorf("there is no device %q with a command line: use np-switch-1, hh-router-1, hh-core-1 or "+
		"hh-firewall-1", name)
}

func (k *Kit) gear(name, server, secure string) (*trial.Gear, error) {
	return Gear(name, server, secure, func() (*tls.Config, error) { return k.FirewallTLS(), nil })
}

// readGear reads what the firewall proves itself with from the directory of the running demo.
func readGear(dir string) (*tls.Config, error) {
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, "hh-firewall-1.pem"), filepath.Join(dir, "hh-firewall-1.key"))
	if err != nil {
		return nil, fmt.Errorf("the certificate of hh-firewall-1: %w (is the demo running?)", err)
	}
	roots := x509.NewCertPool()
	text, err := os.ReadFile(filepath.Join(dir, "authority.pem"))
	if err != nil || !roots.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("the authority of the demo in %s: %w", dir, err)
	}
	return &tls.Config{Certificates: []tls.Certificate{pair}, RootCAs: roots, ServerName: ServerName}, nil
}

// Console signs a person in to a device of the running demo.
func Console(ctx context.Context, name, server, secure, dir string, in io.Reader, out io.Writer, secret func() (string,
	error)) error {
	g, err := Gear(name, server, secure, func() (*tls.Config, error) { return readGear(dir) })
	if err != nil {
		return err
	}
	defer g.Close()
	s := &Shell{Name: name, Kind: station(name).Kind, Gear: g, In: bufio.NewReader(in), Out: out, Secret: secret,
		From: "192.0.2.77"}
	return s.Run(ctx)
}
