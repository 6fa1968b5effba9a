package upstream

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

// Settings are those of a remote server: one machine, or a group of several that hold the same.
type Settings struct {
	Name    string
	Members []Settled
	// Weighted shares requests out by weight; otherwise the first that answers is asked.
	Weighted bool
	// Secret is the shared secret over UDP. TLS is how to connect over TLS, nil for UDP;
	// Datagrams makes that DTLS.
	Secret    string
	TLS       *tls.Config
	Datagrams bool
	// Timeout is how long each of Tries is waited for; over TLS a request is sent once, over DTLS once a second.
	Timeout time.Duration
	Tries   int
	// Unsigned accepts answers without Message-Authenticator over UDP.
	Unsigned bool
	// Dead is how long a member that did not answer is asked last. One that answers Status-Server is asked by that
	// every Probe, and counts as there again as soon as it answers.
	Dead, Probe time.Duration
	Rules       Rules
}

// Settled is one member of a group.
type Settled struct {
	Address netip.AddrPort
	// Accounting is where its accounting goes.
	Accounting netip.AddrPort
	Weight     int
}

// Rules change requests on their way to a remote server. Request returns the values that an attribute becomes, none to
// leave it out; Add are attributes to add. The zero value changes nothing.
type Rules struct {
	Request func(t byte, value []byte) [][]byte
	Add     []Attribute
}

// pass adds an attribute of a request.
func (r *Rules) pass(b *radius.Builder, t byte, value []byte) {
	if r.Request == nil {
		b.Add(t, value)
		return
	}
	for _, value := range r.Request(t, value) {
		b.Add(t, value)
	}
}

func (r *Rules) add(b *radius.Builder) {
	for _, a := range r.Add {
		b.Add(a.Type, a.Value)
	}
}

// Server is a remote server in use. It is safe for concurrent use.
type Server struct {
	Settings
	key     *radius.Key
	rules   *Rules
	members []*member
	sticky  sticky
	waiting atomic.Int64
	ctx     context.Context
	stop    context.CancelFunc
	begin   sync.Once
	probing sync.WaitGroup
}

// maxWaiting bounds how many requests wait for one server at once. One that hangs must not hold up the others.
const maxWaiting = 256

// member is one machine.
type member struct {
	Settled
	link *Link // over TLS
	// dead is until when it is asked last, in nanoseconds since 1970; speaks tells that it answers Status-Server.
	dead   atomic.Int64
	speaks atomic.Bool

	mu      sync.Mutex
	heard   time.Time // when it last answered
	since   time.Time // since when it has not, zero while it does
	last    string    // what went wrong last
	took    time.Duration
	asked   int64
	answers int64
}

// Open makes a server ready. It has to be closed.
func Open(settings Settings) *Server {
	s := &Server{Settings: settings, key: radius.NewKey([]byte(settings.Secret))}
	s.rules = &s.Settings.Rules
	for _, m := range settings.Members {
		one := &member{Settled: m}
		if s.TLS != nil {
			link := NewLink
			if s.Datagrams {
				link = NewDatagramLink
			}
			one.link = link(netip.Addr{}, m.Address.String(), s.TLS, s.Timeout)
		}
		s.members = append(s.members, one)
	}
	s.ctx, s.stop = context.WithCancel(context.Background())
	return s
}

// Begin begins to probe it.
func (s *Server) Begin() {
	s.begin.Do(func() {
		for _, m := range s.members {
			if s.Probe > 0 && s.ctx.Err() == nil {
				s.probing.Go(func() { s.probe(s.ctx, m) })
			}
		}
	})
}

// Close ends probing and connections. Requests under way get an error.
func (s *Server) Close() {
	s.stop()
	for _, m := range s.members {
		if m.link != nil {
			m.link.Close()
		}
	}
	s.probing.Wait()
}

// Silent reports whether none of its members answered lately.
func (s *Server) Silent(now time.Time) bool {
	return !slices.ContainsFunc(s.members, func(m *member) bool { return !m.silent(now) })
}

func (m *member) silent(now time.Time) bool { return now.UnixNano() < m.dead.Load() }

