package resolve

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
)

// fake is a DNS server of a test.
type fake struct {
	address string
	asked   atomic.Int32
	mute    atomic.Bool
	code    atomic.Int32
	handle  atomic.Pointer[func(q dns.Question, reply *dns.Msg)]
}

func (f *fake) answer(with func(q dns.Question, reply *dns.Msg)) { f.handle.Store(&with) }

func record(t testing.TB, text string) dns.RR {
	t.Helper()
	rr, err := dns.NewRR(text)
	if err != nil {
		t.Fatal(err)
	}
	return rr
}

// serve answers with records of a zone, over UDP and TCP.
func serve(t testing.TB, zone ...string) *fake {
	t.Helper()
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	f := &fake{address: packets.LocalAddr().String()}
	stream, err := net.Listen("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	var records []dns.RR
	for _, line := range zone {
		records = append(records, record(t, line))
	}
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, r *dns.Msg) {
		f.asked.Add(1)
		if f.mute.Load() {
			return
		}
		reply := new(dns.Msg)
		reply.SetReply(r)
		reply.Rcode = int(f.code.Load())
		for _, rr := range records {
			h := rr.Header()
			if h.Rrtype == r.Question[0].Qtype && h.Name == r.Question[0].Name || h.Rrtype == dns.TypeCNAME {
				reply.Answer = append(reply.Answer, dns.Copy(rr))
			}
		}
		if handle := f.handle.Load(); handle != nil {
			(*handle)(r.Question[0], reply)
		}
		if _, udp := w.RemoteAddr().(*net.UDPAddr); udp {
			reply.Truncate(payload)
		}
		w.WriteMsg(reply)
	})
	for _, s := range []*dns.Server{{PacketConn: packets, Handler: handler}, {Listener: stream, Handler: handler}} {
		go s.ActivateAndServe()
		t.Cleanup(func() { s.Shutdown() })
	}
	return f
}

const zone = "dc1.lantern.example. 60 IN A 192.0.2.10"

func addresses(t testing.TB, r *Resolver, host string) string {
	t.Helper()
	list, err := r.Addresses(context.Background(), host)
	if err != nil {
		return err.Error()
	}
	var out []string
	for _, a := range list {
		out = append(out, a.String())
	}
	return strings.Join(out, " ")
}

func TestAMuteServerHoldsUpOnlyTheFirstQuestion(t *testing.T) {
	mute, good := serve(t), serve(t, zone, "dc2.lantern.example. 60 IN A 192.0.2.11")
	mute.mute.Store(true)
	r := New(mute.address, good.address)
	begun := time.Now()
	if got := addresses(t, r, "dc1.lantern.example"); got != "192.0.2.10" {
		t.Fatal(got)
	}
	if took := time.Since(begun); took < besideAfter || took > 4*besideAfter {
		t.Errorf("the first question took %v", took)
	}
	begun = time.Now()
	if got := addresses(t, r, "dc2.lantern.example"); got != "192.0.2.11" || time.Since(begun) > besideAfter {
		t.Errorf("%s after %v, although it is known which server is mute", got, time.Since(begun))
	}
	states := r.Probe(context.Background(), "dc1.lantern.example")
	if len(states) != 2 || states[0].Err == nil || states[1].Err != nil {
		t.Errorf("%+v", states)
	}
}

func TestAnswersAreKeptAndUsedPastTheirTimeWhileNobodyAnswers(t *testing.T) {
	good := serve(t, zone)
	r := New(good.address)
	var later atomic.Int64
	r.now = func() time.Time { return time.Now().Add(time.Duration(later.Load())) }
	r.after = 400 * time.Millisecond // a loaded machine is late
	addresses(t, r, "dc1.lantern.example")
	before := good.asked.Load()
	later.Add(int64(notThere - time.Second))
	if got := addresses(t, r, "DC1.lantern.example"); got != "192.0.2.10" || good.asked.Load() != before {
		t.Errorf("%s, asked %d times more", got, good.asked.Load()-before)
	}
	good.mute.Store(true)
	later.Add(int64(time.Hour))
	if got := addresses(t, r, "dc1.lantern.example"); got != "192.0.2.10" {
		t.Errorf("while nobody answers: %s", got)
	}
	begun := time.Now()
	if got := addresses(t, r, "dc1.lantern.example"); got != "192.0.2.10" || time.Since(begun) > r.after {
		t.Errorf("the next one waits for %v as well: %s", time.Since(begun), got)
	}
	later.Add(int64(keepStale + time.Hour))
	if got := addresses(t, r, "dc1.lantern.example"); !strings.Contains(got, "no answer") {
		t.Errorf("after more than a week: %s", got)
	}
}

