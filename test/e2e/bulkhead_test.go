package e2e

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/radius"
	"tollgate.example/key/internal/wire/tacacs"
)

// silent takes connections and says nothing on them.
func silent(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	var held []net.Conn
	t.Cleanup(func() {
		l.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range held {
			c.Close()
		}
	})
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			held = append(held, c)
			mu.Unlock()
		}
	}()
	return l.Addr().String()
}

// offer sends requests at a rate for a time, over sockets of its own, and counts the answers by their code.
func (w *world) offer(rate int, lasting time.Duration, build func(b *radius.Builder, authenticator [16]byte)) (
	sent int, answered map[radius.Code]int) {
	w.t.Helper()
	const sockets = 32
	key, counts := radius.NewKey([]byte(secret)), [256]atomic.Int64{}
	var conns []net.Conn
	var readers sync.WaitGroup
	for range sockets {
		c, err := net.Dial("udp", w.radius)
		if err != nil {
			w.t.Fatal(err)
		}
		conns = append(conns, c)
		readers.Go(func() {
			buf := make([]byte, radius.MaxSize)
			for {
				n, err := c.Read(buf)
				if err != nil {
					return
				}
				if n > 0 {
					counts[buf[0]].Add(1)
				}
			}
		})
	}
	begun := time.Now()
	for time.Since(begun) < lasting {
		for due := int(time.Since(begun).Seconds() * float64(rate)); sent < due; sent++ {
			var authenticator [16]byte
			rand.Read(authenticator[:8])
			binary.BigEndian.PutUint64(authenticator[8:], uint64(sent))
			b := radius.NewRequest(radius.AccessRequest, byte(sent/sockets), authenticator, true)
			build(b, authenticator)
			data, err := b.SignRequest(key)
			if err != nil {
				w.t.Fatal(err)
			}
			conns[sent%sockets].Write(data)
		}
		time.Sleep(2 * time.Millisecond)
	}
	time.Sleep(time.Second)
	for _, c := range conns {
		c.Close()
	}
	readers.Wait()
	answered = map[radius.Code]int{}
	for code := range counts {
		if n := int(counts[code].Load()); n > 0 {
			answered[radius.Code(code)] = n
		}
	}
	return sent, answered
}

// While a directory takes connections and is silent, everybody who does not need it gets in as before.
func TestOneHangingDirectoryLeavesTheOthersAlone(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.do(http.MethodPost, "/directories", apitype.DirectoryInput{BindPassword: "x",
		DirectoryFields: apitype.DirectoryFields{Name: "SILENT", Kind: "generic", Servers: []string{silent(t)},
			TLS: "plain", BindName: "cn=x", Base: "dc=lanternferries,dc=example", TimeoutMillis: 3000}}, nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "slow",
		Forms:  []config.Form{{Kind: config.Suffix, Value: "slow.example"}},
		Lookup: []config.Lookup{{Store: "SILENT", Unreachable: config.Refuse}}}, nil)
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Devices", When: "port.type is Wireless-802.11",
		Methods: []string{"mac"}, Policies: []*config.Policy{{Name: "Known", Enabled: true, When: "always",
			Outcome: config.Admit, Pass: "crew"}}}, nil)
	w.do(http.MethodPost, "/devices", apitype.DeviceFields{Name: "kiosk", Match: "02-00-5E-10-00-07", Enabled: true},
		nil)
	w.publish()
	local := func(b *radius.Builder, authenticator [16]byte) {
		b.AddText(radius.UserName, "k.nance")
		b.AddInteger(radius.NASPortType, 15)
		w.hide(b, authenticator, "gangway-and-rope")
	}
	bypass := func(b *radius.Builder, authenticator [16]byte) {
		b.AddText(radius.UserName, "02005e100007")
		b.AddText(radius.CallingStationID, "02-00-5E-10-00-07")
		b.AddInteger(radius.NASPortType, 19)
		w.hide(b, authenticator, "02005e100007")
	}
	measure := func() (rates [2]float64) {
		for i, build := range []func(*radius.Builder, [16]byte){local, bypass} {
			sent, answered := w.offer(500, 2*time.Second, build)
			rates[i] = float64(answered[radius.AccessAccept]) / float64(sent)
		}
		return rates
	}
	before := measure()
	var flood sync.WaitGroup
	var said map[radius.Code]int
	flood.Go(func() {
		_, said = w.offer(2000, 9*time.Second, func(b *radius.Builder, authenticator [16]byte) {
			b.AddText(radius.UserName, fmt.Sprintf("p%d@slow.example", time.Now().UnixNano()))
			b.AddInteger(radius.NASPortType, 15)
			w.hide(b, authenticator, "whatever")
		})
	})
	time.Sleep(2 * time.Second) // the places of those who wait for it are taken by now
	during := measure()
	flood.Wait()
	t.Logf("admitted of those who asked, local and MAC bypass: %.3f before, %.3f while a directory hangs; there: %v",
		before, during, said)
	for i := range before {
		if before[i] < 0.9 || during[i] < 0.9*before[i] {
			t.Errorf("before %.2f, during %.2f", before[i], during[i])
		}
	}
	if said[radius.AccessAccept] > 0 || said[radius.AccessReject] == 0 {
		t.Errorf("whoever needs the directory gets %v", said)
	}
	if a := w.attempts("reason=directory.unreachable", 1)[0]; !strings.Contains(a.Sentence,
		"no server has answered since") {
		t.Errorf("the refusal says %q", a.Sentence)
	}
}

