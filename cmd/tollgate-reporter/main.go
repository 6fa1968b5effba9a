// Command tollgate-reporter tells the presence of Tollgate Key who is signed in on this host.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/reporter"
)

const about = `Usage: tollgate-reporter -url https://tollgate.example:8440 -token-file FILE [flags]

Tells who is signed in on this host, while it changes. The token is that of a source which reports as hosts
(tollgate source add NAME -way hosts -publish); it lets this host speak for itself alone.

With -shared the connections of each person come from a block of ports of that person's own: firewalls can tell
people on one host apart. That takes Linux with nftables, and the right to use it.

`

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, os.Args[1:], os.Stdout, os.Stderr); err != nil && !errors.Is(err, flag.ErrHelp) {
		fmt.Fprintln(os.Stderr, "tollgate-reporter:", err)
		os.Exit(1)
	}
}

// list is a flag that may be given several times.
type list []string

func (l *list) String() string { return strings.Join(*l, " ") }

func (l *list) Set(text string) error { *l = append(*l, text); return nil }

type flags struct {
	urls                   list
	tokenFile, authorities string
	host, domain           string
	least, size            int
	shared, once, remove   bool
	ports, others          string
	reuse                  time.Duration
}

func parse(args []string, out io.Writer) (*flags, error) {
	in := &flags{}
	f := flag.NewFlagSet("tollgate-reporter", flag.ContinueOnError)
	f.SetOutput(out)
	f.Usage = func() { fmt.Fprint(out, about); f.PrintDefaults() }
	f.Var(&in.urls, "url", "a node to report to; repeatable, the next is asked when one does not answer")
	f.StringVar(&in.tokenFile, "token-file", "", "file with the token of the source")
	f.StringVar(
		&in.authorities,
		"ca",
		"",
		"PEM file of the authority of the nodes' certificates; else those of the system",
	)
	f.StringVar(&in.host, "host", "", "name of this host; else its own")
	f.StringVar(&in.domain, "domain", "", "domain to put before names that have none")
	f.IntVar(&in.least, "min-uid", 1000, "accounts below this number are no people")
	f.BoolVar(&in.shared, "shared", false, "several people work here at once: give each a block of ports")
	f.StringVar(&in.ports, "ports", "10000-29999", "with -shared: the ports that are divided into blocks")
	f.IntVar(&in.size, "block", 500, "with -shared: how many ports a block has")
	f.DurationVar(
		&in.reuse,
		"reuse",
		4*time.Minute,
		"with -shared: how long a block rests before somebody else has it",
	)
	f.StringVar(&in.others, "other-ports", "32768-60999", "with -shared: ports of what is nobody's")
	f.BoolVar(&in.once, "once", false, "print what would be reported, and end")
	f.BoolVar(&in.remove, "remove", false, "take back what -shared made of nftables, and end")
	if err := f.Parse(args); err != nil {
		return nil, err
	}
	switch {
	case f.NArg() > 0:
		return nil, fmt.Errorf("%q is not understood; see -help", f.Arg(0))
	case in.remove || in.once:
	case len(in.urls) == 0:
		return nil, errors.New("-url is missing: say which node to report to")
	case in.tokenFile == "":
		return nil, errors.New("-token-file is missing: name the file with the token of the source")
	}
	return in, nil
}

func run(ctx context.Context, args []string, out, said io.Writer) error {
	in, err := parse(args, said)
	if err != nil {
		return err
	}
	o := reporter.Options{Host: in.host, Domain: in.domain, Least: uint32(in.least), Dry: in.once,
		Log: slog.New(slog.NewTextHandler(said, nil))}
	if o.Host == "" {
		if o.Host, err = os.Hostname(); err != nil {
			return fmt.Errorf("finding the name of this host (-host says it): %w", err)
		}
	}
	if in.shared || in.remove {
		if err := share(in, &o); err != nil {
			return err
		}
	}
	if in.remove {
		return o.Kernel.Remove(ctx)
	}
	if !in.once {
		if o.Sender, err = sender(in); err != nil {
			return err
		}
	}
	if o.Sessions, err = reporter.OpenLogind(ctx); err != nil {
		return err
	}
	defer o.Sessions.Close()
	r, err := reporter.New(ctx, o)
	if err != nil {
		return err
	}
	if in.once {
		report, err := r.Look(ctx)
		if err != nil {
			return err
		}
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(report)
	}
	r.Run(ctx)
	return nil
}

// share makes ready what a shared host needs.
func share(in *flags, o *reporter.Options) error {
	all, err := core.ParsePorts(in.ports)
	if err != nil {
		return fmt.Errorf("-ports: %w", err)
	}
	others, err := core.ParsePorts(in.others)
	switch {
	case err != nil:
		return fmt.Errorf("-other-ports: %w", err)
	case others.Overlap(all):
		return fmt.Errorf("-other-ports %s and -ports %s have ports in common", in.others, in.ports)
	}
	if o.Blocks, err = reporter.NewBlocks(all, in.size, in.reuse); err != nil {
		return fmt.Errorf("-ports %s in blocks of %s: %w", in.ports, strconv.Itoa(in.size), err)
	}
	o.Kernel = reporter.NewKernel(others)
	return nil
}

func sender(in *flags) (*reporter.Sender, error) {
	token, err := os.ReadFile(in.tokenFile)
	if err != nil {
		return nil, fmt.Errorf("reading the token: %w", err)
	}
	var authorities []byte
	if in.authorities != "" {
		if authorities, err = os.ReadFile(in.authorities); err != nil {
			return nil, fmt.Errorf("reading the authorities: %w", err)
		}
	}
	return reporter.NewSender(in.urls, strings.TrimSpace(string(token)), authorities)
}
