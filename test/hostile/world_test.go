// Package hostile plays devices that deviate from the protocols on purpose, one or two deviations at a time, against
// the real gate with the demo's directory behind it. Each holds nothing but what is public of its victim, or the right
// credentials of somebody with lesser rights. Whatever they do, they are never taken for the victim.
package hostile

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/argon2"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/front/radius/access"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

func TestMain(m *testing.M) {
	slog.SetDefault(slog.New(slog.DiscardHandler))
	os.Exit(m.Run())
}

// The names have one length, so that one can be put in the place of the other in any message.
const (
	victim         = "v.mighty@pool.example"
	attacker       = "a.lesser@pool.example"
	victimPC       = "host/pc01." + lab.Domain
	attackerPC     = "host/pc02." + lab.Domain
	attackerWord   = "right-but-lesser"
	victimWord     = "never-told-to-anybody"
	secret         = "quay-light-and-bollard"
	victimsStation = "02-00-5E-FF-"
)

// VLANs by who gets them. 60 and 66 are the attacker's own rights; all others are the victim's, or need something of
// it.
const (
	vlanCrown, vlanOnPC, vlanSeen, vlanByCertificate, vlanPC, vlanLesser, vlanLesserPC = "10", "40", "41", "42", "80",
		"60", "66"
)

// world is a service with a lane for each way to sign in, driven below its sockets.
type world struct {
	t       testing.TB
	dir     string
	app     *app.App
	api     *client.Client
	roots   *x509.CertPool
	key     *radius.Key
	clients []*config.Client

	victimCert, attackerCert *tls.Certificate
	victimPC, attackerPC     *tls.Certificate
	// shown are certificates of the victim with a key that is not theirs: what anybody can show who has seen them.
	shown, shownPC *tls.Certificate
	identifier     atomic.Uint32
	stations       atomic.Uint32
}

// lanes are by SSID.
var lanes = []struct {
	ssid    string
	methods []string
	prove   string
}{
	{"peap", []string{"peap-mschapv2", "peap-gtc", "peap-tls"}, "user"},
	{"ttls", []string{"ttls-pap", "ttls-chap", "ttls-mschap", "ttls-mschapv2", "ttls-md5", "ttls-gtc", "ttls-tls"},
		"user"},
	{"teap-user", []string{"teap-mschapv2", "teap-tls", "teap-pap"}, "user"},
	{"teap-machine", []string{"teap-tls", "teap-mschapv2", "teap-pap"}, "machine"},
	{"teap-both", []string{"teap-tls", "teap-mschapv2", "teap-pap"}, "both"},
	{"tls", []string{"eap-tls"}, "user"},
	{"md5", []string{"eap-md5"}, "user"},
	{"mschapv2", []string{"eap-mschapv2"}, "user"},
	{"gtc", []string{"eap-gtc"}, "user"},
	{"all", []string{"eap-tls", "peap-tls", "peap-mschapv2", "ttls-tls", "ttls-pap", "ttls-mschapv2", "teap-tls",
		"teap-mschapv2", "teap-pap", "eap-md5"}, "both"},
}

func newWorld(t testing.TB) *world {
	t.Helper()
	w := &world{t: t, dir: t.TempDir(), key: radius.NewKey([]byte(secret))}
	ca, err := lab.NewAuthority("Test authority")
	w.must(err)
	cert, err := ca.Server(time.Now().AddDate(1, 0, 0), "dc1."+lab.Domain, "127.0.0.1")
	w.must(err)
	directory := lab.NewDirectory(cert)
	address := serve(t, directory)
	t.Cleanup(directory.Close)
	w.boot()
	w.must(lab.SetUp(context.Background(), w.api, w.app.SetupCode, lab.Outside{Servers: []string{address},
		Authority: ca.PEM}))
	kit, err := lab.Outfit(context.Background(), w.api)
	w.must(err)
	w.roots, w.victimPC, w.attackerPC = kit.Roots, kit.Computers[0], kit.Computers[1]
	w.configure()
	w.victimCert, w.attackerCert = w.issue(victim), w.issue(attacker)
	w.shown, w.shownPC = stolen(t, w.victimCert), stolen(t, w.victimPC)
	w.app.Stop()
	w.cheapen()
	w.boot()
	for _, name := range []string{"np-hostile", "sp-hostile"} {
		c, at := config.Find(w.app.Gate.Current().Plan.Config.Clients, name)
		if at < 0 {
			t.Fatalf("there is no client %s", name)
		}
		w.clients = append(w.clients, c)
	}
	return w
}

// serve has the directory listen on a port that is free just now.
func serve(t testing.TB, d *lab.Directory) string {
	for range 50 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		l.Close()
		if address := l.Addr().String(); d.Serve(address, true) == nil {
			return address
		}
	}
	t.Fatal("the directory finds no port")
	return ""
}

