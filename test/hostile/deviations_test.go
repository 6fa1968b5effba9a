package hostile

import (
	"bytes"
	"encoding/binary"

	"crypto/tls"

	"tollgate.example/key/internal/eap/tunnel"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/radius"
)

type packetKind struct {
	name string
	do   func(d *device, p eap.Packet) []byte
}

func as(p eap.Packet, code eap.Code, t eap.Type, data []byte) []byte {
	return eap.Packet{Code: code, Identifier: p.Identifier, Type: t, Data: data}.Encode()
}

// swapped puts the victim's names in the place of the attacker's, and those of the computers; both have the same
// length.
func swapped(b []byte) []byte {
	b = bytes.ReplaceAll(b, []byte(attacker), []byte(victim))
	return bytes.ReplaceAll(b, []byte(attackerPC), []byte(victimPC))
}

// packetKinds are deviations of whole EAP packets. nil stops.
var packetKinds []packetKind

func init() {
	packetKinds = []packetKind{
		{"stop", func(*device, eap.Packet) []byte { return nil }},
		{"repeat the last", func(d *device, p eap.Packet) []byte { return d.old(len(d.sent)-1, p) }},
		{"replay the first", func(d *device, p eap.Packet) []byte { return d.old(0, p) }},
		{"replay any, renumbered", func(d *device, p eap.Packet) []byte {
			if len(d.sent) == 0 {
				return p.Encode()
			}
			b := bytes.Clone(d.sent[d.random.IntN(len(d.sent))])
			b[1] = p.Identifier
			return b
		}},
		{"Nak for MD5", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, eap.Nak, []byte{byte(eap.MD5)})
		}},
		{"Nak for TLS", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, eap.Nak, []byte{byte(eap.TLS)})
		}},
		{"Nak for PEAP", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, eap.Nak, []byte{byte(eap.PEAP)})
		}},
		{"Nak for TTLS", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, eap.Nak, []byte{byte(eap.TTLS)})
		}},
		{"Nak for nothing", func(_ *device, p eap.Packet) []byte { return as(p, eap.Response, eap.Nak, []byte{0}) }},
		{"expanded Nak", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, eap.Expanded, []byte{0, 0, 0, 0, 0, 0, 3, 254, 0, 0, 0, 0, 0, 0, 0})
		}},
		{"the victim's identity", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, eap.Identity, []byte(victim))
		}},
		{"the attacker's identity", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, eap.Identity, []byte(attacker))
		}},
		{"success early", func(_ *device, p eap.Packet) []byte { return as(p, eap.Success, eap.None, nil) }},
		{"failure early", func(_ *device, p eap.Packet) []byte { return as(p, eap.Failure, eap.None, nil) }},
		{"a request", func(_ *device, p eap.Packet) []byte { return as(p, eap.Request, p.Type, p.Data) }},
		{"acknowledge only", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, p.Type, []byte{version(p)})
		}},
		{"a start", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, p.Type, []byte{0x20 | version(p)})
		}},
		{"wrong identifier", func(_ *device, p eap.Packet) []byte { p.Identifier += 3; return p.Encode() }},
		{"wrong version", func(_ *device, p eap.Packet) []byte {
			if len(p.Data) > 0 {
				p.Data = bytes.Clone(p.Data)
				p.Data[0] ^= 7
			}
			return p.Encode()
		}},
		{"garbage", func(d *device, p eap.Packet) []byte { return as(p, eap.Response, p.Type, d.noise(40)) }},
		{"truncated", func(_ *device, p eap.Packet) []byte { b := p.Encode(); return b[:len(b)*2/3] }},
		{"a lying length", func(_ *device, p eap.Packet) []byte { b := p.Encode(); b[2] ^= 1; return b }},
		{"flipped", func(d *device, p eap.Packet) []byte {
			b := p.Encode()
			b[d.random.IntN(len(b))] ^= 1 << d.random.IntN(8)
			return b
		}},
		{"of another type", func(_ *device, p eap.Packet) []byte { return as(p, eap.Response, p.Type^1, p.Data) }},
		{"names swapped", func(_ *device, p eap.Packet) []byte { return swapped(p.Encode()) }},
		{"a notification", func(_ *device, p eap.Packet) []byte { return as(p, eap.Response, eap.Notification, nil) }},
		{"TLS begun again", func(d *device, p eap.Packet) []byte { return as(p, eap.Response, p.Type, d.hello(p)) }},
		{"a fragment without end", func(_ *device, p eap.Packet) []byte {
			return as(p, eap.Response, p.Type, append([]byte{0xc0 | version(p), 0, 1, 0, 0}, make([]byte, 600)...))
		}},
		{"from another station", func(d *device, p eap.Packet) []byte { d.station = d.w.station(); return p.Encode() }},
		{"through another client", func(d *device, p eap.Packet) []byte { d.client = 1; return p.Encode() }},
		{"with another's State", func(d *device, p eap.Packet) []byte { _, d.state = d.second(); return p.Encode() }},
		{"another's message", func(d *device, p eap.Packet) []byte {
			b, _ := d.second()
			b = bytes.Clone(b)
			b[1] = p.Identifier
			return b
		}},
		{"another's conversation", func(d *device, p eap.Packet) []byte {
			b, state := d.second()
			d.state = state
			return b
		}},
	}
}

