package lab

import (
	"fmt"
	"net"
	"strings"

	"tollgate.example/key/internal/wire/radius"
)

// The stand-in server of a partner, which decides about its own people.
const (
	PartnerName    = "port-authority"
	PartnerAddress = "127.0.0.81:6812"
	PartnerRealm   = "portauthority.example"
	partnerSecret  = "breakwater-and-buoy-5"
)

// PartnerPassword is what people of the partner sign in with.
func PartnerPassword(user string) string { return "mole-" + user }

// Partner is a RADIUS server that admits its own people by PAP, in a VLAN of theirs. It takes accounting on the same
// port, and answers Status-Server.
type Partner struct{ conn *net.UDPConn }

// ServePartner answers on a UDP address until it is closed.
func ServePartner(address string) (*Partner, error) {
	at, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return nil, err
	}
	conn, err := net.ListenUDP("udp", at)
	if err != nil {
		return nil, fmt.Errorf("the stand-in server of the partner: %w", err)
	}
	p := &Partner{conn}
	go p.serve()
	return p, nil
}

// Close ends it.
func (p *Partner) Close() { p.conn.Close() }

func (p *Partner) serve() {
	key := radius.NewKey([]byte(partnerSecret))
	buf := make([]byte, radius.MaxSize)
	for {
		n, from, err := p.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		if reply := partnerReply(key, buf[:n]); reply != nil {
			p.conn.WriteToUDPAddrPort(reply, from)
		}
	}
}

func partnerReply(key *radius.Key, data []byte) []byte {
	q, err := radius.Decode(data)
	if err == nil && q.Code == radius.AccountingRequest && key.VerifyFixed(&q) {
		reply, _ := radius.NewRequest(radius.AccountingResponse, q.Identifier, [16]byte{}, false).SignReply(key,
			q.Authenticator)
		return reply
	}
	if err != nil || !key.VerifyMessageAuthenticator(&q) {
		return nil
	}
	if q.Code == radius.StatusServer {
		reply, _ := radius.NewReply(nil, radius.AccessAccept, q.Identifier).SignReply(key, q.Authenticator)
		return reply
	}
	user, _, _ := strings.Cut(string(q.Get(radius.UserName)), "@")
	clear, err := key.OpenPassword(nil, q.Get(radius.UserPassword), q.Authenticator)
	code := radius.AccessReject
	if err == nil && string(clear) == PartnerPassword(user) {
		code = radius.AccessAccept
	}
	b := radius.NewReply(nil, code, q.Identifier)
	if code == radius.AccessAccept {
		b.AddInteger(tunnelType, 13)
		b.AddInteger(tunnelMedium, 6)
		b.AddText(tunnelGroup, "70")
	} else {
		b.AddText(radius.ReplyMessage, "Not known to the port authority.")
	}
	for t, value := range q.Attributes() {
		if t == radius.ProxyState {
			b.Add(t, value)
		}
	}
	reply, err := b.SignReply(key, q.Authenticator)
	if err != nil {
		return nil
	}
	return reply
}

// Attributes that carry a VLAN (RFC 3580 section 3.31).
const (
	tunnelType   = 64
	tunnelMedium = 65
	tunnelGroup  = 81
)
