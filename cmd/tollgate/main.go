// Command tollgate is the command-line client. It talks to the HTTP API only.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// Exit codes.
const (
	exitDone        = 0
	exitRefused     = 1
	exitUsage       = 2
	exitUnreachable = 3
)

// command is one verb of a noun. setup declares its flags and returns what runs after parsing.
type command struct {
	noun, verb, args, short string
	setup                   func(*flag.FlagSet) func(*invocation, []string) error
}

// name is how the command is called.
func (c *command) name() string { return strings.TrimSpace(c.noun + " " + c.verb) }

func commands() []command {
	return slices.Concat(
		accessCommands(),
		searchCommands(),
		operatorCommands(),
		operatorSettingCommands(),
		clientCommands(),
		fleetCommands(),
		directoryCommands(),
		joinCommands(),
		checkupCommands(),
		accountCommands(),
		factorCommands(),
		deviceCommands(),
		realmCommands(),
		laneCommands(),
		policyCommands(),
		passCommands(),
		commandListCommands(),
		poolCommands(),
		remoteCommands(),
		feedCommands(),
		calendarCommands(),
		vendorCommands(),
		overrideCommands(),
		expectationCommands(),
		certificateCommands(),
		draftCommands(),
		fileCommands(),
		backupCommands(),
		nodeCommands(),
		hitCommands(),
		attemptCommands(),
		sessionCommands(),
		presenceCommands(),
		sourceCommands(),
		scopeCommands(),
		deviceKindCommands(),
		subscriberCommands(),
		journalCommands(),
		auditCommands(),
		tryCommands(),
		[]command{{"completion", "", "", "print a completion script for bash", completion}},
	)
}

// errUsage is returned for wrong arguments; the message says what is missing.
type usageError string

func (e usageError) Error() string { return string(e) }

// errFailed is returned when a check failed and everything was said already.
var errFailed = errors.New("")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

func run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		help(out)
		return exitDone
	}
	c, rest := find(args)
	if c == nil {
		return usage(&terminal{errOut}, args)
	}
	flags := flag.NewFlagSet(c.name(), flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	s := newInvocation(ctx, in, out, errOut)
	flags.BoolVar(&s.json, "json", false, "print JSON")
	flags.StringVar(&s.api.URL, "url", s.api.URL, "address of the service (TOLLGATE_URL)")
	do := c.setup(flags)
	positional, err := parse(flags, rest)
	if errors.Is(err, flag.ErrHelp) {
		describe(out, c, flags)
		return exitDone
	}
	if err == nil {
		err = do(s, positional)
	} else {
		err = usageError(err.Error())
	}
	return s.end(c, err)
}

// parse lets flags stand before, between and after the arguments.
func parse(flags *flag.FlagSet, args []string) ([]string, error) {
	var positional []string
	for {
		if err := flags.Parse(args); err != nil {
			return nil, err
		}
		args = flags.Args()
		if len(args) == 0 {
			return positional, nil
		}
		positional, args = append(positional, args[0]), args[1:]
	}
}

func find(args []string) (*command, []string) {
	for _, c := range commands() {
		if c.noun == args[0] && c.verb == "" {
			return &c, args[1:]
		}
		if len(args) > 1 && c.noun == args[0] && c.verb == args[1] {
			return &c, args[2:]
		}
	}
	return nil, nil
}

// usage lists the verbs of a noun, or says that there is no such noun.
func usage(w io.Writer, args []string) int {
	var verbs []command
	for _, c := range commands() {
		if c.noun == args[0] {
			verbs = append(verbs, c)
		}
	}
	if len(verbs) == 0 {
		fmt.Fprintf(w, "tollgate: there is no %q. See tollgate help.\n", args[0])
		return exitUsage
	}
	code := exitUsage
	if len(args) > 1 && slices.Contains([]string{"-h", "-help", "--help", "help"}, args[1]) {
		code = exitDone
	} else if len(args) > 1 {
		fmt.Fprintf(w, "tollgate: %s has no verb %q.\n", args[0], args[1])
	}
	fmt.Fprintf(w, "Usage: tollgate %s VERB [flags] [args]\n\n", args[0])
	for _, c := range verbs {
		fmt.Fprintf(w, "  %-34s %s\n", c.name()+" "+c.args, c.short)
	}
	fmt.Fprintf(w, "\nFlags of a verb: tollgate %s VERB -h\n", args[0])
	return code
}

