package e2e

import (
	"context"
	"crypto/tls"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/netlogon"
)

// member makes us a member of the domain, with a lane that admits Shore Staff by the methods of tunnelled.
func (w *world) member(in apitype.DirectoryInput) {
	w.t.Helper()
	w.tunnelled(nil)
	w.do(http.MethodPost, "/directories", in, nil)
	var realm apitype.Realm
	w.do(http.MethodGet, "/realms/here", nil, &realm)
	realm.Forms = append(realm.Forms, config.Form{Kind: config.Suffix, Value: "lantern.example"})
	realm.Lookup = []config.Lookup{{Store: in.Name, Unreachable: config.Refuse}}
	w.do(http.MethodPut, "/realms/here", realm.RealmFields, nil, client.IfMatch("*"))
	var lane apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	lane.Policies = []*config.Policy{{Name: "Shore", Enabled: true, When: `group is "Shore Staff"`,
		Outcome: config.Admit, Pass: "crew"}}
	w.do(http.MethodPut, "/lanes/Wired", lane.LaneFields, nil, client.IfMatch("*"))
	w.do(http.MethodPost, "/directories/"+in.Name+"/join", apitype.JoinInput{Name: "Administrator@lantern.example",
		Password: adminPass, Computer: "tollgate1"}, nil)
	w.publish()
}

// signs signs s.lodge in by a method and tells whether that worked.
func (w *world) signs(method string) (bool, error) {
	reply, err := trial.Send(context.Background(), trial.Request{Server: w.radius, Secret: secret, Method: method,
		User: "s.lodge", Password: "Harbour-s.lodge-1", Timeout: 10 * time.Second,
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}})
	return err == nil && reply.Accepted, err
}

// load keeps signing somebody in by several methods at once until stop, and tells when each was admitted.
type load struct {
	mu       sync.Mutex
	admitted []time.Time
	refused  int
	ended    atomic.Bool
	wait     sync.WaitGroup
}

func (w *world) load(methods ...string) *load {
	l := &load{}
	for _, method := range methods {
		l.wait.Go(func() {
			for !l.ended.Load() {
				in, err := w.signs(method)
				l.mu.Lock()
				if in {
					l.admitted = append(l.admitted, time.Now())
				} else {
					w.t.Logf("%s: refused, %v", method, err)
					l.refused++
				}
				l.mu.Unlock()
			}
		})
	}
	return l
}

// stop ends it, and returns the longest time in which nobody was admitted.
func (l *load) stop() time.Duration {
	l.ended.Store(true)
	l.wait.Wait()
	slices.SortFunc(l.admitted, func(a, b time.Time) int { return a.Compare(b) })
	longest := time.Duration(0)
	for i := 1; i < len(l.admitted); i++ {
		longest = max(longest, l.admitted[i].Sub(l.admitted[i-1]))
	}
	return longest
}

// One of two domain controllers stops, comes back, and falls silent without closing anything: the other takes over, and
// nobody who may sign in is refused.
func TestTheSecondControllerTakesOver(t *testing.T) {
	first := newController(t)
	populate(t, first.ca)
	const address = "127.0.7.2"
	w := start(t)
	in := ofDomain(first.ca, controller, address)
	in.CacheSeconds = new(0)
	w.member(in)
	first.stop()
	second := clone(t, first.dir, address, first.ca)
	first.start(t)
	methods := []string{"mschapv2", "mschapv2", "peap-mschapv2", "ttls-pap"}
	for _, fault := range []struct {
		name string
		do   func()
	}{
		{"stops", func() { first.stop(); time.Sleep(2 * time.Second); first.start(t); time.Sleep(5 * time.Second) }},
		{"falls silent", func() {
			first.signal(syscall.SIGSTOP)
			time.Sleep(4 * time.Second)
			first.signal(syscall.SIGCONT)
			time.Sleep(4 * time.Second)
		}},
	} {
		l := w.load(methods...)
		time.Sleep(time.Second)
		waitFor(t, "the first controller to be asked before it "+fault.name, func() bool {
			host, err := w.app.Gate.Current().Member("LANTERN").Test(context.Background())
			return err == nil && host == controller
		})
		fault.do()
		longest := l.stop()
		// Two seconds are wanted; the third is for a machine on which a domain controller starts meanwhile.
		if t.Logf("the first controller %s: %d admitted, %d refused, longest gap %v", fault.name, len(l.admitted),
			l.refused, longest); l.refused > 0 || longest > 3*time.Second {
			t.Errorf("the first controller %s: %d of %d were refused, and for %v nobody was admitted", fault.name,
				l.refused, len(l.admitted)+l.refused, longest)
		}
		for _, a := range w.attempts("verdict=refused", 0) {
			t.Log(w.wants(0, []string{"attempt", "explain", a.ID}))
		}
	}
	second.stop()
	if in, err := w.signs("peap-mschapv2"); !in {
		t.Errorf("back to the first: %v", err)
	}
	first.stop()
	if in, _ := w.signs("mschapv2"); in {
		t.Error("admitted without any controller")
	}
	if a := w.attempts("verdict=refused", 1)[0]; a.Reason != "directory.unreachable" &&
		a.Reason != "domain.unreachable" {
		t.Errorf("without any controller the reason is %s", a.Reason)
	}
}

// rate counts how often something succeeds in a second, done by several at once.
func rate(t *testing.T, workers int, length time.Duration, do func() bool) float64 {
	t.Helper()
	var done, failed atomic.Int64
	var wait sync.WaitGroup
	begun := time.Now()
	for range workers {
		wait.Go(func() {
			for time.Since(begun) < length {
				if do() {
					done.Add(1)
				} else {
					failed.Add(1)
				}
			}
		})
	}
	wait.Wait()
	if failed.Load() > 0 {
		t.Errorf("%d of %d failed", failed.Load(), done.Load())
	}
	return float64(done.Load()) / time.Since(begun).Seconds()
}

// Attempts by PEAP with MS-CHAPv2 keep up with what the domain controller itself verifies over the same channel.
func TestPEAPKeepsUpWithTheController(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	w := start(t)
	w.member(ofDomain(dc.ca))
	member := w.app.Gate.Current().Member("LANTERN")
	challenge := [8]byte{1, 2, 3, 4, 5, 6, 7, 8}
	response := mschap.NTHash("Harbour-s.lodge-1").V1(challenge)
	bare := func() bool {
		_, status, err := member.Check(context.Background(), "", "s.lodge", false, challenge, response)
		return err == nil && status == netlogon.StatusOK
	}
	peap := func(version uint16) func() bool {
		return func() bool {
			reply, err := trial.Send(context.Background(), trial.Request{Server: w.radius, Secret: secret,
				Method: "peap-mschapv2", User: "s.lodge", Password: "Harbour-s.lodge-1", Timeout: 10 * time.Second,
				Supplicant: supplicant.Settings{MinTLS: version, MaxTLS: version},
				Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}})
			return err == nil && reply.Accepted
		}
	}
	best := 0.0
	for range 3 {
		a, b, c := rate(t, 3, 2*time.Second, bare), rate(t, 6, 2*time.Second, peap(tls.VersionTLS12)),
			rate(t, 6, 2*time.Second, peap(tls.VersionTLS13))
		t.Logf("bare verification %.0f/s, PEAP-MSCHAPv2 under TLS 1.2 %.0f/s: %.2f, under TLS 1.3 %.0f/s: %.2f", a, b,
			b/a, c, c/a)
		best = max(best, b/a)
	}
	if best < 0.3 {
		t.Errorf("PEAP reaches %.2f of bare verification", best)
	}
}
