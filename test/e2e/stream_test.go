package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

// overTLS has the client np-switch-1 of a world prove itself by a certificate, and returns that and our authority.
func (w *world) overTLS() (own tls.Certificate, issued apitype.NewlyIssued, authority string) {
	w.t.Helper()
	var made apitype.Authority
	w.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Gear",
		Make: &apitype.Make{Subject: "Gear Authority"}}, nil)
	w.do(http.MethodGet, "/authorities/Gear", nil, &made)
	w.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "radius", Authority: "Gear",
		Make: &apitype.Make{Subject: "radius.example", Names: []string{"radius.example"}}}, nil)
	w.do(http.MethodPost, "/trusts", apitype.TrustFields{Name: "gear", Authorities: []string{"Gear"},
		Identity: []string{"dns"}, Unanswered: config.TakeUnanswered}, nil)
	w.do(http.MethodPut, "/clients/np-switch-1", apitype.ClientInput{ClientFields: apitype.ClientFields{
		Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"}, MessageAuthenticator: "require",
		TLSNames: []string{"np-switch-1.example"}}}, nil, matchAny)
	w.publish()
	w.do(http.MethodPost, "/authorities/Gear/issue", apitype.IssueInput{Make: apitype.Make{
		Names: []string{"np-switch-1.example"}}}, &issued)
	own, err := tls.X509KeyPair([]byte(issued.Chain), []byte(issued.Key))
	if err != nil {
		w.t.Fatal(err)
	}
	return own, issued, made.PEM
}

func (w *world) streams() string { return w.app.RADIUSTLS[0].String() }

// link is a connection to a service, as a device would make it.
func (w *world) link(authority string, own *tls.Certificate) *upstream.Link {
	w.t.Helper()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority))
	cfg := &tls.Config{RootCAs: roots, ServerName: "radius.example"}
	if own != nil {
		cfg.Certificates = []tls.Certificate{*own}
	}
	l := upstream.NewLink(netip.Addr{}, w.streams(), cfg, 5*time.Second)
	w.t.Cleanup(l.Close)
	return l
}

// signIn asks over a link with a password, and returns the code of the answer.
func signIn(l *upstream.Link, user, password string) (code radius.Code, err error) {
	err = l.Ask(context.Background(), func(id byte, authenticator [16]byte, key *radius.Key) ([]byte, [16]byte, error) {
		b := radius.NewRequest(radius.AccessRequest, id, authenticator, true)
		hidden, err := key.HidePassword([]byte(password), authenticator)
		if err != nil {
			return nil, authenticator, err
		}
		b.AddText(radius.UserName, user)
		b.Add(radius.UserPassword, hidden)
		b.AddInteger(radius.NASPortType, 15)
		data, err := b.SignRequest(key)
		return data, authenticator, err
	}, func(answer []byte, proof [16]byte, key *radius.Key) error {
		p, err := radius.Decode(answer)
		if err != nil {
			return err
		}
		code = p.Code
		return key.VerifyReply(&p, proof)
	})
	return code, err
}

// A service forwards to another over TLS: passwords, challenges and keys go through, accounting and Status-Server do.
func TestForwardingOverTLS(t *testing.T) {
	t.Parallel()
	near, far := start(t), start(t)
	near.basic("require", "127.0.0.1")
	far.basic("require", "127.0.0.1")
	_, issued, authority := far.overTLS()
	far.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: "bridge-and-beam",
		AccountFields: apitype.AccountFields{Name: "m.mate", Groups: []string{"Crew"}, Enabled: true,
			Keeps: "password"}}, nil)
	var lane apitype.Lane
	far.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	lane.Methods, lane.When = []string{"pap", "chap", "mschapv2", "peap-mschapv2"},
		"port.type is Ethernet and transport is tls"
	far.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*"))
	far.publish()
	near.forwards(far.streams(), "tls", issued, authority)
	for _, method := range []string{"pap", "chap", "mschapv2", "peap-mschapv2"} {
		reply, err := near.ask(func(q *trial.Request) {
			q.Method, q.User, q.Password = method, "m.mate", "bridge-and-beam"
			q.Supplicant = supplicant.Settings{Outer: "m.mate", Binding: true}
		})
		if err != nil || !reply.Accepted || method == "peap-mschapv2" && reply.Keys != "match" {
			t.Errorf("%s: %+v, %v", method, reply, err)
		}
	}
	if r, err := near.ask(func(q *trial.Request) { q.User, q.Password = "m.mate", "not-this" }); err != nil ||
		r.Accepted {
		t.Errorf("a wrong password: %+v, %v", r, err)
	}
	if a := far.newest(5); a.Facts.Transport != "tls" || a.Client != "np-switch-1" {
		t.Errorf("there: %+v", a.Facts)
	}
	near.wants(0, []string{"remote", "show", "harbour"}, "tls", "as to-the-harbour, to radius.example", "radius/1.1",
		"answers")
	near.wants(0, []string{"remote", "list"}, "harbour", "answers")
	// Without a secret of its own the client is taken over TLS alone, and by UDP with its secret as before.
	if r, err := far.ask(func(q *trial.Request) { q.User = "m.mate" }); err != nil || r.Accepted {
		t.Errorf("by UDP into a lane for TLS: %+v, %v", r, err)
	}
}

