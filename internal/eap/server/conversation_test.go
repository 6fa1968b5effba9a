package server

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/wire/eap"
)

func TestEveryMethodWithEveryVersionOfTLS(t *testing.T) {
	w := newWorld(t)
	for _, version := range []uint16{tls.VersionTLS11, tls.VersionTLS12, tls.VersionTLS13} {
		for _, method := range every {
			if version == tls.VersionTLS11 && strings.HasPrefix(method, "teap") {
				continue // RFC 7170 asks for TLS 1.2
			}
			for _, fragment := range []int{1020, 100} {
				t.Run(fmt.Sprintf("%s %s %d", tls.VersionName(version), method, fragment), func(t *testing.T) {
					w.fragment = fragment
					a, s := w.asker(), w.peer(t, method)
					s.MinTLS, s.MaxTLS, s.Binding = version, version, true
					answer, p, err := w.run(t, a, s)
					if err != nil || !answer.OK() {
						t.Fatalf("%v: %s %s\n%v", err, a.code, a.detail, a.record.Steps)
					}
					if a.name != personName || a.method != method || a.settled != 1 {
						t.Errorf("proved %q by %s, settled %d times", a.name, a.method, a.settled)
					}
					size := map[string]int{"eap-md5": 0, "eap-gtc": 0, "eap-mschapv2": 32}
					want, bare := size[method]
					if !bare {
						want = 64
					}
					if len(answer.MSK) != want || !bytes.Equal(answer.MSK, p.Result.MSK) {
						t.Errorf("keys differ:\n%x\n%x", answer.MSK, p.Result.MSK)
					}
					if !bare && a.record.TLS != tls.VersionName(version) {
						t.Errorf("recorded %s", a.record.TLS)
					}
				})
			}
		}
	}
}

func TestWrongPassword(t *testing.T) {
	w := newWorld(t)
	for _, method := range every {
		if strings.HasSuffix(method, "tls") {
			continue
		}
		a, s := w.asker(), w.peer(t, method)
		s.Password = "wrong"
		answer, p, err := w.run(t, a, s)
		if err == nil || !answer.End || answer.OK() || a.code != reason.PasswordWrong || a.settled != 0 ||
			answer.MSK != nil || p.Result.Protected {
			t.Errorf("%s: ended %v ok %v, %s, settled %d: %v", method, answer.End, answer.OK(), a.code, a.settled, err)
		}
	}
}

func TestAnExpiredPasswordIsChanged(t *testing.T) {
	for _, method := range []string{"peap-mschapv2", "teap-mschapv2", "eap-mschapv2"} {
		for next, want := range map[string]reason.Code{nextPassword: reason.OK, "another": reason.PasswordRejected,
			"": reason.PasswordExpired} {
			w := newWorld(t)
			a, s := w.asker(), w.peer(t, method)
			a.expired, s.NewPassword = true, next
			answer, _, _ := w.run(t, a, s)
			if answer.OK() != (want == reason.OK) || a.code != want {
				t.Errorf("%s, to %q: success %v, %s; wanted %s", method, next, answer.OK(), a.code, want)
			}
		}
	}
	w := newWorld(t) // nobody changes a password that has not expired
	a, s := w.asker(), w.peer(t, "peap-mschapv2")
	s.Password, s.NewPassword = "wrong", nextPassword
	if answer, _, _ := w.run(t, a, s); answer.OK() || a.changed {
		t.Error("a password that has not expired is changed")
	}
}

func TestPolicyRefusesUnderProtection(t *testing.T) {
	w := newWorld(t)
	for _, method := range every {
		a := w.asker()
		a.admit = false
		answer, p, err := w.run(t, a, w.peer(t, method))
		if err == nil || answer.OK() || a.settled != 1 || p.Result.Protected {
			t.Errorf("%s: ok %v, settled %d, told success %v", method, answer.OK(), a.settled, p.Result.Protected)
		}
	}
}