// Holds reports whether a State belongs to a conversation with this server.
func (s *Server) Holds(state []byte) bool { return len(state) > 0 && s.sticky.find(state) != nil }

// order lists the members in the order to ask them: whoever holds the conversation, then those that answer, by their
// place or their weight, then the others.
func (s *Server) order(state []byte, now time.Time) []*member {
	out := slices.Clone(s.members)
	if s.Weighted {
		shuffle(out)
	}
	holder := s.sticky.find(state)
	rank := func(m *member) int {
		switch {
		case m == holder:
			return 0
		case m.silent(now):
			return 2
		}
		return 1
	}
	slices.SortStableFunc(out, func(a, b *member) int { return rank(a) - rank(b) })
	return out
}

// shuffle puts members in an order in which each is first as often as its weight says.
func shuffle(list []*member) {
	for i := range list {
		all := 0
		for _, m := range list[i:] {
			all += m.Weight
		}
		if all <= 0 {
			return
		}
		at := mathrand.IntN(all)
		for j := i; j < len(list); j++ {
			if at -= list[j].Weight; at < 0 {
				list[i], list[j] = list[j], list[i]
				break
			}
		}
	}
}

// Forward asks the server what p asks us; theirs is the key of our client. Members are asked one after the other, each
// for at most the time-out of all tries.
func (s *Server) Forward(ctx context.Context, p *radius.Packet, theirs *radius.Key) (*Answer, error) {
	state := p.Get(radius.State)
	var answer *Answer
	err := s.each(ctx, state, func(m *member) error {
		err := s.ask(ctx, m, m.Address, func(identifier byte, authenticator [16]byte, key *radius.Key) ([]byte,
			[16]byte,
			error) {
			data, err := s.request(p, theirs, identifier, authenticator, key)
			return data, authenticator, err
		}, func(data []byte, proof [16]byte, key *radius.Key) (err error) {
			answer, err = s.read(bytes.Clone(data), proof, key)
			return err
		})
		if err == nil {
			answer.From = m.Address.String()
			if answer.Challenge() {
				for _, a := range answer.Attributes {
					if a.Type == radius.State {
						s.sticky.keep(a.Value, m)
					}
				}
			}
		}
		return err
	})
	return answer, err
}

// each asks one member after the other until one answers.
func (s *Server) each(ctx context.Context, state []byte, ask func(*member) error) error {
	if s.waiting.Add(1) > maxWaiting {
		s.waiting.Add(-1)
		return fmt.Errorf("%s: %d requests wait for it already", s.Name, maxWaiting)
	}
	defer s.waiting.Add(-1)
	var faults []error
	for _, m := range s.order(state, time.Now()) {
		err := ask(m)
		if err == nil {
			return nil
		}
		faults = append(faults, fmt.Errorf("%s at %s: %w", s.Name, m.Address, err))
		if errors.Is(err, ErrCircle) || errors.Is(err, errRequest) || ctx.Err() != nil {
			break
		}
	}
	return errors.Join(faults...)
}

// errRequest tells that the request cannot be written for the server, so that no member needs to be asked.
var errRequest = errors.New("the request cannot be passed on")

// ask asks one member, and notes whether it answered.
func (s *Server) ask(ctx context.Context, m *member, to netip.AddrPort, build Build, accept Accept) error {
	begun := time.Now()
	checked := func(identifier byte, authenticator [16]byte, key *radius.Key) ([]byte, [16]byte, error) {
		data, proof, err := build(identifier, authenticator, key)
		if err != nil && !errors.Is(err, ErrCircle) {
			err = fmt.Errorf("%w: %w", errRequest, err)
		}
		return data, proof, err
	}
	var err error
	if m.link != nil {
		err = m.link.Ask(ctx, checked, accept)
	} else {
		err = s.askUDP(ctx, to, checked, accept)
	}
	if m.link == nil && to != m.Address {
		return err // accounting goes to a port of its own, which says nothing about authentication
	}
	if err == nil || !errors.Is(err, errRequest) && !errors.Is(err, ErrCircle) && !errors.Is(err, context.Canceled) {
		m.note(err, begun, s.Dead)
	}
	return err
}

