package lab

import (
	"fmt"
	"net"
	"strconv"
	"strings"

	"github.com/miekg/dns"
)

// DNS is a stand-in for the DNS server of the domain: it knows its domain controller, and nothing else.
type DNS struct{ server *dns.Server }

// ServeDNS answers for the domain on a UDP address; the directory is at host:port.
func ServeDNS(address, directory string) (*DNS, error) {
	host, text, err := net.SplitHostPort(directory)
	if err != nil {
		return nil, err
	}
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return nil, err
	}
	socket, err := net.ListenPacket("udp", address)
	if err != nil {
		return nil, fmt.Errorf("the stand-in DNS server: %w", err)
	}
	controller := "dc1." + Domain + "."
	records := map[string]dns.RR{}
	for _, name := range []string{"_ldap._tcp." + Domain + ".", "_ldap._tcp.dc._msdcs." + Domain + "."} {
		records[name+"SRV"] = &dns.SRV{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeSRV, Class: dns.ClassINET,
			Ttl: 60}, Priority: 0, Weight: 100, Port: uint16(port), Target: controller}
	}
	for _, name := range []string{controller, Domain + "."} {
		records[name+"A"] = &dns.A{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60},
			A: net.ParseIP(host)}
	}
	d := &DNS{&dns.Server{PacketConn: socket, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, r *dns.Msg) {
		reply := new(dns.Msg)
		reply.SetReply(r)
		reply.Authoritative = true
		if len(r.Question) == 1 {
			name := strings.ToLower(r.Question[0].Name)
			if record := records[name+dns.TypeToString[r.Question[0].Qtype]]; record != nil {
				reply.Answer = append(reply.Answer, record)
			} else if records[name+"A"] == nil && records[name+"SRV"] == nil {
				reply.SetRcode(r, dns.RcodeNameError)
			}
		}
		w.WriteMsg(reply)
	})}}
	go d.server.ActivateAndServe()
	return d, nil
}

// Address is where it listens.
func (d *DNS) Address() string { return d.server.PacketConn.LocalAddr().String() }

// Close ends it.
func (d *DNS) Close() { d.server.Shutdown() }