func version(p eap.Packet) byte {
	if p.Type == eap.TEAP {
		return 1
	}
	return 0
}

func (d *device) old(at int, p eap.Packet) []byte {
	if at < 0 || at >= len(d.sent) {
		return p.Encode()
	}
	return d.sent[at]
}

func (d *device) noise(n int) []byte {
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(d.random.Uint32())
	}
	return out
}

// hello is the first flight of another TLS connection.
func (d *device) hello(p eap.Packet) []byte {
	t := tunnel.Client(&tls.Config{InsecureSkipVerify: true, MinVersion: d.s.tls, MaxVersion: d.s.tls}, false)
	defer t.Close()
	out, _, _ := t.Handshake(nil)
	return eap.Fragment{Version: version(p), Data: out}.Append(nil)
}

// second is a packet and the State of another conversation of the same method, some rounds on.
func (d *device) second() (packet, state []byte) {
	if d.other == nil {
		d.other = &device{w: d.w, s: d.s, random: d.random}
		d.other.s.ticket = false
	}
	packet, state = d.other.begin(1 + d.random.IntN(4))
	return packet, state
}

type insideKind struct {
	name string
	do   func(d *device, plain []byte) []byte
}

// tlvs changes a row of TLVs; what is none stays.
func tlvs(change func(d *device, list []eap.TLV) []eap.TLV) func(*device, []byte) []byte {
	return func(d *device, plain []byte) []byte {
		list, err := eap.ParseTLVs(plain)
		if err != nil || len(plain) == 0 {
			list = nil
		}
		var out []byte
		for _, t := range change(d, list) {
			out = t.Append(out)
		}
		return out
	}
}

func number(t, v uint16) eap.TLV { return eap.Number(t, v) }

// payload is an EAP packet in a TLV, with the identifier of the one that it takes the place of.
func payload(list []eap.TLV, code eap.Code, t eap.Type, data []byte) []eap.TLV {
	p := eap.Packet{Code: code, Identifier: 1, Type: t, Data: data}
	if old, has := eap.FindTLV(list, eap.TLVEAPPayload); has && len(old.Value) > 1 {
		p.Identifier = old.Value[1]
	}
	out := without(list, eap.TLVEAPPayload)
	return append(out, eap.TLV{Type: eap.TLVEAPPayload, Mandatory: true, Value: p.Encode()})
}

func without(list []eap.TLV, t uint16) (out []eap.TLV) {
	for _, one := range list {
		if one.Type != t {
			out = append(out, one)
		}
	}
	return out
}

func password(name, word string) eap.TLV {
	value := append([]byte{byte(len(name))}, name...)
	return eap.TLV{Type: eap.TLVPasswordResp, Mandatory: true, Value: append(append(value, byte(len(word))), word...)}
}

func pair(code uint32, value string) []byte {
	return eap.AVP{Code: code, Mandatory: true, Value: []byte(value)}.Append(nil)
}

