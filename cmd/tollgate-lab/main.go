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
	"strings"
	"syscall"
	"time"

	"golang.org/x/term"

	"tollgate.example/key/internal/lab"
)

const usage = `Usage: tollgate-lab up [flags]
       tollgate-lab console DEVICE [flags]
       tollgate-lab code PERSON
       tollgate-lab phone PERSON [NUMBER | refuse | alarm]

  up       run the whole demo: the service, a directory, switches, people signing in
  console  sign in to hh-router-1, hh-core-1, hh-firewall-1 or np-switch-1 of the running demo
  code     look at the phone of somebody: the one-time code it shows now
  phone    look at a phone that approves sign-ins, or press a button on it

Flags:`

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	self, err := os.Executable()
	if err != nil {
		self = os.Args[0]
	}
	o := lab.Options{Out: os.Stdout}
	flags := flag.NewFlagSet("up", flag.ContinueOnError)
	flags.StringVar(&o.Dir, "dir", ".demo", "directory for the demo data; emptied at every start")
	flags.StringVar(&o.Service, "service", filepath.Join(filepath.Dir(self), "tollgated"), "path of tollgated")
	flags.StringVar(&o.Portal, "portal", "127.0.0.1:8443", "address of the pages for people")
	flags.StringVar(&o.HTTP, "http", "127.0.0.1:8440", "address of the console")
	flags.StringVar(&o.RADIUS, "radius", "127.0.0.1:18120", "address of RADIUS authentication")
	flags.StringVar(&o.Accounting, "accounting", "127.0.0.1:18130", "address of RADIUS accounting")
	flags.StringVar(&o.TACACS, "tacacs", "127.0.0.1:4949", "address of TACACS+")
	flags.StringVar(&o.TACACSTLS, "tacacs-tls", "127.0.0.1:4930", "address of TACACS+ over TLS")
	flags.StringVar(&o.RADIUSTLS, "radius-tls", "127.0.0.1:20830", "address of RADIUS over TLS")
	flags.StringVar(&o.DHCP, "dhcp", "127.0.0.1:6767", "address for copies of DHCP messages")
	flags.StringVar(&o.Syslog, "syslog", "127.0.0.1:5514", "address for syslog of sources")
	flags.StringVar(&o.Mail, "mail", "127.0.0.1:2525", "address of the stand-in mail server")
	flags.StringVar(&o.Logs, "logs", "127.0.0.1:6514", "address of the stand-in receiver of syslog")
	flags.StringVar(
		&o.LDAPS,
		"ldaps",
		"127.0.0.53:6636",
		"address of the stand-in directory, TLS from the first octet",
	)
	flags.StringVar(&o.LDAP, "ldap", "127.0.0.53:6389", "address of the stand-in directory, plain and StartTLS")
	flags.StringVar(&o.DNS, "dns", "127.0.0.53:6353", "address of the stand-in DNS server of the domain")
	flags.StringVar(&o.Partner, "partner", lab.PartnerAddress, "address of the stand-in RADIUS server of the port "+
		"authority")
	flags.StringVar(&o.Provider, "provider", "127.0.0.1:5556", "address of the stand-in identity provider")
	flags.DurationVar(&o.Every, "every", 600*time.Millisecond, "time between two people signing in")
	flags.IntVar(&o.Nodes, "nodes", 1, "how many nodes the service has: 1 or 2")
	flags.BoolVar(&o.Witness, "witness", false, "add a witness, which keeps a majority when one of two nodes dies")
	flags.Usage = func() {
		fmt.Fprintln(flags.Output(), usage)
		flags.PrintDefaults()
	}
	if len(args) == 2 && args[0] == "code" {
		return code(args[1])
	}
	if len(args) > 1 && len(args) < 4 && args[0] == "phone" {
		return phone(args[1], strings.Join(args[2:], ""), o.Dir)
	}
	if len(args) == 0 || args[0] != "up" && args[0] != "console" {
		flags.Usage()
		return 2
	}
	verb, rest, device := args[0], args[1:], ""
	if verb == "console" && len(rest) > 0 && rest[0][0] != '-' {
		device, rest = rest[0], rest[1:]
	}
	if err := flags.Parse(rest); errors.Is(err, flag.ErrHelp) {
		return 0
	} else if err != nil || flags.NArg() > 0 {
		return 2
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if verb == "console" {
		return console(ctx, device, &o)
	}
	if err := lab.Up(ctx, o); err != nil && ctx.Err() == nil {
		fmt.Fprintln(os.Stderr, "tollgate-lab:", err)
		return 1
	}
	fmt.Println("The demo has ended.")
	return 0
}

// code looks at the phone of somebody.
func code(person string) int {
	text, left, err := lab.PhoneCode(person, time.Now())
	if err != nil {
		fmt.Fprintln(os.Stderr, "tollgate-lab:", err)
		return 1
	}
	fmt.Printf("%s, for another %d s\n", text, int(left.Seconds()))
	return 0
}

// phone presses a button on the phone of somebody.
func phone(person, said, dir string) int {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	text, err := lab.PhoneSays(ctx, dir, person, said)
	if err != nil {
		fmt.Fprintln(os.Stderr, "tollgate-lab:", err)
		return 1
	}
	fmt.Println(text)
	return 0
}

// console signs a person in to a device; on a terminal, passwords are not shown.
func console(ctx context.Context, device string, o *lab.Options) int {
	var secret func() (string, error)
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		secret = func() (string, error) {
			text, err := term.ReadPassword(fd)
			fmt.Println()
			return string(text), err
		}
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	if err := lab.Console(ctx, device, o.TACACS, o.TACACSTLS, o.Dir, os.Stdin, os.Stdout, secret); err != nil {
		fmt.Fprintln(os.Stderr, "tollgate-lab:", err)
		return 1
	}
	return 0
}
