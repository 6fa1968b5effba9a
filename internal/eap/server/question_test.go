package server

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/eap/supplicant"
)

// EAP-GTC asks once more where the attempt wants that, outside and inside tunnels; whoever got the password wrong is
// asked the same.
func TestAQuestionAfterThePassword(t *testing.T) {
	w := newWorld(t)
	for _, method := range []string{"eap-gtc", "peap-gtc", "ttls-gtc"} {
		for _, c := range []struct {
			password, code string
			ok             bool
			second         []string
		}{{password, "287082", true, []string{password, "287082"}}, {"wrong", "287082", false, nil},
			{password, "", true, []string{password, ""}}} {
			a, s := w.asker(), w.peer(t, method)
			a.question = "One-time code:"
			asked := ""
			s.Password, s.Code = c.password, func(question string) string {
				asked = question
				return c.code
			}
			answer, _, err := w.run(t, a, s)
			if (err == nil) != c.ok || answer.OK() != c.ok || asked != a.question ||
				!slices.Equal(a.second, c.second) {
				t.Errorf(
					"%s with %q and %q: %v %s, asked %q, given %q, %v",
					method,
					c.password,
					c.code,
					answer.OK(),
					a.code,
					asked,
					a.second,
					err,
				)
			}
		}
		a, s := w.asker(), w.peer(t, method) // a device that keeps the password sends it again
		a.question = "One-time code:"
		if _, _, err := w.run(t, a, s); err != nil || !slices.Equal(a.second, []string{password, password}) {
			t.Errorf("%s: %q, %v", method, a.second, err)
		}
		a, s = w.asker(), w.peer(t, method)
		a.question, s.Code = "One-time code:", func(string) string { return strings.Repeat("1", 300) }
		if answer, _, _ := w.run(t, a, s); answer.OK() || a.code != reason.EAPMalformed || a.second != nil {
			t.Errorf("%s with 300 octets: %s %q", method, a.code, a.second)
		}
	}
}

// A person who was asked for something may think longer than a device.
func TestAPersonMayThink(t *testing.T) {
	w := newWorld(t)
	gone := make(chan string, 2)
	table := NewTable(Limits{10, 1 << 30, 100 * time.Millisecond, 3 * time.Second, time.Second},
		func(o *Open[string]) { gone <- o.Keep })
	defer table.Close()
	add := func(name, question string) {
		a, s := w.asker(), w.peer(t, "eap-gtc")
		a.question = question
		c := New(w.settings, w.sessions, a, 1020)
		o := table.Add(c, name, "np-vpn-1")
		p, err := supplicant.New(s)
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		packet := p.Hello()
		for range 3 { // method by Nak, password
			answer := c.Take(context.Background(), packet)
			table.Weigh(o)
			if c.Thinking() {
				break
			}
			packet, _ = p.Respond(answer.Packet)
		}
		if c.Thinking() != (question != "") {
			t.Fatalf("%s: thinking is %v, %v", name, c.Thinking(), a.record.Steps)
		}
	}
	add("asked", "One-time code:")
	c := New(w.settings, w.sessions, w.asker(), 1020)
	table.Add(c, "silent", "np-vpn-1")
	if name := <-gone; name != "silent" {
		t.Errorf("%s was given up first", name)
	}
	select {
	case name := <-gone:
		t.Errorf("%s was given up while thinking", name)
	case <-time.After(time.Second):
	}
	select {
	case name := <-gone:
		if name != "asked" {
			t.Errorf("%s was given up", name)
		}
	case <-time.After(20 * time.Second):
		t.Error("whoever was asked may think for ever")
	}
}