func microsoft(code uint32, value []byte) []byte {
	return eap.AVP{Code: code, Vendor: radius.Vendor2548, Mandatory: true, Value: value}.Append(nil)
}

func padded(word string) string { return word + string(make([]byte, (16-len(word)%16)%16)) }

func join(parts ...[]byte) []byte { return bytes.Join(parts, nil) }

// insideKinds are deviations of what is said inside a tunnel: those of any, of TEAP, of TTLS and of PEAP. Each is tried
// in every tunnel, since a TLV in TTLS is as unexpected as anything.
var insideKinds []insideKind

func init() {
	always := func(b []byte) func(*device, []byte) []byte { return func(*device, []byte) []byte { return b } }
	insideKinds = []insideKind{
		{"nothing", always(nil)},
		{"the last again", func(d *device, plain []byte) []byte {
			if len(d.said) == 0 {
				return plain
			}
			return d.said[len(d.said)-1]
		}},
		{"the first again", func(d *device, plain []byte) []byte {
			if len(d.said) == 0 {
				return plain
			}
			return d.said[0]
		}},
		{"twice", func(_ *device, plain []byte) []byte { return join(plain, plain) }},
		{"names swapped", func(_ *device, plain []byte) []byte { return swapped(plain) }},
		{"garbage", func(d *device, _ []byte) []byte { return d.noise(30) }},
		{"cut short", func(_ *device, plain []byte) []byte { return plain[:len(plain)*2/3] }},
		{"flipped", func(d *device, plain []byte) []byte {
			if len(plain) == 0 {
				return []byte{1}
			}
			out := bytes.Clone(plain)
			out[d.random.IntN(len(out))] ^= 1 << d.random.IntN(8)
			return out
		}},
		// TEAP
		{"Identity-Type user alone", tlvs(func(*device, []eap.TLV) []eap.TLV {
			return []eap.TLV{number(eap.TLVIdentityType, eap.IdentityUser)}
		})},
		{"Identity-Type machine alone", tlvs(func(*device, []eap.TLV) []eap.TLV {
			return []eap.TLV{number(eap.TLVIdentityType, eap.IdentityMachine)}
		})},
		{"Identity-Type user as well", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(l, number(eap.TLVIdentityType, eap.IdentityUser))
		})},
		{"Identity-Type machine as well", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(l, number(eap.TLVIdentityType, eap.IdentityMachine))
		})},
		{"Identity-Type 7", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(l, number(eap.TLVIdentityType, 7))
		})},
		{"a NAK", tlvs(func(*device, []eap.TLV) []eap.TLV {
			return []eap.TLV{{Type: eap.TLVNak, Mandatory: true, Value: []byte{0, 0, 0, 0, 0, 9}}}
		})},
		{"a NAK as well", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(l, eap.TLV{Type: eap.TLVNak, Mandatory: true, Value: []byte{0, 0, 0, 0, 0, 9}})
		})},
		{"a result of success", tlvs(func(*device, []eap.TLV) []eap.TLV {
			return []eap.TLV{number(eap.TLVResult, eap.ResultSuccess)}
		})},
		{"a result of success as well", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(l, number(eap.TLVResult, eap.ResultSuccess))
		})},
		{"both results", tlvs(func(*device, []eap.TLV) []eap.TLV {
			return []eap.TLV{number(eap.TLVIntermediate, eap.ResultSuccess), number(eap.TLVResult, eap.ResultSuccess)}
		})},
		{"a result of failure", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(without(l, eap.TLVResult), number(eap.TLVResult, eap.ResultFailure))
		})},
		{"an intermediate failure", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(without(l, eap.TLVIntermediate), number(eap.TLVIntermediate, eap.ResultFailure))
		})},
		{"no intermediate result", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return without(l, eap.TLVIntermediate)
		})},
		{"no crypto-binding", tlvs(func(_ *device, l []eap.TLV) []eap.TLV { return without(l, eap.TLVCryptoBinding) })},
		{"a wrong crypto-binding", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			for i, t := range l {
				if t.Type == eap.TLVCryptoBinding && len(t.Value) > 0 {
					l[i].Value = bytes.Clone(t.Value)
					l[i].Value[len(t.Value)-1] ^= 1
				}
			}
			return l
		})},
		{"a made-up crypto-binding", tlvs(func(d *device, l []eap.TLV) []eap.TLV {
			return append(without(l, eap.TLVCryptoBinding), eap.TLV{Type: eap.TLVCryptoBinding, Mandatory: true,
				Value: d.noise(76)})
		})},
		{"doubled TLVs", tlvs(func(_ *device, l []eap.TLV) []eap.TLV { return append(l, l...) })},
		{"reversed TLVs", tlvs(func(_ *device, l []eap.TLV) (out []eap.TLV) {
			for i := range l {
				out = append(out, l[len(l)-1-i])
			}
			return out
		})},
		{"an unknown mandatory TLV", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(l, eap.TLV{Type: 77, Mandatory: true, Value: []byte("x")})
		})},
		{"an unknown TLV", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(l, eap.TLV{Type: 78, Value: []byte("x")})
		})},
		{"inner identity of the victim", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return payload(l, eap.Response, eap.Identity, []byte(victim))
		})},
		{"inner identity of the victim's computer", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return payload(l, eap.Response, eap.Identity, []byte(victimPC))
		})},
		{"inner Nak for MSCHAPv2", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return payload(l, eap.Response, eap.Nak, []byte{26})
		})},
		{"inner Nak for TLS", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return payload(l, eap.Response, eap.Nak, []byte{13})
		})},
		{"inner success", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return payload(l, eap.Success, eap.None, nil)
		})},
		{"inner MSCHAPv2 success", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return payload(l, eap.Response, eap.MSCHAPv2, []byte{3})
		})},
		{"inner TLS acknowledged", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return payload(l, eap.Response, eap.TLS, []byte{0})
		})},
		{"password of the attacker", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(without(l, eap.TLVEAPPayload), password(attacker, attackerWord))
		})},
		{"password of the attacker for the victim", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(without(l, eap.TLVEAPPayload), password(victim, attackerWord))
		})},
		{"no password of nobody", tlvs(func(_ *device, l []eap.TLV) []eap.TLV {
			return append(without(l, eap.TLVEAPPayload), password("", ""))
		})},
		// TTLS
		{"PAP of nobody", always(join(pair(radius.UserName, "nobody@pool.example"), pair(radius.UserPassword,
			padded("x"))))},
		{"PAP without a name", always(pair(radius.UserPassword, padded("x")))},
		{"PAP of the attacker", always(join(pair(radius.UserName, attacker), pair(radius.UserPassword,
			padded(attackerWord))))},
		{"PAP of the victim", always(join(pair(radius.UserName, victim), pair(radius.UserPassword,
			padded(attackerWord))))},
		{"PAP with two names", always(join(pair(radius.UserName, victim), pair(radius.UserName, attacker),
			pair(radius.UserPassword, padded(attackerWord))))},
		{"PAP with two names, turned round", always(join(pair(radius.UserName, attacker), pair(radius.UserPassword,
			padded(attackerWord)), pair(radius.UserName, victim)))},
		{"an empty password", always(join(pair(radius.UserName, victim), pair(radius.UserPassword, "")))},
		{"CHAP of zeros", always(join(pair(radius.UserName, victim), pair(radius.CHAPPassword,
			string(make([]byte, 17))), pair(radius.CHAPChallenge, string(make([]byte, 16)))))},
		{"MS-CHAPv2 of zeros", always(join(pair(radius.UserName, victim), microsoft(radius.MSCHAPChallenge,
			make([]byte, 16)), microsoft(radius.MSCHAP2Response, make([]byte, 50))))},
		{"the victim's name as well", func(_ *device, plain []byte) []byte {
			return join(plain, pair(radius.UserName, victim))
		}},
		{"the victim's name before", func(_ *device, plain []byte) []byte {
			return join(pair(radius.UserName, victim), plain)
		}},
		{"the attacker's PAP as well", func(_ *device, plain []byte) []byte {
			return join(plain, pair(radius.UserPassword, padded(attackerWord)))
		}},
		{"an unknown mandatory pair", func(_ *device, plain []byte) []byte { return join(plain, pair(4711, "x")) }},
		{"EAP identity of the victim in a pair",
			always(pair(radius.EAPMessage, string(eap.Packet{Code: eap.Response, Identifier: 0, Type: eap.Identity,
				Data: []byte(victim)}.Encode())))},
		{"EAP success in a pair",
			always(pair(radius.EAPMessage, string(eap.Packet{Code: eap.Success, Identifier: 1}.Encode())))},
		// PEAP
		{"bare identity of the victim", always(append([]byte{byte(eap.Identity)}, victim...))},
		{"bare Nak for MSCHAPv2", always([]byte{byte(eap.Nak), 26})},
		{"bare Nak for TLS", always([]byte{byte(eap.Nak), 13})},
		{"bare MSCHAPv2 success", always([]byte{byte(eap.MSCHAPv2), 3})},
		{"bare MSCHAPv2 failure", always([]byte{byte(eap.MSCHAPv2), 4})},
		{"bare TLS acknowledged", always([]byte{byte(eap.TLS), 0})},
		{"bare GTC of the attacker", always(append([]byte{byte(eap.GTC)}, attackerWord...))},
		{"an extension of success", always(extension(eap.ResultSuccess))},
		{"an extension of failure", always(extension(eap.ResultFailure))},
		{"bare TLV of success",
			always(append([]byte{byte(eap.Extensions)}, number(eap.TLVResult, eap.ResultSuccess).Append(nil)...))},
	}
}

