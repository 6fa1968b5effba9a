package presence

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// world is a keeper with a clock that the test sets.
type world struct {
	*Keeper
	t      *testing.T
	dir    string
	config atomic.Pointer[config.Config]
	now    atomic.Int64
	groups atomic.Pointer[[]string]
	mute   atomic.Bool // directories do not answer
	stop   func()
}

func (w *world) open() {
	w.t.Helper()
	ids := ident.NewSource(0)
	ctx, cancel := context.WithCancel(context.Background())
	records, err := store.OpenSightings(ctx, w.dir, ids, record.Retention{})
	if err != nil {
		w.t.Fatal(err)
	}
	ids.Above(records.Last())
	w.Keeper = Open(Options{Records: records, IDs: ids, Config: w.config.Load, Log: slog.New(slog.DiscardHandler),
		Now:  func() time.Time { return time.UnixMilli(w.now.Load()) },
		Open: func(_ config.Place, s config.Secret) (string, error) { return string(s), nil },
		Name: func(sent string) string { return sent[strings.IndexByte(sent, '\\')+1:] },
		Find: func(_ context.Context, name string) (Person, bool) {
			return Person{Display: strings.ToUpper(name), Groups: *w.groups.Load()}, !w.mute.Load()
		}})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		w.Run(ctx)
	}()
	w.stop = func() {
		cancel()
		<-ended
		if err := records.Close(); err != nil {
			w.t.Error(err)
		}
	}
	w.until("it is complete", w.Complete)
}

func start(t *testing.T, c *config.Config) *world {
	w := &world{t: t, dir: t.TempDir()}
	c.Normalise()
	w.config.Store(c)
	w.now.Store(time.Now().Truncate(time.Second).UnixMilli())
	w.groups.Store(&[]string{"Crew"})
	w.open()
	t.Cleanup(func() { w.stop() })
	return w
}

func (w *world) until(what string, is func() bool) {
	w.t.Helper()
	for end := time.Now().Add(10 * time.Second); !is(); time.Sleep(2 * time.Millisecond) {
		if time.Now().After(end) {
			w.t.Fatalf("it never came about that %s", what)
		}
	}
}

func (w *world) after(d time.Duration) { w.now.Add(d.Milliseconds()) }

func (w *world) report(way string, kind core.Kind, who, address, mac string) error {
	r := Report{Sighting: core.Sighting{Kind: kind, Who: who, MAC: core.ParseMAC(mac)}}
	if address != "" {
		r.Address = netip.MustParseAddr(address)
	}
	source := w.BuiltIn(way)
	if source == nil {
		for _, s := range w.current().sources {
			if s.Way == way {
				source = s
			}
		}
	}
	_, err := w.Take(source, r)
	return err
}

func (w *world) who(address string, at time.Time) string {
	w.t.Helper()
	a, err := w.Who(w.t.Context(), netip.MustParseAddr(address), 0, at)
	if err != nil {
		w.t.Fatal(err)
	}
	if a.Here == nil {
		return ""
	}
	return a.Here.Who
}

// A person who is known by a device gets its address from DHCP, keeps it over a restart, and loses it when the address
// is handed on; who was there before is still known.
func TestFromDeviceToAddress(t *testing.T) {
	t.Parallel()
	w := start(t, &config.Config{Sources: []*config.Source{{ID: "1", Name: "relays", Enabled: true,
		Way: config.SourceDHCP, From: []string{"192.0.2.1"}}}})
	for _, err := range []error{w.report("sessions", core.SignedIn, `LANTERN\S.Lodge`, "", "02-00-5e-00-00-01"),
		w.report("dhcp", core.Leased, "", "192.0.2.41", "02-00-5e-00-00-01")} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if who := w.who("192.0.2.41", time.Time{}); who != "s.lodge" {
		t.Fatalf("%q is there", who)
	}
	w.until("the groups are known", func() bool {
		_, _, groups, _ := w.At(netip.MustParseAddr("192.0.2.41"), 0)
		return len(groups) == 1
	})
	then := time.UnixMilli(w.now.Load())
	w.mute.Store(true)
	w.stop()
	w.open()
	if _, _, groups, _ := w.At(netip.MustParseAddr("192.0.2.41"), 0); len(groups) != 1 {
		t.Errorf("after a restart with mute directories the groups are %q", groups)
	}
	if who := w.who("192.0.2.41", time.Time{}); who != "s.lodge" {
		t.Errorf("after a restart %q is there", who)
	}
	w.after(time.Minute)
	if err := w.report("dhcp", core.Leased, "", "192.0.2.41", "02-00-5e-00-00-02"); err != nil {
		t.Fatal(err)
	}
	if who := w.who("192.0.2.41", time.Time{}); who != "" {
		t.Errorf("%q has an address that was handed on", who)
	}
	w.after(time.Minute)
	if who := w.who("192.0.2.41", then.Add(time.Second)); who != "s.lodge" {
		t.Errorf("%q was there a moment ago", who)
	}
	if who := w.who("192.0.2.41", then.Add(-time.Hour)); who != "" {
		t.Errorf("%q was there an hour before", who)
	}
}

