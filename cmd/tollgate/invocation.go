package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/term"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// invocation is one run of the program: where to print, and the service to talk to.
type invocation struct {
	ctx context.Context
	in  io.Reader
	// out and err are for people; file is for exports, which are not changed unless they go to a terminal.
	out, err, file io.Writer
	api            *client.Client
	json           bool
	colour         bool
	lines          *bufio.Reader // of in, once a line was read
	// ended tells that there is no more input.
	ended bool
}

// kept is what sign-in keeps in the user's configuration directory.
type kept struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

func keptPath() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "tollgate", "sign-in.json"), err
}

func newInvocation(ctx context.Context, in io.Reader, out, errOut io.Writer) *invocation {
	s := &invocation{ctx: ctx, in: in, out: &terminal{out}, err: &terminal{errOut}, file: &terminal{out},
		api: &client.Client{URL: "http://127.0.0.1:8440", Agent: "tollgate/1"}}
	if path, err := keptPath(); err == nil {
		var k kept
		if text, err := os.ReadFile(path); err == nil && json.Unmarshal(text, &k) == nil {
			s.api.URL, s.api.Token = k.URL, k.Token
		}
	}
	if v := os.Getenv("TOLLGATE_URL"); v != "" {
		s.api.URL = v
	}
	if v := os.Getenv("TOLLGATE_TOKEN"); v != "" {
		s.api.Token = v
	}
	if f, ok := out.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		s.file = out // as it is, octet by octet
	} else {
		s.colour = os.Getenv("NO_COLOR") == ""
	}
	return s
}

// print writes a value as JSON if that was asked for, or else calls the function for people.
func (s *invocation) print(value any, people func()) error {
	if !s.json {
		people()
		return nil
	}
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(value); err != nil {
		return err
	}
	_, err := s.out.Write(escaped(text.Bytes()))
	return err
}

func (s *invocation) say(format string, args ...any) { fmt.Fprintf(s.out, format+"\n", args...) }

const (
	green = ink + "[32m"
	red   = ink + "[31m"
	faint = ink + "[2m"
	bold  = ink + "[1m"
	plain = ink + "[0m"
)

func (s *invocation) paint(colour, text string) string {
	if !s.colour {
		return text
	}
	return colour + text + plain
}

// verdict writes a verdict as glyph and word: the bar raised or lowered.
func (s *invocation) verdict(v string) string {
	if v == "admitted" {
		return s.paint(green, "/ admitted")
	}
	if v == "asked" { // nothing is decided: the device is to ask the person
		return "? asked   "
	}
	return s.paint(red, "- refused ")
}

// width is how wide output may get.
const width = 100

// table prints rows under headings in columns; the last column is cut to the width.
func (s *invocation) table(headings []string, rows [][]string) {
	if len(rows) == 0 {
		s.say("None.")
		return
	}
	size := make([]int, len(headings))
	for _, row := range append([][]string{headings}, rows...) {
		for i, cell := range row {
			size[i] = max(size[i], len([]rune(cell)))
		}
	}
	total := 2 * (len(size) - 1)
	for _, n := range size {
		total += n
	}
	for total > width { // the widest columns give way
		widest := 0
		for i := range size {
			if size[i] > size[widest] {
				widest = i
			}
		}
		size[widest]--
		total--
	}
	for n, row := range append([][]string{headings}, rows...) {
		var b strings.Builder
		for i, cell := range row {
			runes := []rune(oneLine(cell))
			if len(runes) > size[i] {
				runes = append(runes[:max(0, size[i]-3)], []rune("...")[:min(3, size[i])]...)
			}
			b.WriteString(string(runes))
			if i < len(row)-1 {
				b.WriteString(strings.Repeat(" ", size[i]-len(runes)+2))
			}
		}
		line := strings.TrimRight(b.String(), " ")
		if n == 0 {
			line = s.paint(faint, line)
		}
		s.say("%s", line)
	}
}

// one returns the only argument.
func one(args []string, what string) (string, error) {
	if len(args) != 1 {
		return "", usageError("give one " + what)
	}
	return args[0], nil
}

func accessCommands() []command {
	return []command{
		{"setup", "", "[NAME]", "create the first operator; without NAME, what remains to do",
			func(f *flag.FlagSet) func(
				*invocation, []string) error {
				code := f.String(
					"code",
					"",
					"setup code, which the service prints at its start and keeps in the file "+
						"setup-code of its data directory",
				)
				second := f.String("second", "", "name of a second owner, who is added at once")
				return func(s *invocation, args []string) error {
					if len(args) == 0 {
						return s.firstHour()
					}
					name, err := one(args, "name")
					if err != nil {
						return err
					}
					if err := s.setUp(name, *code, *second); err != nil {
						return err
					}
					if f, ok := s.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
						return s.firstHour()
					}
					s.say("Go on with: tollgate setup")
					return nil
				}
			}},
		{"sign-in", "", "", "sign in to a service and keep a token", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			name := f.String("name", "", "name of the operator")
			return func(s *invocation, _ []string) error { return s.signIn(*name) }
		}},
		{
			"sign-out",
			"",
			"",
			"end the token that sign-in kept",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, _ []string) error {
					if err := s.api.Do(s.ctx, http.MethodPost, "/sign-out", nil, nil); err != nil {
						return err
					}
					if path, err := keptPath(); err == nil {
						os.Remove(path)
					}
					return s.print(struct{}{}, func() { s.say("Signed out.") })
				}
			},
		},
		{"status", "", "", "what is running, and what needs attention", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, _ []string) error {
				about, err := client.Get[apitype.About](s.ctx, s.api, "/about")
				if err != nil {
					return err
				}
				now, err := client.Get[apitype.Now](s.ctx, s.api, "/now")
				if err != nil {
					return err
				}
				return s.print(now, func() { s.status(about, now) })
			}
		}},
	}
}

