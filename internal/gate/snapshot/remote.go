package snapshot

import (
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/upstream"
)

// openRemotes opens the remote servers of the configuration.
func (s *Snapshot) openRemotes(box *seal.Box) error {
	s.remotes = map[string]*upstream.Server{}
	for i := range s.Plan.Config.Remotes {
		r := s.Plan.Config.Remotes[i]
		secret, err := box.Open(r.SecretPlace(), r.Secret)
		if err != nil {
			return fmt.Errorf("the secret of remote server %s: %w", r.Name, err)
		}
		server, err := upstream.New(r.Name, r.Address, secret, time.Duration(r.TimeoutMillis)*time.Millisecond,
			r.Tries, r.Unsigned)
		if err != nil {
			return err
		}
		s.remotes[strings.ToLower(r.Name)] = server
	}
	return nil
}

// Silent reports whether a remote server in use did not answer lately.
func (s *Snapshot) Silent(name string, now time.Time) bool {
	server := s.remotes[strings.ToLower(name)]
	return server != nil && server.Silent(now)
}

// Remote returns a remote server by name, nil if there is none.
func (s *Snapshot) Remote(name string) *upstream.Server { return s.remotes[strings.ToLower(name)] }
