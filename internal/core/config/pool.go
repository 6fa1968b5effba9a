package config

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"
)

// Pool is addresses that passes give to people, one to a session.
type Pool struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Ranges are prefixes, or a first and a last address joined by a hyphen.
	Ranges []string `json:"ranges"`
	Note   string   `json:"note,omitempty"`
}

func (p *Pool) Ident() string      { return p.ID }
func (p *Pool) Label() string      { return p.Name }
func (p *Pool) Identify(id string) { p.ID = id }

// AddressRange is the addresses from the first to the last.
type AddressRange struct {
	First netip.Addr
	Size  int
}

// maxPool bounds how many addresses a pool holds.
const maxPool = 1 << 16

// ParseRange reads a prefix, or two addresses joined by a hyphen. Of an IPv4 prefix the first and the last address are
// left out, since they are no host's.
func ParseRange(text string) (AddressRange, error) {
	var first, last netip.Addr
	if a, b, ok := strings.Cut(text, "-"); ok {
		x, err := netip.ParseAddr(strings.TrimSpace(a))
		y, err2 := netip.ParseAddr(strings.TrimSpace(b))
		if err != nil || err2 != nil {
			return AddressRange{}, fmt.Errorf("%q is not two addresses joined by a hyphen", text)
		}
		first, last = x.Unmap(), y.Unmap()
	} else {
		prefix, err := ParsePrefix(text)
		if err != nil {
			return AddressRange{}, err
		}
		if prefix.Addr().BitLen()-prefix.Bits() > 16 {
			return AddressRange{}, fmt.Errorf("%s holds more than %d addresses", prefix, maxPool)
		}
		first, last = prefix.Addr(), offset(prefix.Addr(), 1<<(prefix.Addr().BitLen()-prefix.Bits())-1)
		if first.Is4() && prefix.Bits() < 31 {
			first, last = first.Next(), last.Prev()
		}
	}
	if first.Is4() != last.Is4() || first.Zone() != "" || last.Less(first) {
		return AddressRange{}, fmt.Errorf("%q does not go from a lower to a higher address", text)
	}
	a, b := first.As16(), last.As16()
	if string(a[:12]) != string(b[:12]) && first.Is6() {
		return AddressRange{}, fmt.Errorf("%q holds more than %d addresses", text, maxPool)
	}
	size := int64(binary.BigEndian.Uint32(b[12:])) - int64(binary.BigEndian.Uint32(a[12:])) + 1
	if size > maxPool {
		return AddressRange{}, fmt.Errorf("%q holds %d addresses, at most %d are allowed", text, size, maxPool)
	}
	return AddressRange{first, int(size)}, nil
}

// offset is the address so many after another.
func offset(a netip.Addr, n int) netip.Addr {
	octets := a.As16()
	binary.BigEndian.PutUint32(octets[12:], binary.BigEndian.Uint32(octets[12:])+uint32(n))
	out := netip.AddrFrom16(octets)
	if a.Is4() {
		out = out.Unmap()
	}
	return out
}

// At is the address at a place of the range.
func (r AddressRange) At(i int) netip.Addr { return offset(r.First, i) }

// Contains reports whether an address lies in the range.
func (r AddressRange) Contains(a netip.Addr) bool {
	return a.Is4() == r.First.Is4() && !a.Less(r.First) && !r.At(r.Size-1).Less(a)
}

// Parsed returns the ranges that can be read, and how many addresses they hold.
func (p *Pool) Parsed() (ranges []AddressRange, size int) {
	for _, text := range p.Ranges {
		if r, err := ParseRange(text); err == nil {
			ranges, size = append(ranges, r), size+r.Size
		}
	}
	return ranges, size
}

func (c *Config) checkPools(k *checker) {
	type owned struct {
		AddressRange
		pool string
	}
	var all []owned
	for i := range c.Pools {
		p := c.Pools[i]
		k.on("pool", p.Name, p.ID)
		if len(p.Ranges) == 0 {
			k.fail("ranges", Required, "Add a prefix such as 192.0.2.64/26, or 192.0.2.70-192.0.2.99.", "no addresses")
		}
		if len(p.Ranges) > maxList {
			k.fail("ranges", TooMany, "Join them.", "%d ranges, at most %d are allowed", len(p.Ranges), maxList)
			continue
		}
		size := 0
		for j, text := range p.Ranges {
			field := fmt.Sprintf("ranges[%d]", j)
			r, err := ParseRange(text)
			if err != nil {
				k.fail(field, Malformed, "Write a prefix, or a first and a last address joined by a hyphen.", "%s", err)
				continue
			}
			size += r.Size
			for _, other := range all {
				if other.Contains(r.First) || r.Contains(other.First) {
					k.fail(field, Taken, "Give each address to one pool only.", "overlaps with addresses of pool %q",
						other.pool)
					break
				}
			}
			all = append(all, owned{r, p.Name})
		}
		if size > maxPool {
			k.fail("ranges", TooMany, "Use several pools.", "%d addresses, at most %d are allowed", size, maxPool)
		}
	}
}

// checkPassPool checks the pool of a pass that was resolved.
func (c *Config) checkPassPool(k *checker, p *Pass) {
	if p.Pool == "" {
		return
	}
	pool, at := Find(c.Pools, p.Pool)
	switch {
	case at < 0:
		k.fail("pool", NotFound, "Choose one of the pools.", "there is no pool %q", p.Pool)
		return
	case p.Address != "":
		k.fail("pool", Conflict, "Leave one of the two empty.", "an address is set as well as a pool")
	case p.SessionTimeout == 0:
		k.fail("pool", Conflict, "Set the session time-out: afterwards the address can be assigned to someone else.",
			"an address from a pool needs a session that ends")
	}
	if _, size := pool.Parsed(); size > 0 && size < 4 {
		k.warn("pool", SmallPool, "Add addresses to the pool.", "the pool holds %d addresses only; when all are in "+
			"use, further people are refused", size)
	}
}
