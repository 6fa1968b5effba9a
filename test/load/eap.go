package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/radius"
)

// tunnels is what the measurements of EAP need.
type tunnels struct {
	target string
	roots  *x509.CertPool
	server tls.Certificate
	device tls.Certificate
	// clients are one for each worker.
	clients [workers]*nas
}

// prepareEAP adds a lane for conversations, and what they show each other.
func prepareEAP(s *service) (*tunnels, error) {
	var authority apitype.Authority
	var issued, server apitype.NewlyIssued
	err := errors.Join(
		s.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "load", Make: &apitype.Make{}}, nil),
		s.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "radius", Authority: "load",
			Make: &apitype.Make{Subject: "radius.example"}}, nil),
		s.do(http.MethodPost, "/trusts", apitype.TrustFields{Name: "devices", Authorities: []string{"load"},
			Identity: []string{"subject"}, Unanswered: "refuse"}, nil),
		s.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Wireless", When: "port.type is Wireless-802.11",
			Methods: []string{"peap-mschapv2", "eap-tls"}, TLS: config.LaneTLS{ResumeMinutes: 60},
			Policies: []*config.Policy{{Name: "All", Enabled: true, When: "always", Outcome: config.Admit,
				Pass: "crew"}}}, nil),
		s.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: password,
			AccountFields: apitype.AccountFields{Name: "eap", Enabled: true, Keeps: "nt-hash"}}, nil),
		s.do(http.MethodPost, "/draft/publish", map[string]string{}, nil),
		s.do(http.MethodGet, "/authorities/load", nil, &authority),
		s.do(http.MethodPost, "/authorities/load/issue", apitype.IssueInput{Make: apitype.Make{Subject: "eap"}},
			&issued),
		s.do(http.MethodPost, "/authorities/load/issue", apitype.IssueInput{Make: apitype.Make{Subject: "baseline"}},
			&server))
	if err != nil {
		return nil, err
	}
	t := &tunnels{target: s.RADIUS[0].String(), roots: x509.NewCertPool()}
	t.roots.AppendCertsFromPEM([]byte(authority.PEM))
	for i := range t.clients {
		c, err := net.Dial("udp", t.target)
		if err != nil {
			return nil, err
		}
		t.clients[i] = &nas{conn: c}
	}
	t.device, err = tls.X509KeyPair([]byte(issued.Chain), []byte(issued.Key))
	if err != nil {
		return nil, err
	}
	t.server, err = tls.X509KeyPair([]byte(server.Chain), []byte(server.Key))
	return t, err
}

// perSecond runs one thing again and again in a few goroutines, and counts.
func perSecond(workers int, duration time.Duration, once func(worker int) error) (float64, error) {
	var done atomic.Int64
	var failure atomic.Value
	var all sync.WaitGroup
	begun := time.Now()
	for i := range workers {
		all.Go(func() {
			for time.Since(begun) < duration && failure.Load() == nil {
				if err := once(i); err != nil {
					failure.Store(err)
					return
				}
				done.Add(1)
			}
		})
	}
	all.Wait()
	if err, ok := failure.Load().(error); ok {
		return 0, err
	}
	return float64(done.Load()) / time.Since(begun).Seconds(), nil
}

// handshake is one bare handshake of crypto/tls, both ends in this process, over a pipe.
func (t *tunnels) handshake(version uint16, mutual bool) func(int) error {
	return func(int) error {
		a, b := net.Pipe()
		defer a.Close()
		defer b.Close()
		serverConfig := &tls.Config{Certificates: []tls.Certificate{t.server}, SessionTicketsDisabled: true,
			MaxVersion: version}
		clientConfig := &tls.Config{InsecureSkipVerify: true, CurvePreferences: supplicant.Groups, MaxVersion: version,
			VerifyConnection: t.verify(x509.ExtKeyUsageClientAuth)}
		if mutual {
			serverConfig.ClientAuth, serverConfig.ClientCAs = tls.RequireAndVerifyClientCert, t.roots
			clientConfig.Certificates = []tls.Certificate{t.device}
		}
		server := tls.Server(a, serverConfig)
		ended := make(chan error, 1)
		go func() { ended <- server.Handshake() }()
		client := tls.Client(b, clientConfig)
		if err := client.Handshake(); err != nil {
			return err
		}
		return <-ended
	}
}

