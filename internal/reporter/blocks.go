package reporter

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	core "tollgate.example/key/internal/core/presence"
)

// Block is a block of source ports that belongs to one person.
type Block struct {
	UID   uint32
	Ports core.Ports
	// Free is when the block may go to somebody else, zero while its person is signed in.
	Free time.Time
}

// Blocks gives each person a block of ports of a range. A block goes to another person only when its own has been
// gone for some time, so that connections that are still known somewhere are not taken for those of the next one.
type Blocks struct {
	all   core.Ports
	size  int
	reuse time.Duration
	list  []Block
}

// What is wrong with a range of ports.
var (
	ErrRange = errors.New("the range of ports is not 1024 to 65535, the first before the last")
	ErrSize  = errors.New("a block has at least 4 ports, and at least one block fits into the range")
	// ErrExhausted is returned for somebody for whom there is no block left.
	ErrExhausted = errors.New("all blocks of ports are given")
)

// NewBlocks divides a range into blocks of a size. A block that was left rests for a time before it is given again.
func NewBlocks(all core.Ports, size int, reuse time.Duration) (*Blocks, error) {
	if all.First < 1024 || all.Last < all.First {
		return nil, ErrRange
	}
	if count := int(all.Last) - int(all.First) + 1; size < 4 || size > count {
		return nil, ErrSize
	}
	return &Blocks{all: all, size: size, reuse: reuse}, nil
}

// Take goes on with blocks that were given before; they rest until their people are seen. What does not fit into the
// range as it is divided now is dropped.
func (b *Blocks) Take(list []Block, now time.Time) {
	for _, one := range list {
		one.Free = now.Add(b.reuse)
		at := int(one.Ports.First) - int(b.all.First)
		whole := at >= 0 && at%b.size == 0 && int(one.Ports.Last)-int(one.Ports.First)+1 == b.size &&
			one.Ports.Last <= b.all.Last
		if whole && b.of(one.UID) == nil && !slices.ContainsFunc(b.list, func(o Block) bool {
			return o.Ports.Overlap(one.Ports)
		}) {
			b.list = append(b.list, one)
		}
	}
	b.sort()
}

func (b *Blocks) sort() {
	slices.SortFunc(b.list, func(x, y Block) int { return cmp.Compare(x.Ports.First, y.Ports.First) })
}

func (b *Blocks) of(uid uint32) *Block {
	if at := slices.IndexFunc(b.list, func(o Block) bool { return o.UID == uid }); at >= 0 {
		return &b.list[at]
	}
	return nil
}

// Of is the block of a person who is signed in: the one that the person has, or another one that is free.
func (b *Blocks) Of(uid uint32, now time.Time) (core.Ports, error) {
	if one := b.of(uid); one != nil {
		one.Free = time.Time{}
		return one.Ports, nil
	}
	for first := int(b.all.First); first+b.size-1 <= int(b.all.Last); first += b.size {
		ports := core.Ports{First: uint16(first), Last: uint16(first + b.size - 1)}
		at := slices.IndexFunc(b.list, func(o Block) bool { return o.Ports == ports })
		switch {
		case at < 0:
			b.list = append(b.list, Block{UID: uid, Ports: ports})
		case !b.list[at].Free.IsZero() && !now.Before(b.list[at].Free):
			b.list[at] = Block{UID: uid, Ports: ports}
		default:
			continue
		}
		b.sort()
		return ports, nil
	}
	return core.Ports{}, fmt.Errorf("%w: %d of %d ports", ErrExhausted, len(b.list), b.size)
}

// Leave notes who is signed in. The blocks of all others rest from when they run nothing any more: until then what they
// left running goes on with them.
func (b *Blocks) Leave(here, running func(uid uint32) bool, now time.Time) {
	for i := range b.list {
		one := &b.list[i]
		switch {
		case here(one.UID):
			one.Free = time.Time{}
		case running(one.UID) || one.Free.IsZero():
			one.Free = now.Add(b.reuse)
		}
	}
	b.list = slices.DeleteFunc(b.list, func(o Block) bool { return !o.Free.IsZero() && !now.Before(o.Free) })
}

// List lists the blocks that are given or rest, in the order of their ports.
func (b *Blocks) List() []Block { return slices.Clone(b.list) }
