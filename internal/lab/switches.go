package lab

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"tollgate.example/key/internal/peer"
)

// Switch is a stand-in switch that authenticates people by PAP when they plug in.
type Switch struct {
	Name   string
	Site   string
	Addr   netip.Addr
	Secret string
	// Shown is the address it claims in NAS-IP-Address.
	Shown string
}

// Outcome is what one request of a stand-in came to.
type Outcome struct {
	Device, User string
	Reply        peer.Reply
	Err          error
}

// SignIn has a person sign in at a port.
func (s *Switch) SignIn(ctx context.Context, server, user, password, mac string, port int) Outcome {
	reply, err := peer.Send(ctx, peer.Request{Server: server, From: s.Addr, Secret: s.Secret, User: user, Password: password, Timeout: 3 * time.Second, Tries: 2,
		Attributes: []peer.Attribute{{Name: "NAS-IP-Address", Value: s.Shown}, {Name: "NAS-Identifier", Value: s.Name}, {Name: "NAS-Port-Type", Value: "Ethernet"},
			{Name: "NAS-Port-Id", Value: fmt.Sprintf("1/0/%d", port)}, {Name: "NAS-Port", Value: fmt.Sprint(50000 + port)}, {Name: "Service-Type", Value: "Framed"},
			{Name: "Calling-Station-Id", Value: mac}, {Name: "Called-Station-Id", Value: "00-00-5E-00-53-F0"}, {Name: "Framed-MTU", Value: "1500"}}})
	return Outcome{Device: s.Name, User: user, Reply: reply, Err: err}
}

// scene is one thing that happens in the harbour.
type scene struct {
	weight int
	pick   func(r *rand.Rand, people []Person) (user, password string, p Person)
}

// scenes are what people do, most of them what they should.
var scenes = []scene{
	{60, func(r *rand.Rand, people []Person) (string, string, Person) {
		p := people[r.IntN(len(people))]
		return forms(r, p.User), p.Password(), p
	}},
	{7, func(r *rand.Rand, people []Person) (string, string, Person) {
		p := people[r.IntN(len(people))]
		return p.User, "harbour-" + p.User[2:], p
	}},
	{2, func(r *rand.Rand, people []Person) (string, string, Person) {
		p := people[r.IntN(len(people))]
		return p.User + "s", p.Password(), p
	}},
	{1, func(r *rand.Rand, people []Person) (string, string, Person) {
		p := people[r.IntN(len(people))]
		return p.User + "@elsewhere.example", p.Password(), p
	}},
	{1, func(r *rand.Rand, people []Person) (string, string, Person) {
		p := people[r.IntN(len(people))]
		return p.User, "", p
	}},
	{3, func(r *rand.Rand, people []Person) (string, string, Person) {
		return "night.watch", "lighthouse-2026", people[0]
	}},
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

// Harbour runs the switches at a gentle steady rate with a fixed seed until the context ends. It returns when
// everything under way has ended.
func Harbour(ctx context.Context, server string, switches []Switch, every time.Duration, each func(Outcome)) {
	r := rand.New(rand.NewPCG(7, 7))
	people := People()
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
		n := r.IntN(total)
		for _, s := range scenes {
			if n -= s.weight; n >= 0 {
				continue
			}
			user, password, p := s.pick(r, people)
			at := &switches[p.number%len(switches)]
			select {
			case slots <- struct{}{}:
				under.Go(func() {
					defer func() { <-slots }()
					if out := at.SignIn(ctx, server, user, password, p.MAC(), 1+p.number%24); ctx.Err() == nil {
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