func TestResumption(t *testing.T) {
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		for _, method := range []string{"eap-tls", "peap-mschapv2", "ttls-pap", "teap-mschapv2"} {
			w := newWorld(t)
			s := w.peer(t, method)
			s.MinTLS, s.MaxTLS, s.Binding, s.Sessions = version, version, true, tls.NewLRUClientSessionCache(1)
			for round := range 3 {
				a := w.asker()
				answer, p, err := w.run(t, a, s)
				if err != nil || !answer.OK() || a.name != personName || a.method != method || a.settled != 1 ||
					!bytes.Equal(answer.MSK, p.Result.MSK) {
					t.Fatalf("%s %s round %d: %v ok %v %s %s %q", tls.VersionName(version), method, round, err,
						answer.OK(), a.code, a.detail, a.name)
				}
				if a.record.Resumed != (round > 0) || p.Result.Resumed != (round > 0) {
					t.Errorf("%s %s round %d: resumed %v, the peer says %v", tls.VersionName(version), method, round,
						a.record.Resumed, p.Result.Resumed)
				}
			}
			if method == "eap-tls" {
				continue
			}
			a := w.asker()
			a.resumable = false
			if answer, _, err := w.run(t, a, s); err != nil || !answer.OK() || a.record.Resumed {
				t.Errorf("%s: what no longer holds is resumed: %v", method, err)
			}
			w.settings.Methods = []string{"peap-gtc", "ttls-chap", "teap-pap"}
			if s.Method = map[string]string{"peap-mschapv2": "peap-gtc", "ttls-pap": "ttls-chap",
				"teap-mschapv2": "teap-pap"}[method]; s.Method != "" {
				a = w.asker()
				if answer, _, err := w.run(t, a, s); err != nil || !answer.OK() || a.record.Resumed {
					t.Errorf("%s: a session by a method that is no longer allowed was resumed (%v): %v", method,
						a.record.Resumed, err)
				}
			}
		}
	}
}

func TestAFailedConversationCannotBeResumed(t *testing.T) {
	w := newWorld(t)
	s := w.peer(t, "peap-mschapv2")
	s.Sessions, s.Password = tls.NewLRUClientSessionCache(1), "wrong"
	w.run(t, w.asker(), s)
	a := w.asker()
	if answer, _, _ := w.run(t, a, s); answer.OK() || a.record.Resumed {
		t.Error("a ticket of a failed conversation is good for something")
	}
}

func TestNegotiation(t *testing.T) {
	w := newWorld(t)
	w.settings.Methods = []string{"eap-tls", "ttls-pap", "peap-mschapv2"}
	a := w.asker()
	if answer, _, err := w.run(t, a, w.peer(t, "peap-mschapv2")); err != nil || !answer.OK() {
		t.Errorf("PEAP by Nak: %v %s", err, a.code)
	}
	a = w.asker()
	if answer, _, _ := w.run(t, a, w.peer(t, "teap-pap")); answer.OK() || a.code != reason.EAPNoCommonMethod ||
		a.detail != "TEAP" {
		t.Errorf("TEAP is not allowed: %s %q", a.code, a.detail)
	}
	a = w.asker()
	if answer, _, _ := w.run(t, a, w.peer(t, "ttls-chap")); answer.OK() || a.code != reason.EAPNoCommonMethod {
		t.Errorf("CHAP inside TTLS is not allowed: %s %q", a.code, a.detail)
	}
	a = w.asker()
	if answer, _, _ := w.run(t, a, w.peer(t, "peap-gtc")); answer.OK() || a.code != reason.EAPNoCommonMethod ||
		a.detail != "EAP-GTC" {
		t.Errorf("GTC inside PEAP is not allowed: %s %q", a.code, a.detail)
	}
}

