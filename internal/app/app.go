// Package app puts the service together: it opens the data directory, starts the sockets and the writer, and stops
// everything in the right order.
package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/base/push"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/base/tally"
	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/front/radius"
	"tollgate.example/key/internal/front/tacacs"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/identity/copies"
	"tollgate.example/key/internal/identity/device"
	"tollgate.example/key/internal/identity/domain"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/change"
	"tollgate.example/key/internal/manage/checkup"
	"tollgate.example/key/internal/manage/host"
	"tollgate.example/key/internal/manage/mail"
	"tollgate.example/key/internal/manage/onward"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/provider"
	"tollgate.example/key/internal/manage/readiness"
	"tollgate.example/key/internal/manage/rehearsal"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/mirror"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/api"
)

// Version of the program.
const Version = "0.1.0"

// App is a running service.
type App struct {
	URL        string
	RADIUS     []netip.AddrPort
	Accounting []netip.AddrPort
	RADIUSTLS  []netip.AddrPort
	RADIUSDTLS []netip.AddrPort
	TACACS     []netip.AddrPort
	TACACSTLS  []netip.AddrPort
	SetupCode  string
	PortalURL  string // of the pages for people, "" for none
	Gate       *gate.Gate
	Attempts   *store.Attempts
	Journal    *store.Journal
	Sessions   *session.Sessions
	node       int              // the number of this node
	Reports    []netip.AddrPort // of DHCP, then of syslog over UDP, TCP and TLS

	store     *store.Store
	factors   *factor.Keeper
	approvals *approvals
	box       *seal.Box
	// post sends mail, nil if none is sent; ready reads who is ready for a second factor.
	post  *mail.Sender
	push  *push.Sender // nil if phones are told of nothing
	ready *readiness.Reader
	// telling is held by mails under way about changes of second factors.
	telling chan struct{}
	// portalEnds is when the certificate of the pages for people ends, portalOwn tells that we made it.
	portalEnds time.Time
	portalOwn  bool
	server     *http.Server
	radius     *radius.Server
	tacacs     *tacacs.Server
	onward     *onward.Keeper
	cluster    *cluster.Cluster
	// ofOthers is what other nodes recorded, mirror brings what is recorded here to them.
	ofOthers  *store.Copies
	adopting  chan struct{}
	mirror    atomic.Pointer[mirror.Mirror]
	disk      atomic.Pointer[host.Disk]
	presence  *presence.Keeper
	untold    untold
	sightings *store.Sightings
	// accounted is presence once it takes what accounting and attempts say.
	accounted atomic.Pointer[presence.Keeper]
	console   atomic.Pointer[string] // URL
	handler   atomic.Pointer[http.Handler]
	trail     *audit.Trail
	leases    *session.Keeper
	shared    bool // with other nodes, at the start

	mu        sync.Mutex
	usedTwice []attention.UsedTwice
	changes   *change.Keeper
	cancel    context.CancelFunc
	done      []func()
	failed    chan error
	owners    map[string]owner
	panicked  *panics.Log
	log       *slog.Logger
}

// gcPercent lets the heap grow fivefold between collections: what lives is small, and each attempt leaves garbage.
const gcPercent = 400

// oneMore has one more goroutine run at a time than there are cores, once: those that write to the disk sit in system
// calls, and the scheduler gives their place away only after a while. With two cores this is a quarter more commands a
// second.
var oneMore = sync.OnceFunc(func() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + 1)
	}
})

// firstCheckup is how long after the start the checkup runs by itself for the first time.
const firstCheckup = 20 * time.Second

// Start starts the service.
func Start(ctx context.Context, o Options) (*App, error) {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	oneMore()
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if err := makePrivate(o.Data, o.Log); err != nil {
		return nil, err
	}
	unlock, err := lock(filepath.Join(o.Data, "lock"))
	if err != nil {
		return nil, fmt.Errorf("the data directory %s is in use by another tollgated: stop that one first", o.Data)
	}
	a := &App{failed: make(chan error, 1), panicked: &panics.Log{}, log: o.Log,
		telling: make(chan struct{}, maxTelling), adopting: make(chan struct{}, adoptedAtOnce)}
	a.done = append(a.done, unlock)
	if o.Join != "" {
		if err := cluster.Join(ctx, cluster.JoinOptions{Dir: o.Data, Token: o.Join, Address: o.NodeAddress,
			Version: Version, Outside: o.Outside}); err != nil {
			a.Stop()
			return nil, err
		}
	}
	if err := a.start(ctx, &o); err != nil {
		a.Stop()
		return nil, err
	}
	return a, nil
}

// openRecords opens what is recorded of attempts, and of what is done on network gear.
func (a *App) openRecords(ctx context.Context, o *Options, ids *ident.Source, counts *tally.Tally,
	clock *host.Clock) (err error) {
	if a.Attempts, err = store.OpenAttempts(ctx, o.Data, ids, a.store, o.retention(o.KeepAttempts, clock),
		func(batch []*store.Attempt) {
			for _, attempt := range batch {
				counts.Attempt(attempt.At, attempt.Verdict == "admitted", attempt.Micros)
			}
			a.admitted(batch)
		}); err != nil {
		return err
	}
	a.done = append(a.done, func() { a.Attempts.Close() })
	if a.Journal, err = store.OpenJournal(ctx, o.Data, ids, o.retention(o.KeepJournal, clock)); err != nil {
		return err
	}
	a.done = append(a.done, func() { a.Journal.Close() })
	return warmUp(ctx, a.Attempts, counts)
}

