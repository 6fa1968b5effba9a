package main

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"net/http"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

// streamWindow is how many requests are under way at once, by UDP and on one connection over TLS.
const streamWindow = 200

// certify has the client prove itself by a certificate, and returns how to connect as it.
func (s *service) certify() (*tls.Config, *apitype.NewlyIssued, string, error) {
	var authority apitype.Authority
	var issued apitype.NewlyIssued
	err := errors.Join(
		s.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Load",
			Make: &apitype.Make{Subject: "Load"}},
			nil),
		s.do(http.MethodGet, "/authorities/Load", nil, &authority),
		s.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "radius", Authority: "Load",
			Make: &apitype.Make{Names: []string{"radius.example"}}}, nil),
		s.do(http.MethodPost, "/trusts", apitype.TrustFields{Name: "load", Authorities: []string{"Load"},
			Identity: []string{"dns"}, Unanswered: config.TakeUnanswered}, nil),
		s.do(http.MethodPut, "/clients/load-1", apitype.ClientInput{ClientFields: apitype.ClientFields{Name: "load-1",
			Enabled: true, Addresses: []string{"127.0.0.1"}, MessageAuthenticator: "require",
			Tags: map[string]string{"site": "north-pier"}, TLSNames: []string{"load-1.example"}}}, nil,
			client.IfMatch("*")),
		s.do(http.MethodPost, "/draft/publish", map[string]string{}, nil),
		s.do(http.MethodPost, "/authorities/Load/issue", apitype.IssueInput{
			Make: apitype.Make{Names: []string{"load-1.example"}}}, &issued))
	if err != nil {
		return nil, nil, "", err
	}
	own, err := tls.X509KeyPair([]byte(issued.Chain), []byte(issued.Key))
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority.PEM))
	return &tls.Config{RootCAs: roots, ServerName: "radius.example", Certificates: []tls.Certificate{own}}, &issued,
		authority.PEM, err
}

// driveStream keeps a window of requests under way on one connection.
func driveStream(address string, cfg *tls.Config, version string, duration time.Duration) (result, error) {
	var out result
	cfg = cfg.Clone()
	cfg.NextProtos = []string{version}
	conn, err := tls.Dial("tcp", address, cfg)
	if err != nil {
		return out, err
	}
	defer conn.Close()
	key := radius.NewKey([]byte(radius.TLSSecret))
	if version == radius.Version11 {
		key = radius.NewClearKey()
	}
	in, packet := bufio.NewReaderSize(conn, 64<<10), make([]byte, radius.MaxSize)
	begun, under := time.Now(), 0
	for n := 0; ; {
		var burst []byte
		for ; under < streamWindow && time.Since(begun) < duration; under++ {
			data, err := build(key, byte(n), n)
			if err != nil {
				return out, err
			}
			if key.Clear() {
				binary.BigEndian.PutUint32(data[4:], uint32(n))
			}
			burst = append(burst, data...)
			n++
		}
		if _, err := conn.Write(burst); err != nil {
			return out, err
		}
		if under == 0 {
			out.rate = float64(out.answered) / time.Since(begun).Seconds()
			return out, nil
		}
		for first := true; under > 0 && (first || in.Buffered() > 4); first = false {
			if _, err := radius.ReadPacket(in, packet); err != nil {
				return out, err
			}
			if radius.Code(packet[0]) != radius.AccessAccept {
				return out, fmt.Errorf("answered with code %d", packet[0])
			}
			out.answered++
			under--
		}
	}
}

// streamsOnly measures RADIUS over TLS beside UDP, and what forwarding adds.
func streamsOnly(duration time.Duration, rounds int) error {
	far, err := start()
	if err != nil {
		return err
	}
	defer far.end()
	if err := far.configure(); err != nil {
		return err
	}
	cfg, issued, authority, err := far.certify()
	if err != nil {
		return err
	}
	udp, over := far.RADIUS[0].String(), far.RADIUSTLS[0].String()
	if _, err := drive(udp, options{window: streamWindow, duration: duration}); err != nil { // passwords are confirmed
		return err
	}
	ratios := map[string][]float64{}
	for range rounds {
		base, err := drive(udp, options{window: streamWindow, duration: duration})
		if err != nil {
			return err
		}
		fmt.Printf("UDP %6.0f/s", base.rate)
		for _, version := range []string{radius.Version10, radius.Version11} {
			r, err := driveStream(over, cfg, version, duration)
			if err != nil {
				return err
			}
			ratios[version] = append(ratios[version], r.rate/base.rate)
			fmt.Printf("   %s over TLS, one connection %6.0f/s, %.2f of UDP", version, r.rate, r.rate/base.rate)
		}
		fmt.Println()
	}
	for _, version := range []string{radius.Version10, radius.Version11} {
		fmt.Printf("%s over TLS: %.2f of UDP in the middle\n", version, median(ratios[version]))
	}
	return forwardingAdds(far, issued, authority)
}

// forwardingAdds measures how much longer a request takes that is forwarded, by UDP and over TLS.
func forwardingAdds(far *service, issued *apitype.NewlyIssued, authority string) error {
	near, err := start()
	if err != nil {
		return err
	}
	defer near.end()
	remote := apitype.RemoteInput{Secret: secret, RemoteFields: apitype.RemoteFields{Name: "far", Grants: []string{"*"},
		Servers: []config.RemoteServer{{Address: far.RADIUS[0].String()}}}}
	if err := errors.Join(near.configure(), near.do(http.MethodPost, "/remotes", remote, nil),
		near.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "own", Chain: issued.Chain,
			Key: issued.Key}, nil)); err != nil {
		return err
	}
	var lane apitype.Lane
	if err := near.do(http.MethodGet, "/lanes/Wired", nil, &lane); err != nil {
		return err
	}
	lane.Forward = []string{"far"}
	if err := errors.Join(near.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*")),
		near.do(http.MethodPost, "/draft/publish", map[string]string{}, nil)); err != nil {
		return err
	}
	for _, transport := range []string{config.OverUDP, config.OverTLS} {
		if transport == config.OverTLS {
			remote.Transport, remote.CA, remote.ServerName, remote.Certificate = transport, authority, "radius.example",
				"own"
			remote.Servers[0].Address = far.RADIUSTLS[0].String()
			if err := errors.Join(near.do(http.MethodPut, "/remotes/far", remote, nil, client.IfMatch("*")),
				near.do(http.MethodPost, "/draft/publish", map[string]string{}, nil)); err != nil {
				return err
			}
		}
		for range 3 {
			direct, err := drive(far.RADIUS[0].String(), options{window: 4, requests: 8000})
			if err != nil {
				return err
			}
			through, err := drive(near.RADIUS[0].String(), options{window: 4, requests: 8000})
			if err != nil {
				return err
			}
			fmt.Printf("forwarded by %s: %v in the middle, direct %v: %v added\n", transport, through.percentile(50),
				direct.percentile(50), through.percentile(50)-direct.percentile(50))
		}
	}
	return nil
}
