package hostile

import (
	"crypto/tls"
	"encoding/binary"
	"flag"
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/eap/supplicant"
)

var (
	conversations = flag.Int("conversations", 5_000, "how many different conversations with a hostile device to have")
	within        = flag.Duration("within", 10*time.Minute, "after how long to stop in any case")
	seed          = flag.Uint64("seed", 20261128, "where chance begins")
)

// scenarios are all pairs of methods with all that a device may hold, under both versions of TLS.
func scenarios() (out []scenario) {
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		add := func(ssid, method string, kinds ...holds) {
			for _, h := range kinds {
				out = append(out, scenario{ssid: ssid, method: method, holds: h, tls: version})
			}
		}
		for _, l := range lanes {
			for _, m := range l.methods {
				kinds := []holds{public, lesser}
				if strings.HasSuffix(m, "-tls") && m != "eap-tls" {
					kinds = append(kinds, dressed)
				}
				if strings.HasPrefix(m, "teap") && l.prove == "both" {
					kinds = append(kinds, onStolenPC, ownPC)
				}
				if m == "teap-mschapv2" && l.prove != "user" {
					kinds = append(kinds, asPC, asSelf)
				}
				add(l.ssid, m, kinds...)
			}
		}
		for _, m := range [][2]string{{"peap", "peap-mschapv2"}, {"ttls", "ttls-pap"}, {"teap-user", "teap-mschapv2"},
			{"tls", "eap-tls"}} {
			ssid, method := m[0], m[1]
			out = append(out, scenario{ssid: ssid, method: method, holds: public, tls: version, ticket: true})
			if version == tls.VersionTLS12 {
				out = append(out, scenario{ssid: ssid, method: method, holds: lesser, tls: version, ticket: true,
					otherSuite: true})
			}
		}
	}
	return out
}

// stolenTicket has the victim sign in, and gives away the ticket of that session, which anybody can hear under TLS 1.2,
// with a secret that is not its own.
func (w *world) stolenTicket(s scenario) tls.ClientSessionCache {
	cache := tls.NewLRUClientSessionCache(1)
	own := supplicant.Settings{Method: s.method, Identity: victim, Password: victimWord, Certificate: w.victimCert,
		MinTLS: s.tls, MaxTLS: s.tls, Sessions: cache}
	got, err := "", error(nil)
	for range 5 { // others guess at the victim's password meanwhile, which brakes the account
		w.app.Gate.Lockout.Release("local", "")
		if got, err = w.honest(s.ssid, victimsStation+"00-01", own); got == vlanCrown {
			break
		}
	}
	if got != vlanCrown || err != nil {
		w.t.Errorf("the victim gets %q: %v", got, err)
	}
	kept, ok := cache.Get("eap")
	if !ok {
		w.t.Error("the victim got no ticket")
		return nil
	}
	ticket, state, err := kept.ResumptionState()
	w.must(err)
	octets, err := state.Bytes()
	w.must(err)
	octets[14] ^= 1   // the first octet of the secret, behind version, side, suite, time and length
	if s.otherSuite { // so that crypto/tls offers it
		binary.BigEndian.PutUint16(octets[3:], tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384)
	}
	state, err = tls.ParseSessionState(octets)
	w.must(err)
	wrong, err := tls.NewResumptionState(ticket, state)
	w.must(err)
	cache.Put("eap", wrong)
	return cache
}

// begin takes some rounds as an honest device would and returns what it would say next, with its State.
func (d *device) begin(rounds int) (packet, state []byte) {
	settings := d.settings()
	settings.Hooks = supplicant.Hooks{}
	p, err := supplicant.New(settings)
	d.w.must(err)
	defer p.Close()
	packet = p.Hello()
	station := d.w.station()
	for range rounds {
		a := d.reply(packet, state, station)
		if !a.Challenge {
			break
		}
		next, err := p.Respond(a.EAP)
		if err != nil || next == nil {
			break
		}
		packet, state = next, a.State
	}
	return packet, state
}

// plan is one conversation to have.
type plan struct {
	s scenario
	d []deviation
}

func (p plan) String() string { return fmt.Sprintf("%s %v", p.s, p.d) }