// forwards has a world forward to a remote server, to which it proves itself by a certificate.
func (w *world) forwards(server, transport string, own apitype.NewlyIssued, authority string) {
	w.t.Helper()
	w.do(http.MethodPost, "/certificates", apitype.CertificateInput{Name: "to-the-harbour", Chain: own.Chain,
		Key: own.Key}, nil)
	ca := filepath.Join(w.dir, "harbour.pem")
	if err := os.WriteFile(ca, []byte(authority), 0o600); err != nil {
		w.t.Fatal(err)
	}
	w.wants(0, []string{"remote", "add", "harbour", "-server", server, "-transport", transport, "-ca", ca,
		"-server-name", "radius.example", "-certificate", "to-the-harbour", "-grant", "*"}, "added")
	w.wants(0, []string{"lane", "change", "Wired", "-forward", "harbour"}, "changed")
	w.publish()
}

// Whoever cannot prove itself in TLS gets nothing, and what is said wrong ends the connection.
func TestHostileStreams(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	own, _, authority := w.overTLS()
	l := w.link(authority, &own)
	if code, err := signIn(l, "k.nance", "gangway-and-rope"); err != nil || code != radius.AccessAccept ||
		l.Version() != radius.Version11 {
		t.Fatalf("%v, %v, %s", code, err, l.Version())
	}
	if code, err := signIn(l, "k.nance", "wrong"); err != nil || code != radius.AccessReject {
		t.Errorf("a wrong password: %v, %v", code, err)
	}
	strange, _ := start(t).gearAuthority("np-switch-1.example")
	other := w.gearCertificate("someone-else.example")
	for what, c := range map[string]struct {
		own    *tls.Certificate
		detail string
	}{"no certificate": {nil, "shows no certificate"}, "another name": {&other, "carries none of the names"},
		"another authority": {&strange, "certificate.untrusted"}} {
		if code, err := signIn(w.link(authority, c.own), "k.nance", "gangway-and-rope"); err == nil {
			t.Errorf("%s: %v", what, code)
		}
		if got := w.contact(netip.MustParseAddr("127.0.0.1"), "tls"); !strings.Contains(got.Detail, c.detail) {
			t.Errorf("%s: %q", what, got.Detail)
		}
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority))
	dial := func(from string, version string) net.Conn {
		t.Helper()
		d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 3 * time.Second}
		conn, err := tls.DialWithDialer(d, "tcp", w.streams(), &tls.Config{RootCAs: roots, ServerName: "radius.example",
			Certificates: []tls.Certificate{own}, NextProtos: []string{version}})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		conn.SetDeadline(time.Now().Add(4 * time.Second))
		return conn
	}
	over := func(what string, conn net.Conn) {
		t.Helper()
		if n, err := conn.Read(make([]byte, 1)); err == nil || errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s is answered with %d octets, %v", what, n, err)
		}
	}
	over("the certificate from another address", dial("127.0.0.66", radius.Version11))
	if got := w.contact(netip.MustParseAddr("127.0.0.66"), "tls"); !strings.Contains(got.Detail,
		"which is none of its addresses") {
		t.Errorf("%q", got.Detail)
	}
	header := func(code byte, length uint16, rest ...byte) []byte {
		out := binary.BigEndian.AppendUint16([]byte{code, 0}, length)
		return append(append(out, make([]byte, 16)...), rest...)
	}
	for what, data := range map[string][]byte{"a short length": header(1, 19), "a long length": header(1, 4097),
		"an attribute that lies": header(1, 23, 1, 9, 'x'), "text": []byte("GET / HTTP/1.1\r\nHost: x\r\n\r\n")} {
		conn := dial("127.0.0.1", radius.Version11)
		conn.Write(data)
		over(what, conn)
	}
	// A change of authorization is declined in its form, an unknown code is passed over, and the connection goes on.
	conn := dial("127.0.0.1", radius.Version11)
	conn.Write(append(header(43, 20), header(99, 20)...))
	conn.Write(header(12, 20))
	reply := make([]byte, 26+20)
	if _, err := io.ReadFull(conn, reply); err != nil || reply[0] != 45 || reply[25]+reply[24] != 406-256+1 ||
		reply[26] != 2 {
		t.Errorf("a CoA-Request, then a Status-Server: %x, %v", reply, err)
	}
	// CHAP needs its challenge, since there is no authenticator.
	chap := header(1, 20+9+19, append([]byte("\x01\x09k.nance\x03\x13"), make([]byte, 17)...)...)
	conn.Write(chap)
	if _, err := io.ReadFull(conn, reply[:20]); err != nil || reply[0] != 3 {
		t.Errorf("CHAP without a challenge: %x, %v", reply[:20], err)
	}
	manyAtOnce(t, l)
	// A revoked certificate ends what was open, a few seconds later at most.
	var list apitype.Page[apitype.IssuedCertificate]
	w.do(http.MethodGet, "/issued", nil, &list)
	for _, one := range list.Items {
		if strings.Contains(one.Subject, "np-switch-1") {
			w.do(http.MethodPost, "/issued/"+one.ID+"/revoke", nil, nil)
		}
	}
	time.Sleep(6 * time.Second)
	if code, err := signIn(l, "k.nance", "gangway-and-rope"); err == nil {
		t.Errorf("with a revoked certificate: %v", code)
	}
}

