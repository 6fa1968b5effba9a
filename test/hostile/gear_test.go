package hostile

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/tacacs"
)

// gearFrom are the addresses of the gear without and with a second factor.
var gearFrom = []string{"127.77.0.1", "127.77.1.1"}

func (w *world) gearLanes() {
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "crown", PrivilegeLevel: "15"}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "lesser", PrivilegeLevel: "1"}, nil)
	for i, factor := range []string{"", config.OneTimeCode} {
		methods := []string{"pap", "chap", "mschap", "mschapv2"}
		if factor != "" { // the others carry no code
			methods = methods[:1]
		}
		name := fmt.Sprintf("gear-hostile-%d", i)
		w.do(http.MethodPost, "/clients", apitype.ClientInput{TACACSSecret: secret,
			ClientFields: apitype.ClientFields{Name: name, Enabled: true,
				Addresses: []string{fmt.Sprintf("127.77.%d.0/24", i)}, MessageAuthenticator: "require"}}, nil)
		w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "hostile " + name, When: "client is " + name,
			Methods: methods, SecondFactor: factor,
			Policies: []*config.Policy{{Name: "Crown", Enabled: true, When: "group is Crown", Outcome: config.Admit,
				Pass: "crown"}, {Name: "Lesser", Enabled: true, When: "group is Lesser", Outcome: config.Admit,
				Pass: "lesser"}}}, nil)
	}
}

// enrol gives somebody a device that makes codes, and returns its seed and identifier.
func (w *world) enrol(bare string) (seed, id string) {
	var offer apitype.FactorOffer
	w.do(http.MethodPost, "/factors", apitype.FactorInput{Store: config.LocalStore, Person: bare}, &offer)
	code, err := totp.GenerateCode(offer.Seed, time.Now().Add(-30*time.Second))
	w.must(err)
	w.do(http.MethodPost, "/factors/"+offer.Factor.ID+"/confirm", apitype.FactorCode{Code: code}, nil)
	return offer.Seed, offer.Factor.ID
}

// dialogue is one run of chance over two connections with some sessions each.
type dialogue struct {
	w      *world
	random *rand.Rand
	from   string
	conns  [2]net.Conn
	seeds  [2]string // of the victim and the attacker
	seq    map[[2]uint32]byte
	said   []string
	passed int
}

func pick[T any](r *rand.Rand, list ...T) T { return list[r.IntN(len(list))] }

func (d *dialogue) name() []byte {
	return []byte(pick(d.random, victim, attacker, attacker, "", "nobody@pool.example"))
}

// start is a START of any kind: with the attacker's right proof for himself, with that for the victim, and with none.
func (d *dialogue) start() ([]byte, byte) {
	s := tacacs.Start{Action: pick(d.random, tacacs.Login, tacacs.Login, tacacs.Login, tacacs.ChangePassword,
		tacacs.SendAuth), Level: pick[byte](d.random, 1, 15), Kind: pick(d.random, tacacs.ASCII, tacacs.ASCII,
		tacacs.PAP, tacacs.CHAP, tacacs.MSCHAPv2, tacacs.Kind(9)),
		Service: pick(d.random, tacacs.ServiceLogin, tacacs.ServiceLogin, tacacs.ServiceEnable), User: d.name(),
		Port: []byte("vty0"), Remote: []byte("192.0.2.7")}
	version := tacacs.VersionOne
	switch s.Kind {
	case tacacs.ASCII:
		version = tacacs.VersionDefault
	case tacacs.PAP:
		s.Data = []byte(attackerWord + pick(d.random, "", "123456", d.code()))
	case tacacs.CHAP:
		challenge := []byte("sixteen-octets--")
		sum := mschap.CHAP(7, attackerWord, challenge)
		s.Data = append(append([]byte{7}, challenge...), sum[:]...)
	case tacacs.MSCHAPv2:
		var peer, challenge [16]byte
		nt := mschap.NTHash(attackerWord).V2(peer, challenge, string(s.User))
		r := mschap.Response{Peer: peer, NT: nt}.V2()
		s.Data = append(append([]byte{r[0]}, challenge[:]...), r[1:]...)
	}
	return s.Append(nil), version
}

// code is one of the victim, or of the attacker; of now, of before, or of later.
func (d *dialogue) code() string {
	seed := pick(d.random, d.seeds[0], d.seeds[1])
	if seed == "" {
		return "000000"
	}
	code, err := totp.GenerateCode(seed, time.Now().Add(time.Duration(d.random.IntN(9)-4)*30*time.Second))
	d.w.must(err)
	return code
}

func (d *dialogue) typed() []byte {
	c := tacacs.Continue{Message: []byte(pick(d.random, attackerWord, attackerWord, attackerWord, victim, attacker, "",
		"a-guess", strings.Repeat("x", 400)))}
	switch d.random.IntN(12) {
	case 0:
		c.Flags = tacacs.Abort
	case 1, 2, 3:
		c.Message = []byte(d.code())
	}
	return c.Append(nil)
}

