package lab

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/wire/radius"
)

const (
	// reportEvery is how often stand-ins report what a session has come to.
	reportEvery = 20 * time.Second
	// shortest and longest are how long a session lasts; the VPN's last longer.
	shortest = 2 * time.Minute
	longest  = 40 * time.Minute
	// changesPort is where stand-ins take changes of authorization.
	changesPort = 3799
)

// manners are how the stand-ins take changes; those that are not named are willing.
var manners = map[string]Manner{"sp-switch-1": NoCoA, "heron-switch-1": Mute}

// Floor is what the stand-ins know of the sessions on them: they report each from its start to its end, and do what
// they are asked for.
type Floor struct {
	server string

	mu      sync.Mutex
	open    map[string]*stay // by station and device
	next    int
	changes map[string]*Changes
	all     sync.WaitGroup
}

// stay is one session on a stand-in.
type stay struct {
	station *Station
	session string
	user    string
	mac     string
	port    []results.Attribute
	class   []string
	address string
	vlan    atomic.Pointer[string]
	began   time.Time
	end     time.Duration
	stop    chan string // with the cause
}

// NewFloor makes stand-ins that report to a server. What cannot listen for changes goes without.
func NewFloor(server string, stations ...Station) *Floor {
	f := &Floor{server: server, open: map[string]*stay{}, changes: map[string]*Changes{}}
	for _, s := range stations {
		c, err := TakeChanges(netip.AddrPortFrom(s.Addr, changesPort).String(), s.Secret, manners[s.Name])
		if err == nil {
			f.changes[s.Name] = c
		}
	}
	return f
}

// Close ends all sessions without a word, as when the power goes.
func (f *Floor) Close() {
	for _, c := range f.changes {
		c.Close()
	}
	f.all.Wait()
}

// Admitted begins the session of somebody who was admitted, unless the device has one.
func (f *Floor) Admitted(ctx context.Context, s *Station, mac, user string, port []results.Attribute,
	reply *results.Reply) {
	if f == nil || !reply.Accepted {
		return
	}
	where := s.Name + mac + value(port, "NAS-Port")
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open[where] != nil {
		return
	}
	f.next++
	t := &stay{station: s, user: user, mac: mac, port: port, began: time.Now(), stop: make(chan string, 1),
		session: fmt.Sprintf("%s-%04X", strings.ToUpper(s.Name[:2]), f.next),
		end:     shortest + rand.N(longest-shortest), address: fmt.Sprintf("198.51.100.%d", 1+f.next%254)}
	vlan := "1"
	for _, a := range reply.Attributes {
		switch a.Name {
		case "Class":
			t.class = append(t.class, a.Value)
		case "Framed-IP-Address":
			t.address = a.Value
		case "Tunnel-Private-Group-ID":
			vlan = strings.TrimPrefix(a.Value, "0:")
		case "Session-Timeout":
			if n, err := strconv.Atoi(a.Value); err == nil {
				t.end = min(t.end, time.Duration(n)*time.Second)
			}
		}
	}
	if manners[s.Name] == Mute { // the ship's switch knows no VLAN but its own
		vlan = "1"
	}
	t.vlan.Store(&vlan)
	f.open[where] = t
	c := f.changes[s.Name]
	if c != nil {
		c.Open(t.session, func(p *radius.Packet) {
			vlan := strings.TrimLeft(string(p.Get(radius.TunnelPrivateGroupID)), "\x00")
			switch {
			case p.Code == radius.DisconnectRequest:
				select {
				case t.stop <- "Admin-Reset":
				default:
				}
			case vlan != "":
				t.vlan.Store(&vlan)
			}
		})
	}
	f.all.Go(func() {
		f.stay(ctx, t)
		f.mu.Lock()
		delete(f.open, where)
		f.mu.Unlock()
		if c != nil {
			c.End(t.session)
		}
	})
}

func value(list []results.Attribute, name string) string {
	for _, a := range list {
		if a.Name == name {
			return a.Value
		}
	}
	return ""
}

// stay reports a session until it ends.
func (f *Floor) stay(ctx context.Context, t *stay) {
	f.report(ctx, t, "Start", "")
	over, tick := time.NewTimer(t.end), time.NewTicker(reportEvery)
	defer over.Stop()
	defer tick.Stop()
	cause := "User-Request"
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			f.report(ctx, t, "Interim-Update", "")
			continue
		case cause = <-t.stop:
		case <-over.C:
		}
		f.report(ctx, t, "Stop", cause)
		return
	}
}

// report sends one record. What is not acknowledged within its tries is lost, as on a device with little memory.
func (f *Floor) report(ctx context.Context, t *stay, status, cause string) {
	r := trial.Report{Server: f.server, From: t.station.Addr, Secret: t.station.Secret, Timeout: 3 * time.Second,
		Tries: 3}
	add := func(name, value string) {
		r.Attributes = append(r.Attributes, results.Attribute{Name: name, Value: value})
	}
	add("Acct-Status-Type", status)
	add("Acct-Session-Id", t.session)
	add("User-Name", t.user)
	r.Attributes = append(r.Attributes, t.port...)
	for _, class := range t.class {
		add("Class", class)
	}
	add("Framed-IP-Address", t.address)
	if t.station.Kind != "vpn" {
		add("Tunnel-Type", "VLAN")
		add("Tunnel-Medium-Type", "IEEE-802")
		add("Tunnel-Private-Group-ID", *t.vlan.Load())
	}
	if status != "Start" {
		seconds := int(time.Since(t.began).Seconds())
		add("Acct-Session-Time", strconv.Itoa(seconds))
		add("Acct-Input-Octets", strconv.Itoa(seconds*(4000+len(t.user)*700)))
		add("Acct-Output-Octets", strconv.Itoa(seconds*(31000+len(t.user)*2900)))
	}
	if cause != "" {
		add("Acct-Terminate-Cause", cause)
	}
	for _, r.Server = range t.station.servers(f.server) {
		if r.Send(ctx) == nil {
			return
		}
	}
}
