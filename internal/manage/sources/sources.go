// Package sources remembers what each source address was last seen doing: when it asked, and what was wrong with
// requests that the standard says to discard silently. Nothing is silent for the administrator.
package sources

import (
	"context"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/store"
)

// Fault is why a request was discarded.
type Fault string

const (
	UnknownClient   Fault = "unknown-client"
	Disabled        Fault = "client-disabled"
	WrongSecret     Fault = "secret-mismatch"
	SuspectSecret   Fault = "secret-suspect"
	NoAuthenticator Fault = "no-message-authenticator"
	Malformed       Fault = "malformed"
	WrongCode       Fault = "unexpected-code"
	Busy            Fault = "busy"
	// NotRecorded is accounting that could not be put on the disk, so it was not answered.
	NotRecorded Fault = "not-recorded"
	// Replayed is an Accounting-On or -Off that is older than what came before.
	Replayed Fault = "replayed"
	// Panicked is a request that hit a fault of ours.
	Panicked Fault = "service-fault"
	// NoSecret is a client that has no secret for what it speaks.
	NoSecret Fault = "no-secret"
	// PlainBody is a TACACS+ packet that is not obfuscated, from a client that has to obfuscate them.
	PlainBody Fault = "tacacs-not-obfuscated"
	// WrongGearSecret is a TACACS+ packet that does not come out as one.
	WrongGearSecret Fault = "tacacs-secret-mismatch"
	// BadGear is what no TACACS+ packet may be.
	BadGear Fault = "tacacs-malformed"
	// TLSFailed is a connection whose TLS failed, or whose certificate is not the client's.
	TLSFailed Fault = "tls"
)

// Words explains a fault: what happens, and the likely cause with the remedy.
func (f Fault) Words() (sentence, remedy string) {
	switch f {
	case UnknownClient:
		return "sends requests but is not a known client", "Add it as a client, or stop it from sending. It may use " +
			"a different address than you expect: devices with several interfaces choose one."
	case Disabled:
		return "sends requests, but the client is disabled", "Enable the client, or stop the device from sending."
	case WrongSecret:
		return "uses a secret that does not match", "It was mistyped on the device, or changed on one side only. " +
			"Enter the same secret on both sides."
	case SuspectSecret:
		return "sends passwords that cannot be read", "Most likely its secret does not match. Enable " +
			"Message-Authenticator on the device to be sure."
	case NoAuthenticator:
		return "sends requests without the required Message-Authenticator",
			"Enable Message-Authenticator on the device. If that is not possible, set the client to auto or off, and " +
				"accept that its replies can be forged."
	case Malformed:
		return "sends packets that are not RADIUS", "Another protocol is sent to this port, or the device is faulty."
	case WrongCode:
		return "sends packets that this port does not answer",
			"Accounting and dynamic authorization use other ports; check the port numbers on the device."
	case NoSecret:
		return "uses a protocol for which the client has no secret",
			"Set a secret for this protocol, or stop the device from using it."
	case PlainBody:
		return "sends TACACS+ without obfuscation, so anyone on the path can read its passwords",
			"Set the shared secret on the device, or use TLS. If neither is possible, allow plain packets for the " +
				"client."
	case WrongGearSecret:
		return "uses a TACACS+ secret that does not match",
			"It was mistyped on the device, or changed on one side only. Enter the same TACACS+ secret on both sides."
	case BadGear:
		return "sends malformed TACACS+ packets", "Another protocol is sent to this port, or the device is faulty."
	case TLSFailed:
		return "failed TLS authentication", "Check the certificate of the device, the name in it, and the trust list " +
			"of the client."
	case Busy:
		return "was not answered, because too many requests were waiting",
			"A directory answers too slowly. Run its test."
	case NotRecorded:
		return "was not answered, because its accounting could not be recorded",
			"Now says what is wrong with the disk. The device sends the record again."
	case Replayed:
		return "sent an Accounting-On or -Off that is older than what it sent before",
			"No session was ended by it. Either the device had started with a clock that was not set, or somebody on " +
				"the way repeats what was captured."
	case Panicked:
		return "sent a request that triggered a fault in Tollgate Key",
			"Run the checkup: it names the fault. Report it " +
				"with what the log says."
	}
	return string(f), ""
}

// Problem is a fault with its history at one address.
type Problem struct {
	Fault  Fault     `json:"fault"`
	Detail string    `json:"detail,omitempty"`
	Since  time.Time `json:"since"`
	Last   time.Time `json:"last"`
	Count  int       `json:"count"`
}

