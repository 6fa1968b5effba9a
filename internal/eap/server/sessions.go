package server

import (
	"crypto/rand"
	"crypto/tls"
	"slices"
	"sync"
	"time"

	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
)

// Sessions keeps the TLS sessions that may be resumed. crypto/tls writes the ticket before anybody is proven inside
// the tunnel, so a ticket holds no identity: it is a random handle of an entry here, and the entry is of no use until
// its conversation succeeded. Entries are bounded in number and age, and each ticket is taken once; where there are
// several nodes, once on each within the fraction of a second in which they tell each other.
type Sessions struct {
	mu      sync.Mutex
	entries map[handle]*session
	order   []handle // as they came, to forget the oldest
	limit   int
	// tell tells other nodes, nil for nobody.
	tell func(Told)
}

type handle [32]byte

type session struct {
	handle handle
	state  []byte
	scope  string
	at     time.Time
	// before is whom the conversation proved, none while it is under way.
	before []proof.Before
}

// Told is what nodes tell each other of a session that may be resumed, or, without State, of one that was.
type Told struct {
	Handle []byte `json:"handle"`
	State  []byte `json:"state,omitempty"`
	Scope  string `json:"scope,omitempty"`
	// Age is how old it is; the clocks of nodes differ.
	Age    time.Duration  `json:"age,omitempty"`
	Before []proof.Before `json:"before,omitempty"`
}

// maxProven bounds who may be proven by a session that another node tells of: a computer and a person.
const maxProven = 2

// NewSessions keeps at most limit sessions.
func NewSessions(limit int) *Sessions {
	return &Sessions{entries: map[handle]*session{}, limit: limit}
}

// Tell has other nodes told of sessions, so that they can be resumed there.
func (s *Sessions) Tell(tell func(Told)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tell = tell
}

// Heard takes what another node told.
func (s *Sessions) Heard(t Told) {
	if len(t.Handle) != len(handle{}) {
		return
	}
	h := handle(t.Handle)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case len(t.State) == 0:
		delete(s.entries, h)
	case len(t.Before) == 0 || len(t.Before) > maxProven || s.entries[h] != nil:
	default:
		s.put(&session{h, t.State, t.Scope, time.Now().Add(-max(0, t.Age)), t.Before})
	}
}

// attach makes a TLS configuration use the sessions for one method.
func (s *Sessions) attach(config *tls.Config, m *tlsMethod) {
	settings := m.c.settings
	if settings.Resume <= 0 || m.inside != outside {
		config.SessionTicketsDisabled = true
		return
	}
	scope := settings.Scope + m.kind.String()
	config.WrapSession = func(_ tls.ConnectionState, state *tls.SessionState) ([]byte, error) {
		octets, err := state.Bytes()
		if err != nil {
			return nil, err
		}
		entry := &session{state: octets, scope: scope, at: time.Now()}
		m.c.made = append(m.c.made, entry)
		if m.resumed != nil {
			entry.at = m.resumed.at // resuming does not make a session younger
		}
		return s.keep(entry), nil
	}
	config.UnwrapSession = func(identity []byte, _ tls.ConnectionState) (*tls.SessionState, error) {
		entry := s.take(identity, scope, settings)
		if entry == nil {
			return nil, nil // a full handshake follows
		}
		if m.kind != eap.TLS { // there crypto/tls shows the certificate again
			if m.again = m.c.asker.Resume(m.c.ctx, entry.before); len(m.again) != len(entry.before) {
				return nil, nil
			}
		}
		state, err := tls.ParseSessionState(entry.state)
		if err != nil { // another node made it, by another version perhaps
			return nil, nil
		}
		m.resumed = entry
		return state, nil
	}
}

func (s *Sessions) keep(entry *session) []byte {
	rand.Read(entry.handle[:])
	s.mu.Lock()
	defer s.mu.Unlock()
	s.put(entry)
	return entry.handle[:]
}

// put keeps an entry; the oldest one makes room.
func (s *Sessions) put(entry *session) {
	for len(s.order) > 0 && len(s.entries) >= s.limit {
		delete(s.entries, s.order[0])
		s.order = s.order[1:]
	}
	if len(s.order) > 2*s.limit { // mostly of sessions that were resumed and are gone
		kept := make([]handle, 0, len(s.entries))
		for _, old := range s.order {
			if s.entries[old] != nil {
				kept = append(kept, old)
			}
		}
		s.order = kept
	}
	s.entries[entry.handle] = entry
	s.order = append(s.order, entry.handle)
}

// take returns the session of a ticket if it may be resumed under these settings, and forgets it.
func (s *Sessions) take(identity []byte, scope string, settings *Settings) *session {
	if len(identity) != len(handle{}) {
		return nil
	}
	s.mu.Lock()
	entry, tell := s.entries[handle(identity)], s.tell
	if entry != nil && !entry.fits(scope, settings) {
		entry = nil
	}
	if entry != nil {
		delete(s.entries, entry.handle)
	}
	s.mu.Unlock()
	if entry != nil && tell != nil {
		tell(Told{Handle: entry.handle[:]})
	}
	return entry
}

// fits reports whether a session may be resumed under these settings.
func (s *session) fits(scope string, settings *Settings) bool {
	if len(s.before) == 0 || s.scope != scope || time.Since(s.at) > settings.Resume {
		return false
	}
	for _, b := range s.before {
		if !slices.Contains(settings.Methods, b.Method) {
			return false
		}
	}
	return true
}

// proven makes the sessions of a conversation usable.
func (s *Sessions) proven(m *tlsMethod, proofs []proof.Proof) {
	if m.inside != outside {
		return
	}
	before := make([]proof.Before, len(proofs))
	for i, p := range proofs {
		before[i] = p.Before()
	}
	s.mu.Lock()
	tell := s.tell
	for _, entry := range m.c.made {
		entry.before = before
	}
	s.mu.Unlock()
	if tell == nil {
		return
	}
	for _, entry := range m.c.made {
		tell(Told{entry.handle[:], entry.state, entry.scope, time.Since(entry.at), before})
	}
}

// Len counts the sessions kept.
func (s *Sessions) Len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.entries)
}

// Forget drops all sessions, so that everybody proves everything anew.
func (s *Sessions) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.entries)
	s.order = nil
}
