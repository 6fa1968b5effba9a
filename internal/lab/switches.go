package lab

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/upstream/trial"
)

// Station is a stand-in switch, wireless controller or VPN gateway, through which people and devices sign in.
type Station struct {
	Name   string
	Kind   string
	Addr   netip.Addr
	Secret string
	// Shown is the address it claims in NAS-IP-Address.
	Shown string
}

// Outcome is what one sign-in came to.
type Outcome struct {
	Device, User string
	Reply        results.Reply
	Err          error
	// Sent are the attributes of the request.
	Sent []results.Attribute
}

// wlanMAC is the radio of the wireless controller.
const wlanMAC = "00-00-5E-00-53-E0"

// Ask has somebody sign in; port is the switch port, ssid the wireless network, both as far as they apply.
func (s *Station) Ask(
	ctx context.Context,
	server string,
	r trial.Request,
	mac string,
	port int,
	ssid string,
) Outcome {
	r.Server, r.From, r.Secret, r.Timeout, r.Tries, r.Brief = server, s.Addr, s.Secret, 3*time.Second, 2, true
	r.Attributes = []results.Attribute{{Name: "NAS-IP-Address", Value: s.Shown}, {Name: "NAS-Identifier",
		Value: s.Name}, {Name: "Calling-Station-Id", Value: mac}}
	add := func(name, value string) {
		r.Attributes = append(r.Attributes, results.Attribute{Name: name, Value: value})
	}
	switch s.Kind {
	case "wlan":
		add("NAS-Port-Type", "Wireless-802.11")
		add("Called-Station-Id", wlanMAC+":"+ssid)
		add("Framed-MTU", "1400")
	case "vpn", "desktop":
		add("NAS-Port-Type", "Virtual")
		add("NAS-Port", fmt.Sprint(port)) // the tunnel, which a person comes back to
	default:
		add("NAS-Port-Type", "Ethernet")
		add("NAS-Port-Id", fmt.Sprintf("1/0/%d", port))
		add("NAS-Port", fmt.Sprint(50000+port))
		add("Called-Station-Id", "00-00-5E-00-53-F0")
		add("Framed-MTU", "1500")
	}
	service := "Framed"
	if r.Method == "mac" {
		service = "Call-Check"
	}
	add("Service-Type", service)
	var reply results.Reply
	var err error
	for _, at := range s.servers(server) { // the next one if nothing comes back
		r.Server = at
		if reply, err = trial.Send(ctx, r); !errors.Is(err, upstream.ErrNoAnswer) {
			break
		}
	}
	return Outcome{Device: s.Name, User: r.User, Reply: reply, Err: err, Sent: r.Attributes}
}

// single are the devices on which only one server is set.
var single = map[string]bool{"hh-vpn-1": true}

// servers are the servers that a device asks, of a list with commas between: in another order on the south pier.
func (s *Station) servers(list string) []string {
	out := strings.Split(list, ",")
	switch {
	case single[s.Name]:
		return out[:1]
	case strings.HasPrefix(s.Name, "sp-"):
		slices.Reverse(out)
	}
	return out
}

// harbour is what the scenes play in.
type harbour struct {
	r        *rand.Rand
	people   []Person
	kit      *Kit
	switches []Station
	wlan     Station
	vpn      Station
	desk     Station
}

// play is one sign-in that is to happen.
type play struct {
	at   *Station
	ask  trial.Request
	mac  string
	port int
	ssid string
}

// scene is one kind of thing that happens in the harbour, with how often.
type scene struct {
	weight int
	pick   func(h *harbour) play
}