// Source is one source address.
type Source struct {
	Address netip.Addr `json:"address"`
	// Client is the ID of the client it belongs to, "" if none.
	Client string `json:"client,omitempty"`
	// Seen is the last good request.
	Seen time.Time `json:"seen,omitzero"`
	// SeenGear is the last good request over TACACS+.
	SeenGear time.Time `json:"seenGear,omitzero"`
	// SeenTLS is the last good request over TLS, of either protocol.
	SeenTLS time.Time `json:"seenTls,omitzero"`
	Good    int64     `json:"good"`
	Dropped int64     `json:"dropped"`
	// Signs tells that it was seen with a Message-Authenticator, so mode auto requires one from now on.
	Signs   bool     `json:"signs"`
	Problem *Problem `json:"problem,omitempty"`
	// Earlier are the problems before that, the latest last.
	Earlier []Problem `json:"earlier,omitempty"`
}

// Current reports whether the problem is still the state of things: no good request came after it.
func (c *Source) Current() bool {
	if c.Problem == nil {
		return false
	}
	seen := c.Seen
	switch {
	case c.Problem.Fault == TLSFailed:
		seen = c.SeenTLS
	case strings.HasPrefix(string(c.Problem.Fault), "tacacs-"):
		seen = c.SeenGear
	}
	return c.Problem.Last.After(seen)
}

// LastGood is the last good request over any protocol.
func (c *Source) LastGood() time.Time {
	if c.SeenGear.After(c.Seen) {
		return c.SeenGear
	}
	return c.Seen
}

const (
	maxKnown   = 100_000
	maxUnknown = 1_000
	saveEvery  = 10 * time.Second
)

// Registry keeps the sources. It is safe for concurrent use.
type Registry struct {
	mu      sync.Mutex
	known   map[netip.Addr]*Source
	unknown map[netip.Addr]*Source
	changed map[netip.Addr]bool
	drops   map[int64]int // minute since 1970 -> discarded
	totals  map[Fault]int64
}

// Open reads what was kept.
func Open(ctx context.Context, s *store.Store) (*Registry, error) {
	r := &Registry{known: map[netip.Addr]*Source{}, unknown: map[netip.Addr]*Source{}, changed: map[netip.Addr]bool{},
		drops: map[int64]int{}, totals: map[Fault]int64{}}
	rows, err := s.Contacts(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		var c Source
		if json.Unmarshal(row.Contact, &c) == nil && c.Address.IsValid() {
			r.known[c.Address] = &c
		}
	}
	return r, nil
}

// Good notes a request of a client that was well formed and authentic.
func (r *Registry) Good(addr netip.Addr, client string, signed bool, now time.Time) {
	r.good(addr, client, func(c *Source) {
		c.Seen = now
		c.Signs = c.Signs || signed
	})
}

// GoodTLS notes that a client has proven itself over TLS.
func (r *Registry) GoodTLS(addr netip.Addr, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if c := r.known[addr]; c != nil {
		c.SeenTLS = now
		r.changed[addr] = true
	}
}

// Unlearn forgets that the addresses of a client were seen with a Message-Authenticator, so that mode auto takes
// requests without it again, until the next with one. It returns how many addresses that were.
func (r *Registry) Unlearn(client string) (n int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for addr, c := range r.known {
		if c.Client == client && c.Signs {
			c.Signs = false
			r.changed[addr] = true
			n++
		}
	}
	return n
}

// GoodGear notes a session of TACACS+ whose first packet came out right.
func (r *Registry) GoodGear(addr netip.Addr, client string, now time.Time) {
	r.good(addr, client, func(c *Source) { c.SeenGear = now })
}

func (r *Registry) good(addr netip.Addr, client string, note func(*Source)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	c := r.known[addr]
	if c == nil {
		if len(r.known) >= maxKnown {
			return
		}
		delete(r.unknown, addr)
		c = &Source{Address: addr}
		r.known[addr] = c
	}
	c.Client = client
	c.Good++
	note(c)
	r.changed[addr] = true
}

// Signs reports whether the address was ever seen with a valid Message-Authenticator.
func (r *Registry) Signs(addr netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	c := r.known[addr]
	return c != nil && c.Signs
}

// Discard notes a request that was discarded, or looks wrong. client is "" for an unknown source.
func (r *Registry) Discard(addr netip.Addr, client string, fault Fault, detail string, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.totals[fault]++
	minute := now.Unix() / 60
	if r.drops[minute]++; len(r.drops) > 130 {
		for m := range r.drops {
			if m < minute-125 {
				delete(r.drops, m)
			}
		}
	}
	list, limit := r.known, maxKnown
	if client == "" {
		list, limit = r.unknown, maxUnknown
	}
	c := list[addr]
	if c == nil {
		if len(list) >= limit {
			evict(list)
		}
		c = &Source{Address: addr}
		list[addr] = c
	}
	c.Client = client
	c.Dropped++
	if c.Problem == nil || c.Problem.Fault != fault || !c.Current() {
		c.turn(fault, now)
	}
	c.Problem.Detail, c.Problem.Last = detail, now
	c.Problem.Count++
	if client != "" {
		r.changed[addr] = true
	}
}

