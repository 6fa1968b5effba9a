package e2e

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/http"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	front "tollgate.example/key/internal/front/tacacs"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/tacacs"
)

const gearSecret = "mooring-line-and-anchor"

// gear configures one client that speaks TACACS+, people with levels and command lists, and publishes.
func (w *world) gear() {
	w.t.Helper()
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, TACACSSecret: gearSecret,
		ClientFields: apitype.ClientFields{Name: "hh-router-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require", Tags: map[string]string{"kind": "router"}}}, nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "here", Forms: []config.Form{{Kind: config.Bare},
		{Kind: config.Suffix, Value: "lanternferries.example"}, {Kind: config.Prefix, Value: "LANTERN"}},
		Lookup: []config.Lookup{{Store: "local", Unreachable: config.Refuse}}}, nil)
	w.do(http.MethodPost, "/command-lists", apitype.CommandListFields{Name: "looking",
		Lines: []config.CommandLine{{Verdict: "refuse", Pattern: "show secrets *"},
			{Verdict: "permit", Pattern: "show *"}}}, nil)
	w.do(http.MethodPost, "/command-lists", apitype.CommandListFields{Name: "everything", Otherwise: "permit"}, nil)
	for _, p := range []apitype.PassFields{
		{Name: "admin", PrivilegeLevel: "15", Commands: "everything", SessionTimeout: 3601, IdleTimeout: 600,
			Arguments: []config.Argument{{Name: "acl", Value: "7"},
				{Name: "hint", Value: "{{person.mail or \"none\"}}", Optional: true}, {Service: "ppp", Name: "addr",
					Value: "192.0.2.9"}}},
		{Name: "looker", PrivilegeLevel: "1", Commands: "looking"},
		{Name: "bare"},
	} {
		w.do(http.MethodPost, "/passes", p, nil)
	}
	admit := func(group, pass string) *config.Policy {
		return &config.Policy{Name: group, Enabled: true, When: "group is " + group, Outcome: config.Admit, Pass: pass}
	}
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Gear", When: "service in device-login, device-command",
		Methods: []string{"pap", "chap", "mschap", "mschapv2"}, RejectDelayMillis: 50,
		Policies: []*config.Policy{admit("Admins", "admin"), admit("Lookers", "looker"), admit("Bare", "bare"),
			{Name: "Contractors", Enabled: true, When: "group is Contractors", Outcome: config.Refusal,
				Message: "Ask the harbour office."}}}, nil)
	for _, a := range [][3]string{{"ann", "rope-and-anchor", "Admins"}, {"lou", "look-and-see-1", "Lookers"},
		{"bo", "bare-and-bow-1", "Bare"}, {"con", "crane-and-dock", "Contractors"}} {
		w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: a[1],
			AccountFields: apitype.AccountFields{Name: a[0], Display: "Person " + a[0], Mail: a[0] +
				"@lanternferries.example", Groups: []string{a[2]}, Enabled: true, Keeps: "password"}}, nil)
	}
	w.publish()
}

func (w *world) device(single bool) *trial.Gear {
	g := &trial.Gear{Server: w.tacacs, Secret: gearSecret, Single: single, Timeout: 5 * time.Second}
	w.t.Cleanup(g.Close)
	return g
}

// try asks one thing and wants the status.
func (w *world) asks(g *trial.Gear, a trial.GearAsk, status string) results.GearReply {
	w.t.Helper()
	reply, err := g.Try(context.Background(), a)
	if err != nil || reply.Status != status {
		w.t.Errorf("%+v: %s %q (%v), want %s", a, reply.Status, reply.Message, err, status)
	}
	return reply
}

// entries waits until that many entries of the journal fit, and returns them, the newest first.
func (w *world) entries(query string, n int) []apitype.JournalEntry {
	w.t.Helper()
	var page apitype.Page[apitype.JournalEntry]
	for range 100 {
		w.do(http.MethodGet, "/journal?limit=500&"+query, nil, &page)
		if len(page.Items) >= n {
			return page.Items
		}
		time.Sleep(20 * time.Millisecond)
	}
	w.t.Fatalf("%d entries with %s, want %d", len(page.Items), query, n)
	return nil
}

// wire is a bare TCP connection, for what no client would send.
type wire struct {
	t testing.TB
	net.Conn
}

func (w *world) wire() *wire {
	w.t.Helper()
	c, err := net.Dial("tcp", w.tacacs)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { c.Close() })
	return &wire{w.t, c}
}

func (c *wire) send(h tacacs.Header, body []byte, key string) {
	c.t.Helper()
	var k []byte
	if key != "" {
		k = []byte(key)
	}
	if _, err := c.Write(h.Packet(body, k)); err != nil {
		c.t.Fatal(err)
	}
}

// reply reads one packet; nil if the connection ended instead.
func (c *wire) reply(key string) (tacacs.Header, []byte) {
	c.t.Helper()
	c.SetReadDeadline(time.Now().Add(5 * time.Second))
	var raw [tacacs.HeaderSize]byte
	if _, err := io.ReadFull(c, raw[:]); err != nil {
		if ne, ok := err.(net.Error); ok && ne.Timeout() {
			c.t.Error("neither an answer nor the end came")
		}
		return tacacs.Header{}, nil
	}
	h, err := tacacs.ParseHeader(&raw)
	if err != nil {
		c.t.Fatal(err)
	}
	body := make([]byte, h.Length)
	if _, err := io.ReadFull(c, body); err != nil {
		c.t.Fatal(err)
	}
	if h.Flags&tacacs.Plain == 0 {
		h.Obfuscate(body, []byte(key))
	}
	return h, body
}

// over reports whether the connection has been ended from the other side.
func (c *wire) over() bool {
	c.SetReadDeadline(time.Now().Add(3 * time.Second))
	_, err := io.Copy(io.Discard, c)
	if ne, ok := err.(net.Error); ok && ne.Timeout() {
		return false
	}
	return true
}

func header(kind tacacs.Type, seq byte, session uint32, flags byte) tacacs.Header {
	return tacacs.Header{Version: tacacs.VersionDefault, Type: kind, Seq: seq, Session: session, Flags: flags}
}

func asciiStart(user string) []byte {
	return (&tacacs.Start{Action: tacacs.Login, Level: 1, Kind: tacacs.ASCII, Service: tacacs.ServiceLogin,
		User: []byte(user), Port: []byte("vty0"), Remote: []byte("192.0.2.7")}).Append(nil)
}

// isError reports whether a body is the error of its type.
func isError(kind tacacs.Type, body []byte) bool {
	return bytes.Equal(body, front.Refusal(kind, string(errorText(kind, body))))
}

func errorText(kind tacacs.Type, body []byte) []byte {
	switch kind {
	case tacacs.Authorization:
		a, _ := tacacs.ParseAuthorReply(body)
		return a.Message
	case tacacs.Accounting:
		a, _ := tacacs.ParseAcctReply(body)
		return a.Message
	}
	a, _ := tacacs.ParseAuthenReply(body)
	return a.Message
}

func bigLength(b []byte, n uint32) []byte {
	binary.BigEndian.PutUint32(b[8:], n)
	return b
}

// road is one attempt with its trace.
func (w *world) road(id string) apitype.AttemptDetail {
	w.t.Helper()
	var out apitype.AttemptDetail
	w.do(http.MethodGet, "/attempts/"+id, nil, &out)
	return out
}
