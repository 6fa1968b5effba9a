package lab

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/radius"
)

// The switch of MV Osprey, which asks by satellite, and therefore over TLS.
const (
	shipName     = "osprey-switch-1"
	shipAddress  = "127.0.10.14"
	shipProof    = shipName + "." + Domain
	shipInterval = 15 // in times of somebody signing in ashore
)

// ship adds the switch of the ship: it has no shared secret, and proves itself by its certificate.
func (s *setup) ship() {
	s.add("/clients", apitype.ClientInput{ClientFields: apitype.ClientFields{Name: shipName, Enabled: true,
		Addresses: []string{shipAddress}, MessageAuthenticator: string(config.Require),
		Tags: map[string]string{"site": "osprey", "kind": "switch"}, TLSNames: []string{shipProof},
		TLSCertificate: "radius", TLSTrust: trustName, Sessions: config.ClientSessions{ChangeTLS: true},
		Note: "By satellite: RADIUS over TLS alone."}})
}

// Ship has the crew of the ship sign in, and reports their sessions, on one connection.
func Ship(ctx context.Context, server string, kit *Kit, every time.Duration) {
	cfg := kit.FirewallTLS()
	cfg.Certificates[0] = *kit.Ship
	link := upstream.NewLink(mustAddr(shipAddress), server, cfg, 5*time.Second)
	defer link.Close()
	changes, err := TakeChangesTLS(net.JoinHostPort(shipAddress, "2083"), cfg, Willing)
	if err == nil { // what cannot listen for changes goes without
		defer changes.Close()
	}
	r, people := rand.New(rand.NewPCG(21, 21)), People()
	for n := 0; ; n++ {
		p := people[r.IntN(len(people))]
		password := p.Password()
		if r.IntN(8) == 0 {
			password = "mistyped"
		}
		mac := fmt.Sprintf("02-00-5E-14-00-%02X", n%40)
		if class, ok := shipSignIn(ctx, link, p.User, password, mac); ok {
			_ = shipReport(ctx, link, 1, n, p.User, mac, class) // what is lost shows in the console
			stop := sync.OnceFunc(func() { _ = shipReport(ctx, link, 2, n, p.User, mac, class) })
			time.AfterFunc(time.Duration(20+r.IntN(40))*every, stop)
			if changes != nil {
				changes.Open(fmt.Sprintf("OS-%04X", n), func(*radius.Packet) { stop() })
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
	}
}

func shipPort(b *radius.Builder, user, mac string) {
	b.AddText(radius.UserName, user)
	b.AddText(radius.NASIdentifier, shipName)
	b.AddInteger(radius.NASPortType, 15)
	b.AddText(radius.NASPortID, "1/0/"+mac[len(mac)-1:])
	b.AddText(radius.CallingStationID, mac)
}

func shipSignIn(ctx context.Context, link *upstream.Link, user, password, mac string) (class []byte, ok bool) {
	err := link.Ask(ctx, func(id byte, authenticator [16]byte, key *radius.Key) ([]byte, [16]byte, error) {
		b := radius.NewRequest(radius.AccessRequest, id, authenticator, true)
		shipPort(b, user, mac)
		hidden, err := key.HidePassword([]byte(password), authenticator)
		if err != nil {
			return nil, authenticator, err
		}
		b.Add(radius.UserPassword, hidden)
		data, err := b.SignRequest(key)
		return data, authenticator, err
	}, func(answer []byte, proof [16]byte, key *radius.Key) error {
		p, err := radius.Decode(answer)
		if err == nil {
			err = key.VerifyReply(&p, proof)
		}
		if err == nil && p.Code == radius.AccessAccept {
			class, ok = append([]byte(nil), p.Get(radius.Class)...), true
		}
		return err
	})
	return class, ok && err == nil
}

func shipReport(ctx context.Context, link *upstream.Link, status uint32, n int, user, mac string, class []byte) error {
	return link.Ask(ctx, func(id byte, authenticator [16]byte, key *radius.Key) ([]byte, [16]byte, error) {
		b := radius.NewRequest(radius.AccountingRequest, id, authenticator, false)
		shipPort(b, user, mac)
		b.AddInteger(radius.AcctStatusType, status)
		b.AddText(radius.AcctSessionID, fmt.Sprintf("OS-%04X", n))
		b.Add(radius.Class, class)
		data, err := b.SignFixed(key)
		if err != nil {
			return nil, authenticator, err
		}
		return data, [16]byte(data[4:20]), nil
	}, func(answer []byte, proof [16]byte, key *radius.Key) error {
		p, err := radius.Decode(answer)
		if err == nil && p.Code != radius.AccountingResponse {
			err = fmt.Errorf("the answer is a %s", p.Code)
		}
		return err
	})
}
