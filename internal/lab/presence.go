package lab

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// Addresses that the stand-ins of presence send from.
const (
	relayAddress = "127.0.10.5"
	doorAddress  = "127.0.10.6"
	deskAddress  = "127.0.10.7"
)

// Tokens are those that the stand-ins of presence show.
type Tokens struct{ Firewall, Controller, Desk, Hosts string }

// SetUpPresence configures sources, scopes and subscribers.
func SetUpPresence(ctx context.Context, c *client.Client) (Tokens, error) {
	s := &setup{ctx: ctx, c: c}
	source := func(f apitype.SourceFields) string {
		if f.Enabled = true; f.From == nil {
			f.From = []string{}
		}
		if f.Readers == nil {
			f.Readers = []config.SourceReader{}
		}
		var saved apitype.Saved[apitype.Source]
		s.made("/sources", apitype.SourceInput{SourceFields: f}, &saved)
		return saved.Secret
	}
	var t Tokens
	source(apitype.SourceFields{Name: "harbour-relays", Way: config.SourceDHCP, From: []string{relayAddress},
		Note: "The relays of both piers send a copy here."})
	source(
		apitype.SourceFields{Name: "quay-gateway", Way: config.SourceSyslog, From: []string{doorAddress}, Trust: 4,
			Readers: []config.SourceReader{
				{Pattern: "session opened for {who} from {address}", Means: "signed-in"},
				{Pattern: "session closed for {who} from {address}", Means: "signed-out"}}},
	)
	t.Controller = source(
		apitype.SourceFields{Name: "dc1-logons", Way: config.SourceLogons, From: []string{"127.0.0.0/8"}},
	)
	t.Desk = source(
		apitype.SourceFields{Name: "ferry-desk-1", Way: config.SourceReports, From: []string{"127.0.0.0/8"},
			Shared: true, Note: "Shared by those at the counter, each with a block of ports."},
	)
	t.Hosts = source(
		apitype.SourceFields{Name: "crew-desks", Way: config.SourceHosts, From: []string{deskAddress + "/32"},
			Note: "Workstations with tollgate-reporter."},
	)
	s.add(
		"/scopes",
		apitype.ScopeFields{Name: "printers and kiosks", LeaveOut: true, Networks: []string{"192.0.2.224/27"},
			Accounts: []string{"svc-*"}, Hosts: []string{"kiosk-*"}, MACs: []string{"02-00-99"}},
	)
	for _, k := range deviceKinds {
		s.add("/device-kinds", k)
	}
	var saved apitype.Saved[apitype.Subscriber]
	s.made("/subscribers", apitype.SubscriberInput{SubscriberFields: apitype.SubscriberFields{Name: "hh-firewall-1",
		Enabled: true, From: []string{"127.0.0.0/8"}, Networks: []string{}, Groups: []string{}}}, &saved)
	t.Firewall = saved.Secret
	s.made("/subscribers", apitype.SubscriberInput{SubscriberFields: apitype.SubscriberFields{Name: "np-firewall-1",
		Enabled: true, From: []string{}, Networks: []string{"198.51.100.0/24"}, Groups: []string{"Ticketing"}}}, &saved)
	s.publish("Who is where, for the firewalls")
	return t, s.err
}

// made adds something of which the answer is wanted.
func (s *setup) made(path string, in, out any) {
	if s.err == nil {
		s.err = s.c.Do(s.ctx, http.MethodPost, path, in, out)
	}
}

// presence plays what reports who is where beside the switches, and the firewall that goes by it.
func presence(ctx context.Context, o *Options, t Tokens) {
	log, err := os.Create(filepath.Join(o.Dir, "firewall.log"))
	if err != nil {
		return
	}
	defer log.Close()
	urls := []string{"http://" + o.HTTP}
	if o.second.url != "" {
		urls = append(urls, o.second.url)
	}
	f := &Firewall{URL: func(try int) string { return urls[try%len(urls)] }, Token: t.Firewall}
	go f.Follow(ctx)
	go f.Run(ctx, log, 2*time.Second)
	p := &player{o: o, tokens: t, people: People(), base: "http://" + o.HTTP}
	for n := 0; ; n++ {
		p.turn(ctx, n)
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Second):
		}
	}
}

// player reports for the relays, the gateway, the controller and the shared host.
type player struct {
	o      *Options
	tokens Tokens
	people []Person
	base   string
}

