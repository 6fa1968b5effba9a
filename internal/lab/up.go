package lab

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/web/phone"
)

// Options of the demo.
type Options struct {
	// Dir holds everything the demo writes; it is emptied at every start.
	Dir string
	// Service is the path of tollgated.
	Service string
	// HTTP, RADIUS and Accounting are where the service listens; LDAPS and LDAP the stand-in directory.
	HTTP, RADIUS, Accounting, LDAPS, LDAP string
	// Portal is where people look after their own second factor.
	Portal string
	// TACACS and TACACSTLS are where the service listens for TACACS+.
	TACACS, TACACSTLS string
	// RADIUSTLS is where the service listens for RADIUS over TLS, Logs the stand-in receiver of syslog.
	RADIUSTLS, Logs string
	// Mail is the stand-in mail server.
	Mail string
	// DHCP and Syslog are where the service listens for reports of who is where.
	DHCP, Syslog string
	// DNS is where the stand-in for the DNS server of the domain listens.
	DNS string
	// Partner is where the stand-in for the remote RADIUS server listens.
	Partner string
	// Provider is where the stand-in identity provider listens.
	Provider string
	// Nodes is how many nodes there are, one or two, and Witness adds one that keeps a majority.
	Nodes   int
	Witness bool
	// Every is the time between two people signing in.
	Every time.Duration
	Out   io.Writer

	// second is the second node, others are the nodes beside the first, pid is the process of that.
	second struct{ url, radius string }
	others []*service
	pid    string
	tokens Tokens
	phones map[string]*phone.Phone
}

func mustAddr(text string) netip.Addr { return netip.MustParseAddr(text) }

// marker is the file by which a directory is known to be a demo's own, so that nothing else is ever emptied.
const marker = "this-is-the-demo"

func clean(dir string) error {
	list, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(list) == 0 {
		err = os.MkdirAll(dir, 0o700)
	} else if err == nil {
		if _, gone := os.Stat(filepath.Join(dir, marker)); gone != nil {
			return fmt.Errorf("%s holds other things than the demo's: choose another directory with -dir", dir)
		}
		if err = os.RemoveAll(dir); err == nil {
			err = os.MkdirAll(dir, 0o700)
		}
	}
	if err != nil {
		return fmt.Errorf("preparing the directory of the demo: %w", err)
	}
	return os.WriteFile(filepath.Join(dir, marker), nil, 0o600)
}

