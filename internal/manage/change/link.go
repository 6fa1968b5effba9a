package change

import (
	"fmt"
	"net/netip"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/upstream"
)

// links are the connections over TLS to clients that take changes so. They are made when they are needed.
type links struct {
	mu sync.Mutex
	of map[string]*linked // by identifier of the client
}

// linked is a connection with what it was made under: under another configuration it is made anew, since the
// certificate of the client, or ours, may be another one.
type linked struct {
	*upstream.Link
	under int // the revision
	to    netip.AddrPort
}

// answerTime is how long a client may take to answer.
const answerTime = 5 * time.Second

// to returns the connection to a client.
func (l *links) to(client *config.Client, to netip.AddrPort, s *snapshot.Snapshot) (*upstream.Link, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, open := range l.of { // those made under another configuration, also of clients that are gone
		if open.under != s.Revision {
			time.AfterFunc(answerTime, open.Close)
			delete(l.of, id)
		}
	}
	if open := l.of[client.ID]; open != nil && open.to == to {
		return open.Link, nil
	}
	cfg := s.ClientTLS(client)
	if cfg == nil {
		return nil, fmt.Errorf("client %s takes changes over TLS, and nothing would prove it: give the names in its "+
			"certificate, a trust list, and a server certificate to show", client.Name)
	}
	if l.of == nil {
		l.of = map[string]*linked{}
	}
	if old := l.of[client.ID]; old != nil {
		time.AfterFunc(answerTime, old.Close)
	}
	made := &linked{upstream.NewLink(netip.Addr{}, to.String(), cfg, answerTime), s.Revision, to}
	l.of[client.ID] = made
	return made.Link, nil
}

func (l *links) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, open := range l.of {
		open.Close()
	}
}