// What is out of scope, from another time, a flood, or nonsense is refused, counted, and leaves nothing.
func TestWhatIsNotTaken(t *testing.T) {
	t.Parallel()
	w := start(
		t,
		&config.Config{Scopes: []*config.Scope{{ID: "1", Name: "ships", Networks: []string{"192.0.2.0/24"}},
			{
				ID:       "2",
				Name:     "printers",
				LeaveOut: true,
				Networks: []string{"192.0.2.128/25"},
				Accounts: []string{"svc-*"},
				MACs:     []string{"02:00:99"},
			}}},
	)
	for what, want := range map[[3]string]string{
		{"s.lodge", "192.0.2.41"}: "", {"s.lodge", "192.0.2.200"}: "printers",
		{"s.lodge", "203.0.113.5"}:   RuleNotWatched,
		{"svc-backup", "192.0.2.42"}: "printers", {"heron$", "192.0.2.43"}: RuleComputers,
		{"host/heron", "192.0.2.43"}: RuleComputers, {"02005e000001", "192.0.2.43"}: RuleDevices,
		{"k.oake", "192.0.2.44", "02-00-99-00-00-01"}: "printers"} {
		err := w.report("operators", core.SignedIn, what[0], what[1], what[2])
		var out *LeftOut
		if errors.As(err, &out); want == "" && err != nil || want != "" && (out == nil || out.Rule != want) {
			t.Errorf("%v: %v instead of %q", what, err, want)
		}
	}
	if rules, _ := w.Dropped(); rules["printers"] != 3 || rules[RuleComputers] != 2 {
		t.Errorf("counted is %v", rules)
	}
	source := w.BuiltIn("operators")
	now, at := time.UnixMilli(w.now.Load()), netip.MustParseAddr("192.0.2.1")
	for want, s := range map[error]core.Sighting{
		ErrFuture:       {Kind: core.SignedIn, Who: "a", Address: at, At: now.Add(time.Hour)},
		ErrPast:         {Kind: core.SignedIn, Who: "a", Address: at, At: now.Add(-25 * time.Hour)},
		core.ErrNowhere: {Kind: core.SignedIn, Who: "a"}, core.ErrBadKind: {Kind: "there"},
		core.ErrAddress: {Kind: core.SignedIn, Who: "a", Address: netip.MustParseAddr("224.0.0.1")},
		core.ErrBadPorts: {Kind: core.SignedIn, Who: "a", Address: netip.MustParseAddr("192.0.2.1"),
			Ports: core.Ports{First: 9, Last: 1}}} {
		if _, err := w.Take(source, Report{Sighting: s}); !errors.Is(err, want) {
			t.Errorf("%+v: %v instead of %v", s, err, want)
		}
	}
	flooded := 0
	for i := range 3 * perSecond {
		if errors.Is(w.report("operators", core.SignedIn, fmt.Sprint("p", i), "192.0.2.7", ""), ErrFlood) {
			flooded++
		}
	}
	if flooded < 2*perSecond {
		t.Errorf("of a flood %d are refused", flooded)
	}
	if w.Len() > 2 {
		t.Errorf("%d people are somewhere", w.Len())
	}
}