// manyAtOnce asks on one connection many times at once; each gets its own answer.
func manyAtOnce(t *testing.T, l *upstream.Link) {
	t.Helper()
	var all sync.WaitGroup
	for i := range 64 {
		all.Go(func() {
			want, password := radius.AccessAccept, "gangway-and-rope"
			if i%16 == 1 {
				want, password = radius.AccessReject, "wrong"
			}
			if code, err := signIn(l, "k.nance", password); err != nil || code != want {
				t.Errorf("%d: %v, %v", i, code, err)
			}
		})
	}
	all.Wait()
}

// gearAuthority makes an authority of the same name, and a certificate of it.
func (w *world) gearAuthority(name string) (tls.Certificate, string) {
	w.t.Helper()
	w.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Gear",
		Make: &apitype.Make{Subject: "Gear Authority"}}, nil)
	w.publish()
	return w.gearCertificate(name), ""
}

// The raw octets of version 1.0 through the TLS of another author, with the secret that the standard names.
func TestStreamsOfOpenSSL(t *testing.T) {
	t.Parallel()
	need(t, "openssl")
	w := start(t)
	w.openSSL(w.streams(), radius.TLSSecret, "-tls1_3", "-alpn", "radius/1.0")
}

// openSSL asks a port through the client of another author.
func (w *world) openSSL(port, secret string, options ...string) {
	t := w.t
	t.Helper()
	w.basic("require", "127.0.0.1")
	_, issued, authority := w.overTLS()
	dir := t.TempDir()
	for name, text := range map[string]string{"own.pem": issued.Chain, "own.key": issued.Key, "ca.pem": authority} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command("openssl", append([]string{"s_client", "-quiet", "-no_ign_eof", "-connect", port, "-cert",
		"own.pem", "-key", "own.key", "-CAfile", "ca.pem", "-verify_return_error", "-servername", "radius.example"},
		options...)...)
	cmd.Dir = dir
	in, _ := cmd.StdinPipe()
	out, _ := cmd.StdoutPipe()
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { in.Close(); cmd.Process.Kill(); cmd.Wait() }()
	key, authenticator := radius.NewKey([]byte(secret)), [16]byte{7, 7}
	hidden, _ := key.HidePassword([]byte("gangway-and-rope"), authenticator)
	ask := radius.NewRequest(radius.AccessRequest, 9, authenticator, false)
	ask.AddText(radius.UserName, "k.nance")
	ask.Add(radius.UserPassword, hidden)
	ask.AddInteger(radius.NASPortType, 15)
	request, _ := ask.SignRequest(key)
	start := radius.NewRequest(radius.AccountingRequest, 10, [16]byte{}, false)
	start.AddInteger(radius.AcctStatusType, 1)
	start.AddText(radius.AcctSessionID, "openssl-1")
	start.AddText(radius.UserName, "k.nance")
	accounting, _ := start.SignFixed(key)
	for _, step := range []struct {
		data  []byte
		proof [16]byte
		code  radius.Code
	}{{request, authenticator, radius.AccessAccept}, {request, authenticator, radius.AccessAccept},
		{accounting, [16]byte(accounting[4:20]), radius.AccountingResponse}} {
		if _, err := in.Write(step.data); err != nil {
			t.Fatal(err)
		}
		packet, err := radius.ReadPacket(out, make([]byte, radius.MaxSize))
		if err != nil {
			t.Fatalf("%v: %s", err, said.String())
		}
		p, err := radius.Decode(packet)
		if err == nil {
			err = key.VerifyReply(&p, step.proof)
		}
		if err != nil && !errors.Is(err, radius.ErrNoMessageAuth) || p.Code != step.code {
			t.Errorf("%v, %v", p.Code, err)
		}
	}
	if n := len(w.attempts("", 1)); n != 1 {
		t.Errorf("%d attempts: a retransmission was worked on again", n)
	}
	w.wants(0, []string{"session", "list"}, "k.nance", "np-switch-1")
}