// openGate opens what the gate asks, and the gate.
func (a *App) openGate(ctx context.Context, o *Options, accounts *account.Keeper, box *seal.Box, ids *ident.Source,
	clock *host.Clock) error {
	devices, err := device.Open(ctx, a.store)
	if err != nil {
		return err
	}
	issued, err := certificate.OpenIssued(ctx, a.store)
	if err != nil {
		return err
	}
	computers, err := device.OpenComputers(ctx, a.store)
	if err != nil {
		return err
	}
	members, err := domain.OpenMachineAccounts(ctx, a.store, box)
	if err != nil {
		return err
	}
	if a.shared {
		members.SetNode(int(o.Node))
	}
	leases, err := session.Open(ctx, a.store, clock.Seen())
	if err != nil {
		return err
	}
	if a.factors, err = factor.Open(ctx, a.store.PeopleFactors(), box, ids); err != nil {
		return err
	}
	a.leases = leases
	a.done = append(a.done, computers.Close, leases.Close)
	if err := a.openSessions(ctx, o, ids, clock, leases); err != nil {
		return err
	}
	a.owners = map[string]owner{"account": accounts, "device": devices, "factor": a.factors, "lease": leases,
		"issued": issued, "machine-account": members}
	a.approvals = newApprovals(a)
	if err := a.approvals.load(ctx); err != nil {
		return err
	}
	a.Gate = gate.New(gate.Parts{Accounts: accounts, Devices: devices, Computers: computers, Issued: issued,
		MachineAccounts: members, Leases: leases, Sessions: a.Sessions, Factors: a.factors,
		Approvals: a.approvals.desk, Attempts: a.Attempts, Journal: a.Journal,
		Panics: a.panicked, EndSessions: a.endSessions,
		Present: a.present, Traits: a.traits})
	a.changes = change.New(a.Sessions, a.Gate.Current, a.Attempts)
	a.done = append(a.done, a.Gate.Close, a.changes.Close)
	return nil
}

