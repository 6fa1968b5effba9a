package trial

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/radius"
)

// isEAP reports whether the request is an EAP conversation.
func (r *Request) isEAP() bool {
	switch r.Method {
	case "", "pap", "chap", "mschap", "mschapv2":
		return false
	case "mac":
		return r.Bypass == "eap-md5"
	}
	return true
}

// outerName is the name in User-Name.
func (r *Request) outerName() string {
	if r.isEAP() && r.Supplicant.Outer != "" {
		return r.Supplicant.Outer
	}
	return r.User
}

func (x *exchange) pap(ctx context.Context) (radius.Packet, error) {
	p, err := x.typed(ctx, x.r.Password, nil)
	for tries := 0; x.r.Phone && err == nil && p.Code == radius.AccessChallenge && p.Has(radius.State); tries++ {
		if tries == maxEnters {
			return p, nil
		}
		if x.r.Told != nil {
			x.r.Told(string(p.Get(radius.ReplyMessage)))
		}
		p, err = x.typed(ctx, "", bytes.Clone(p.Get(radius.State)))
	}
	if err != nil || p.Code != radius.AccessChallenge || x.r.Code == "" || !p.Has(radius.State) {
		return p, err
	}
	x.say("server", "challenge %q", p.Get(radius.ReplyMessage))
	return x.typed(ctx, x.r.Code, bytes.Clone(p.Get(radius.State)))
}

// maxEnters is how often Enter is pressed while the phone has not approved.
const maxEnters = 30

// typed sends what was typed, with the State of the challenge that it answers (RFC 2865 section 4.4).
func (x *exchange) typed(ctx context.Context, text string, state []byte) (radius.Packet, error) {
	return x.ask(ctx, radius.AccessRequest, func(b *radius.Builder, authenticator [16]byte) error {
		hidden, err := x.key.HidePassword([]byte(text), authenticator)
		if err == nil {
			b.Add(radius.UserPassword, hidden)
		}
		if state != nil {
			b.Add(radius.State, state)
		}
		return err
	})
}

func (x *exchange) chap(ctx context.Context) (radius.Packet, error) {
	return x.ask(ctx, radius.AccessRequest, func(b *radius.Builder, _ [16]byte) error {
		var challenge [16]byte
		rand.Read(challenge[:])
		sum := mschap.CHAP(1, x.r.Password, challenge[:])
		b.Add(radius.CHAPPassword, append([]byte{1}, sum[:]...))
		b.Add(radius.CHAPChallenge, challenge[:])
		return nil
	})
}

func (x *exchange) mschapv1(ctx context.Context) (radius.Packet, error) {
	return x.ask(ctx, radius.AccessRequest, func(b *radius.Builder, _ [16]byte) error {
		var challenge [8]byte
		rand.Read(challenge[:])
		b.AddVendor(radius.Vendor2548, radius.MSCHAPChallenge, challenge[:])
		b.AddVendor(radius.Vendor2548, radius.MSCHAPResponse, mschap.Response{Identifier: 1,
			NT: mschap.NTHash(x.r.Password).V1(challenge)}.V1())
		return nil
	})
}

// mschapv2 also checks that the server knows the password, and its keys.
func (x *exchange) mschapv2(ctx context.Context) (radius.Packet, error) {
	var challenge [16]byte
	rand.Read(challenge[:])
	hash, response := mschap.NTHash(x.r.Password), mschap.Response{Identifier: 1}
	rand.Read(response.Peer[:])
	response.NT = hash.V2(response.Peer, challenge, x.r.User)
	p, err := x.ask(ctx, radius.AccessRequest, func(b *radius.Builder, _ [16]byte) error {
		b.AddVendor(radius.Vendor2548, radius.MSCHAPChallenge, challenge[:])
		b.AddVendor(radius.Vendor2548, radius.MSCHAP2Response, response.V2())
		return nil
	})
	if err != nil || p.Code != radius.AccessAccept {
		return p, err
	}
	proof := p.Vendor(radius.Vendor2548, radius.MSCHAP2Success)
	if len(proof) < 1 || string(proof[1:]) != mschap.AuthenticatorResponse(hash.Again(), response.NT, response.Peer,
		challenge, x.r.User) {
		return p, errors.New("the server does not know the password: its MS-CHAP2-Success is wrong")
	}
	keys := mschap.KeysV2(hash.Again(), response.NT)
	x.compare(&p, keys.Receive[:], keys.Send[:])
	return p, nil
}