// singles lists every single deviation of every scenario, at every message that an honest device sends, and one behind.
func (w *world) singles(list []scenario) (out []plan, lengths map[scenario][3]int) {
	lengths = map[scenario][3]int{}
	kinds := [3]int{len(packetKinds), len(insideKinds), len(flightKinds)}
	for _, s := range list {
		w.app.Gate.Lockout.Release("local", "")
		d := &device{w: w, s: s, random: rand.New(rand.NewPCG(1, 2))}
		given, err := d.run()
		w.must(err)
		w.judge(plan{s: s}, given)
		lengths[s] = d.count
		for l, n := range d.count {
			for at := range n + 1 {
				for kind := range kinds[l] {
					out = append(out, plan{s, []deviation{{layer(l), at, kind}}})
				}
			}
		}
	}
	return out, lengths
}

// pairs is a chance pair of deviations in a tunnel.
func pairs(random *rand.Rand, list []scenario, lengths map[scenario][3]int) plan {
	kinds := [3]int{len(packetKinds), len(insideKinds), len(flightKinds)}
	for {
		s := list[random.IntN(len(list))]
		if !strings.HasPrefix(s.method, "peap") && !strings.HasPrefix(s.method, "ttls") && !strings.HasPrefix(s.method,
			"teap") {
			continue
		}
		p := plan{s: s}
		for len(p.d) < 2 {
			l := [...]layer{packets, insides, insides, flights}[random.IntN(4)]
			p.d = append(p.d, deviation{l, random.IntN(lengths[s][l] + 2), random.IntN(kinds[l])})
		}
		return p
	}
}

// judge is the oracle: nobody gets more than is his by his own rights.
func (w *world) judge(p plan, given []string) {
	for _, v := range given {
		if !p.allowed(v) {
			w.t.Errorf("%v: admitted into VLAN %s", p, v)
		}
	}
}

// have has one conversation.
func (w *world) have(p plan, chance uint64) {
	w.app.Gate.Lockout.Release("local", "") // guesses are not what is looked for here
	d := &device{w: w, s: p.s, deviations: p.d, random: rand.New(rand.NewPCG(*seed, chance))}
	given, err := d.run()
	if err != nil {
		w.t.Errorf("%v: %v", p, err)
	}
	w.judge(p, given)
}

func TestHostileDevices(t *testing.T) {
	w := newWorld(t)
	w.baseline()
	list := scenarios()
	all, lengths := w.singles(list)
	random := rand.New(rand.NewPCG(*seed, 0))
	random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	most := *conversations * 3 / 5
	if *conversations >= 100_000 {
		most = len(all)
	}
	all = all[:min(most, len(all))]
	single := len(all)
	seen := make(map[string]bool, *conversations)
	for len(all) < *conversations {
		p := pairs(random, list, lengths)
		if key := p.String(); !seen[key] {
			seen[key] = true
			all = append(all, p)
		}
	}
	begun := time.Now()
	var next, done atomic.Int64
	var workers sync.WaitGroup
	for range 2 * runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(all) || time.Since(begun) > *within || t.Failed() {
					return
				}
				w.have(all[i], uint64(i))
				done.Add(1)
			}
		})
	}
	workers.Wait()
	open, _ := w.app.Gate.Conversations()
	recorded := w.records()
	t.Logf("%d scenarios, %d conversations in %v (%d singles of those listed first), %d left open, %d attempts "+
		"recorded", len(list), done.Load(), time.Since(begun).Round(time.Second), single, open, recorded)
	if int(done.Load()) < len(all) && !t.Failed() {
		t.Errorf("only %d of %d conversations in the time allowed", done.Load(), len(all))
	}
}

// baseline sees that the oracle can see: honest people get what is theirs.
func (w *world) baseline() {
	for _, s := range scenarios() {
		if s.holds != lesser || s.ticket {
			continue
		}
		d := &device{w: w, s: s, random: rand.New(rand.NewPCG(1, 2))}
		given, err := d.run()
		want := vlanLesser
		if s.ssid == "teap-machine" {
			want = vlanLesserPC
		}
		if got := strings.Join(given, " "); got != want || err != nil {
			w.t.Errorf("%s, without a deviation: VLAN %q, wanted %q: %v", s, got, want, err)
		}
		own := supplicant.Settings{Method: s.method, Identity: victim, Password: victimWord, Certificate: w.victimCert,
			Machine: w.victimPC, MachineIdentity: victimPC, MinTLS: s.tls, MaxTLS: s.tls}
		if want = vlanCrown; s.ssid == "teap-machine" {
			want = vlanPC
		}
		if got, err := w.honest(s.ssid, victimsStation+"00-02", own); got != want {
			w.t.Errorf("%s, the victim: VLAN %q, wanted %q: %v", s, got, want, err)
		}
	}
}