func (p *player) turn(ctx context.Context, n int) {
	who := &p.people[rand.N(len(p.people))]
	address := netip.AddrFrom4([4]byte{192, 0, 2, byte(10 + who.number)})
	switch n % 6 {
	case 0: // a device gets an address
		p.dhcp(address, who.MAC(), "np-desk-"+fmt.Sprint(who.number), desktop)
	case 1: // the domain controller saw a logon, and one of a service
		p.post(
			ctx,
			http.DefaultClient,
			"/presence/v1/logons",
			p.tokens.Controller,
			map[string]any{"events": []map[string]any{
				{
					"eventId":   4624,
					"logonType": 3,
					"account":   who.User,
					"domain":    NetBIOS,
					"address":   address.String(),
					"logonId":   fmt.Sprintf("0x%x", 4096+who.number),
					"time":      time.Now().UTC().Format(time.RFC3339),
				},
				{
					"eventId":   4624,
					"logonType": 5,
					"account":   "svc-backup",
					"domain":    NetBIOS,
					"address":   address.String(),
				}}},
		)
	case 2:
		p.syslog(fmt.Sprintf("session opened for %s from %s", who.User, address.Next()))
	case 3: // two people at the counter, by their ports
		kind := "still"
		if n < 6 {
			kind = "signed-in"
		}
		for i, one := range []*Person{&p.people[0], &p.people[4]} {
			p.post(
				ctx,
				http.DefaultClient,
				"/presence/v1/sightings",
				p.tokens.Desk,
				map[string]any{"sightings": []map[string]any{
					{
						"kind":    kind,
						"who":     NetBIOS + `\` + one.User,
						"address": "203.0.113.5",
						"host":    "ferry-desk-1",
						"ports":   fmt.Sprintf("%d-%d", 20000+1000*i, 20999+1000*i),
						"ref":     "seat " + fmt.Sprint(i),
					}}},
			)
		}
	case 4: // a printer, and a laptop whose address is handed on
		p.dhcp(netip.MustParseAddr("192.0.2.230"), "02-00-99-00-00-01", "printer-north", printer)
		p.dhcp(netip.MustParseAddr("192.0.2.231"), "02-00-98-00-00-07", "cam-north-7", camera)
		p.dhcp(netip.MustParseAddr("192.0.2.77"), []string{p.people[2].MAC(), p.people[3].MAC()}[n/6%2], "laptop",
			laptop)
	case 5:
		p.desk(ctx, []int{7, 8, -1}[n/18%3])
		p.syslog(fmt.Sprintf("session closed for %s from %s", who.User, address.Next()))
		p.syslog("link of port 7 is up")
	}
}

// desk tells who is at a workstation, as its reporter does: people take turns, and now and then nobody is there.
func (p *player) desk(ctx context.Context, at int) {
	people := []map[string]any{}
	if at >= 0 {
		people = append(people, map[string]any{"who": NetBIOS + `\` + p.people[at].User, "seconds": 60})
	}
	p.post(ctx, deskClient, "/presence/v1/host", p.tokens.Hosts, map[string]any{"host": "np-desk-7",
		"people": people})
}

// deskClient calls from the address of the workstation: a host can speak of its own alone.
var deskClient = &http.Client{Transport: &http.Transport{DialContext: (&net.Dialer{Timeout: time.Second,
	LocalAddr: &net.TCPAddr{IP: net.ParseIP(deskAddress)}}).DialContext}}

func (p *player) post(ctx context.Context, client *http.Client, path, token string, body any) {
	text, err := json.Marshal(body)
	if err != nil {
		return
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, p.base+path, bytes.NewReader(text))
	if err != nil {
		return
	}
	q.Header.Set("Authorization", "Bearer "+token)
	q.Header.Set("Content-Type", "application/json")
	if r, err := client.Do(q); err == nil {
		r.Body.Close()
	}
}

// send sends a datagram from one of the addresses of the stand-ins.
func send(from, to string, b []byte) {
	dialer := &net.Dialer{LocalAddr: &net.UDPAddr{IP: net.ParseIP(from)}, Timeout: time.Second}
	c, err := dialer.Dial("udp", to)
	if err != nil {
		return
	}
	defer c.Close()
	c.Write(b)
}

func (p *player) syslog(text string) {
	send(doorAddress, p.o.Syslog, fmt.Appendf(nil, "<38>1 %s quay-gateway sshd 7 - - %s",
		time.Now().UTC().Format(time.RFC3339), text))
}