// Up runs the whole demo until the context ends.
func Up(ctx context.Context, o Options) error {
	if err := clean(o.Dir); err != nil {
		return err
	}
	ca, err := NewAuthority("Lantern Ferries test authority")
	if err != nil {
		return err
	}
	host := strings.Split(o.LDAPS, ":")[0]
	certificate, err := ca.Server(time.Now().AddDate(1, 0, 0), "dc1."+Domain, host)
	if err != nil {
		return err
	}
	d := NewDirectory(certificate)
	defer d.Close()
	for _, at := range []struct {
		address string
		secure  bool
	}{{o.LDAPS, true}, {o.LDAP, false}} {
		if err := d.Serve(at.address, at.secure); err != nil {
			return fmt.Errorf("%w: another demo may be running; stop it, or move this one with flags "+
				"(tollgate-lab up -h)", err)
		}
	}
	d.Rename("Harbour Office", "Harbour House Office")
	dns, err := ServeDNS(o.DNS, o.LDAP)
	if err != nil {
		return err
	}
	defer dns.Close()
	partner, err := ServePartner(o.Partner)
	if err != nil {
		return err
	}
	defer partner.Close()
	provider, err := ServeProvider(o.Provider)
	if err != nil {
		return err
	}
	defer provider.Close()
	logs, err := ServeLogs(o.Logs, filepath.Join(o.Dir, "syslog"))
	if err != nil {
		return err
	}
	defer logs.Close()
	mailbox, err := ServeMail(o.Mail, filepath.Join(o.Dir, "mail"))
	if err != nil {
		return err
	}
	defer mailbox.Close()
	service, err := startService(ctx, &o)
	if err != nil {
		return err
	}
	defer service.stop()
	defer stopNodes(&o)
	c := &client.Client{URL: "http://" + o.HTTP}
	if err := service.ready(ctx, c); err != nil {
		return err
	}
	code, err := os.ReadFile(filepath.Join(o.Dir, "data", "setup-code"))
	if err != nil {
		return fmt.Errorf("reading the setup code: %w", err)
	}
	if err := SetUp(ctx, c, strings.TrimSpace(string(code)), Outside{Servers: []string{o.LDAPS}, Authority: ca.PEM,
		DNS: o.DNS, Partner: o.Partner, Logs: o.Logs, Provider: provider.URL,
		Console: "http://" + o.HTTP}); err != nil {
		return err
	}
	if o.tokens, err = SetUpPresence(ctx, c); err != nil {
		return err
	}
	if o.phones, err = pairPhones(ctx, c, o.Dir); err != nil {
		return err
	}
	kit, err := Outfit(ctx, c)
	if err != nil {
		return err
	}
	authority, err := certificatePEM(ctx, c)
	if err != nil {
		return err
	}
	if err := writeGear(o.Dir, kit, authority); err != nil {
		return err
	}
	o.pid = service.process()
	if err := joinNodes(ctx, &o, c); err != nil {
		return err
	}
	if err := writeEnv(&o, c.Token, ca.PEM); err != nil {
		return err
	}
	say(&o)
	if o.Nodes > 1 { // anybody may kill one and watch
		run(ctx, &o, kit)
		return nil
	}
	return service.while(ctx, func(ctx context.Context) { run(ctx, &o, kit) })
}

// run plays the harbour: switches, wireless and VPN, a router whose secret was typed wrong, and a device that is no
// client.
func run(ctx context.Context, o *Options, kit *Kit) {
	floor := NewFloor(
		o.accounting(),
		append(Switches(), station("np-wlan-1"), station("hh-vpn-1"), station("hh-desk-1"))...)
	defer floor.Close()
	var all sync.WaitGroup
	defer all.Wait()
	all.Go(func() { Harbour(ctx, o.radius(), floor, kit, o.Every, func(Outcome) {}) })
	all.Go(func() { Administrators(ctx, o.TACACS, o.TACACSTLS, kit, 25*o.Every) })
	all.Go(func() { presence(ctx, o, o.tokens) })
	all.Go(func() { Approvals(ctx, o.RADIUS, o.phones, 40*o.Every) })
	all.Go(func() { Ship(ctx, o.RADIUSTLS, kit, shipInterval*o.Every) })
	ask := func(from, secret, user string, every time.Duration) {
		all.Go(func() {
			for ctx.Err() == nil {
				// Nothing answers these; that they show up in the console is the point.
				_, _ = trial.Send(ctx, trial.Request{Server: o.RADIUS, From: mustAddr(from), Secret: secret,
					User: user, Password: "x", Timeout: 2 * time.Second, Tries: 1,
					Attributes: []results.Attribute{{Name: "Service-Type", Value: "Administrative"}}})
				select {
				case <-ctx.Done():
				case <-time.After(every):
				}
			}
		})
	}
	ask("127.0.10.43", "typed-wrong-on-the-router", "r.kalnina", 15*time.Second)
	ask(strangerAddress, "whatever-it-has", "camera-7", 40*time.Second)
}