// bypass does MAC authentication bypass in one of its forms.
func (x *exchange) bypass(ctx context.Context) (radius.Packet, error) {
	if x.r.Password == "" {
		x.r.Password = x.r.User
	}
	switch x.r.Bypass {
	case "", "pap":
		return x.pap(ctx)
	case "chap":
		return x.chap(ctx)
	case "eap-md5":
		return x.eap(ctx)
	}
	return radius.Packet{}, fmt.Errorf("%q is no form of MAC bypass; use pap, chap or eap-md5", x.r.Bypass)
}

// eap runs a conversation to its end.
func (x *exchange) eap(ctx context.Context) (radius.Packet, error) {
	s := x.r.Supplicant
	s.Method, s.Identity, s.Password = x.r.Method, x.r.User, x.r.Password
	if !x.r.Brief {
		s.Step = func(from, text string) { x.say(from, "%s", text) }
	}
	if x.r.Code != "" || x.r.Phone {
		s.Code = func(question string) string {
			if x.r.Told != nil {
				x.r.Told(question)
			}
			return x.r.Code
		}
	}
	device, err := supplicant.New(&s)
	if err != nil {
		return radius.Packet{}, err
	}
	defer device.Close()
	message, state := device.Hello(), []byte(nil)
	for range 400 {
		p, err := x.ask(ctx, radius.AccessRequest, func(b *radius.Builder, _ [16]byte) error {
			if state != nil {
				b.Add(radius.State, state)
			}
			b.AddEAP(message)
			return nil
		})
		if err != nil {
			return p, err
		}
		if packet := p.EAP(); packet != nil {
			message, err = device.Respond(packet)
		}
		x.reply.Fault = device.Result.Fault
		if p.Code != radius.AccessChallenge || err != nil {
			x.tunnel(&device.Result)
		}
		switch {
		case p.Code != radius.AccessChallenge:
			if msk := device.Result.MSK; p.Code == radius.AccessAccept && len(msk) >= 32 {
				n := min(len(msk)/2, 32)
				x.compare(&p, msk[:n], msk[n:2*n])
			}
			return p, nil
		case err != nil:
			x.reply.Fault = err.Error()
			return p, fmt.Errorf("the device breaks off: %w", err)
		}
		state = p.Get(radius.State)
	}
	return radius.Packet{}, errors.New("the conversation does not end")
}

func (x *exchange) tunnel(r *supplicant.Result) {
	if r.TLS == "" && len(r.Chain) == 0 {
		return
	}
	t := &results.Tunnel{Version: r.TLS, Suite: r.Suite, Resumed: r.Resumed, Chain: []string{}}
	for _, c := range r.Chain {
		if x.r.Brief {
			break
		}
		t.Chain = append(t.Chain, c.Subject.String()+", issued by "+c.Issuer.String()+", until "+
			c.NotAfter.UTC().Format("2006-01-02"))
	}
	x.reply.TLS = t
}

// compare checks the MPPE keys of the reply against our own.
func (x *exchange) compare(p *radius.Packet, receive, send []byte) {
	theirs, err := x.key.OpenMPPEKey(p.Vendor(radius.Vendor2548, radius.MSMPPERecvKey), x.last)
	theirSend, err2 := x.key.OpenMPPEKey(p.Vendor(radius.Vendor2548, radius.MSMPPESendKey), x.last)
	x.reply.Keys = "differ"
	if err == nil && err2 == nil && bytes.Equal(theirs, receive) && bytes.Equal(theirSend, send) {
		x.reply.Keys = "match"
	}
}
