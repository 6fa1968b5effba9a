package onward

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/radius"
)

func some(n int) (out []event) {
	for i := range n {
		out = append(out, ofAttempt(&store.Attempt{ID: ident.ID(i + 1), At: time.Now(), Verdict: "admitted",
			Client: "np-switch-1", Who: fmt.Sprint("p", i), Lane: "Wired"}))
	}
	return out
}

func TestFilesAreContinued(t *testing.T) {
	dir := t.TempDir()
	f := newFile(dir, "all", 1, 3)
	f.most = 2000
	for range 40 {
		if err := f.send(context.Background(), some(5)); err != nil {
			t.Fatal(err)
		}
	}
	list, err := f.earlier()
	if err != nil || len(list) != 2 {
		t.Errorf("%v, %v: three are kept, with the present one", list, err)
	}
	other, err := os.ReadDir(dir)
	if err != nil || len(other) > 3 {
		t.Errorf("%v, %v", other, err)
	}
	for _, one := range other {
		text, _ := os.ReadFile(filepath.Join(dir, one.Name()))
		if len(text) > 0 && text[len(text)-1] != '\n' || len(text) > 4000 {
			t.Errorf("%s has %d octets", one.Name(), len(text))
		}
	}
	// Files of another feed whose name begins alike are left alone.
	theirs := filepath.Join(dir, "all-the-rest.jsonl")
	if err := os.WriteFile(theirs, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for range 40 {
		f.send(context.Background(), some(5))
	}
	if _, err := os.Stat(theirs); err != nil {
		t.Error(err)
	}
	if err := newFile(filepath.Join(dir, "all-the-rest.jsonl"), "x", 1, 1).alive(); err == nil {
		t.Error("a directory that is a file is opened")
	}
}

// form is what a message looks like (RFC 5424 section 6), with our structured data.
var form = regexp.MustCompile(
	`^<\d{1,3}>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{6}Z \S{1,255} tollgated \d+ [a-z]{1,32} ` +
		`\[tollgate@32473( [A-Za-z]+="(\\[\\"\]]|[^\\"\]])*")*\] [^\x00-\x1f]*$`)

func messages(a *store.Attempt) [][]byte {
	s := newSyslog("udp", "127.0.0.1:514", nil, 10)
	e := ofAttempt(a)
	return [][]byte{s.message(nil, &e, maxDatagram), s.message(nil, &e, maxMessage)}
}

func TestMessagesKeepTheirForm(t *testing.T) {
	long := strings.Repeat("ü]\"\\", 3000)
	for _, text := range []string{"k.nance", "", "a\nb\x00c", "<34>1 - forged", long, "\xff\xfe", "x] y"} {
		for _, m := range messages(&store.Attempt{At: time.Now(), Verdict: "refused", Who: text, Sent: text + "!",
			Display: text, Client: text, Lane: text, Policy: text, Pass: text, Reason: text}) {
			if !form.Match(m) || !utf8.Valid(m) || len(m) > maxMessage {
				t.Errorf("%.40q gives %d octets: %.300q", text, len(m), m)
			}
		}
	}
	if m := messages(&store.Attempt{At: time.Now(), Who: long, Client: long})[0]; len(m) > maxDatagram {
		t.Errorf("a datagram of %d octets", len(m))
	}
}

func FuzzMessage(f *testing.F) {
	f.Add("k.nance", "Wired", "x\"y")
	f.Fuzz(func(t *testing.T, who, lane, sent string) {
		for _, m := range messages(&store.Attempt{At: time.Unix(1_800_000_000, 0), Who: who, Lane: lane, Sent: sent,
			Client: who + lane}) {
			if !form.Match(m) || len(m) > maxMessage {
				t.Fatalf("%q", m)
			}
		}
	})
}

func TestWhatAFeedSelects(t *testing.T) {
	e := ofAttempt(&store.Attempt{Verdict: "refused", Client: "np-switch-1", Who: "k.nance", Lane: "Wired"})
	for _, c := range []struct {
		feed config.Feed
		want bool
	}{{config.Feed{}, true}, {config.Feed{Verdict: "refused", Client: "np-*", Who: "*nance", Lane: "wired"}, true},
		{config.Feed{Verdict: "admitted"}, false}, {config.Feed{Client: "np"}, false}, {config.Feed{Who: "k"}, false}} {
		f := newFilter(&c.feed)
		if f.fits(&e) != c.want {
			t.Errorf("%+v selects it: %v", c.feed, !c.want)
		}
	}
}

// One record that a server never takes does not keep the others from it for ever, and no other is given up.
func TestARecordThatIsNotTaken(t *testing.T) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	key := radius.NewKey([]byte("far"))
	var mu sync.Mutex
	taken, down := map[string]int{}, true
	go func() {
		buf := make([]byte, radius.MaxSize)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			p, err := radius.Decode(buf[:n])
			session := string(p.Get(radius.AcctSessionID))
			mu.Lock()
			mute := err != nil || down || session == "poison"
			if !mute {
				taken[session]++
			}
			mu.Unlock()
			if mute {
				continue
			}
			if p.Code == radius.StatusServer {
				reply, _ := radius.NewReply(nil, radius.AccessAccept, p.Identifier).SignReply(key, p.Authenticator)
				conn.WriteTo(reply, from)
				continue
			}
			if !key.VerifyFixed(&p) {
				continue
			}
			reply, _ := radius.NewRequest(radius.AccountingResponse, p.Identifier, [16]byte{}, false).SignReply(key,
				p.Authenticator)
			conn.WriteTo(reply, from)
		}
	}()
	at := conn.LocalAddr().(*net.UDPAddr).AddrPort()
	server := upstream.Open(upstream.Settings{Name: "far", Secret: "far", Timeout: 200 * time.Millisecond, Tries: 1,
		Dead: time.Millisecond, Members: []upstream.Settled{{Address: at, Accounting: at}}})
	defer server.Close()
	var list []event
	for i, session := range []string{"s-1", "poison", "s-2"} {
		raw := append([]byte{radius.AcctSessionID, byte(2 + len(session))}, session...)
		list = append(list, event{id: ident.ID(i + 1), accounted: &store.Accounted{At: time.Now(), To: "r",
			Raw: raw}})
	}
	f := &forwarding{server: server}
	for range giveUpAfter + 2 { // nobody answers: nothing is given up
		if f.send(context.Background(), list) == nil {
			t.Fatal("it was taken by nobody")
		}
	}
	mu.Lock()
	down = false
	mu.Unlock()
	tries := 0
	for ; f.send(context.Background(), list) != nil && tries < 50; tries++ {
		time.Sleep(2 * time.Millisecond)
	}
	mu.Lock()
	defer mu.Unlock()
	if f.given != 1 || taken["s-1"] != 1 || taken["s-2"] != 1 {
		t.Errorf("%d given up after %d tries, taken %v", f.given, tries, taken)
	}
	if !bytes.Equal(list[0].line(nil), list[0].line(nil)) || forwards(&list[0], "other") || !forwards(&list[0], "r") {
		t.Error("it goes elsewhere")
	}
}
