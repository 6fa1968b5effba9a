package trial

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/radius"
)

// responder answers each packet with what the function makes of it; nil is no answer.
func responder(t *testing.T, answer func(radius.Packet) []byte) string {
	t.Helper()
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	go func() {
		buf := make([]byte, radius.MaxSize)
		for {
			n, from, err := c.ReadFrom(buf)
			if err != nil {
				return
			}
			if p, err := radius.Decode(buf[:n]); err == nil {
				if out := answer(p); out != nil {
					c.WriteTo(out, from)
				}
			}
		}
	}()
	return c.LocalAddr().String()
}

func accept(t *testing.T, key *radius.Key, p radius.Packet, attributes ...string) []byte {
	b := radius.NewReply(nil, radius.AccessAccept, p.Identifier)
	for _, a := range attributes {
		b.AddText(radius.ReplyMessage, a)
	}
	out, err := b.SignReply(key, p.Authenticator)
	if err != nil {
		t.Error(err)
	}
	return out
}

func TestSend(t *testing.T) {
	key := radius.NewKey([]byte("quay-light"))
	tries := 0
	server := responder(t, func(p radius.Packet) []byte {
		if tries++; tries == 1 {
			return nil // lost on the way
		}
		clear, err := key.OpenPassword(nil, p.Get(radius.UserPassword), p.Authenticator)
		if !key.VerifyMessageAuthenticator(&p) || err != nil || string(clear) != "gangway" ||
			string(p.Get(radius.UserName)) != "s.lodge" {
			t.Errorf("asked with %x", p.Raw())
		}
		return accept(t, key, p, "welcome")
	})
	r := Request{Server: server, From: netip.MustParseAddr("127.0.0.1"), Secret: "quay-light", User: "s.lodge",
		Password: "gangway", Timeout: 200 * time.Millisecond, Tries: 3,
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}}
	reply, err := Send(context.Background(), r)
	if err != nil || !reply.Accepted || reply.Tries != 2 || len(reply.Attributes) != 1 ||
		reply.Attributes[0] != (results.Attribute{Name: "Reply-Message", Value: "welcome"}) {
		t.Errorf("%+v, %v", reply, err)
	}
}

func TestSendTellsFaultsApart(t *testing.T) {
	key, other := radius.NewKey([]byte("quay-light")), radius.NewKey([]byte("other"))
	silent := responder(t, func(radius.Packet) []byte { return nil })
	forged := responder(t, func(p radius.Packet) []byte { return accept(t, other, p) })
	late := responder(t, func(p radius.Packet) []byte { p.Identifier++; return accept(t, key, p) })
	base := Request{Server: silent, Secret: "quay-light", User: "x", Password: "y", Timeout: 50 * time.Millisecond,
		Tries: 2}
	for _, c := range []struct {
		name   string
		change func(*Request)
		want   error
		says   string
	}{
		{"silence", func(*Request) {}, upstream.ErrNoAnswer, "2 tries"},
		{"another secret", func(r *Request) { r.Server = forged }, radius.ErrReplyAuthenticator, "secrets differ"},
		{"another identifier", func(r *Request) { r.Server = late }, upstream.ErrNoAnswer, ""},
		{"unknown attribute", func(r *Request) { r.Attributes = []results.Attribute{{Name: "Colour", Value: "x"}} },
			nil, `no attribute "Colour"`},
		{"bad value", func(r *Request) { r.Attributes = []results.Attribute{{Name: "NAS-Port", Value: "x"}} }, nil,
			"takes a number"},
		{"long password", func(r *Request) { r.Password = strings.Repeat("x", 129) }, nil, "128 octets"},
		{"nobody listens there", func(r *Request) { r.Server = "127.0.0.1:1" }, nil, "127.0.0.1:1"},
	} {
		r := base
		c.change(&r)
		_, err := Send(context.Background(), r)
		if err == nil || c.want != nil && !errors.Is(err, c.want) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s gives %v", c.name, err)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Millisecond)
	defer cancel()
	base.Timeout = time.Minute
	begun := time.Now()
	if _, err := Send(ctx, base); err == nil || time.Since(begun) > 5*time.Second {
		t.Errorf("a cancelled request gives %v after %v", err, time.Since(begun))
	}
}