const (
	// maxEarlier bounds the problems that are kept of an address. The same fault again within joinsAfter shares an
	// entry, so that a device which comes and goes does not fill the list.
	maxEarlier = 8
	joinsAfter = time.Hour
)

// turn begins another problem, or goes on with one that was there lately.
func (c *Source) turn(fault Fault, now time.Time) {
	if c.Problem != nil {
		c.keep(*c.Problem)
	}
	next := Problem{Fault: fault, Since: now}
	if at := slices.IndexFunc(c.Earlier, func(p Problem) bool {
		return p.Fault == fault && p.Last.After(c.LastGood()) && now.Sub(p.Last) < joinsAfter
	}); at >= 0 { // two faults in turn
		next = c.Earlier[at]
		c.Earlier = slices.Delete(c.Earlier, at, at+1)
	}
	if len(c.Earlier) > maxEarlier {
		c.Earlier = slices.Clone(c.Earlier[len(c.Earlier)-maxEarlier:])
	}
	c.Problem = &next
}

// keep puts a problem among the earlier ones.
func (c *Source) keep(p Problem) {
	if n := len(c.Earlier); n > 0 && c.Earlier[n-1].Fault == p.Fault && p.Since.Sub(c.Earlier[n-1].Last) < joinsAfter {
		last := &c.Earlier[n-1]
		last.Last, last.Detail, last.Count = p.Last, p.Detail, last.Count+p.Count
		return
	}
	c.Earlier = append(c.Earlier, p)
}

// evict removes the one heard from least recently among a few; a flood of made-up sources costs no more.
func evict(list map[netip.Addr]*Source) {
	var oldest *Source
	n := 0
	for _, c := range list {
		if oldest == nil || c.last().Before(oldest.last()) {
			oldest = c
		}
		if n++; n == 16 {
			break
		}
	}
	delete(list, oldest.Address)
}

func (c *Source) last() time.Time {
	if c.Problem != nil && c.Problem.Last.After(c.LastGood()) {
		return c.Problem.Last
	}
	return c.LastGood()
}

// All lists copies of all sources, those heard from last first.
func (r *Registry) All() []Source {
	r.mu.Lock()
	out := make([]Source, 0, len(r.known)+len(r.unknown))
	for _, list := range []map[netip.Addr]*Source{r.known, r.unknown} {
		for _, c := range list {
			out = append(out, c.copy())
		}
	}
	r.mu.Unlock()
	slices.SortFunc(out, func(a, b Source) int { return b.last().Compare(a.last()) })
	return out
}

func (c *Source) copy() Source {
	out := *c
	if c.Problem != nil {
		p := *c.Problem
		out.Problem = &p
	}
	out.Earlier = slices.Clone(c.Earlier)
	return out
}

// Forget drops a source, for instance an unknown source that was dealt with.
func (r *Registry) Forget(addr netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.unknown, addr)
}

// DropsByMinute counts the discarded requests of the last two hours by minute since 1970.
func (r *Registry) DropsByMinute() map[int64]int {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make(map[int64]int, len(r.drops))
	for m, n := range r.drops {
		out[m] = n
	}
	return out
}

// Run keeps the sources of clients in the store until the context ends.
func (r *Registry) Run(ctx context.Context, s *store.Store) {
	tick := time.NewTicker(saveEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			r.save(s)
			return
		case <-tick.C:
			r.save(s)
		}
	}
}

func (r *Registry) save(s *store.Store) {
	r.mu.Lock()
	rows := make([]store.Contact, 0, len(r.changed))
	for addr := range r.changed {
		if c := r.known[addr]; c != nil {
			text, err := json.Marshal(c)
			if err == nil {
				rows = append(rows, store.Contact{Address: addr.String(), Contact: text})
			}
		}
	}
	clear(r.changed)
	r.mu.Unlock()
	if len(rows) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := s.SaveContacts(ctx, rows); err != nil {
		r.mu.Lock()
		for _, row := range rows { // tried again next time
			if addr, err := netip.ParseAddr(row.Address); err == nil {
				r.changed[addr] = true
			}
		}
		r.mu.Unlock()
	}
}