// verify checks the other's certificate as the devices of the measurement do.
func (t *tunnels) verify(usage x509.ExtKeyUsage) func(tls.ConnectionState) error {
	return func(state tls.ConnectionState) error {
		_, err := state.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: t.roots,
			KeyUsages: []x509.ExtKeyUsage{usage}})
		return err
	}
}

// nas is the socket of one client that signs devices in one after the other, as a switch does.
type nas struct {
	conn net.Conn
	buf  [radius.MaxSize]byte
}

// exchange sends a packet and waits for its answer; nothing is lost on loopback that would have to be sent again.
func (n *nas) exchange(_ context.Context, packet []byte) ([]byte, error) {
	if _, err := n.conn.Write(packet); err != nil {
		return nil, err
	}
	n.conn.SetReadDeadline(time.Now().Add(3 * time.Second))
	for {
		size, err := n.conn.Read(n.buf[:])
		if err != nil || size > 1 && n.buf[1] == packet[1] {
			return n.buf[:size], err
		}
	}
}

// signIn is one whole conversation over the network.
func (t *tunnels) signIn(version uint16, method string, sessions []tls.ClientSessionCache) func(int) error {
	return func(worker int) error {
		n := t.clients[worker]
		device := supplicant.Settings{Roots: t.roots, Outer: "anonymous", MaxTLS: version}
		if method == "eap-tls" {
			device.Certificate = &t.device
		}
		if sessions != nil {
			device.Sessions = sessions[worker]
		}
		reply, err := trial.Send(context.Background(), trial.Request{Exchange: n.exchange, Secret: secret,
			Method: method, User: "eap", Password: password, Supplicant: device, Brief: true,
			Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Wireless-802.11"},
				{Name: "Calling-Station-Id", Value: fmt.Sprintf("02-00-5E-00-00-%02X", worker)}}})
		switch {
		case err != nil:
			return err
		case !reply.Accepted || reply.Keys != "match":
			return fmt.Errorf("%s: %s %s", method, reply.Code, reply.Fault)
		case sessions != nil && !reply.TLS.Resumed && method != "":
			return errNotResumed
		}
		return nil
	}
}

var errNotResumed = errors.New("a conversation was not resumed")

// measureEAP compares conversations with bare handshakes of the same run.
func measureEAP(s *service, duration time.Duration, rounds int) error {
	t, err := prepareEAP(s)
	if err != nil {
		return err
	}
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		if err := t.compare(version, duration, rounds); err != nil {
			return err
		}
	}
	return openConversations(s, t)
}

// workers is how many devices sign in at once.
const workers = 16

// compare measures in turn, so that all see the same machine.
func (t *tunnels) compare(version uint16, duration time.Duration, rounds int) error {
	fmt.Printf("EAP conversations over loopback beside bare TLS handshakes, both sides on the same cores: %s, ECDSA "+
		"P-256\n", tls.VersionName(version))
	var full, certified, resumed []float64
	for round := range rounds {
		caches := make([]tls.ClientSessionCache, workers)
		for i := range caches {
			caches[i] = tls.NewLRUClientSessionCache(1)
			if err := t.signIn(version, "peap-mschapv2", caches)(i); err != nil && !errors.Is(err, errNotResumed) {
				return err
			}
		}
		var rates [5]float64
		for i, once := range []func(int) error{t.handshake(version, false), t.signIn(version, "peap-mschapv2", nil),
			t.handshake(version, true), t.signIn(version, "eap-tls", nil), t.signIn(version, "peap-mschapv2", caches)} {
			var err error
			if rates[i], err = perSecond(workers, duration, once); err != nil {
				return err
			}
		}
		bare, peap, mutual, eaptls, again := rates[0], rates[1], rates[2], rates[3], rates[4]
		full, certified, resumed = append(full, peap/bare), append(certified, eaptls/mutual),
			append(resumed, again/peap)
		fmt.Printf("  round %d: handshake %5.0f/s  PEAP %5.0f/s (%.2f)   with client certificate %5.0f/s  EAP-TLS "+
			"%5.0f/s (%.2f)   resumed PEAP %5.0f/s (%.1f times the full)\n",
			round+1, bare, peap, peap/bare, mutual, eaptls, eaptls/mutual, again, again/peap)
	}
	fmt.Printf("  median: PEAP %.2f of a handshake, EAP-TLS %.2f of one with client certificate, resumed PEAP %.1f "+
		"times the full\n", median(full), median(certified), median(resumed))
	return nil
}