// note keeps what came of asking.
func (m *member) note(err error, begun time.Time, dead time.Duration) {
	now := time.Now()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.asked++
	if err != nil {
		if m.since.IsZero() {
			m.since = begun
		}
		m.last = err.Error()
		m.dead.Store(now.Add(dead).UnixNano())
		return
	}
	m.answers++
	m.heard, m.since, m.took = now, time.Time{}, now.Sub(begun)
	m.dead.Store(0)
}

func (s *Server) askUDP(ctx context.Context, to netip.AddrPort, build Build, accept Accept) error {
	var authenticator [16]byte
	rand.Read(authenticator[:])
	request, proof, err := build(authenticator[0], authenticator, s.key)
	if err != nil {
		return err
	}
	x, err := Dial(ctx, netip.Addr{}, to, s.Timeout, s.Tries)
	if err != nil {
		return err
	}
	defer x.Close()
	_, err = x.Ask(ctx, request, func(datagram []byte) error { return accept(datagram, proof, s.key) })
	return err
}

// probe asks a member by Status-Server now and then. Whether it speaks it at all is not known before its first answer;
// until then silence tells nothing.
func (s *Server) probe(ctx context.Context, m *member) {
	tick := time.NewTicker(s.Probe)
	defer tick.Stop()
	for {
		begun := time.Now()
		var err error
		if m.link != nil {
			err = m.link.Ask(ctx, buildStatus, acceptStatus)
		} else {
			err = s.askUDP(ctx, m.Address, buildStatus, acceptStatus)
		}
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			m.speaks.Store(true)
			m.note(nil, begun, s.Dead)
		case m.speaks.Load() || m.link != nil:
			m.note(err, begun, max(s.Dead, 2*s.Probe))
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// ReachAccounting reports whether any member answers a Status-Server where its accounting goes.
func (s *Server) ReachAccounting(ctx context.Context) bool {
	return s.each(ctx, nil, func(m *member) error {
		if m.link != nil {
			return m.link.Ask(ctx, buildStatus, acceptStatus)
		}
		return s.askUDP(ctx, m.Accounting, buildStatus, acceptStatus)
	}) == nil
}

// State is how a member is doing.
type State struct {
	Address netip.AddrPort
	Weight  int
	// Heard is when it last answered, Since since when it has not; both are zero if nobody has asked yet.
	Heard, Since time.Time
	// Fault is what went wrong last; Took how long the last answer took.
	Fault          string
	Took           time.Duration
	Asked, Answers int64
	// Speaks tells that it answers Status-Server; Version is that of RADIUS over TLS, "" without a connection.
	Speaks  bool
	Version string
	Silent  bool
}

// States lists how the members are doing.
func (s *Server) States() (out []State) {
	now := time.Now()
	for _, m := range s.members {
		m.mu.Lock()
		one := State{Address: m.Address, Weight: m.Weight, Heard: m.heard, Since: m.since, Took: m.took, Asked: m.asked,
			Answers: m.answers, Speaks: m.speaks.Load(), Silent: m.silent(now)}
		if !m.since.IsZero() {
			one.Fault = m.last
		}
		m.mu.Unlock()
		if m.link != nil {
			one.Version = m.link.Version()
		}
		out = append(out, one)
	}
	return out
}

// sticky remembers who holds which conversation, by State, for two minutes at least.
type sticky struct {
	mu       sync.Mutex
	now, old map[string]*member
	turned   time.Time
}

const (
	stickyFor = 2 * time.Minute
	maxSticky = 20_000
)

func (s *sticky) keep(state []byte, m *member) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := time.Now(); s.now == nil || now.Sub(s.turned) > stickyFor || len(s.now) >= maxSticky {
		s.old, s.now, s.turned = s.now, map[string]*member{}, now
	}
	s.now[string(state)] = m
}

func (s *sticky) find(state []byte) *member {
	if len(state) == 0 {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if m := s.now[string(state)]; m != nil {
		return m
	}
	return s.old[string(state)]
}
