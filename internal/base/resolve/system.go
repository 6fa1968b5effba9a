package resolve

import (
	"bufio"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Where the operating system says which servers to ask, and which hosts it knows by itself.
const (
	resolverFile = "/etc/resolv.conf"
	hostsFile    = "/etc/hosts"
	// readEvery is how often those files are looked at.
	readEvery = 5 * time.Second
	maxHosts  = 10_000
)

// system is what the operating system says about names. It is safe for concurrent use.
type system struct {
	mu      sync.Mutex
	looked  time.Time
	list    []string
	domains []string
	hosts   map[string][]netip.Addr
}

func (s *system) servers() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.read()
	return s.list
}

func (s *system) search() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.read()
	return s.domains
}

func (s *system) host(name string) []netip.Addr {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.read()
	return slices.Clone(s.hosts[strings.ToLower(strings.TrimSuffix(name, "."))])
}

// read reads both files, unless that was done a moment ago. What cannot be read leaves what was known.
func (s *system) read() {
	now := time.Now()
	if now.Sub(s.looked) < readEvery {
		return
	}
	s.looked = now
	if found, err := dns.ClientConfigFromFile(resolverFile); err == nil {
		s.list, s.domains = nil, found.Search
		for _, server := range found.Servers {
			s.list = append(s.list, net.JoinHostPort(server, found.Port))
		}
	}
	if hosts, err := readHosts(hostsFile); err == nil {
		s.hosts = hosts
	}
}

// readHosts reads a file of hosts: an address, then its names.
func readHosts(path string) (map[string][]netip.Addr, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	out := map[string][]netip.Addr{}
	for lines := bufio.NewScanner(file); lines.Scan() && len(out) < maxHosts; {
		text, _, _ := strings.Cut(lines.Text(), "#")
		words := strings.Fields(text)
		if len(words) < 2 {
			continue
		}
		addr, err := netip.ParseAddr(words[0])
		if err != nil {
			continue
		}
		for _, name := range words[1:] {
			name = strings.ToLower(name)
			out[name] = append(out[name], addr)
		}
	}
	return out, nil
}
