package resolve

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// payload is how much fits into an answer by UDP (RFC 6891); what is longer comes by TCP.
const payload = 1232

// maxRecords bounds what is taken of one answer.
const maxRecords = 256

// servers asks the servers, the next one beside those that have not answered after a moment, or at once if one answers
// that it cannot tell. Those that were mute lately come last.
func (r *Resolver) servers(ctx context.Context, q question) (*answer, *net.DNSError) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	list := r.inOrder()
	if len(list) == 0 {
		return nil, &net.DNSError{Err: "no DNS server is known", Name: strings.TrimSuffix(q.name, "."),
			IsTemporary: true}
	}
	type outcome struct {
		server string
		a      *answer
		err    error
	}
	come := make(chan outcome, len(list))
	asked, open := 0, 0
	since := map[string]time.Time{} // those who have not answered yet
	next := func() {
		if asked == len(list) {
			return
		}
		server := list[asked]
		asked, open = asked+1, open+1
		since[server] = r.now()
		go func() {
			a, err := r.one(ctx, server, q)
			come <- outcome{server, a, err}
		}()
	}
	next()
	timer := time.NewTimer(r.after)
	defer timer.Stop()
	var last error
	for open > 0 {
		select {
		case o := <-come:
			open--
			if !timedOut(o.err) {
				delete(since, o.server)
			}
			if o.err == nil {
				r.silent(since)
				return o.a, nil
			}
			last = o.err
			next()
		case <-timer.C:
			next()
			timer.Reset(r.after)
		case <-ctx.Done():
			last, open = context.DeadlineExceeded, 0
		}
	}
	r.silent(since)
	text := last.Error()
	if timedOut(last) {
		text = "no answer in time"
	}
	return nil, &net.DNSError{Err: text, Name: strings.TrimSuffix(q.name, "."), Server: strings.Join(list[:asked],
		", "),
		IsTemporary: true, IsTimeout: timedOut(last)}
}

// timedOut reports whether an error is that nothing came in time.
func timedOut(err error) bool {
	var network net.Error
	return errors.As(err, &network) && network.Timeout()
}

// silent notes servers that have not answered for a moment.
func (r *Resolver) silent(since map[string]time.Time) {
	now := r.now()
	r.mu.Lock()
	defer r.mu.Unlock()
	for server, asked := range since {
		if now.Sub(asked) >= r.after {
			r.mute[server] = now
		}
	}
}

// inOrder are the servers to ask, those that were mute lately last.
func (r *Resolver) inOrder() []string {
	list, now := slices.Clone(r.list()), r.now()
	r.mu.Lock()
	defer r.mu.Unlock()
	slices.SortStableFunc(list, func(a, b string) int { return cmp.Compare(r.rank(a, now), r.rank(b, now)) })
	return list
}

func (r *Resolver) rank(server string, now time.Time) int {
	if since, mute := r.mute[server]; mute && now.Sub(since) < muteFor {
		return 1
	}
	return 0
}

func (r *Resolver) list() []string {
	if r.system != nil {
		return r.system.servers()
	}
	return r.fixed
}

// one asks one server. An error means that it cannot tell; that a name does not exist is an answer.
func (r *Resolver) one(ctx context.Context, server string, q question) (*answer, error) {
	a, err := r.exchange(ctx, server, q)
	if err == nil {
		r.mu.Lock()
		delete(r.mute, server)
		r.mu.Unlock()
	}
	return a, err
}