func TestWhoseFaultItIs(t *testing.T) {
	w := newWorld(t)
	other := newAuthority(t, "Another authority")
	cases := map[string]struct {
		change func(s *supplicant.Settings)
		want   reason.Code
	}{
		"the laptop trusts another authority": {func(s *supplicant.Settings) { s.Roots = other.pool },
			reason.TLSDistrust},
		"the laptop expects another name": {func(s *supplicant.Settings) { s.ServerName = "radius.example.org" },
			reason.TLSDistrust},
		"the laptop's clock is wrong": {func(s *supplicant.Settings) {
			s.Now = func() time.Time {
				return time.Now().AddDate(-2, 0, 0)
			}
		}, reason.TLSDistrust},
		"no certificate": {func(s *supplicant.Settings) { s.Certificate = nil },
			reason.CertificateMissing},
		"a certificate from elsewhere": {func(s *supplicant.Settings) {
			s.Certificate = other.issue(t, personName, x509.ExtKeyUsageClientAuth)
		}, reason.CertificateUntrusted},
		"a server's certificate": {func(s *supplicant.Settings) {
			s.Certificate = w.authority.issue(t, personName, x509.ExtKeyUsageServerAuth)
		}, reason.CertificateUntrusted},
		"too old a TLS": {func(s *supplicant.Settings) { s.MinTLS, s.MaxTLS = tls.VersionTLS10, tls.VersionTLS10 },
			reason.TLSNoCommon},
	}
	w.settings.TLS.MinVersion = tls.VersionTLS12
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		w.settings.TLS.MaxVersion = version
		for name, c := range cases {
			a, s := w.asker(), w.peer(t, "eap-tls")
			c.change(s)
			if answer, _, err := w.run(t, a, s); err == nil || answer.OK() || a.code != c.want {
				t.Errorf("%s, %s: %s %q: %v", name, tls.VersionName(version), a.code, a.detail, err)
			}
		}
	}
	w.settings.TLS = nil
	a := w.asker()
	if answer, _, _ := w.run(t, a, w.peer(t, "ttls-pap")); answer.OK() || a.code != reason.TLSNoCertificate {
		t.Errorf("without a server certificate: %s", a.code)
	}
}

func TestTEAPProvesTwo(t *testing.T) {
	w := newWorld(t)
	w.settings.Machine = ProveBoth
	for _, method := range []string{"teap-tls", "teap-mschapv2", "teap-pap"} {
		a, s := w.asker(), w.peer(t, method)
		s.Machine, s.MachineIdentity = w.authority.issue(t, "pc17.lanternferries.example", x509.ExtKeyUsageClientAuth),
			"host/pc17.lanternferries.example"
		w.settings.Methods = []string{method, "teap-tls"}
		answer, p, err := w.run(t, a, s)
		if err != nil || !answer.OK() || a.name != personName || a.computer != "pc17.lanternferries.example" ||
			a.settled != 1 || !bytes.Equal(answer.MSK, p.Result.MSK) {
			t.Errorf("%s: %v ok %v, %q on %q, %s %s\n%v", method, err, answer.OK(), a.name, a.computer, a.code,
				a.detail, a.record.Steps)
		}
		a = w.asker()
		s.Machine, s.MachineIdentity = nil, ""
		if answer, _, err := w.run(t, a, s); err != nil || !answer.OK() || a.name != personName || a.computer != "" {
			t.Errorf("%s without a computer: %v ok %v %q %q %s", method, err, answer.OK(), a.name, a.computer, a.code)
		}
		a = w.asker()
		s.Identity, s.Machine = "", w.authority.issue(t, "pc17.lanternferries.example", x509.ExtKeyUsageClientAuth)
		s.MachineIdentity = "host/pc17.lanternferries.example"
		s.Outer = "host/pc17"
		if answer, _, err := w.run(t, a, s); err != nil || !answer.OK() || a.computer == "" {
			t.Errorf("%s at the login screen: %v ok %v %q %s %s\n%v", method, err, answer.OK(), a.computer, a.code,
				a.detail, a.record.Steps)
		}
		a = w.asker()
		s.Identity, s.Machine = personName, newAuthority(t, "Another").issue(t, "pc17", x509.ExtKeyUsageClientAuth)
		if answer, _, _ := w.run(t, a, s); answer.OK() {
			t.Errorf("%s: a computer of another authority is taken", method)
		}
	}
}