func (w *world) must(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) boot() {
	w.t.Helper()
	a, err := app.Start(context.Background(), app.Options{Data: w.dir, HTTP: "127.0.0.1:0",
		TACACS: []string{"127.0.0.1:0"}})
	w.must(err)
	token := ""
	if w.api != nil {
		token = w.api.Token
	}
	w.app, w.api = a, &client.Client{URL: a.URL, Token: token}
	w.t.Cleanup(a.Stop)
}

func (w *world) do(method, path string, in, out any) {
	w.t.Helper()
	if err := w.api.Do(context.Background(), method, path, in, out, client.IfMatch("*")); err != nil {
		w.t.Fatalf("%s %s: %v", method, path, err)
	}
}

func (w *world) configure() {
	for i, name := range []string{"np-hostile", "sp-hostile"} {
		w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, TACACSSecret: secret,
			ClientFields: apitype.ClientFields{Name: name, Enabled: true,
				Addresses: []string{fmt.Sprintf("203.0.113.%d", 200+i)}, MessageAuthenticator: "require"}}, nil)
	}
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "pool",
		Forms:  []config.Form{{Kind: config.Suffix, Value: "pool.example"}},
		Lookup: []config.Lookup{{Store: config.LocalStore, Unreachable: config.Refuse}}}, nil)
	for _, vlan := range []string{vlanCrown, vlanOnPC, vlanSeen, vlanByCertificate, vlanPC, vlanLesser, vlanLesserPC} {
		w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "vlan " + vlan, VLAN: vlan}, nil)
	}
	policies := func() (out []*config.Policy) {
		for _, p := range [][2]string{
			{`group is Crown`, vlanCrown}, {`certificate.subject contains mighty`, vlanByCertificate},
			{`kind is computer and machine is "PC01$"`, vlanPC}, {`kind is computer`, vlanLesserPC},
			{`machine is "PC01$"`, vlanOnPC}, {`machine.seen within 8h`, vlanSeen}, {`group is Lesser`, vlanLesser},
		} {
			out = append(out, &config.Policy{Name: p[0], Enabled: true, When: p[0], Outcome: config.Admit,
				Pass: "vlan " + p[1]})
		}
		return out
	}
	w.do(http.MethodPost, "/trusts", apitype.TrustFields{Name: "hostile", Authorities: []string{"Lantern Network"},
		Identity: []string{"upn", "dns"}, Unanswered: config.RefuseUnanswered}, nil)
	for _, l := range lanes {
		w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "hostile " + l.ssid, When: "ssid is hostile-" +
			l.ssid, Methods: l.methods, TLS: config.LaneTLS{Prove: l.prove, ResumeMinutes: 60, Trust: "hostile",
			Certificate: "radius"}, Policies: policies()}, nil)
	}
	w.gearLanes()
	var list apitype.Page[apitype.Lane]
	w.do(http.MethodGet, "/lanes?limit=200", nil, &list)
	var order []string
	for _, hostile := range []bool{true, false} {
		for _, l := range list.Items {
			if strings.HasPrefix(l.Name, "hostile") == hostile {
				order = append(order, l.ID)
			}
		}
	}
	w.do(http.MethodPut, "/lane-order", map[string][]string{"lanes": order}, nil)
	for name, word := range map[string]string{victim: victimWord, attacker: attackerWord} {
		group := map[string]string{victim: "Crown", attacker: "Lesser"}[name]
		bare, _, _ := strings.Cut(name, "@")
		w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: word,
			AccountFields: apitype.AccountFields{Name: bare, Groups: []string{group}, Enabled: true,
				Keeps: "password"}}, nil)
	}
	w.do(http.MethodPost, "/draft/publish", apitype.PublishBody{Despite: true}, nil)
}

// issue has the authority of the demo issue a certificate to a person.
func (w *world) issue(upn string) *tls.Certificate {
	var out apitype.NewlyIssued
	w.do(http.MethodPost, "/authorities/Lantern Network/issue", apitype.IssueInput{UPN: upn,
		Make: apitype.Make{Subject: upn}}, &out)
	pair, err := tls.X509KeyPair([]byte(out.Chain), []byte(out.Key))
	w.must(err)
	return &pair
}

// stolen is a certificate that was seen, with a key of one's own.
func stolen(t testing.TB, c *tls.Certificate) *tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return &tls.Certificate{Certificate: c.Certificate, PrivateKey: key}
}