// scenes are what people and devices do, most of them what they should.
var scenes = []scene{
	{22, func(h *harbour) play { p := h.person(); return h.wired(p, pap(forms(h.r, p.User), p.Password())) }},
	{14, func(h *harbour) play {
		p := h.person()
		return h.wired(p, h.tunnelled("peap-gtc", p.User, p.Password()))
	}},
	{12, func(h *harbour) play { p := h.holder(); return h.wired(p, h.certified(p)) }},
	{5, func(h *harbour) play { // a computer that starts, before anybody signs in on it
		i := h.r.IntN(len(h.kit.Computers))
		r := h.tunnelled("eap-tls", "host/"+computerName(i)+"."+Domain, "")
		r.Supplicant.Outer, r.Supplicant.Certificate = "", h.kit.Computers[i]
		return h.wired(h.people[i], r)
	}},
	{6, func(h *harbour) play { return h.ship(h.tunnelled("peap-mschapv2", "", "")) }},
	{10, func(h *harbour) play {
		p := h.person()
		return h.air("LF-Crew", p.MAC(), h.tunnelled("ttls-pap", p.User+"@"+Domain, p.Password()))
	}},
	{6, func(h *harbour) play { p := h.holder(); return h.air("LF-Deck", p.MAC(), h.certified(p)) }},
	{5, func(h *harbour) play {
		return h.air("LF-Visitors", "02-00-5E-10-09-01", h.tunnelled("peap-mschapv2", "visitor@"+shipsDomain,
			"welcome-aboard"))
	}},
	{4, func(h *harbour) play {
		user := []string{"pilot.gray", "pilot.lund", "inspector.oya"}[h.r.IntN(3)]
		password := PartnerPassword(user)
		if h.r.IntN(5) == 0 {
			password = "forgotten"
		}
		return h.air(
			"LF-Harbour",
			"02-00-5E-10-0A-01",
			trial.Request{Method: "pap", User: user + "@" + PartnerRealm,
				Password: password},
		)
	}},
	{8, func(h *harbour) play {
		i := h.r.IntN(len(crew))
		c := crew[i]
		return play{at: &h.vpn, ask: trial.Request{Method: []string{"mschapv2", "eap-mschapv2"}[i%2],
			User:     c.user + "@" + shipsDomain,
			Password: crewPassword(c.user)}, mac: "198.51.100.77", port: 1 + i}
	}},
	{3, func(h *harbour) play { // three who have no second factor yet
		p := h.people[10+h.r.IntN(3)]
		return play{at: &h.desk, ask: pap(p.User, p.Password()), mac: "198.51.100.80", port: 1}
	}},
	{8, func(h *harbour) play { return h.printer(h.r.IntN(6)) }},
	{2, func(h *harbour) play { return h.device(fmt.Sprintf("02-00-5E-77-10-%02X", 1+h.r.IntN(9))) }},
	// known to nobody
	{2, func(h *harbour) play { return h.device(fmt.Sprintf("02-00-5E-99-00-%02X", 1+h.r.IntN(4))) }},
	{4, func(h *harbour) play { p := h.person(); return h.wired(p, pap(p.User, "harbour-"+p.User[2:])) }},
	{3, func(h *harbour) play {
		p := h.person()
		return h.air("LF-Crew", p.MAC(), h.tunnelled("ttls-pap", p.User, "harbour-"+p.User[2:]))
	}},
	{2, func(h *harbour) play { p := h.person(); return h.wired(p, pap(p.User+"s", p.Password())) }},
	{1, func(h *harbour) play {
		p := h.person()
		return h.wired(p, pap(p.User+"@elsewhere.example", p.Password()))
	}},
	{1, func(h *harbour) play { p := h.person(); return h.wired(p, pap(p.User, "")) }},
	{2, func(h *harbour) play { return h.wired(h.people[0], pap("night.watch", "lighthouse-2026")) }},
	{2, func(h *harbour) play { // a laptop that trusts the authority before last
		p := h.people[33]
		r := h.tunnelled("peap-gtc", p.User, p.Password())
		r.Supplicant.Roots = h.kit.Wrong
		return h.wired(p, r)
	}},
	{2, func(h *harbour) play {
		return h.wired(h.kit.ExpiredOf, trial.Request{Method: "eap-tls", User: h.kit.ExpiredOf.User,
			Supplicant: supplicant.Settings{Roots: h.kit.Roots, Certificate: h.kit.Expired}})
	}},
	{2, func(h *harbour) play {
		return h.wired(h.kit.RevokedOf, trial.Request{Method: "eap-tls", User: h.kit.RevokedOf.User,
			Supplicant: supplicant.Settings{Roots: h.kit.Roots, Certificate: h.kit.Revoked}})
	}},
	{2, func(h *harbour) play { // MS-CHAPv2 for somebody of the directory, which cannot check it
		p := h.people[8]
		return h.wired(p, h.tunnelled("peap-mschapv2", p.User, p.Password()))
	}},
}