func writeEnv(o *Options, token, ca string) error {
	if err := os.WriteFile(filepath.Join(o.Dir, "ca.pem"), []byte(ca), 0o600); err != nil {
		return err
	}
	var b strings.Builder
	for _, v := range [][2]string{{"TOLLGATE_URL", "http://" + o.HTTP}, {"TOLLGATE_TOKEN", token},
		{"DEMO_RADIUS", o.RADIUS}, {"DEMO_ACCOUNTING", o.Accounting},
		{"DEMO_COA", netip.AddrPortFrom(mustAddr(playerAddress), changesPort).String()}, {"DEMO_TACACS", o.TACACS},
		{"DEMO_TACACS_TLS", o.TACACSTLS}, {"DEMO_RADSEC", o.RADIUSTLS},
		{"DEMO_CLIENT_ADDR", playerAddress},
		{"DEMO_CLIENT_SECRET", playerSecret}, {"DEMO_USER", PlayerUser}, {"DEMO_PASSWORD", "harbour-" + PlayerUser},
		{"DEMO_OPERATOR", OperatorName}, {"DEMO_OPERATOR_PASSWORD", OperatorPassword}, {"DEMO_LDAPS", o.LDAPS},
		{"DEMO_LDAP", o.LDAP}, {"DEMO_DNS", o.DNS}, {"DEMO_DHCP", o.DHCP}, {"DEMO_SYSLOG", o.Syslog},
		{"DEMO_PORTAL", "http://" + o.Portal}, {"DEMO_CODE_USER", CodeUser},
		{"DEMO_CODE_PASSWORD", "harbour-" + CodeUser}, {"DEMO_CODE_CLIENT_ADDR", DeskAddress},
		{"DEMO_CODE_CLIENT_SECRET", DeskSecret}, {"DEMO_PRESENCE_TOKEN", o.tokens.Firewall},
		{"TOLLGATE_URL_2", o.second.url},
		{"DEMO_RADIUS_2", o.second.radius},
		{"DEMO_NODE_PID_1", o.pid}} {
		if v[1] == "" {
			continue
		}
		fmt.Fprintf(&b, "export %s='%s'\n", v[0], v[1])
	}
	if err := os.WriteFile(filepath.Join(o.Dir, "env"), []byte(b.String()), 0o600); err != nil {
		return fmt.Errorf("writing the settings of the demo: %w", err)
	}
	return nil
}

func say(o *Options) {
	fmt.Fprintf(o.Out, `
Lantern Ferries is open. Everything runs on this machine and ends with Ctrl-C.

  Console    http://%s
  Sign in    %s / %s, or at the stand-in identity provider, where it is called
             Harbour sign-on. Others, by their roles, with the same password: e.marsh (engineer),
             h.ward (helpdesk), a.quill (auditor), k.north (helpdesk of one site)

In another shell, to try it from the command line:

  . %s/env
  bin/tollgate attempt follow
  bin/tollgate try -user $DEMO_USER -password $DEMO_PASSWORD -secret $DEMO_CLIENT_SECRET \
      -from $DEMO_CLIENT_ADDR -attr NAS-Port-Type=Ethernet $DEMO_RADIUS
  bin/tollgate try -user $DEMO_CODE_USER -password $DEMO_CODE_PASSWORD -secret $DEMO_CODE_CLIENT_SECRET \
      -from $DEMO_CODE_CLIENT_ADDR -factor $(bin/tollgate-lab code $DEMO_CODE_USER | cut -d, -f1) $DEMO_RADIUS
  bin/tollgate try -user h.lehtola -password harbour-h.lehtola -secret $DEMO_CODE_CLIENT_SECRET \
      -from $DEMO_CODE_CLIENT_ADDR -factor phone $DEMO_RADIUS
  bin/tollgate-lab phone h.lehtola 47         (what her phone says: the number shown, refuse or alarm)
  bin/tollgate factor ready
  bin/tollgate factor invite b.dahl           (a link; his password is harbour-b.dahl)
  bin/tollgate factor invite -mail y.sayegh   (by mail: look into .demo/mail)
  bin/tollgate directory test LANTERN -person s.lodge
  bin/tollgate directory discover %s -dns $DEMO_DNS
  bin/tollgate session list
  bin/tollgate presence list
  tail -f .demo/firewall.log                  (a firewall that goes by groups)
  bin/tollgate checkup run
  bin/tollgate-lab console hh-router-1        (sign in as n.pryce, harbour-n.pryce)
  bin/tollgate journal follow
  bin/tollgate audit list

`, o.HTTP, OperatorName, OperatorPassword, o.Dir, Domain)
	if o.Nodes > 1 {
		fmt.Fprintf(o.Out, `There are two nodes. The second one is at %s; devices ask the first, then the second,
those of the south pier the other way round. End one and watch what becomes of it on both:

  kill -9 $DEMO_NODE_PID_1
  TOLLGATE_URL=$TOLLGATE_URL_2 bin/tollgate node list

`, o.second.url)
	}
}