// step sends one packet by chance, and reads what comes back. It reports whether the connections still live.
func (d *dialogue) step() bool {
	at, session := uint32(d.random.IntN(len(d.conns))), uint32(1+d.random.IntN(3))
	key := [2]uint32{at, session}
	h := tacacs.Header{Version: tacacs.VersionDefault, Type: tacacs.Authentication, Seq: d.seq[key] + 1,
		Session: session, Flags: tacacs.Single}
	var body []byte
	switch {
	case h.Seq == 1:
		body, h.Version = d.start()
	default:
		body = d.typed()
	}
	switch d.random.IntN(14) {
	case 0: // out of turn
		h.Seq = pick[byte](d.random, 1, 2, 3, 5, 255)
		d.said = append(d.said, "out of turn")
	case 1:
		q := tacacs.Request{Method: tacacs.MethodTACACS, Level: 15, Kind: tacacs.ASCII, Service: tacacs.ServiceLogin,
			User: d.name(), Args: [][]byte{[]byte("service=shell"), []byte("cmd=")}}
		h.Type, body = tacacs.Authorization, q.Append(nil)
	case 2: // of the other connection
		h.Session = session + 1
	}
	d.said = append(d.said, fmt.Sprintf("%d/%d seq %d %s %x", at, h.Session, h.Seq, h.Type, body[:min(len(body), 40)]))
	conn := d.conns[at]
	conn.SetDeadline(time.Now().Add(500 * time.Millisecond))
	if _, err := conn.Write(h.Packet(body, []byte(secret))); err != nil {
		return false
	}
	c := tacacs.Continue{}
	if parsed, err := tacacs.ParseContinue(body); err == nil {
		c = parsed
	}
	if h.Seq > 1 && c.Flags&tacacs.Abort != 0 && h.Type == tacacs.Authentication { // never answered
		delete(d.seq, key)
		return true
	}
	var raw [tacacs.HeaderSize]byte
	if _, err := io.ReadFull(conn, raw[:]); err != nil {
		return false
	}
	reply, err := tacacs.ParseHeader(&raw)
	if err != nil {
		return false
	}
	answer := make([]byte, reply.Length)
	if _, err := io.ReadFull(conn, answer); err != nil {
		return false
	}
	reply.Obfuscate(answer, []byte(secret))
	if reply.Type != tacacs.Authentication {
		return true
	}
	out, err := tacacs.ParseAuthenReply(answer)
	if err != nil {
		return true
	}
	switch out.Status {
	case tacacs.AuthenGetData, tacacs.AuthenGetPass, tacacs.AuthenGetUser:
		d.seq[key] = reply.Seq
	case tacacs.AuthenPass:
		d.passed++
		delete(d.seq, key)
	default:
		delete(d.seq, key)
	}
	return true
}

// The victim's sign-in is never passed, whatever is stopped, repeated, mixed over sessions and connections, or typed
// with the attacker's own right password or anybody's codes. records looks through all that was recorded. run has the
// dialogue over connections of its own, and returns how often somebody was passed.
func (d *dialogue) run() int {
	for c := range d.conns {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(d.from)}}
		conn, err := dialer.Dial("tcp", d.w.app.TACACS[0].String())
		if err != nil {
			d.w.t.Error(err)
			return 0
		}
		defer conn.Close()
		d.conns[c] = conn
	}
	for range 12 {
		if !d.step() {
			break
		}
	}
	return d.passed
}

func TestHostileDialogues(t *testing.T) {
	w := newWorld(t)
	theirs, _ := w.enrol("v.mighty")
	own, token := w.enrol("a.lesser")
	seeds := [2]string{theirs, own}
	n := min(*conversations/5, 20_000)
	var next, passed atomic.Int64
	var workers sync.WaitGroup
	begun := time.Now()
	for range 4 * runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for {
				i := next.Add(1)
				if i > int64(n) || time.Since(begun) > *within {
					return
				}
				w.app.Gate.Lockout.Release("local", "")
				_ = w.app.Gate.Factors.Release(t.Context(), token)
				d := &dialogue{w: w, random: rand.New(rand.NewPCG(*seed, uint64(i))), from: gearFrom[i%2],
					seeds: seeds, seq: map[[2]uint32]byte{}}
				passed.Add(int64(d.run()))
			}
		})
	}
	workers.Wait()
	if passed.Load() == 0 {
		t.Error("not even the attacker himself was passed, so nothing was tried")
	}
	recorded := w.records()
	t.Logf("%d dialogues in %v, %d sign-ins of the attacker passed, %d attempts recorded", next.Load(),
		time.Since(begun).Round(time.Second), passed.Load(), recorded)
	if done := next.Load(); done < int64(n) {
		t.Errorf("only %d of %d dialogues", done, n)
	}
}