func (h *harbour) person() Person { return h.people[h.r.IntN(len(h.people))] }

// holder is somebody who has a certificate.
func (h *harbour) holder() Person { return h.people[h.r.IntN(tlsPeople)] }

func pap(user, password string) trial.Request { return trial.Request{User: user, Password: password} }

// tunnelled signs in inside a tunnel, as a careful device does.
func (h *harbour) tunnelled(method, user, password string) trial.Request {
	return trial.Request{Method: method, User: user, Password: password,
		Supplicant: supplicant.Settings{Outer: "anonymous@" + Domain, Roots: h.kit.Roots, ServerName: ServerName,
			Binding: true}}
}

func (h *harbour) certified(p Person) trial.Request {
	return trial.Request{Method: "eap-tls", User: p.User + "@" + Domain,
		Supplicant: supplicant.Settings{
			Roots:       h.kit.Roots,
			ServerName:  ServerName,
			Certificate: h.kit.People[p.User],
		}}
}

func (h *harbour) wired(p Person, r trial.Request) play {
	return play{at: &h.switches[p.number%len(h.switches)], ask: r, mac: p.MAC(), port: 1 + p.number%24}
}

// ship has one of the crew sign in aboard.
func (h *harbour) ship(r trial.Request) play {
	i := h.r.IntN(len(crew))
	r.User, r.Password = crew[i].user, crewPassword(crew[i].user)
	return play{at: &h.switches[2], ask: r, mac: fmt.Sprintf("02-00-5E-10-08-%02X", i+1), port: 30 + i}
}

func (h *harbour) air(ssid, mac string, r trial.Request) play {
	return play{at: &h.wlan, ask: r, mac: mac, ssid: ssid}
}

// printer falls back to its MAC address, each model in its own way.
func (h *harbour) printer(i int) play {
	p := h.device(printerMAC(i))
	p.ask.Bypass = []string{"pap", "chap", "eap-md5"}[i%3]
	p.port = 20 + i
	return p
}

func (h *harbour) device(mac string) play {
	return play{at: &h.switches[h.r.IntN(2)], ask: trial.Request{Method: "mac",
		User: strings.ToLower(strings.ReplaceAll(mac, "-", ""))}, mac: mac, port: 40}
}

// forms writes a name as different devices do.
func forms(r *rand.Rand, user string) string {
	switch r.IntN(6) {
	case 0:
		return user + "@" + Domain
	case 1:
		return NetBIOS + `\` + user
	}
	return user
}

// Harbour runs the stations at a gentle steady rate with a fixed seed until the context ends. It returns when
// everything under way has ended. Whoever is admitted has a session on a floor, which may be nil.
func Harbour(ctx context.Context, server string, floor *Floor, kit *Kit, every time.Duration, each func(Outcome)) {
	h := &harbour{r: rand.New(rand.NewPCG(7, 7)), people: People(), kit: kit, switches: Switches(),
		wlan: station("np-wlan-1"), vpn: station("hh-vpn-1"), desk: station("hh-desk-1")}
	total := 0
	for _, s := range scenes {
		total += s.weight
	}
	var under sync.WaitGroup
	defer under.Wait()
	slots := make(chan struct{}, 32)
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		n := h.r.IntN(total)
		for _, s := range scenes {
			if n -= s.weight; n >= 0 {
				continue
			}
			p := s.pick(h)
			select {
			case slots <- struct{}{}:
				under.Go(func() {
					defer func() { <-slots }()
					if out := p.at.Ask(ctx, server, p.ask, p.mac, p.port, p.ssid); ctx.Err() == nil {
						floor.Admitted(ctx, p.at, p.mac, p.ask.User, out.Sent, &out.Reply)
						each(out)
					}
				})
			default: // the service is slower than the harbour; people wait
			}
			break
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