func help(w io.Writer) {
	fmt.Fprint(w, "Usage: tollgate NOUN VERB [flags] [args]\n\nTollgate Key from the command line. -json on "+
		"everything prints JSON.\n")
	noun := ""
	for _, c := range commands() {
		if c.noun != noun {
			fmt.Fprintln(w)
			noun = c.noun
		}
		fmt.Fprintf(w, "  %-38s %s\n", c.name()+" "+c.args, c.short)
	}
	fmt.Fprint(w, `
Edits change the draft; -publish puts one edit into effect at once.
Exit codes: 0 done, 1 refused or a check failed, 2 wrong usage, 3 the service cannot be reached.
TOLLGATE_URL and TOLLGATE_TOKEN say which service and who; tollgate sign-in keeps both.
`)
}

func describe(w io.Writer, c *command, flags *flag.FlagSet) {
	fmt.Fprintf(w, "Usage: tollgate %s [flags] %s\n\n%s.\n\nFlags:\n", c.name(), c.args,
		strings.ToUpper(c.short[:1])+c.short[1:])
	flags.SetOutput(w)
	flags.PrintDefaults()
}

// end says what went wrong and chooses the exit code.
func (s *invocation) end(c *command, err error) int {
	var wrong usageError
	var unreachable *client.UnreachableError
	var problem *apitype.Problem
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errFailed):
		return exitRefused
	case s.ctx.Err() != nil:
		return exitDone // Ctrl-C ends following
	case errors.As(err, &wrong):
		fmt.Fprintf(s.err, "tollgate %s: %s\nUsage: tollgate %s [flags] %s (more with -h)\n", c.name(), wrong,
			c.name(), c.args)
		return exitUsage
	case errors.As(err, &unreachable):
		fmt.Fprintf(s.err, "tollgate %s: %v\n", c.name(), err)
		return exitUnreachable
	case errors.As(err, &problem):
		s.problem(c, problem)
		return exitRefused
	}
	fmt.Fprintf(s.err, "tollgate %s: %v\n", c.name(), err)
	return exitRefused
}

func (s *invocation) problem(c *command, p *apitype.Problem) {
	if p.Status == 401 && c.noun != "sign-in" {
		p.Detail, p.Remedy = "not signed in", "Run tollgate sign-in, or set TOLLGATE_TOKEN."
	}
	fmt.Fprintf(s.err, "tollgate %s: %s\n", c.name(), p.Detail)
	for _, f := range p.Errors {
		if f.Message != p.Detail {
			fmt.Fprintf(s.err, "  %s\n", f)
		}
	}
	if p.Remedy != "" {
		fmt.Fprintln(s.err, p.Remedy)
	}
}

// completion prints a script that completes nouns and verbs.
func completion(*flag.FlagSet) func(*invocation, []string) error {
	return func(s *invocation, _ []string) error {
		verbs := map[string][]string{}
		var nouns []string
		for _, c := range commands() {
			if !slices.Contains(nouns, c.noun) {
				nouns = append(nouns, c.noun)
			}
			verbs[c.noun] = append(verbs[c.noun], c.verb)
		}
		fmt.Fprintf(s.out, "_tollgate() {\n  local words=\"%s\"\n  if [ \"$COMP_CWORD\" -ge 2 ]; then\n    case "+
			"\"${COMP_WORDS[1]}\" in\n", strings.Join(nouns, " "))
		for _, noun := range nouns {
			fmt.Fprintf(
				s.out,
				"      %s) words=\"%s\" ;;\n",
				noun,
				strings.TrimSpace(strings.Join(verbs[noun], " ")),
			)
		}
		fmt.Fprint(s.out, "      *) words=\"\" ;;\n    esac\n  fi\n  [ \"$COMP_CWORD\" -le 2 ] && "+
			"COMPREPLY=($(compgen -W \"$words\" -- \"${COMP_WORDS[COMP_CWORD]}\"))\n}\ncomplete -F _tollgate "+
			"tollgate\n")
		return nil
	}
}