func median(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// openConversations measures what conversations cost in memory that are left after the identity, and after the server's
// certificate. It opens fewer than one client may hold: where the book begins to leave old ones, the heap says nothing.
func openConversations(s *service, t *tunnels) error {
	for _, stage := range []struct {
		words string
		hello bool
		n     int
	}{{"after the identity", false, 5_000}, {"after the server's certificate", true, 2_000}} {
		before, heap := conversations(s), heapNow()
		if err := leaveOpen(t, stage.n, stage.hello); err != nil {
			return err
		}
		opened := conversations(s) - before
		grown := heapNow() - heap
		fmt.Printf("Memory of a conversation left %s: %.1f kB (%d open)\n", stage.words,
			float64(grown)/float64(max(opened, 1))/1024, opened)
	}
	return nil
}

func conversations(s *service) int {
	open, _ := s.Gate.Conversations()
	return open
}

// heapNow is what is in use of heap and stacks, after what measurements before left behind is gone: pools and the
// stacks of workers take more than one collection.
func heapNow() int64 {
	for range 4 {
		runtime.GC()
		time.Sleep(50 * time.Millisecond)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc + m.StackInuse)
}

// leaveOpen begins conversations and gives them up.
func leaveOpen(t *tunnels, n int, hello bool) error {
	c, err := net.Dial("udp", t.target)
	if err != nil {
		return err
	}
	defer c.Close()
	key := radius.NewKey([]byte(secret))
	buf := make([]byte, radius.MaxSize)
	ask := func(i int, state, message []byte) (radius.Packet, error) {
		b := radius.NewRequest(radius.AccessRequest, byte(i), [16]byte{byte(i), byte(i >> 8), byte(i >> 16),
			byte(len(state)), byte(len(message)), byte(len(message) >> 8)}, true)
		b.AddText(radius.UserName, "eap")
		b.AddText(radius.CallingStationID, fmt.Sprintf("02-00-5E-%02X-%02X-%02X", i>>16, i>>8&255, i&255))
		b.AddInteger(radius.NASPortType, 19)
		if state != nil {
			b.Add(radius.State, state)
		}
		b.AddEAP(message)
		data, err := b.SignRequest(key)
		if err != nil {
			return radius.Packet{}, err
		}
		c.Write(data)
		c.SetReadDeadline(time.Now().Add(2 * time.Second))
		size, err := c.Read(buf)
		if err != nil {
			return radius.Packet{}, err
		}
		return radius.Decode(append([]byte(nil), buf[:size]...))
	}
	for i := range n {
		device, err := supplicant.New(&supplicant.Settings{Method: "peap-mschapv2", Identity: "eap", Fragment: 3000})
		if err != nil {
			return err
		}
		p, err := ask(i, nil, device.Hello())
		for err == nil && hello {
			var message []byte
			if message, err = device.Respond(p.EAP()); err != nil {
				break
			}
			if p, err = ask(i, p.Get(radius.State), message); err != nil {
				break
			}
			if packet, _ := eap.Decode(p.EAP()); len(packet.Data) > 100 { // the certificate is on its way
				break
			}
		}
		device.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
