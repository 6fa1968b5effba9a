// Package accounting reads Accounting-Requests (RFC 2866, 2867, 2869, 3162 and 6911). It holds no socket.
package accounting

import (
	"bytes"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

const (
	// maxAttributes bounds the attributes that are recorded, maxClasses the values of Class that are looked at.
	maxAttributes = 64
	maxClasses    = 8
	// maxDelay bounds what a client may say about how long ago something happened.
	maxDelay = 24 * time.Hour
	// maxSeconds bounds the length of a session: ten years.
	maxSeconds = 10 * 366 * 24 * 3600
)

// kinds are the values of Acct-Status-Type that are recorded; those of tunnels and links count as their session's.
var kinds = map[uint32]string{1: store.AccountingStart, 2: store.AccountingStop, 3: store.AccountingInterim,
	7: store.AccountingOn, 8: store.AccountingOff,
	9: store.AccountingStart, 10: store.AccountingStop, 11: store.AccountingStop, // Tunnel-Start, -Stop, -Reject
	12: store.AccountingStart, 13: store.AccountingStop, 14: store.AccountingStop} // Tunnel-Link-Start, -Stop, -Reject

// Read reads what a client reports. An error says why the request can be about no session.
func Read(p *radius.Packet, client *config.Client, dictionary *dict.Dictionary, from netip.Addr,
	now time.Time) (*session.Report, error) {
	status, ok := p.Integer(radius.AcctStatusType)
	if !ok {
		return nil, fmt.Errorf("no Acct-Status-Type")
	}
	r := &session.Report{Accounted: store.Accounted{At: now, Kind: kinds[status], Client: client.Name,
		Source: from.String(), NAS: from.String(), Silence: client.Sessions.Silence()}}
	if r.Kind == "" {
		return nil, fmt.Errorf("Acct-Status-Type %d is not known", status)
	}
	read(&r.Accounted, p)
	r.Classes = classes(p)
	if r.Session == "" && r.Kind != store.AccountingOn && r.Kind != store.AccountingOff {
		return nil, fmt.Errorf("no Acct-Session-Id")
	}
	if at, ok := p.Integer(radius.EventTimestamp); ok {
		r.Stamp = time.Unix(int64(at), 0)
	}
	if delay, ok := p.Integer(radius.AcctDelayTime); ok {
		r.At = now.Add(-min(time.Duration(delay)*time.Second, maxDelay))
	}
	r.Seconds = number(p, radius.AcctSessionTime, maxSeconds)
	r.In, r.Out = wide(p, radius.AcctInputOctets, radius.AcctInputGigawords), wide(p, radius.AcctOutputOctets,
		radius.AcctOutputGigawords)
	r.PacketsIn, r.PacketsOut = number(p, radius.AcctInputPackets, 1<<32), number(p, radius.AcctOutputPackets, 1<<32)
	if cause, ok := p.Integer(radius.AcctTerminateCause); ok {
		r.Cause = dict.ByType(radius.AcctTerminateCause).ValueName(cause)
	}
	r.Attributes = attributes(p, dictionary)
	return r, nil
}

// read takes the attributes that name the session, the person and the device.
func read(r *store.Accounted, p *radius.Packet) {
	var port, number, called, portType, six string
	for t, value := range p.Attributes() {
		switch t {
		case radius.UserName:
			r.Who = facts.Clean(value)
		case radius.AcctSessionID:
			r.Session = facts.Clean(value)
		case radius.NASIdentifier:
			r.NAS = facts.Clean(value)
		case radius.NASIPAddress, radius.NASIPv6Address:
			if addr := address(value); addr != "" && !p.Has(radius.NASIdentifier) {
				r.NAS = addr
			}
		case radius.CallingStationID:
			if mac, ok := facts.FormatMAC(string(value)); ok {
				r.MAC = mac
			}
		case radius.FramedIPAddress:
			r.Address = address(value)
		case radius.FramedIPv6Address:
			six = address(value)
		case radius.FramedIPv6Prefix:
			if six == "" {
				six = prefix(value)
			}
		case radius.TunnelPrivateGroupID:
			r.Applied = tagged(value)
		case radius.NASPortID:
			port = facts.Clean(value)
		case radius.NASPort:
			if v, ok := p.Integer(t); ok {
				number = strconv.FormatUint(uint64(v), 10)
			}
		case radius.CalledStationID:
			called = facts.Clean(value)
		case radius.NASPortType:
			if v, ok := p.Integer(t); ok {
				portType = dict.ByType(t).ValueName(v)
			}
		}
	}
	if r.Address == "" {
		r.Address = six
	}
	if port == "" {
		port = number
	}
	r.Place = place(port, called, portType)
}

// classes are the values of Class.
func classes(p *radius.Packet) (out [][]byte) {
	for t, value := range p.Attributes() {
		if t == radius.Class && len(out) < maxClasses {
			out = append(out, bytes.Clone(value)) // the buffer is about to be read into again
		}
	}
	return out
}

func number(p *radius.Packet, t byte, most int64) int64 {
	v, _ := p.Integer(t)
	return min(int64(v), most)
}

// wide is a counter of octets with its gigawords (RFC 2869 sections 5.1 and 5.2).
func wide(p *radius.Packet, low, high byte) int64 {
	l, _ := p.Integer(low)
	h, _ := p.Integer(high)
	return int64(h&0x7fffffff)<<32 | int64(l)
}

// attributes writes all attributes in words, without what is secret or about the transport.
func attributes(p *radius.Packet, dictionary *dict.Dictionary) []byte {
	list := make([]facts.Attribute, 0, 16)
	for t, value := range p.Attributes() {
		switch t {
		case radius.MessageAuthenticator, radius.ProxyState, radius.UserPassword:
			continue
		}
		for _, part := range dictionary.Describe(t, value) {
			if len(list) < maxAttributes {
				list = append(list, facts.Attribute{Name: part.Name, Value: part.Value})
			}
		}
	}
	return facts.AppendAttributes(make([]byte, 0, 512), list)
}

func address(value []byte) string {
	addr, ok := netip.AddrFromSlice(value)
	if !ok || addr.IsUnspecified() {
		return ""
	}
	return addr.Unmap().String()
}

// prefix is the address of a Framed-IPv6-Prefix (RFC 3162 section 2.3).
func prefix(value []byte) string {
	if len(value) < 2 || len(value) > 18 || value[1] > 128 {
		return ""
	}
	var octets [16]byte
	copy(octets[:], value[2:])
	return netip.PrefixFrom(netip.AddrFrom16(octets), int(value[1])).Masked().String()
}

// tagged is a text behind a tag (RFC 2868 section 3.6).
func tagged(value []byte) string {
	if len(value) > 0 && value[0] <= 0x1f {
		value = value[1:]
	}
	return facts.Clean(value)
}

func place(port, called, portType string) string {
	if strings.HasPrefix(portType, "Wireless") {
		if ssid := facts.SSID(called); ssid != "" {
			return ssid
		}
	}
	return port
}