func TestCryptoBindingIsRequired(t *testing.T) {
	w := newWorld(t)
	w.settings.Binding = BindingRequire
	s := w.peer(t, "peap-mschapv2")
	a := w.asker()
	if answer, _, _ := w.run(t, a, s); answer.OK() || a.code != reason.EAPBinding {
		t.Errorf("a peer without crypto-binding is taken: %s", a.code)
	}
	s.Binding = true
	if answer, _, err := w.run(t, w.asker(), s); !answer.OK() {
		t.Errorf("a peer with crypto-binding is not: %v", err)
	}
}

func TestALongChainIsRefused(t *testing.T) {
	w := newWorld(t)
	a, s := w.asker(), w.peer(t, "eap-tls")
	for len(s.Certificate.Certificate) < 200 {
		s.Certificate.Certificate = append(s.Certificate.Certificate, s.Certificate.Certificate[0])
	}
	if answer, _, err := w.run(t, a, s); answer.OK() || a.code != reason.EAPTooLong && a.code != reason.TLSFailed {
		t.Errorf("a chain of 100 kB: %s %s, %v", a.code, a.detail, err)
	}
}

// Conversations that are given up at every round leave nothing behind.
func TestAbandonedConversationsLeaveNoGoroutine(t *testing.T) {
	w := newWorld(t)
	before := runtime.NumGoroutine()
	var left atomic.Int64
	begun := int64(0)
	table := NewTable(Limits{1000, 1 << 30, 50 * time.Millisecond, 0, time.Second}, func(*Open[int]) { left.Add(1) })
	for rounds := range 12 {
		for _, method := range []string{"peap-mschapv2", "eap-tls", "teap-tls"} {
			c := New(w.settings, w.sessions, w.asker(), 200)
			table.Add(c, rounds, "np-wlan-1")
			p, _ := supplicant.New(w.peer(t, method))
			packet := p.Hello()
			for range rounds {
				answer := c.Take(context.Background(), packet)
				packet, _ = p.Respond(answer.Packet)
			}
			if !c.Over() { // some end before they can be left
				begun++
			}
			p.Close()
		}
	}
	for deadline := time.Now().Add(5 * time.Second); table.Len() > 0 && time.Now().Before(deadline); {
		time.Sleep(10 * time.Millisecond)
	}
	table.Close()
	if table.Len() > 0 || left.Load() != begun || begun < 25 {
		t.Errorf("%d are still open, %d of %d were given up", table.Len(), left.Load(), begun)
	}
	for deadline := time.Now().Add(5 * time.Second); runtime.NumGoroutine() > before && time.Now().Before(deadline); {
		time.Sleep(10 * time.Millisecond)
	}
	if now := runtime.NumGoroutine(); now > before {
		t.Errorf("%d goroutines before, %d after", before, now)
	}
}

func TestTheTableIsBounded(t *testing.T) {
	w := newWorld(t)
	given := 0
	table := NewTable(Limits{1000, 1 << 30, time.Minute, 0, time.Second}, func(*Open[int]) { given++ })
	defer table.Close()
	hello := eap.Packet{Code: eap.Response, Identifier: 1, Type: eap.Identity, Data: []byte("x")}.Encode()
	for i := range 100_000 {
		c := New(w.settings, w.sessions, w.asker(), 1020)
		c.Take(context.Background(), hello)
		table.Add(c, i, []string{"np-wlan-1", "sp-wlan-1"}[i%2])
	}
	if table.Len() != 1000 || given != 99_000 {
		t.Errorf("%d are open, %d were given up", table.Len(), given)
	}
}