func (r *Resolver) exchange(ctx context.Context, server string, q question) (*answer, error) {
	request := new(dns.Msg)
	request.SetQuestion(q.name, q.kind)
	request.SetEdns0(payload, false)
	client := dns.Client{Net: "udp", UDPSize: payload, Timeout: longest}
	reply, _, err := client.ExchangeContext(ctx, request, server)
	if err == nil && reply.Truncated {
		client.Net = "tcp"
		reply, _, err = client.ExchangeContext(ctx, request, server)
	}
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s: %w", server, err)
	case len(reply.Question) != 1 || !strings.EqualFold(reply.Question[0].Name, q.name) ||
		reply.Question[0].Qtype != q.kind:
		return nil, fmt.Errorf("%s answers another question than it was asked", server)
	case reply.Rcode == dns.RcodeNameError:
		return r.nothing(reply), nil
	case reply.Rcode != dns.RcodeSuccess:
		return nil, fmt.Errorf("%s answers %s", server, dns.RcodeToString[reply.Rcode])
	}
	return r.read(reply, q), nil
}

// read takes what belongs to the question, by way of aliases.
func (r *Resolver) read(reply *dns.Msg, q question) *answer {
	records := reply.Answer[:min(len(reply.Answer), maxRecords)]
	name, ttl := q.name, uint32(maxTTL/time.Second)
	for range 16 { // a chain of aliases
		at := slices.IndexFunc(records, func(rr dns.RR) bool {
			alias, ok := rr.(*dns.CNAME)
			return ok && strings.EqualFold(alias.Hdr.Name, name)
		})
		if at < 0 {
			break
		}
		alias := records[at].(*dns.CNAME)
		name, ttl = alias.Target, min(ttl, alias.Hdr.Ttl)
	}
	out := &answer{}
	for _, record := range records {
		if !strings.EqualFold(record.Header().Name, name) || record.Header().Rrtype != q.kind {
			continue
		}
		ttl = min(ttl, record.Header().Ttl)
		switch v := record.(type) {
		case *dns.A:
			if addr, ok := netip.AddrFromSlice(v.A.To4()); ok {
				out.addresses = append(out.addresses, addr)
			}
		case *dns.AAAA:
			if addr, ok := netip.AddrFromSlice(v.AAAA.To16()); ok {
				out.addresses = append(out.addresses, addr)
			}
		case *dns.SRV:
			out.services = append(out.services, Service{Host: strings.ToLower(strings.TrimSuffix(v.Target, ".")),
				Port: int(v.Port), Priority: v.Priority, Weight: v.Weight})
		}
	}
	if len(out.addresses)+len(out.services) == 0 {
		return r.nothing(reply)
	}
	slices.SortStableFunc(out.services, func(a, b Service) int {
		return cmp.Or(cmp.Compare(a.Priority, b.Priority), cmp.Compare(b.Weight, a.Weight))
	})
	out.until = r.now().Add(min(max(time.Duration(ttl)*time.Second, minTTL), maxTTL))
	out.expired = out.until
	return out
}

// nothing says that there is nothing, for as long as the zone lets one believe that (RFC 2308 section 5).
func (r *Resolver) nothing(reply *dns.Msg) *answer {
	ttl := notThere
	for _, record := range reply.Ns {
		if soa, ok := record.(*dns.SOA); ok {
			ttl = min(ttl, max(time.Duration(min(soa.Minttl, soa.Hdr.Ttl))*time.Second, minTTL))
		}
	}
	return &answer{absent: true, until: r.now().Add(ttl)}
}

// State is how one server answers.
type State struct {
	Server string
	// Took is how long the answer took; Err says why there was none.
	Took time.Duration
	Err  error
}

// Probe asks every server for a host, side by side, and says of each whether it answers at all.
func (r *Resolver) Probe(ctx context.Context, host string) []State {
	ctx, cancel := context.WithTimeout(ctx, longest/2)
	defer cancel()
	list := r.list()
	out := make([]State, len(list))
	done := make(chan int, len(list))
	for i, server := range list {
		go func() {
			begun := r.now()
			_, err := r.one(ctx, server, question{dns.CanonicalName(host), dns.TypeA})
			out[i] = State{Server: server, Took: r.now().Sub(begun), Err: err}
			done <- i
		}()
	}
	for range list {
		<-done
	}
	return out
}