func (s *invocation) status(about apitype.About, now apitype.Now) {
	s.say("Tollgate Key %s, revision %d, %d changes in the draft, signed in as %s, %s", about.Version, about.Revision,
		about.Changes, about.Operator, about.Role)
	s.say("The last hour: %d admitted, %d refused, %d discarded; median %.1f ms", now.Admitted, now.Refused,
		now.Dropped, float64(now.MedianMicros)/1000)
	if len(now.Attention) == 0 {
		s.say("Nothing needs attention.")
		return
	}
	s.say("\nNeeds attention:")
	for _, a := range now.Attention {
		s.say("  %s", s.paint(bold, a.Title))
		for _, line := range wrap(a.Text, width-4) {
			s.say("    %s", line)
		}
	}
}

// wrap breaks a text into lines.
func wrap(text string, n int) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > n {
			out, line = append(out, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(out, line)
}

// secret asks for a secret without showing it, or reads a line if the input is no terminal.
func (s *invocation) secret(what string) (string, error) {
	if f, ok := s.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(s.err, what+": ")
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(s.err)
		return string(text), err
	}
	return s.line(what)
}

func (s *invocation) line(what string) (string, error) {
	if s.lines == nil {
		s.lines = bufio.NewReader(io.LimitReader(s.in, 4096))
	}
	text, err := s.lines.ReadString('\n')
	if err != nil && text == "" {
		return "", fmt.Errorf("%s is missing on the standard input", strings.ToLower(what))
	}
	return strings.TrimRight(text, "\r\n"), nil
}

// setUp creates the first operator.
func (s *invocation) setUp(name, code, second string) error {
	if code == "" {
		return usageError("give the setup code with -code; the service prints it at its start")
	}
	password, err := s.secret("Password of " + name)
	if err != nil {
		return err
	}
	s.api.Token = ""
	if err := s.api.Do(s.ctx, http.MethodPost, "/setup", apitype.SetupInput{Code: code, Name: name, Password: password},
		nil); err != nil {
		return err
	}
	if err := s.signInWith(name, password); err != nil {
		return err
	}
	return s.secondOwner(second)
}

// secondOwner offers a second owner, so that nobody is locked out with one who is away.
func (s *invocation) secondOwner(name string) (err error) {
	if f, ok := s.in.(*os.File); name == "" && ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(s.err, "Name of a second owner, who can let you in again (Enter for none now): ")
		if name, err = s.line("Name"); err != nil {
			return nil
		}
	}
	if name == "" {
		fmt.Fprintln(
			s.err,
			"Add a second owner soon, who can let you in again: tollgate operator add NAME -role owner",
		)
		return nil
	}
	password, err := s.secret("Password of " + name)
	if err != nil {
		return err
	}
	if err := s.api.Do(s.ctx, http.MethodPost, "/operators", apitype.OperatorInput{Name: name, Password: password,
		Role: "owner"}, nil); err != nil {
		return err
	}
	fmt.Fprintf(s.err, "Operator %s may sign in, as owner.\n", name)
	return nil
}

func (s *invocation) signIn(name string) error {
	if name == "" {
		return usageError("give the name of the operator with -name")
	}
	password, err := s.secret("Password")
	if err != nil {
		return err
	}
	return s.signInWith(name, password)
}

func (s *invocation) signInWith(name, password string) error {
	host, _ := os.Hostname()
	var out apitype.SignedIn
	s.api.Token = ""
	in := apitype.SignInInput{Name: name, Password: password,
		TokenName: fmt.Sprintf("%s, %s", host, time.Now().Format("2006-01-02"))}
	err := s.api.Do(s.ctx, http.MethodPost, "/sign-in", in, &out)
	if p := (*apitype.Problem)(nil); errors.As(err, &p) && (p.Code == "factor.missing" || p.Code == "name.guessed") {
		if p.Code == "name.guessed" {
			fmt.Fprintln(s.err, "Too many wrong passwords were given for this name, from elsewhere. With the code of "+
				"your second factor yours is looked at.")
		}
		if in.Code, err = s.line("Code of the second factor"); err != nil {
			return err
		}
		err = s.api.Do(s.ctx, http.MethodPost, "/sign-in", in, &out)
	}
	if err != nil {
		return err
	}
	s.api.Token = out.Token
	path, err := keptPath()
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		text, _ := json.Marshal(kept{s.api.URL, out.Token})
		err = os.WriteFile(path, text, 0o600)
	}
	if err != nil {
		return fmt.Errorf("keeping the token: %w", err)
	}
	return s.print(map[string]string{"operator": out.Operator, "file": path}, func() {
		s.say("Signed in as %s at %s. The token is kept in %s.", out.Operator, s.api.URL, path)
	})
}