func (a *App) start(ctx context.Context, o *Options) error {
	box, err := seal.Open(filepath.Join(o.Data, "key"))
	if err != nil {
		return err
	}
	if a.store, err = store.Open(ctx, o.Data); err != nil {
		return err
	}
	a.done = append(a.done, func() { a.store.Close() })
	if err := reseal(ctx, a.store, box); err != nil {
		return err
	}
	clock, err := host.OpenClock(ctx, a.store, o.Now)
	if err != nil {
		return err
	}
	shared, err := a.store.SharedState(ctx)
	if err == nil { // the others know it by this number
		o.Node, a.shared = uint8(shared.Node), true
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	a.node = int(o.Node)
	ids := ident.NewSource(o.Node)
	highest, err := a.store.Highest(ctx)
	if err != nil {
		return err
	}
	ids.Above(highest)
	accounts, err := account.Open(ctx, a.store, box)
	if err != nil {
		return err
	}
	registry, err := sources.Open(ctx, a.store)
	if err != nil {
		return fmt.Errorf("reading what source addresses did: %w", err)
	}
	trail, err := audit.Open(
		ctx,
		a.store,
		box,
		audit.Options{Keep: o.KeepAudit, Doubtful: clock.Doubtful, Now: o.Now,
			Log: o.Log},
	)
	if err != nil {
		return err
	}
	a.trail = trail
	operators, err := operator.Open(ctx, a.store, box, ids, o.Data, directoryPeople{a})
	if err != nil {
		return err
	}
	counts := &tally.Tally{}
	if err := a.openRecords(ctx, o, ids, counts, clock); err != nil {
		return err
	}
	if err := a.openGate(ctx, o, accounts, box, ids, clock); err != nil {
		return err
	}
	revisions, err := revision.Open(ctx, a.store, box, a.Gate)
	if err != nil {
		return err
	}
	a.owners["configuration"] = configuration{revisions.Reload}
	a.owners["operator-factor"] = operators.SecondFactors()
	if err := a.openCopies(ctx, o, clock); err != nil {
		return err
	}
	if err := a.openCluster(ctx, o, box, registry, revisions, counts); err != nil {
		return err
	}
	if err := a.openMirror(o, ids); err != nil {
		return err
	}
	if err := a.openPresence(ctx, o, box, ids, clock); err != nil {
		return err
	}
	if err := a.openReports(o); err != nil {
		return err
	}
	if a.radius, err = radius.Serve(a.Gate, registry, o.RADIUS); err != nil {
		return err
	}
	a.RADIUS = a.radius.Addresses()
	a.done = append(a.done, a.radius.Close)
	if err := a.serveAccounting(o, registry); err != nil {
		return err
	}
	if err := a.openTACACS(o, registry); err != nil {
		return err
	}
	checks, err := checkup.Open(ctx, a.store, inUse{a.Gate, box}, o.Log)
	if err != nil {
		return err
	}
	background, cancel := context.WithCancel(context.Background())
	a.cancel = cancel
	disk := host.OpenDisk(o.Data, host.Together{a.ofOthers, a.sightings, a.Attempts}, nil)
	a.disk.Store(disk)
	a.background(func() { clock.Run(background) })
	a.background(func() { a.presence.Run(background) })
	a.background(func() { a.pushing(box).Run(background) })
	a.background(func() {
		a.leases.Tend(background, func() []*config.Pool { return a.Gate.Current().Plan.Config.Pools })
	})
	a.background(func() { disk.Run(background) })
	a.background(func() { host.WatchMemory(background, gcPercent, a.presence.Complete) })
	copies := copies.New(a.store, inUse{a.Gate, box}, o.Log)
	a.background(func() { copies.Schedule(background, time.Minute) })
	a.background(func() { accounts.HashPending(background) })
	a.background(func() { checks.Schedule(background, firstCheckup, checkup.Every, revisions.Number) })
	a.background(func() { registry.Run(background, a.store) })
	a.background(func() { a.housekeeping(background, o) })
	a.background(func() { trail.Run(background) })
	if err := a.openOnward(ctx, o); err != nil {
		return err
	}
	a.background(func() { a.onward.Run(background) })
	a.SetupCode = operators.SetupCode()
	if a.post, err = mail.Open(o.Mail, o.MailFrom, o.MailPasswordFile); err != nil {
		return err
	}
	if err := a.openPush(o, box); err != nil {
		return err
	}
	if err := a.openPortal(o, box, trail); err != nil {
		return err
	}
	a.box, a.ready = box, a.reader()
	if a.post != nil && !o.NoReminders {
		a.background(func() { a.remindDaily(background) })
	}
	listener, secure, err := listenHTTP(o)
	if err != nil {
		return err
	}
	follower := change.NewFollower(a.changes, a.Sessions, a.Gate)
	a.background(func() { follower.Run(background) })
	analyst := revision.NewAnalyst(a.Gate, accounts.Groups)
	needs := &attention.Sources{Addresses: registry, Accounts: accounts, Checkup: checks, Revisions: revisions,
		Stuck: a.stuck, Silent: a.silent, Presence: a.presenceSilent,
		NotMe: a.approvals.attention,
		Nodes: a.nodes, Audit: trail.Waiting, Analyst: analyst, Clock: clock,
		Disk: disk,
		Records: map[string]attention.Records{"attempts": a.Attempts,
			"journal": a.Journal, "accounting": a.Sessions.Records(), "sightings": a.sightings}}
	return a.serve(o, listener, secure, api.New(&api.Service{Version: Version, Store: a.store,
		Revisions: revisions, Analyst: analyst, Attention: needs, Accounts: accounts, Factors: a.factors,
		ReleaseApprovals: a.approvals.release, ApprovalState: a.approvals.state, KeyFault: keyFault(o.Data),
		Mail: a.post, Ready: a.ready, PortalEnds: a.portalEnds, PortalOwn: a.portalOwn,
		Operators: operators, Audit: trail, Provider: provider.New(box),
		Sources: registry, Gate: a.Gate, Checkup: checks, Copies: copies, Rehearsals: rehearsal.New(a.Attempts,
			a.Attempts.Added), Box: box, IDs: ids, Tally: counts, Attempts: a.Attempts, Journal: a.Journal,
		Sessions: a.Sessions, Changes: a.changes, Follower: follower,
		Backup: a.backupOf(o), Onward: a.onward, Presence: a.presence, Cluster: a.cluster, Portal: a.PortalURL,
		OfOthers: a.ofOthers,
		Trial:    a.radius.Trial, GearTrial: a.tacacs.Trial, GearOpen: a.tacacs.Open, Waiting: a.radius.Waiting,
		Listening: a.listening(), KeyFile: filepath.Join(o.Data, "key"),
		Secure: secure, Hosts: o.HTTPHosts, Done: background.Done()}))
}

// background runs something until Stop.
func (a *App) background(run func()) {
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer a.panicked.Catch(func() string { return "work in the background" }, nil)
		run()
	}()
	a.done = append(a.done, func() {
		a.cancel()
		<-ended
	})
}

func warmUp(ctx context.Context, attempts *store.Attempts, counts *tally.Tally) error {
	list, err := attempts.CountByMinute(ctx, time.Now().Add(-time.Hour))
	if err != nil {
		return fmt.Errorf("counting the attempts of the last hour: %w", err)
	}
	for _, m := range list {
		counts.Add(m.Minute, m.Admitted, m.Refused)
	}
	return nil
}

// Failed delivers an error that ends the service.
func (a *App) Failed() <-chan error { return a.failed }

// Stop ends everything, the newest first: no request is taken any more, those under way end, what is queued is written.
func (a *App) Stop() {
	for i := len(a.done) - 1; i >= 0; i-- {
		a.done[i]()
	}
	a.done = nil
}
