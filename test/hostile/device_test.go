package hostile

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/wire/eap"
)

// holds is what a device has of its own and of its victim.
type holds int

const (
	// public holds nothing but what is public: names and certificates of the victim, the latter with a key that is not
	// theirs.
	public holds = iota
	// lesser has right credentials of somebody with lesser rights, and uses them.
	lesser
	// dressed has those, and shows the victim's certificate in the first inner EAP-TLS.
	dressed
	// onStolenPC is the attacker with right credentials of his own, on what is to look like the victim's computer.
	onStolenPC
	// ownPC is the attacker's own computer, with the victim's certificate as the user's.
	ownPC
	// asPC calls itself the victim's computer, and asSelf himself a computer, both with the attacker's password.
	asPC
	asSelf
)

var holdNames = []string{"public", "lesser", "dressed", "on-stolen-pc", "own-pc", "as-pc", "as-self"}

// scenario is a conversation to deviate from.
type scenario struct {
	ssid, method string
	holds        holds
	tls          uint16
	// ticket resumes a session of the victim without its secret; with otherSuite the server will not resume it, and
	// goes on with a whole handshake.
	ticket, otherSuite bool
}

func (s scenario) String() string {
	text := fmt.Sprintf("%s/%s/%s/%s", s.ssid, s.method, holdNames[s.holds], tls.VersionName(s.tls))
	if s.ticket {
		text += "/ticket"
	}
	if s.otherSuite {
		text += "/other-suite"
	}
	return text
}

// layer is where a deviation happens.
type layer int

const (
	packets layer = iota
	insides
	flights
)

// deviation is one thing that is done otherwise: the at-th message of a layer, in one way.
type deviation struct {
	layer layer
	at    int
	kind  int
}

func (d deviation) String() string {
	return fmt.Sprintf("%s %d: %s", [...]string{"packet", "inside", "flight"}[d.layer], d.at,
		[...]func(int) string{func(k int) string { return packetKinds[k].name }, func(k int) string {
			return insideKinds[k].name
		}, func(k int) string { return flightKinds[k].name }}[d.layer](d.kind))
}

// device is one conversation of a hostile device.
type device struct {
	w          *world
	s          scenario
	deviations []deviation
	random     *rand.Rand
	peer       *supplicant.Peer
	count      [3]int
	// sent are the packets, said what was said inside, as an honest device would have.
	sent, said [][]byte
	// stopped tells that nothing more is sent, changed that what was said inside, or a flight, was not what it should
	// have been.
	stopped, changed bool
	// next are what changes about the next request alone.
	client  int
	station string
	state   []byte
	other   *device
}

// settings are those of the supplicant.
func (d *device) settings() *supplicant.Settings {
	w, s := d.w, d.s
	out := &supplicant.Settings{Method: s.method, Identity: attacker, Outer: "anonymous@pool.example",
		Password: attackerWord, Certificate: w.attackerCert, Roots: w.roots, MinTLS: s.tls, MaxTLS: s.tls,
		Binding: true, Fragment: 1000}
	switch s.holds {
	case public:
		out.Identity, out.Password, out.Certificate, out.Machine, out.MachineIdentity = victim, "a-guess", w.shown,
			w.shownPC, victimPC
	case dressed:
		out.Certificate = w.shown
	case onStolenPC:
		out.Machine, out.MachineIdentity = w.shownPC, victimPC
	case ownPC:
		out.Machine, out.MachineIdentity, out.Certificate = w.attackerPC, attackerPC, w.shown
	case asPC:
		out.MachineIdentity = victimPC
	case asSelf:
		out.MachineIdentity = attacker
	case lesser:
		out.Machine, out.MachineIdentity = w.attackerPC, attackerPC
	}
	if s.ticket {
		out.Sessions = d.w.stolenTicket(s)
	}
	if s.otherSuite {
		out.Suites = []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384}
	}
	out.Hooks = supplicant.Hooks{Packet: d.packet, Inside: d.inside, Flight: d.flight}
	return out
}

// due are the deviations that are to be done now.
func (d *device) due(l layer) []deviation {
	var out []deviation
	for _, one := range d.deviations {
		if one.layer == l && one.at == d.count[l] {
			out = append(out, one)
		}
	}
	d.count[l]++
	return out
}

func (d *device) packet(p eap.Packet) []byte {
	honest := p.Encode()
	out := honest
	for _, one := range d.due(packets) {
		out = packetKinds[one.kind].do(d, p)
	}
	d.sent = append(d.sent, honest)
	if out == nil {
		d.stopped = true
	}
	return out
}

func (d *device) inside(plain []byte) []byte {
	out := plain
	for _, one := range d.due(insides) {
		out = insideKinds[one.kind].do(d, plain)
	}
	d.said = append(d.said, plain)
	d.changed = d.changed || !bytes.Equal(out, plain)
	return out
}

func (d *device) flight(inner bool, octets []byte) []byte {
	out := octets
	for _, one := range d.due(flights) {
		out = flightKinds[one.kind].do(d, out)
	}
	d.changed = d.changed || !bytes.Equal(out, octets)
	return out
}

// reply sends a packet to the server with what is due.
func (d *device) reply(packet []byte, state []byte, station string) gate.Answer {
	q := request{ssid: d.s.ssid, station: station, user: "anonymous@pool.example", state: state, eap: packet,
		client: d.client}
	if d.station != "" {
		q.station = d.station
	}
	if d.state != nil {
		q.state = d.state
	}
	d.client, d.station, d.state = 0, "", nil
	return d.w.ask(&q)
}

// run has the conversation and returns the VLANs that were given on the way; more than one is a finding too.
func (d *device) run() (given []string, err error) {
	if d.peer, err = supplicant.New(d.settings()); err != nil {
		return nil, err
	}
	defer d.peer.Close()
	station := d.w.station()
	packet := d.peer.Hello()
	var state []byte
	refusals, silent := 0, 0
	for range 80 {
		if d.stopped {
			break
		}
		a := d.reply(packet, state, station)
		if v := vlan(&a); v != "" {
			given = append(given, v)
		}
		switch {
		case a.Discard: // it says what it should have said, and gives up after that
			if silent++; silent > 2 || len(d.sent) == 0 {
				return given, nil
			}
			packet = d.sent[len(d.sent)-1]
			continue
		case !a.Challenge: // after the end it tries whether there is more
			if refusals++; refusals > 1 {
				return given, nil
			}
			packet = d.sent[len(d.sent)-1]
			continue
		}
		state = a.State
		next, err := d.peer.Respond(a.EAP)
		// the server has gone another way than this device knows; an acknowledgement moves most states on
		if err != nil {
			p, wrong := eap.Decode(a.EAP)
			if silent++; silent > 4 || wrong != nil {
				return given, nil
			}
			next = eap.Packet{Code: eap.Response, Identifier: p.Identifier, Type: p.Type, Data: []byte{0}}.Encode()
		}
		packet = next
	}
	return given, nil
}

// allowed are the VLANs that the attacker may get by his own rights; by what is public alone, none.
func (p plan) allowed(vlan string) bool {
	if p.s.holds == public && !slices.ContainsFunc(p.d, func(d deviation) bool {
		return strings.Contains(d.String(), "the attacker")
	}) {
		return false
	}
	if p.s.ssid == "teap-machine" { // nobody but a computer
		return vlan == vlanLesserPC
	}
	return vlan == vlanLesser || vlan == vlanLesserPC
}
