// Package trial is the other side: our own RADIUS client with every method, for trying things out, for the stand-ins
// and for tests.
package trial

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

// Request is one sign-in to try.
type Request struct {
	Server string // host:port
	// From is the local address to send from, zero for any.
	From   netip.Addr
	Secret string
	// Exchange takes the place of the network: it answers one packet. Server and From are not used then.
	Exchange func(ctx context.Context, packet []byte) ([]byte, error)
	// Unsigned leaves Message-Authenticator out, where the method does not need it.
	Unsigned bool
	// Method is pap (also if empty), chap, mschap, mschapv2, mac, or one that runs in EAP. For mac, User is the address
	// in any form, and Bypass says how it is sent: pap, chap or eap-md5.
	Method   string
	Bypass   string
	User     string
	Password string
	// Code answers an Access-Challenge that asks for one outside EAP; without it, the challenge is the reply.
	Code string
	// Phone answers an Access-Challenge with nothing, as often as it comes: the phone approves meanwhile. Told is told
	// what the person reads.
	Phone bool
	Told  func(message string)
	// Supplicant is how a device is set up for methods in EAP; its method, identity and password are filled in here.
	Supplicant supplicant.Settings
	// Attributes are further attributes by standard name and text value.
	Attributes []results.Attribute
	// Timeout is for each of the tries.
	Timeout time.Duration
	Tries   int
	// Status sends Status-Server instead of an Access-Request.
	Status bool
	// Brief leaves out of the reply what was said round by round, and the certificates.
	Brief bool
	// Dictionary names attributes, those of vendors too; nil knows the standard ones.
	Dictionary *dict.Dictionary
}

// exchange is one conversation with a server.
type exchange struct {
	r     *Request
	key   *radius.Key
	link  link
	begun time.Time
	reply results.Reply
	// last are the authenticator of the last request and the identifier of the next.
	last [16]byte
	next byte
}

// Send signs in, or asks for the status, and checks every reply.
func Send(ctx context.Context, r Request) (results.Reply, error) {
	l, err := open(ctx, &r)
	if err != nil {
		return results.Reply{}, err
	}
	defer l.close()
	x := &exchange{r: &r, key: radius.NewKey([]byte(r.Secret)), link: l, begun: time.Now(),
		reply: results.Reply{Attributes: []results.Attribute{}, Rounds: []results.Round{}}}
	var id [1]byte
	rand.Read(id[:])
	x.next = id[0]
	p, err := x.run(ctx)
	if err != nil {
		return x.reply, err
	}
	x.finish(&p)
	return x.reply, nil
}

func (x *exchange) run(ctx context.Context) (radius.Packet, error) {
	switch m := x.r.Method; {
	case x.r.Status:
		return x.ask(ctx, radius.StatusServer, nil)
	case m == "" || m == "pap":
		return x.pap(ctx)
	case m == "chap":
		return x.chap(ctx)
	case m == "mschap":
		return x.mschapv1(ctx)
	case m == "mschapv2":
		return x.mschapv2(ctx)
	case m == "mac":
		return x.bypass(ctx)
	}
	return x.eap(ctx)
}

// ask sends one request with the attributes that fill adds, and returns the verified reply.
func (x *exchange) ask(ctx context.Context, code radius.Code, fill func(b *radius.Builder,
	authenticator [16]byte) error) (radius.Packet, error) {
	rand.Read(x.last[:])
	x.next++
	eap := x.r.isEAP()
	b := radius.NewRequest(code, x.next, x.last, !x.r.Unsigned || eap)
	if code == radius.AccessRequest {
		b.AddText(radius.UserName, x.r.outerName())
	}
	if fill != nil {
		if err := fill(b, x.last); err != nil {
			return radius.Packet{}, err
		}
	}
	for _, a := range x.r.Attributes {
		entry := x.r.Dictionary.ByName(a.Name)
		if entry == nil {
			return radius.Packet{}, fmt.Errorf("there is no attribute %q", a.Name)
		}
		value, err := entry.Encode(a.Value)
		if err != nil {
			return radius.Packet{}, err
		}
		b.Add(entry.Type, value)
	}
	data, err := b.SignRequest(x.key)
	if err != nil {
		return radius.Packet{}, err
	}
	x.reply.Packets++
	p, tries, err := x.link.ask(ctx, data)
	x.reply.Tries = max(x.reply.Tries, tries)
	if err != nil {
		return p, err
	}
	if err := x.key.VerifyReply(&p, x.last); err != nil && !(x.r.Unsigned && errors.Is(err, radius.ErrNoMessageAuth)) {
		return p, err
	}
	return p, nil
}

func (x *exchange) say(from, format string, args ...any) {
	if len(x.reply.Rounds) < 200 {
		x.reply.Rounds = append(x.reply.Rounds, results.Round{Micros: time.Since(x.begun).Microseconds(), From: from,
			Text: fmt.Sprintf(format, args...)})
	}
}

// finish writes the last reply for people.
func (x *exchange) finish(p *radius.Packet) {
	x.reply.Took = time.Since(x.begun)
	x.reply.Code, x.reply.Accepted = p.Code.String(), p.Code == radius.AccessAccept
	for t, value := range p.Attributes() {
		if t == radius.MessageAuthenticator || t == radius.EAPMessage {
			continue
		}
		text := fmt.Sprintf("0x%x", value)
		if entry := dict.ByType(t); entry != nil {
			text = entry.Format(value)
		}
		if name, ok := vendorName(t, value); ok {
			text = name
		}
		if parts, ok := x.r.Dictionary.Open(value); ok && t == dict.VendorSpecific {
			for _, part := range parts {
				x.reply.Attributes = append(x.reply.Attributes, results.Attribute{Name: part.Name, Value: part.Value})
			}
			continue
		}
		x.reply.Attributes = append(x.reply.Attributes, results.Attribute{Name: dict.Name(t), Value: text})
	}
}

// vendorName names the attributes of RFC 2548, whose values are keys or proofs and tell nobody anything.
func vendorName(t byte, value []byte) (string, bool) {
	if t != radius.VendorSpecific || len(value) < 6 || value[2] != radius.Vendor2548>>8 ||
		value[3] != radius.Vendor2548&0xff {
		return "", false
	}
	name, ok := map[byte]string{radius.MSMPPESendKey: "MS-MPPE-Send-Key", radius.MSMPPERecvKey: "MS-MPPE-Recv-Key",
		radius.MSCHAP2Success: "MS-CHAP2-Success", radius.MSCHAPError: "MS-CHAP-Error",
		radius.MSMPPEEncPolicy: "MS-MPPE-Encryption-Policy", radius.MSMPPEEncTypes: "MS-MPPE-Encryption-Types",
		radius.MSCHAPMPPEKeys: "MS-CHAP-MPPE-Keys"}[value[4]]
	if value[4] == radius.MSCHAPError && len(value) > 7 {
		name += " " + string(value[7:])
	}
	return name, ok
}