// cheapen gives the accounts hashes that cost little: hundreds of thousands of wrong passwords are checked here.
func (w *world) cheapen() {
	s, err := store.Open(context.Background(), w.dir)
	w.must(err)
	defer s.Close()
	rows, err := s.Accounts(context.Background())
	w.must(err)
	words := map[string]string{"v.mighty": victimWord, "a.lesser": attackerWord}
	for _, row := range rows {
		word, ours := words[row.Name]
		if !ours {
			continue
		}
		salt := []byte("sixteen octets..")
		key := argon2.IDKey([]byte(word), salt, 1, 8, 1, 32)
		row.Hash = fmt.Sprintf("$argon2id$v=%d$m=8,t=1,p=1$%s$%s", argon2.Version,
			base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
		w.must(s.SaveAccount(context.Background(), row))
	}
}

// station is the address of a device that nobody had before.
func (w *world) station() string {
	n := w.stations.Add(1)
	return fmt.Sprintf("02-00-5E-%02X-%02X-%02X", n>>16&0x7f, n>>8&0xff, n&0xff)
}

// request is one Access-Request with EAP as a client sends it.
type request struct {
	client        int
	ssid, station string
	user          string
	state, eap    []byte
}

// ask takes one request along the road that those from the network take, below the socket.
func (w *world) ask(q *request) gate.Answer {
	n := w.identifier.Add(1)
	var authenticator [16]byte
	binary.BigEndian.PutUint32(authenticator[:], n)
	b := radius.NewRequest(radius.AccessRequest, byte(n), authenticator, true)
	b.AddText(radius.UserName, q.user)
	b.AddText(radius.CallingStationID, q.station)
	b.AddText(radius.CalledStationID, "02-00-5E-10-00-01:hostile-"+q.ssid)
	b.AddInteger(radius.NASPortType, 19)
	if q.state != nil {
		b.Add(radius.State, q.state)
	}
	b.AddEAP(q.eap)
	data, err := b.SignRequest(w.key)
	if err != nil {
		return gate.Answer{Discard: true} // a packet that no client could have sent
	}
	p, err := radius.Decode(data)
	w.must(err)
	c, ctx := w.clients[q.client], context.Background()
	prefix, _ := config.ParsePrefix(c.Addresses[0])
	r := access.Request{Packet: p, Client: c, From: prefix.Addr(), Key: w.key, Signed: true,
		Snapshot: w.app.Gate.Current(), Begun: time.Now()}
	return r.Answer(ctx, w.app.Gate)
}

// vlan is the VLAN that an answer gives, "" for a refusal.
func vlan(a *gate.Answer) string {
	if a.Verdict != results.Admitted {
		return ""
	}
	for _, attribute := range a.Reply {
		if attribute.Type == 81 {
			return strings.TrimLeft(string(attribute.Value), "\x00\x01\x02")
		}
	}
	return "none"
}

// honest signs somebody in as it should be, and returns the VLAN.
func (w *world) honest(ssid, station string, s supplicant.Settings) (string, error) {
	s.Roots, s.Binding = w.roots, true
	p, err := supplicant.New(&s)
	if err != nil {
		return "", err
	}
	defer p.Close()
	q := request{ssid: ssid, station: station, user: "anonymous@pool.example", eap: p.Hello()}
	for range 100 {
		a := w.ask(&q)
		if !a.Challenge {
			return vlan(&a), nil
		}
		q.state = a.State
		if q.eap, err = p.Respond(a.EAP); err != nil {
			return "", err
		}
	}
	return "", fmt.Errorf("the conversation does not end")
}

// records reads what was recorded of all attempts, after the service has ended, and looks for the victim in it.
func (w *world) records() (n int) {
	w.app.Stop()
	s, err := store.Open(context.Background(), w.dir)
	w.must(err)
	defer s.Close()
	reasons := map[reason.Code]bool{}
	for _, e := range reason.All() {
		reasons[e.Code] = true
	}
	plan := w.app.Gate.Current().Plan
	var f facts.Facts
	a, err := store.OpenAttempts(context.Background(), w.dir, ident.NewSource(0), s, record.Retention{}, nil)
	w.must(err)
	defer a.Close()
	rows, err := a.Facts(context.Background(), store.Span{}, 10_000_000)
	w.must(err)
	for _, row := range rows {
		f = facts.Facts{}
		w.must(f.ParseJSON(row.Facts))
		if strings.HasPrefix(f.MAC, victimsStation) || f.Tried != "" && f.Gear == nil {
			continue
		}
		n++
		for _, p := range []*facts.Person{f.Person, f.Machine} {
			if p != nil && (p.Name == "v.mighty" || p.Name == "PC01$") && !f.Vouched() {
				w.t.Errorf("%s is a fact of an attempt that is not theirs: %s", p.Name, row.Facts)
			}
		}
		if seen := f.MachineSeen; seen != nil && seen.Name == "PC01$" {
			w.t.Errorf("the victim's computer was seen at %s", f.MAC)
		}
		d := plan.Decide(&f)
		if d.Reason == "" || !reasons[d.Reason] {
			w.t.Errorf("refused without a reason: %q %s", d.Reason, row.Facts)
		}
		if d.Verdict == results.Admitted && f.Client == "gear-hostile-1" && !f.Vouched() {
			if f.Factor == nil || f.Factor.Outcome != reason.OK {
				w.t.Errorf("admitted without a code of its own: %s", row.Facts)
			}
		}
	}
	return n
}