func extension(result uint16) []byte {
	return eap.Packet{Code: eap.Response, Identifier: 5, Type: eap.Extensions, Data: number(eap.TLVResult,
		result).Append(nil)}.Encode()
}

type flightKind struct {
	name string
	do   func(d *device, octets []byte) []byte
}

// records cuts a flight into the records of TLS.
func records(b []byte) (out [][]byte) {
	for len(b) >= 5 {
		n := min(5+int(binary.BigEndian.Uint16(b[3:])), len(b))
		out, b = append(out, b[:n]), b[n:]
	}
	if len(b) > 0 {
		out = append(out, b)
	}
	return out
}

// flightKinds are deviations of the records of one TLS flight.
var flightKinds = func() (out []flightKind) {
	names := []string{"1st", "2nd", "3rd", "4th", "5th"}
	for i, name := range names {
		out = append(out,
			flightKind{"cut behind the " + name, func(_ *device, b []byte) []byte {
				r := records(b)
				return join(r[:min(i+1, len(r))]...)
			}},
			flightKind{"without the " + name, func(_ *device, b []byte) []byte {
				r := records(b)
				if i >= len(r) {
					return b
				}
				return join(append(append([][]byte(nil), r[:i]...), r[i+1:]...)...)
			}},
			flightKind{"the " + name + " twice", func(_ *device, b []byte) []byte {
				r := records(b)
				if i >= len(r) {
					return join(b, b)
				}
				return join(append(append(append([][]byte(nil), r[:i+1]...), r[i]), r[i+1:]...)...)
			}},
			flightKind{"the " + name + " and the next swapped", func(_ *device, b []byte) []byte {
				r := records(b)
				if i+1 < len(r) {
					r[i], r[i+1] = r[i+1], r[i]
				}
				return join(r...)
			}},
			flightKind{"the " + name + " flipped", func(d *device, b []byte) []byte {
				r := records(b)
				if i >= len(r) || len(r[i]) < 6 {
					return b
				}
				r[i] = bytes.Clone(r[i])
				r[i][5+d.random.IntN(len(r[i])-5)] ^= 1
				return join(r...)
			}},
		)
	}
	return append(out, flightKind{"nothing", func(*device, []byte) []byte { return nil }},
		flightKind{"an alert", func(*device, []byte) []byte { return []byte{21, 3, 3, 0, 2, 2, 40} }},
		flightKind{"a warning before", func(_ *device, b []byte) []byte {
			return join([]byte{21, 3, 3, 0, 2, 1, 0}, b)
		}},
		flightKind{"garbage", func(d *device, b []byte) []byte { return d.noise(len(b)) }})
}()
