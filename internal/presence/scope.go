package presence

import (
	"net/netip"
	"sort"
	"strings"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store/record"
)

// Rules that hold without any scope.
const (
	RuleComputers  = "names of computers are no people"
	RuleDevices    = "addresses of devices are no people"
	RuleNotWatched = "no scope watches this network"
)

// scope is what is watched and what is left out, made ready.
type scope struct {
	networks map[netip.Prefix]network
	bits4    []int // lengths of prefixes there are, the longest first
	bits6    []int
	watches  bool // some network is watched, so that others are not
	accounts []named
	hosts    []named
	macs     []named
}

type network struct {
	rule     string
	leaveOut bool
}

type named struct {
	rule    string
	text    string
	pattern record.Pattern
}

func compileScope(c *config.Config) *scope {
	out := &scope{networks: map[netip.Prefix]network{}}
	lengths := map[bool]map[int]bool{true: {}, false: {}}
	for _, s := range c.Scopes {
		for _, text := range s.Networks {
			if p, err := config.ParsePrefix(text); err == nil {
				out.networks[p] = network{s.Name, s.LeaveOut}
				lengths[p.Addr().Is4()][p.Bits()] = true
				out.watches = out.watches || !s.LeaveOut
			}
		}
		if !s.LeaveOut {
			continue
		}
		for list, texts := range map[*[]named][]string{&out.accounts: s.Accounts, &out.hosts: s.Hosts,
			&out.macs: s.MACs} {
			for _, text := range texts {
				*list = append(*list, named{s.Name, text, record.NewPattern(text)})
			}
		}
	}
	for is4, list := range map[bool]*[]int{true: &out.bits4, false: &out.bits6} {
		for bits := range lengths[is4] {
			*list = append(*list, bits)
		}
		sort.Sort(sort.Reverse(sort.IntSlice(*list)))
	}
	return out
}

// drops names the rule by which a sighting is left out, "" if it is in scope.
func (s *scope) drops(r *core.Sighting) string {
	if r.Who != "" {
		if strings.HasSuffix(r.Who, "$") || strings.HasPrefix(r.Who, "host/") {
			return RuleComputers
		}
		if core.ParseMAC(r.Who) != 0 {
			return RuleDevices
		}
		bare, _, _ := strings.Cut(r.Who, "@")
		for _, n := range s.accounts {
			if n.pattern.Match(r.Who) || n.pattern.Match(bare) {
				return n.rule
			}
		}
	}
	if r.Host != "" {
		for _, n := range s.hosts {
			if n.pattern.Match(r.Host) {
				return n.rule
			}
		}
	}
	if r.MAC != 0 && len(s.macs) > 0 {
		mac := r.MAC.String()
		for _, n := range s.macs {
			if strings.HasPrefix(mac, n.text) {
				return n.rule
			}
		}
	}
	return s.network(r.Address)
}

// network names the rule by which an address is left out.
func (s *scope) network(a netip.Addr) string {
	if !a.IsValid() || len(s.networks) == 0 {
		return ""
	}
	list := s.bits6
	if a.Is4() {
		list = s.bits4
	}
	for _, bits := range list {
		p, err := a.Prefix(bits)
		if err != nil {
			continue
		}
		if n, ok := s.networks[p]; ok {
			if n.leaveOut {
				return n.rule
			}
			return ""
		}
	}
	if s.watches {
		return RuleNotWatched
	}
	return ""
}