// hide adds a User-Password.
func (w *world) hide(b *radius.Builder, authenticator [16]byte, clear string) {
	w.t.Helper()
	hidden, err := radius.NewKey([]byte(secret)).HidePassword([]byte(clear), authenticator)
	if err != nil {
		w.t.Fatal(err)
	}
	b.Add(radius.UserPassword, hidden)
}

// Whoever can reach the port of TACACS+ and proves nothing takes few places, and keeps nobody out.
func TestStrangersTakeFewConnections(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	var held []net.Conn
	defer func() {
		for _, c := range held {
			c.Close()
		}
	}()
	closed := 0
	for range 400 {
		c, err := net.Dial("tcp", w.tacacs)
		if err != nil {
			t.Fatal(err)
		}
		held = append(held, c)
	}
	time.Sleep(300 * time.Millisecond)
	for _, c := range held {
		c.SetReadDeadline(time.Now().Add(time.Millisecond))
		if _, err := c.Read(make([]byte, 1)); err != nil && !strings.Contains(err.Error(), "timeout") {
			closed++
		}
	}
	if closed < 140 || closed > 150 {
		t.Errorf("%d of 400 connections of one address were closed, on which nothing was proven", closed)
	}
	if c := w.contact(netip.MustParseAddr("127.0.0.1"), "busy"); !strings.Contains(c.Detail, "nothing was proven yet") {
		t.Errorf("%+v", c)
	}
	// One that was let in proves itself, and is a stranger no longer: its place is free for another.
	proven := &wire{t, held[0]}
	proven.SetDeadline(time.Time{})
	proven.send(header(tacacs.Authorization, 1, 1, tacacs.Single), (&tacacs.Request{Method: tacacs.MethodTACACS,
		Level: 1, Kind: tacacs.ASCII, Service: tacacs.ServiceLogin, User: []byte("ann"),
		Args: [][]byte{[]byte("service=shell"), []byte("cmd=")}}).Append(nil), gearSecret)
	if _, body := proven.reply(gearSecret); len(body) == 0 || tacacs.AuthorStatus(body[0]) != tacacs.AuthorAdd {
		t.Fatalf("a connection among strangers is answered %x", body)
	}
	c, err := net.Dial("tcp", w.tacacs)
	if err != nil {
		t.Fatal(err)
	}
	held = append(held, c)
	c.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
	if _, err := c.Read(make([]byte, 1)); err == nil || !strings.Contains(err.Error(), "timeout") {
		t.Errorf("after that the next is not taken: %v", err)
	}
}
