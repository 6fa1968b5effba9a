// Command tollgate-lab runs the stand-ins of Lantern Ferries: a directory, switches, and the whole demo.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"tollgate.example/key/internal/lab"
)

const usage = `Usage: tollgate-lab up [flags]

  up    run the whole demo: the service, a directory, switches, people signing in

Flags of up:`

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	self, err := os.Executable()
	if err != nil {
		self = os.Args[0]
	}
	o := lab.Options{Out: os.Stdout}
	flags := flag.NewFlagSet("up", flag.ContinueOnError)
	flags.StringVar(&o.Dir, "dir", ".demo", "directory that the demo keeps its things in; emptied at every start")
	flags.StringVar(&o.Service, "service", filepath.Join(filepath.Dir(self), "tollgated"), "path of tollgated")
	flags.StringVar(&o.HTTP, "http", "127.0.0.1:8440", "address of the console")
	flags.StringVar(&o.RADIUS, "radius", "127.0.0.1:18120", "address of RADIUS authentication")
	flags.StringVar(&o.LDAPS, "ldaps", "127.0.0.53:6636", "address of the stand-in directory, TLS from the first octet")
	flags.StringVar(&o.LDAP, "ldap", "127.0.0.53:6389", "address of the stand-in directory, plain and StartTLS")
	flags.StringVar(&o.DNS, "dns", "127.0.0.53:6353", "address of the stand-in DNS server of the domain")
	flags.DurationVar(&o.Every, "every", 600*time.Millisecond, "time between two people signing in")
	flags.Usage = func() {
		fmt.Fprintln(flags.Output(), usage)
		flags.PrintDefaults()
	}
	if len(args) == 0 || args[0] != "up" {
		flags.Usage()
		return 2
	}
	if err := flags.Parse(args[1:]); errors.Is(err, flag.ErrHelp) {
		return 0
	} else if err != nil || flags.NArg() > 0 {
		return 2
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := lab.Up(ctx, o); err != nil && ctx.Err() == nil {
		fmt.Fprintln(os.Stderr, "tollgate-lab:", err)
		return 1
	}
	fmt.Println("The demo has ended.")
	return 0
}