// A flood behind one client leaves the conversations of others alone, and none holds more memory than all may.
func TestOneClientLeavesRoomForOthers(t *testing.T) {
	w := newWorld(t)
	table := NewTable(Limits{100, 100 * tunnelWeight, time.Minute, 0, time.Second}, func(*Open[int]) {})
	defer table.Close()
	begin := func(by string) *Open[int] {
		c := New(w.settings, w.sessions, w.asker(), 1020)
		p, _ := supplicant.New(w.peer(t, "peap-mschapv2"))
		defer p.Close()
		o := table.Add(c, 0, by)
		packet := p.Hello()
		for range 3 { // as far as a TLS handshake that waits for the peer
			answer := c.Take(context.Background(), packet)
			packet, _ = p.Respond(answer.Packet)
		}
		table.Weigh(o)
		return o
	}
	quiet := begin("sp-wlan-1")
	for range 300 {
		begin("np-wlan-1")
	}
	if table.Find(quiet.State[:]) != quiet {
		t.Error("a flood behind one client ended the conversation of another")
	}
	if n := table.Len(); n > 51 || n < 40 {
		t.Errorf("%d are open", n)
	}
	for i := range 300 {
		begin(fmt.Sprint("client ", i))
	}
	if table.weight > table.limits.Weight || table.Len() > table.limits.Open {
		t.Errorf("%d octets in %d conversations", table.weight, table.Len())
	}
	for _, o := range table.open {
		table.Remove(o)
		o.Close()
	}
	if table.weight != 0 || len(table.owners) != 0 || len(table.heavy) != 0 || table.order.Len() != 0 {
		t.Errorf("without any, %d octets of %d clients are counted", table.weight, len(table.owners))
	}
}

// A conversation whose last round ends while it is given up is left once: by the round, or by the table.
func TestAConversationIsLeftOnce(t *testing.T) {
	w := newWorld(t)
	for range 200 {
		var left atomic.Int32
		table := NewTable(Limits{10, 1 << 30, time.Minute, 0, time.Second}, func(*Open[int]) { left.Add(1) })
		c := New(w.settings, w.sessions, w.asker(), 1020)
		table.Add(c, 0, "np-wlan-1")
		c.Take(context.Background(), eap.Packet{Code: eap.Response, Identifier: 1, Type: eap.Identity,
			Data: []byte("x")}.Encode())
		done := make(chan struct{})
		go func() {
			defer close(done)
			if c.Take(context.Background(), []byte{2, 2, 0, 99}).End {
				left.Add(1)
			}
		}()
		table.Close()
		<-done
		if n := left.Load(); n != 1 {
			t.Fatalf("left %d times", n)
		}
	}
}

// Who has been told that it failed and goes away is not waited for as long as somebody who may be typing.
func TestWhoIsToldOfAFailureNeedNotAnswer(t *testing.T) {
	gone := make(chan string, 4)
	table := NewTable(Limits{10, 1 << 30, time.Hour, 0, 100 * time.Millisecond}, func(o *Open[string]) {
		gone <- o.Keep
	})
	defer table.Close()
	for _, password := range []string{"expired", "wrong"} {
		w := newWorld(t)
		a, s := w.asker(), w.peer(t, "eap-mschapv2")
		if a.expired = password == "expired"; !a.expired {
			s.Password = password
		}
		w.settings.Methods = []string{"eap-mschapv2"}
		peer, err := supplicant.New(s)
		if err != nil {
			t.Fatal(err)
		}
		o := table.Add(New(w.settings, w.sessions, a, 1020), password, "hh-vpn-1")
		out := peer.Hello()
		for a.code == "" {
			answer := o.Take(context.Background(), out)
			table.Weigh(o)
			if out, err = peer.Respond(answer.Packet); err != nil || answer.End {
				break
			}
		}
		if o.Over() || o.Parting() != (password == "wrong") {
			t.Errorf("%s: over %v, parting %v, %s", password, o.Over(), o.Parting(), a.code)
		}
	}
	select {
	case who := <-gone:
		if who != "wrong" || table.Len() != 1 {
			t.Errorf("given up was %s, %d are left", who, table.Len())
		}
	case <-time.After(10 * time.Second):
		t.Error("nobody is given up")
	}
}