// service is tollgated as a child process.
type service struct {
	cmd   *exec.Cmd
	ended chan error
	out   *tail
}

func startService(ctx context.Context, o *Options) (*service, error) {
	if err := writeTheme(o.Dir); err != nil {
		return nil, err
	}
	return startChild(
		ctx,
		o,
		"tollgated.log",
		"-data",
		filepath.Join(o.Dir, "data"),
		"-http", o.HTTP,
		"-portal", o.Portal,
		"-portal-theme", filepath.Join(o.Dir, "theme.json"),
		"-mail", "smtp://"+o.Mail,
		"-mail-from",
		"Lantern Ferries network <network@"+Domain+">",
		"-radius",
		o.RADIUS,
		"-accounting",
		o.Accounting,
		"-radius-tls",
		o.RADIUSTLS,
		"-radius-dtls",
		o.RADIUSTLS,
		"-tacacs",
		o.TACACS,
		"-tacacs-tls",
		o.TACACSTLS,
		"-dhcp",
		o.DHCP,
		"-syslog",
		o.Syslog,
		"-node-address",
		nodeAddress(1),
	)
}

// startChild starts the service with some arguments, which writes into a file of the demo.
func startChild(ctx context.Context, o *Options, file string, args ...string) (*service, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	s := &service{ended: make(chan error, 1), out: &tail{}}
	log, err := os.Create(filepath.Join(o.Dir, file))
	if err != nil {
		return nil, err
	}
	defer log.Close() // the child has its own
	s.cmd = exec.Command(o.Service, args...)
	s.cmd.Stdout = log
	stderr, err := s.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	// Ctrl-C reaches us, and we stop it
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the service %s: %w", o.Service, err)
	}
	go func() {
		lines := bufio.NewScanner(stderr)
		for lines.Scan() {
			s.out.add(lines.Text())
		}
		s.ended <- s.cmd.Wait()
	}()
	return s, nil
}

// tail keeps the last lines that the service wrote.
type tail struct {
	mu    sync.Mutex
	lines []string
}

func (t *tail) add(line string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.lines = append(t.lines, line); len(t.lines) > 20 {
		t.lines = t.lines[1:]
	}
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.Join(t.lines, "\n")
}

func (s *service) failure() error {
	return fmt.Errorf(
		"the service ended by itself:\n%s\nIf a port is taken, another demo may be running; stop it, "+
			"or move this one with flags (tollgate-lab up -h)",
		s.out,
	)
}

func (s *service) ready(ctx context.Context, c *client.Client) error {
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	answer := make(chan error, 1)
	go func() { answer <- c.WaitReady(limited) }()
	select {
	case err := <-answer:
		select {
		case err := <-s.ended: // somebody else answered on that port
			s.ended <- err
			return s.failure()
		default:
		}
		return err
	case err := <-s.ended:
		s.ended <- err
		return s.failure()
	}
}

// while runs something until the context or the service ends.
func (s *service) while(ctx context.Context, do func(context.Context)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var failed error
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		select {
		case err := <-s.ended:
			s.ended <- err
			failed = s.failure()
			cancel()
		case <-ctx.Done():
		}
	}()
	do(ctx)
	<-watched
	return failed
}

func (s *service) stop() {
	s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.ended:
	case <-time.After(10 * time.Second):
		s.cmd.Process.Kill()
		<-s.ended
	}
}