// A reader of the feed takes a snapshot and then changes, and ends with what the keeper has, whatever it missed.
func TestTheFeedHasNoGap(t *testing.T) {
	t.Parallel()
	w := start(t, &config.Config{})
	have, position := map[string]string{}, ""
	take := func() {
		for {
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
			list, next, err := w.Changes(ctx, position, Filter{}, 100)
			cancel()
			if errors.Is(err, ErrGap) {
				clear(have)
				if position, err = w.Snapshot(Filter{}, func(list []core.Entry) error {
					for _, e := range list {
						have[e.Address.String()] = e.Who
					}
					return nil
				}); err != nil {
					t.Fatal(err)
				}
				continue
			}
			if position = next; len(list) == 0 {
				return
			}
			for _, c := range list {
				if c.Gone {
					delete(have, c.Address.String())
				} else {
					have[c.Address.String()] = c.Who
				}
			}
		}
	}
	check := func(want int) {
		t.Helper()
		take()
		if len(have) != want || w.Len() != want {
			t.Fatalf("the reader has %d, the keeper %d, not %d", len(have), w.Len(), want)
		}
		for a, who := range have {
			if there := w.who(a, time.Time{}); there != who {
				t.Fatalf("at %s the reader has %q, the keeper %q", a, who, there)
			}
		}
	}
	for i := range 50 {
		who, at := fmt.Sprint("p", i), fmt.Sprintf("192.0.2.%d", i+1)
		if err := w.report("sessions", core.SignedIn, who, at, ""); err != nil {
			t.Fatal(err)
		}
	}
	check(50)
	for i := range 20 {
		w.after(time.Second)
		who, at := fmt.Sprint("p", i), fmt.Sprintf("192.0.2.%d", i+1)
		if err := w.report("sessions", core.SignedOut, who, at, ""); err != nil {
			t.Fatal(err)
		}
	}
	check(30)
	w.stop()
	w.open()
	check(30)
	w.after(3 * time.Hour) // sessions hold for two
	w.until("nobody is there any more", func() bool { return w.Len() == 0 })
	check(0)
}

