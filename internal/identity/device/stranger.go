package device

import (
	"slices"
	"strings"
	"sync"
	"time"
)

// Stranger is an unknown address that asked for access by MAC bypass and was refused.
type Stranger struct {
	MAC         string
	Client      string
	Place       string
	First, Last time.Time
	Count       int
}

// maxStrangers bounds how many are remembered; the one that was refused longest ago gives way.
const maxStrangers = 2000

// strangers remembers them in memory; what is older than the service can be found among the attempts.
type strangers struct {
	lock sync.Mutex
	list map[string]*Stranger
}

// Refused remembers an unknown address.
func (s *strangers) Refused(mac, client, place string, at time.Time) {
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.list == nil {
		s.list = map[string]*Stranger{}
	}
	one := s.list[mac]
	if one == nil {
		if len(s.list) >= maxStrangers {
			s.forgetOldest()
		}
		one = &Stranger{MAC: mac, First: at}
		s.list[mac] = one
	}
	one.Client, one.Place, one.Last = client, place, at
	one.Count++
}

func (s *strangers) forgetOldest() {
	oldest := ""
	for mac, one := range s.list {
		if oldest == "" || one.Last.Before(s.list[oldest].Last) {
			oldest = mac
		}
	}
	delete(s.list, oldest)
}

// forget drops what a new match covers.
func (s *strangers) forget(match string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	prefix := strings.TrimSuffix(match, "*")
	for mac := range s.list {
		if strings.HasPrefix(mac, prefix) {
			delete(s.list, mac)
		}
	}
}

// Strangers lists them, the latest first.
func (s *strangers) Strangers() []Stranger {
	s.lock.Lock()
	defer s.lock.Unlock()
	out := make([]Stranger, 0, len(s.list))
	for _, one := range s.list {
		out = append(out, *one)
	}
	slices.SortFunc(out, func(a, b Stranger) int { return b.Last.Compare(a.Last) })
	return out
}
