package server

import (
	"crypto/rand"
	"crypto/tls"
	"errors"
	"slices"
	"sync"
	"time"

	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
)

// Sessions keeps the TLS sessions that may be resumed. crypto/tls writes the ticket before anybody is proven inside
// the tunnel, so a ticket holds no identity: it is a random handle of an entry here, and the entry is of no use until
// its conversation succeeded. Entries are bounded in number and age, and each ticket is taken once.
type Sessions struct {
	mu      sync.Mutex
	entries map[handle]*session
	order   []handle // as they came, to forget the oldest
	limit   int
}

type handle [32]byte

type session struct {
	state []byte
	scope string
	at    time.Time
	// proofs are who the conversation proved, none while it is under way.
	proofs []proof.Proof
}

// NewSessions keeps at most limit sessions.
func NewSessions(limit int) *Sessions {
	return &Sessions{entries: map[handle]*session{}, limit: limit}
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
			if m.again = m.c.asker.Resume(m.c.ctx, entry.proofs); len(m.again) != len(entry.proofs) {
				return nil, nil
			}
		}
		state, err := tls.ParseSessionState(entry.state)
		if err != nil {
			return nil, errors.New("a kept session cannot be read")
		}
		m.resumed = entry
		return state, nil
	}
}

func (s *Sessions) keep(entry *session) []byte {
	var h handle
	rand.Read(h[:])
	s.mu.Lock()
	defer s.mu.Unlock()
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
	s.entries[h] = entry
	s.order = append(s.order, h)
	return h[:]
}

// take returns the session of a ticket if it may be resumed under these settings, and forgets it.
func (s *Sessions) take(identity []byte, scope string, settings *Settings) *session {
	if len(identity) != len(handle{}) {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	entry := s.entries[handle(identity)]
	if entry == nil || len(entry.proofs) == 0 || entry.scope != scope || time.Since(entry.at) > settings.Resume {
		return nil
	}
	for _, p := range entry.proofs {
		if !slices.Contains(settings.Methods, p.Method()) {
			return nil
		}
	}
	delete(s.entries, handle(identity))
	return entry
}

// proven makes the sessions of a conversation usable.
func (s *Sessions) proven(m *tlsMethod, proofs []proof.Proof) {
	if m.inside != outside {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, entry := range m.c.made {
		entry.proofs = proofs
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