// A reader of one group is told that somebody is gone who leaves it.
func TestReadersOfAGroup(t *testing.T) {
	t.Parallel()
	w := start(t, &config.Config{})
	position, err := w.Snapshot(Filter{}, func([]core.Entry) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	f := Filter{Groups: []string{"crew"}, Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/28")}}
	if err := errors.Join(w.report("sessions", core.SignedIn, "a", "192.0.2.1", ""),
		w.report("sessions", core.SignedIn, "b", "192.0.2.99", "")); err != nil {
		t.Fatal(err)
	}
	there := false
	for range 3 {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		list, next, err := w.Changes(ctx, position, f, 10)
		cancel()
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range list {
			if c.Who != "a" {
				t.Errorf("it is told of %+v", c)
			}
			there = !c.Gone
		}
		if position = next; there {
			break
		}
	}
	if !there {
		t.Fatal("it is not told who is in the group")
	}
	w.groups.Store(&[]string{"Ticketing"})
	w.lookUp(t.Context(), "a")
	list, _, err := w.Changes(t.Context(), position, f, 10)
	if err != nil || len(list) != 1 || !list[0].Gone {
		t.Errorf("%+v, %v", list, err)
	}
}

// Tokens are those of one source or subscriber, from where it may be.
func TestTokens(t *testing.T) {
	t.Parallel()
	w := start(t, &config.Config{Sources: []*config.Source{{ID: "1", Name: "portal", Enabled: true,
		Way: config.SourceReports, Secret: "one", From: []string{"192.0.2.0/24"}}},
		Subscribers: []*config.Subscriber{
			{ID: "1", Name: "wall", Enabled: true, Secret: "two"},
			{ID: "2", Name: "off",
				Secret: "three"},
		}})
	at := netip.MustParseAddr("192.0.2.5")
	if s, err := w.ByToken("one", at); err != nil || s.Name != "portal" {
		t.Error(s, err)
	}
	if _, err := w.ByToken("one", netip.MustParseAddr("203.0.113.5")); !errors.Is(err, ErrStranger) {
		t.Error(err)
	}
	for _, token := range []string{"", "two", "four"} {
		if _, err := w.ByToken(token, at); !errors.Is(err, ErrStranger) {
			t.Errorf("%q: %v", token, err)
		}
	}
	if s, err := w.Subscriber("two", at); err != nil || s.Name != "wall" {
		t.Error(s, err)
	}
	for _, token := range []string{"", "one", "three"} {
		if _, err := w.Subscriber(token, at); !errors.Is(err, ErrStranger) {
			t.Errorf("%q: %v", token, err)
		}
	}
}

// What a device merely asks for takes no address from anybody: only the server gives it.
func TestWhatADeviceAsksFor(t *testing.T) {
	t.Parallel()
	w := start(t, &config.Config{Sources: []*config.Source{{ID: "1", Name: "relays", Enabled: true,
		Way: config.SourceDHCP, From: []string{"192.0.2.1"}}}})
	hers, his := core.MAC(0x02005e000001), core.MAC(0x02005e000066)
	lease := func(mac core.MAC, address string, asked bool) error {
		_, err := w.Take(w.ByAddress(config.SourceDHCP, netip.MustParseAddr("192.0.2.1")), Report{Asked: asked,
			Sighting: core.Sighting{Kind: core.Leased, MAC: mac, Address: netip.MustParseAddr(address)}})
		return err
	}
	if err := errors.Join(w.report("sessions", core.SignedIn, "s.lodge", "", hers.String()),
		lease(hers, "192.0.2.41", true), w.report("sessions", core.SignedIn, "k.oake", "192.0.2.42", "")); err != nil {
		t.Fatal(err)
	}
	w.after(time.Second)
	for _, address := range []string{"192.0.2.41", "192.0.2.42"} {
		if err := lease(his, address, true); !errors.Is(err, ErrOthers) {
			t.Errorf("a device asks for %s, where somebody is: %v", address, err)
		}
	}
	if err := lease(hers, "192.0.2.41", true); err != nil || w.who("192.0.2.41", time.Time{}) != "s.lodge" ||
		w.who("192.0.2.42", time.Time{}) != "k.oake" {
		t.Errorf("%v; %q and %q are there", err, w.who("192.0.2.41", time.Time{}), w.who("192.0.2.42", time.Time{}))
	}
	if err := lease(his, "192.0.2.41", false); err != nil || w.who("192.0.2.41", time.Time{}) != "" {
		t.Errorf(
			"the server gives it to another device: %v, and %q is there",
			err,
			w.who("192.0.2.41", time.Time{}),
		)
	}
}

// Only a source that reports of nobody that they left has sign-ins that repeat themselves left out: a late word that
// somebody left before the second sign-in ends nothing then.
func TestALateSignOutEndsNoRepeatedSignIn(t *testing.T) {
	t.Parallel()
	w := start(t, &config.Config{})
	begun := time.UnixMilli(w.now.Load())
	said := func(kind core.Kind, after time.Duration, repeats bool) ident.ID {
		t.Helper()
		id, err := w.Take(w.BuiltIn("operators"), Report{Repeats: repeats, Sighting: core.Sighting{Kind: kind, Who: "a",
			Address: netip.MustParseAddr("192.0.2.1"), At: begun.Add(after)}})
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	w.after(2 * time.Second)
	said(core.SignedIn, 0, false)
	said(core.SignedIn, 1500*time.Millisecond, false)
	said(core.SignedOut, time.Second, false)
	if who := w.who("192.0.2.1", time.Time{}); who != "a" {
		t.Errorf("%q is there after a late word", who)
	}
	last := said(core.SignedIn, 1600*time.Millisecond, true)
	w.o.Records.Flush(t.Context())
	list, _, _, err := w.Sightings(t.Context(), store.SightingFilter{Who: "a", Limit: 9})
	if err != nil || len(list) != 3 || list[0].Of == last {
		t.Errorf("recorded are %+v, %v", list, err)
	}
}