func TestStates(t *testing.T) {
	table := NewTable(Limits{10, 1 << 30, time.Minute, 0, time.Second}, func(*Open[string]) {})
	defer table.Close()
	w := newWorld(t)
	one := table.Add(New(w.settings, w.sessions, w.asker(), 1020), "one", "np-wlan-1")
	two := table.Add(New(w.settings, w.sessions, w.asker(), 1020), "two", "np-wlan-1")
	if one.State == two.State || table.Find(one.State[:]) != one || table.Find(two.State[:]) != two {
		t.Error("states mix conversations up")
	}
	for _, state := range [][]byte{nil, {}, make([]byte, 16), one.State[:15], append(one.State[:], 0)} {
		if table.Find(state) != nil {
			t.Errorf("%x finds something", state)
		}
	}
	table.Remove(one)
	if table.Find(one.State[:]) != nil || table.Len() != 1 {
		t.Error("a removed conversation is found")
	}
}

// A peer that changes, repeats, drops and cuts packets at random never crashes the server, nor is it taken for
// somebody, unless it really sent a right password.
func TestHostilePeer(t *testing.T) {
	w := newWorld(t)
	random := rand.New(rand.NewPCG(1, 2))
	for i := range 1500 {
		method := every[i%len(every)]
		s := w.peer(t, method)
		s.Password, s.Certificate = "wrong", newAuthorityOnce(t).issue(t, personName, x509.ExtKeyUsageClientAuth)
		a := w.asker()
		c := New(w.settings, w.sessions, a, 300)
		p, _ := supplicant.New(s)
		packet := p.Hello()
		for range 60 {
			mangled := bytes.Clone(packet)
			switch random.IntN(6) {
			case 0:
				if len(mangled) > 0 {
					mangled[random.IntN(len(mangled))] ^= byte(1 << random.IntN(8))
				}
			case 1:
				mangled = mangled[:random.IntN(len(mangled)+1)]
			case 2:
				c.Take(context.Background(), mangled) // twice
			}
			answer := c.Take(context.Background(), mangled)
			if answer.OK() {
				t.Fatalf("%s: a hostile peer was taken for %q", method, a.name)
			}
			if answer.End || answer.Discard && random.IntN(2) == 0 {
				break
			}
			if answer.Packet != nil {
				if next, err := p.Respond(answer.Packet); err == nil && next != nil {
					packet = next
				}
			}
		}
		p.Close()
		c.Close()
	}
}

var other *authority

func newAuthorityOnce(t testing.TB) *authority {
	if other == nil {
		other = newAuthority(t, "Hostile authority")
	}
	return other
}

// FuzzConversation feeds octets that claim to be the rounds of a conversation, split at their own lengths.
func FuzzConversation(f *testing.F) {
	w := newWorld(f)
	for _, method := range every {
		p, _ := supplicant.New(w.peer(f, method))
		c := New(w.settings, w.sessions, w.asker(), 1020)
		var all []byte
		packet := p.Hello()
		for range 12 {
			all = append(append(all, byte(len(packet)>>8), byte(len(packet))), packet...)
			answer := c.Take(context.Background(), packet)
			var err error
			if packet, err = p.Respond(answer.Packet); err != nil || packet == nil {
				break
			}
		}
		c.Close()
		p.Close()
		f.Add(all)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		c := New(w.settings, w.sessions, w.asker(), 200)
		defer c.Close()
		for len(data) >= 2 {
			n := min(int(data[0])<<8|int(data[1]), len(data)-2)
			answer := c.Take(context.Background(), data[2:2+n])
			data = data[2+n:]
			if answer.End {
				return
			}
			if len(answer.Packet) > eap.MaxSize {
				t.Errorf("a packet of %d octets", len(answer.Packet))
			}
		}
	})
}
