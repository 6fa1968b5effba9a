package e2e

import (
	"context"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/wire/tacacs"
)

// None of these crashes anything, confuses two people or is taken for something else; each is answered as RFC 8907
// says, or the connection ends, and the console shows who sent it.
func TestHostileTACACS(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	shell := (&tacacs.Request{Method: tacacs.MethodTACACS, User: []byte("ann"), Args: [][]byte{[]byte("service=shell"),
		[]byte("cmd=")}}).Append(nil)
	record := (&tacacs.Record{Flags: tacacs.FlagStart, Request: tacacs.Request{User: []byte("ann"),
		Args: [][]byte{[]byte("task_id=1")}}}).Append(nil)
	for _, c := range []struct {
		name string
		do   func(c *wire)
		kind tacacs.Type // of the error that comes, 0 for the end of the connection
	}{
		{"another major version", func(c *wire) { c.Write([]byte{0xb0, 1, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0}) }, 0},
		{"a body of a megabyte", func(c *wire) {
			c.Write(bigLength([]byte{0xc0, 2, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0}, 1<<20))
		}, tacacs.Authorization},
		{"garbage behind the header", func(c *wire) {
			c.send(header(tacacs.Authorization, 1, 1, 0), []byte("garbage that is no body at all"), gearSecret)
		}, tacacs.Authorization},
		{"lengths past the body", func(c *wire) {
			c.send(header(tacacs.Authorization, 1, 1, 0), append([]byte(nil), shell[:len(shell)-3]...), gearSecret)
		}, tacacs.Authorization},
		{"an empty body", func(c *wire) { c.send(header(tacacs.Authentication, 1, 1, 0), nil, gearSecret) },
			tacacs.Authentication},
		{"an even sequence number", func(c *wire) { c.send(header(tacacs.Authorization, 2, 1, 0), shell, gearSecret) },
			tacacs.Authorization},
		{"a session that never began", func(c *wire) {
			c.send(header(tacacs.Authentication, 3, 1, 0), (&tacacs.Continue{}).Append(nil), gearSecret)
		}, tacacs.Authentication},
		{"no start, no stop", func(c *wire) {
			c.send(header(tacacs.Accounting, 1, 1, 0), append([]byte{0}, record[1:]...), gearSecret)
		}, tacacs.Accounting},
		{"an old way to ask for a password", func(c *wire) {
			c.send(header(tacacs.Authentication, 1, 1, 0), (&tacacs.Start{Action: tacacs.SendAuth, Kind: tacacs.PAP,
				User: []byte("ann")}).Append(nil), gearSecret)
		}, tacacs.Authentication},
		{"half a header", func(c *wire) { c.Write([]byte{0xc0, 2, 1}); c.Close() }, 0},
	} {
		t.Run(strings.ReplaceAll(c.name, " ", "-"), func(t *testing.T) {
			conn := w.wire()
			conn.t = t
			c.do(conn)
			if c.name == "half a header" {
				return
			}
			h, body := conn.reply(gearSecret)
			if c.kind != 0 && (h.Type != c.kind || !isError(c.kind, body)) {
				t.Errorf("answered %+v %x", h, body)
			}
			if c.kind == 0 && body != nil || !conn.over() {
				t.Errorf("answered %+v %x, or the connection goes on", h, body)
			}
		})
	}
	// What type of packet it is cannot be told: the same header comes back, one further, and nothing behind it (RFC
	// 8907 section 4.4).
	unknown, back := w.wire(), [tacacs.HeaderSize]byte{}
	unknown.Write([]byte{0xc0, 9, 1, 0, 1, 2, 3, 4, 0, 0, 0, 8, 1, 2, 3, 4, 5, 6, 7, 8})
	unknown.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := io.ReadFull(unknown, back[:]); err != nil || back != [tacacs.HeaderSize]byte{0xc0, 9, 2, 0, 1, 2, 3,
		4} || !unknown.over() {
		t.Errorf("an unknown type is answered with %x (%v), or the connection goes on", back, err)
	}
	// Arguments that are none are refused, not left to the device.
	for _, args := range []string{"service=shell\x00cmd=sh\now", "service=shell\x00cmd", "service=shell\x00=x"} {
		q := tacacs.Request{Method: tacacs.MethodTACACS, User: []byte("ann")}
		for _, a := range strings.Split(args, "\x00") {
			q.Args = append(q.Args, []byte(a))
		}
		reply, err := w.device(false).Authorize(context.Background(), q)
		if err != nil || reply.Status != tacacs.AuthorFail {
			t.Errorf("%q: %s, %v", args, reply.Status, err)
		}
	}
	long := tacacs.Request{Method: tacacs.MethodTACACS, User: []byte("ann"), Args: [][]byte{[]byte("service=shell"),
		[]byte("cmd=show")}}
	for range 30 {
		long.Args = append(long.Args, []byte("cmd-arg="+strings.Repeat("x", 200)))
	}
	if reply, err := w.device(false).Authorize(context.Background(), long); err != nil ||
		reply.Status != tacacs.AuthorFail {
		t.Errorf("a command of 6,000 octets: %s, %v", reply.Status, err)
	}
	w.attempts("reason=argument.malformed", 4)
	if reply, err := w.device(false).Authenticate(context.Background(), tacacs.Start{Action: tacacs.Login,
		Kind: tacacs.ASCII, User: []byte("ann")}, func(tacacs.AuthenReply) (string, bool) {
		return strings.Repeat("x", 60_000), false
	}); err != nil || reply.Status != tacacs.AuthenError {
		t.Errorf("a password of 60,000 octets: %s, %v", reply.Status, err)
	}
	w.asks(w.device(true), trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD") // it still serves
	w.contact(netip.MustParseAddr("127.0.0.1"), "tacacs-malformed")
}

func TestSequenceAndSessionsOfTACACS(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	typed := (&tacacs.Continue{Message: []byte("rope-and-anchor")}).Append(nil)
	// The same session on two connections is two sessions: each has its own person.
	ann, con := w.wire(), w.wire()
	ann.send(header(tacacs.Authentication, 1, 42, tacacs.Single), asciiStart("ann"), gearSecret)
	con.send(header(tacacs.Authentication, 1, 42, tacacs.Single), asciiStart("con"), gearSecret)
	ann.reply(gearSecret)
	con.reply(gearSecret)
	con.send(header(tacacs.Authentication, 3, 42, 0), typed, gearSecret)
	ann.send(header(tacacs.Authentication, 3, 42, 0), typed, gearSecret)
	if _, body := con.reply(gearSecret); tacacs.AuthenStatus(body[0]) != tacacs.AuthenFail {
		t.Errorf("con, with the password of ann, gets %x", body)
	}
	if h, body := ann.reply(gearSecret); tacacs.AuthenStatus(body[0]) != tacacs.AuthenPass ||
		h.Flags&tacacs.Single == 0 || h.Seq != 4 {
		t.Errorf("ann gets %+v %x", h, body)
	}
	// A number that was used, and a second beginning, end the session.
	for _, again := range []struct {
		seq  byte
		body []byte
	}{{5, typed}, {1, asciiStart("lou")}} {
		c := w.wire()
		c.send(header(tacacs.Authentication, 1, 7, tacacs.Single), asciiStart("ann"), gearSecret)
		c.reply(gearSecret)
		c.send(header(tacacs.Authentication, again.seq, 7, 0), again.body, gearSecret)
		if _, body := c.reply(gearSecret); !isError(tacacs.Authentication, body) || !c.over() {
			t.Errorf("number %d: %x, or the connection goes on", again.seq, body)
		}
	}
	// Many sessions at once on one connection, in any order.
	c := w.wire()
	for id := uint32(100); id < 200; id++ {
		c.send(header(tacacs.Authentication, 1, id, tacacs.Single), asciiStart("ann"), gearSecret)
	}
	for range 100 {
		if h, body := c.reply(gearSecret); tacacs.AuthenStatus(body[0]) != tacacs.AuthenGetPass || h.Session < 100 {
			t.Fatalf("%+v %x", h, body)
		}
	}
	for id := uint32(199); id >= 100; id-- {
		c.send(header(tacacs.Authentication, 3, id, 0), typed, gearSecret)
	}
	for range 100 {
		if _, body := c.reply(gearSecret); tacacs.AuthenStatus(body[0]) != tacacs.AuthenPass {
			t.Fatalf("%x", body)
		}
	}
	// A connection for one session ends with it.
	one := w.wire()
	one.send(header(tacacs.Authentication, 1, 1, 0), asciiStart("ann"), gearSecret)
	one.reply(gearSecret)
	one.send(header(tacacs.Authentication, 3, 1, 0), typed, gearSecret)
	if _, body := one.reply(gearSecret); tacacs.AuthenStatus(body[0]) != tacacs.AuthenPass || !one.over() {
		t.Error("the connection goes on after its only session")
	}
	// Dialogues that are left half-way hold nobody up, and are recorded when their connection ends.
	var all sync.WaitGroup
	open := make([]*wire, 100)
	for i := range open {
		all.Go(func() {
			open[i] = w.wire()
			open[i].send(header(tacacs.Authentication, 1, uint32(i), 0), asciiStart("lou"), gearSecret)
			open[i].reply(gearSecret)
		})
	}
	all.Wait()
	begun := time.Now()
	w.asks(w.device(true), trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor"}, "PASS")
	if took := time.Since(begun); took > 5*time.Second {
		t.Errorf("a hundred half-open dialogues make a sign-in take %s", took)
	}
	for _, c := range open {
		c.Close()
	}
	w.attempts("reason=dialogue.aborted&user=lou", 100)
}

// Random octets in and behind good headers, for a while.
func TestRandomTACACS(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	r := rand.New(rand.NewPCG(5, 5))
	for range 150 {
		c := w.wire()
		for range 1 + r.IntN(3) {
			body := make([]byte, r.IntN(60))
			for i := range body {
				body[i] = byte(r.Uint32())
				if r.IntN(3) > 0 {
					body[i] %= 8
				}
			}
			c.SetWriteDeadline(time.Now().Add(time.Second))
			c.Write(header(tacacs.Type(1+r.IntN(3)), byte(1+2*r.IntN(3)), r.Uint32N(3), byte(r.IntN(2)*4)).Packet(body,
				[]byte(gearSecret)))
		}
		c.Close()
	}
	w.asks(w.device(true), trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
}

// Whoever sends a packet drop by drop is waited for 10 s, not longer, and holds nobody up.
func TestSlowTACACS(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	begun := time.Now()
	slow := make([]*wire, 50)
	for i := range slow {
		slow[i] = w.wire()
		h := header(tacacs.Authorization, 1, uint32(i), 0)
		h.Length = 60_000
		slow[i].Write(append(h.Append(nil), 1, 2, 3))
	}
	w.asks(w.device(false), trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	if took := time.Since(begun); took > 5*time.Second {
		t.Errorf("beside slow clients a question takes %s", took)
	}
	for n := 0; time.Since(begun) < 8*time.Second; n++ { // what drips in does not buy time
		for _, c := range slow {
			c.Write([]byte{byte(n)})
		}
		time.Sleep(time.Second)
	}
	for _, c := range slow {
		c.SetReadDeadline(begun.Add(13 * time.Second))
		_, err := io.Copy(io.Discard, c)
		if ne, ok := err.(net.Error); ok && ne.Timeout() {
			t.Fatal("a connection that drips goes on after 13 s")
		}
	}
	if took := time.Since(begun); took < 9*time.Second {
		t.Errorf("a slow client was waited for %s only", took)
	}
	w.contact(netip.MustParseAddr("127.0.0.1"), "tacacs-malformed")
}
