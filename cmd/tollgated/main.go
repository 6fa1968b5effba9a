// Command tollgated is the Tollgate Key service.
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata" // calendars have zones, and a server may lack the database of them

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/cluster/etcd"
	"tollgate.example/key/internal/web/api"
)

// list takes a list of addresses apart; none is the word for an empty one.
func list(text string) []string {
	if text == "none" || text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

func main() {
	if len(os.Args) == 2 && os.Args[1] == app.EngineFlag {
		os.Exit(etcd.Main())
	}
	os.Exit(run())
}

func run() int {
	var o app.Options
	radius := flag.String("radius", ":1812", "addresses for RADIUS authentication over UDP, separated by commas")
	accounting := flag.String("accounting", ":1813", "addresses for RADIUS accounting over UDP; empty takes none")
	overTLS := flag.String(
		"radius-tls",
		":2083",
		"TCP addresses for RADIUS over TLS 1.3, separated by commas; empty "+
			"takes none",
	)
	overDTLS := flag.String("radius-dtls", ":2083", "UDP addresses for RADIUS over DTLS 1.2, separated by commas; "+
		"empty takes none")
	flag.StringVar(&o.Data, "data", "", "directory for the database and the key file (required)")
	flag.StringVar(&o.HTTP, "http", "127.0.0.1:8440", "address of the console and the API; other than loopback is "+
		"served by TLS only")
	hosts := flag.String(
		"http-host",
		"",
		"further names under which the console is opened on loopback, separated by "+
			"commas, such as by a proxy on this machine",
	)
	flag.StringVar(
		&o.Portal,
		"portal",
		"",
		"address of the pages where people set up their second factor, such as "+
			":8443; empty for none",
	)
	flag.StringVar(
		&o.PortalURL,
		"portal-url",
		"",
		"how people reach it, such as https://me.example; else that address",
	)
	flag.StringVar(&o.PortalTheme, "portal-theme", "", "JSON file with name, colours and texts of those pages")
	flag.StringVar(&o.Mail, "mail", "", "mail server for invitations: smtp://[user@]host:port, or smtps://")
	flag.StringVar(&o.Push, "push", "", "tell phones of sign-ins while their page is closed, by Web Push over the "+
		"internet; a mail address\nthat push services may write to about this service")
	flag.BoolVar(&o.PushPrivate, "push-private", false, "allow push services that are not on the internet")
	flag.StringVar(&o.PushCA, "push-ca", "", "PEM file with an authority for them")
	flag.BoolVar(&o.NoReminders, "no-reminders", false,
		"send no mail to people who are admitted without a second factor for now")
	flag.StringVar(&o.MailFrom, "mail-from", "", "address that mail comes from")
	flag.StringVar(
		&o.MailPasswordFile,
		"mail-password-file",
		"",
		"file with the password of the user at the mail server",
	)
	flag.StringVar(&o.PortalCert, "portal-cert", "", "PEM certificate of it; else that of the console")
	flag.StringVar(&o.PortalKey, "portal-key", "", "PEM key of that certificate")
	flag.StringVar(&o.TLSCert, "tls-cert", "", "PEM certificate of the console; self-signed if missing where TLS "+
		"is needed")
	flag.StringVar(&o.TLSKey, "tls-key", "", "PEM key of that certificate")
	flag.DurationVar(&o.KeepAttempts, "keep-attempts", 90*24*time.Hour,
		"how long attempts are kept; 0 keeps them for ever")
	tacacs := flag.String(
		"tacacs",
		":49",
		"addresses for TACACS+ over TCP, separated by commas; none for no TACACS+",
	)
	secure := flag.String("tacacs-tls", ":300", "addresses for TACACS+ over TLS 1.3, separated by commas; none "+
		"for no TLS")
	flag.DurationVar(&o.KeepJournal, "keep-journal", 400*24*time.Hour,
		"how long the gear journal is kept; 0 keeps it for ever")
	flag.DurationVar(&o.KeepAccounting, "keep-accounting", 400*24*time.Hour,
		"how long accounting is kept; 0 keeps it for ever")
	flag.DurationVar(&o.KeepSightings, "keep-sightings", 90*24*time.Hour,
		"how long it is kept who was where; 0 keeps it for ever")
	dhcp := flag.String("dhcp", "", "UDP addresses for copies of DHCP messages, such as :67; empty takes none")
	syslogUDP := flag.String("syslog", "", "UDP addresses for syslog of sources, such as :514; empty takes none")
	syslogTCP := flag.String("syslog-tcp", "", "TCP addresses for it, such as :601; empty takes none")
	syslogTLS := flag.String("syslog-tls", "", "TCP addresses for it over TLS, such as :6514; empty takes none")
	flag.DurationVar(&o.KeepAudit, "keep-audit", 3*365*24*time.Hour,
		"how long it is kept who changed what; 0 keeps it for ever")
	flag.BoolVar(
		&o.RemoveAll,
		"remove-old-now",
		false,
		"remove records whose time is over even if they are more than "+
			"become so in two days, as after a long stop",
	)
	flag.StringVar(
		&o.NodeAddress,
		"node-address",
		":8441",
		"host and port at which other nodes reach this one, where "+
			"there are several; the next port is taken as well",
	)
	flag.StringVar(&o.Join, "join", "", "invitation of another node (tollgate node invite): join it with an empty "+
		"data directory")
	outside := engineFlags(flag.CommandLine)
	witness := flag.Bool(
		"witness",
		false,
		"join as a witness, which keeps a majority of the nodes and nothing else",
	)
	node := flag.Uint("node", 0, "number of this node, 0 to 255; nodes that share records need different ones")
	restoring := flag.String(
		"restore",
		"",
		"restore a backup into the data directory, which must be empty, and end",
	)
	restoreKey := flag.String("restore-key", "", "the key file, for a backup that was made without it")
	reset := flag.String(
		"reset-owner",
		"",
		"make this operator an owner with a new password, which is printed, and end; "+
			"the service must be stopped",
	)
	openapi := flag.Bool("openapi", false, "print the OpenAPI document and end")
	version := flag.Bool("version", false, "print the version and end")
	flag.Usage = func() {
		fmt.Fprintln(
			flag.CommandLine.Output(),
			"Usage: tollgated -data DIR [flags]\n\nRuns the Tollgate Key service "+
				"until SIGINT or SIGTERM.\n\nFlags:",
		)
		flag.PrintDefaults()
	}
	flag.Parse()
	switch {
	case *version:
		fmt.Println("tollgated", app.Version)
		return 0
	case *openapi:
		text, err := api.OpenAPI()
		if err != nil {
			fmt.Fprintln(os.Stderr, "tollgated:", err)
			return 1
		}
		fmt.Println(string(text))
		return 0
	case *node > 255:
		fmt.Fprintln(os.Stderr, "tollgated: -node is a number from 0 to 255")
		return 2
	case flag.NArg() > 0 || o.Data == "":
		flag.Usage()
		return 2
	}
	var err error
	if o.Outside, err = outside(); err != nil {
		fmt.Fprintln(os.Stderr, "tollgated:", err)
		return 2
	}
	if *restoring != "" {
		if err := restore(context.Background(), o.Data, *restoring, *restoreKey); err != nil {
			fmt.Fprintln(os.Stderr, "tollgated:", err)
			return 1
		}
		return 0
	}
	if *reset != "" {
		password, err := app.ResetOwner(context.Background(), o.Data, *reset)
		if err != nil {
			fmt.Fprintln(os.Stderr, "tollgated:", err)
			return 1
		}
		fmt.Printf(
			"%s is an owner. The password, shown only here: %s\nChange it after signing in.\n",
			*reset,
			password,
		)
		return 0
	}
	o.RADIUS, o.TACACS, o.TACACSTLS = strings.Split(*radius, ","), list(*tacacs), list(*secure)
	o.Accounting, o.RADIUSTLS, o.RADIUSTLSOptional = list(*accounting), list(*overTLS), true
	o.RADIUSDTLS, o.RADIUSDTLSOptional = list(*overDTLS), true
	o.DHCP, o.SyslogUDP, o.SyslogTCP, o.SyslogTLS = list(
		*dhcp,
	), list(
		*syslogUDP,
	), list(
		*syslogTCP,
	), list(
		*syslogTLS,
	)
	o.Node = uint8(*node)
	o.TACACSOptional, o.HTTPHosts = true, list(*hosts)
	flag.Visit(func(f *flag.Flag) { // asked for, and not had, is an error
		o.RADIUSTLSOptional = o.RADIUSTLSOptional && f.Name != "radius-tls"
		o.RADIUSDTLSOptional = o.RADIUSDTLSOptional && f.Name != "radius-dtls"
		o.TACACSOptional = o.TACACSOptional && f.Name != "tacacs" && f.Name != "tacacs-tls"
	})
	o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	slog.SetDefault(o.Log)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if *witness {
		if err := app.Witness(ctx, o); err != nil {
			fmt.Fprintln(os.Stderr, "tollgated:", err)
			return 1
		}
		return 0
	}
	a, err := app.Start(ctx, o)
	if err != nil {
		fmt.Fprintln(os.Stderr, "tollgated:", err)
		return 1
	}
	fmt.Println("Tollgate Key is running.")
	fmt.Println("  Console  ", a.URL)
	for _, address := range a.RADIUS {
		fmt.Println("  RADIUS   ", address)
	}
	for _, address := range a.Accounting {
		fmt.Println("  RADIUS   ", address, "for accounting")
	}
	for _, address := range a.RADIUSTLS {
		fmt.Println("  RADIUS   ", address, "with TLS")
	}
	for _, address := range a.RADIUSDTLS {
		fmt.Println("  RADIUS   ", address, "with DTLS")
	}
	for _, address := range a.TACACS {
		fmt.Println("  TACACS+  ", address)
	}
	for _, address := range a.TACACSTLS {
		fmt.Println("  TACACS+  ", address, "with TLS")
	}
	if a.SetupCode != "" {
		fmt.Printf("  Open the console and give this setup code to create the first operator: %s\n", a.SetupCode)
	}
	code := 0
	select {
	case <-ctx.Done():
	case err := <-a.Failed():
		fmt.Fprintln(os.Stderr, "tollgated:", err)
		code = 1
	}
	a.Stop()
	return code
}