func TestWhatAServerSaysIsTakenAsItIsMeant(t *testing.T) {
	long := []string{"_ldap._tcp.lantern.example. 60 IN SRV 10 5 389 dc3.lantern.example."}
	for range 60 {
		long = append(long, "_ldap._tcp.lantern.example. 60 IN SRV 0 100 389 "+
			"a-long-name-of-a-controller.lantern.example.")
	}
	first := serve(t, "alias.lantern.example. 60 IN CNAME dc1.lantern.example.")
	first.answer(func(q dns.Question, reply *dns.Msg) {
		if q.Name == "alias.lantern.example." && q.Qtype == dns.TypeA {
			reply.Answer = append(reply.Answer, record(t, zone), record(t, "evil.example. 60 IN A 203.0.113.66"))
		}
		if q.Name == "gone.lantern.example." {
			reply.Answer, reply.Rcode = nil, dns.RcodeNameError
		}
	})
	services := serve(t, long...)
	second := serve(t, zone)
	failing := serve(t)
	failing.code.Store(dns.RcodeServerFailure)
	other := serve(t)
	other.answer(func(_ dns.Question, reply *dns.Msg) {
		reply.Question[0].Name = "other.example."
		reply.Answer = []dns.RR{record(t, "other.example. 60 IN A 203.0.113.66")}
	})
	if got := addresses(t, New(first.address), "alias.lantern.example"); got != "192.0.2.10" {
		t.Errorf("by an alias: %s", got)
	}
	_, err := New(first.address, second.address).Addresses(context.Background(), "gone.lantern.example")
	var failure *net.DNSError
	if !errors.As(err, &failure) || !failure.IsNotFound || second.asked.Load() != 0 {
		t.Errorf("a name that does not exist: %v, the second was asked %d times", err, second.asked.Load())
	}
	for what, bad := range map[string]*fake{"failing": failing, "answering another question": other} {
		begun := time.Now()
		if got := addresses(t, New(bad.address, second.address), "dc1.lantern.example"); got != "192.0.2.10" ||
			time.Since(begun) > besideAfter {
			t.Errorf("beside one %s: %s after %v", what, got, time.Since(begun))
		}
	}
	list, err := New(services.address).Services(context.Background(), "_ldap._tcp.lantern.example")
	if err != nil || len(list) != 61 || list[60].Host != "dc3.lantern.example" || list[60].Port != 389 {
		t.Errorf("%d services that need TCP: %v", len(list), err)
	}
	if got := addresses(t, New(first.address), "192.0.2.77"); got != "192.0.2.77" {
		t.Errorf("an address is %s", got)
	}
}

func TestWhatIsKeptIsBounded(t *testing.T) {
	r := New("127.0.0.1:1")
	for i := range 2 * maxKept {
		r.keep(question{string(rune('a'+i%26)) + strings.Repeat("x", i%200) + string(rune(i)), dns.TypeA}, &answer{})
	}
	if len(r.kept) > maxKept {
		t.Errorf("%d answers are kept", len(r.kept))
	}
	for i := range 2 * maxShared {
		For(string(rune('a' + i)))
	}
	if first := For("x1"); len(shared.all) > maxShared || first != For("x1") {
		t.Errorf("%d resolvers are shared", len(shared.all))
	}
}

func TestDialingTriesEveryAddress(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.9:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().String()[strings.LastIndexByte(l.Addr().String(), ':'):]
	s := serve(t, "dc.lantern.example. 60 IN A 127.0.0.8", "dc.lantern.example. 60 IN A 127.0.0.9")
	d := Dialer{Names: New(s.address)}
	d.Timeout = 2 * time.Second
	conn, err := d.DialContext(context.Background(), "tcp", "dc.lantern.example"+port)
	if err != nil {
		t.Fatal(err)
	}
	conn.Close()
}

func TestHostsOfTheOperatingSystem(t *testing.T) {
	path := filepath.Join(t.TempDir(), "hosts")
	os.WriteFile(path, []byte("# hosts\n192.0.2.4 NAS nas.lantern.example # storage\nnonsense here\n::1\n"), 0o600)
	hosts, err := readHosts(path)
	if err != nil || len(hosts) != 2 || hosts["nas"][0].String() != "192.0.2.4" {
		t.Errorf("%v: %v", hosts, err)
	}
}
