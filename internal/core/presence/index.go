package presence

// index finds things by a hash of what they are known by, which they hold themselves: a million take 17 MB, where a map
// takes 36. It grows piece by piece, so that nobody waits long for it.
type index[T any] struct {
	hash   func(*T) uint64
	n      int
	pieces [pieces]piece[T]
}

// piece is a part of an index, with linear probing.
type piece[T any] struct {
	slots []eight[T]
	n     int
}

// eight are slots beside each other, so that what is compared first is near to what it stands for.
type eight[T any] struct {
	tags [8]uint32 // the upper half of the hash, 0 where there is nothing
	of   [8]*T
}

const (
	pieces    = 256
	fewSlots  = 8
	manySlots = 64 // from here on a piece shrinks
)

func newIndex[T any](hash func(*T) uint64) index[T] { return index[T]{hash: hash} }

func tagOf(hash uint64) uint32 { return max(1, uint32(hash>>32)) }

// size is how many slots there are.
func (p *piece[T]) size() int { return 8 * len(p.slots) }

// home is where a tag belongs.
func (p *piece[T]) home(tag uint32) int { return int(uint64(tag) * uint64(p.size()) >> 32) }

// next is the slot behind one.
func (p *piece[T]) next(i int) int {
	if i++; i < p.size() {
		return i
	}
	return 0
}

func (p *piece[T]) at(i int) (tag *uint32, one **T) {
	e := &p.slots[i/8]
	return &e.tags[i%8], &e.of[i%8]
}

// find is the one with a hash of which is tells that it is it, nil if it is not there.
func (x *index[T]) find(hash uint64, is func(*T) bool) *T {
	p := &x.pieces[hash%pieces]
	if p.n == 0 {
		return nil
	}
	wanted := tagOf(hash)
	for i := p.home(wanted); ; i = p.next(i) {
		switch tag, one := p.at(i); {
		case *tag == 0:
			return nil
		case *tag == wanted && is(*one):
			return *one
		}
	}
}

// add adds one with a hash that is not there yet.
func (x *index[T]) add(hash uint64, one *T) {
	p := &x.pieces[hash%pieces]
	if 5*(p.n+1) > 4*p.size() {
		p.resize(max(fewSlots, p.size()*3/2))
	}
	p.put(tagOf(hash), one)
	x.n++
}

func (p *piece[T]) put(tag uint32, one *T) {
	i := p.home(tag)
	for {
		t, o := p.at(i)
		if *t == 0 {
			*t, *o = tag, one
			p.n++
			return
		}
		i = p.next(i)
	}
}

// resize gives a piece at least so many slots.
func (p *piece[T]) resize(slots int) {
	old := p.slots
	*p = piece[T]{slots: make([]eight[T], (slots+7)/8)}
	for i := range old {
		for j, tag := range old[i].tags {
			if tag != 0 {
				p.put(tag, old[i].of[j])
			}
		}
	}
}

// remove removes one, if it is there.
func (x *index[T]) remove(one *T) {
	hash := x.hash(one)
	p := &x.pieces[hash%pieces]
	if p.n == 0 {
		return
	}
	i := p.home(tagOf(hash))
	for {
		tag, o := p.at(i)
		if *tag == 0 {
			return
		}
		if *o == one {
			break
		}
		i = p.next(i)
	}
	for j := p.next(i); ; j = p.next(j) { // those behind it that belong before it move up
		tag, moves := p.at(j)
		if *tag == 0 {
			break
		}
		if size := p.size(); (j-p.home(*tag)+size)%size >= (j-i+size)%size {
			t, o := p.at(i)
			*t, *o, i = *tag, *moves, j
		}
	}
	tag, o := p.at(i)
	*tag, *o = 0, nil
	p.n--
	if x.n--; p.size() > manySlots && 3*p.n < p.size() {
		p.resize(p.size() / 2)
	}
}

// each goes through all, in no order, until it is told to stop.
func (x *index[T]) each(yield func(*T) bool) {
	for i := range x.pieces {
		for j := range x.pieces[i].slots {
			for _, one := range x.pieces[i].slots[j].of {
				if one != nil && !yield(one) {
					return
				}
			}
		}
	}
}

// slab hands out things, while many are made at once some that lie beside each other, which takes less time. They stay
// in memory until none of those beside each other is needed, which is within a day here.
type slab[T any] struct {
	many bool
	rest []T
}

func (s *slab[T]) one() *T {
	if !s.many {
		return new(T)
	}
	if len(s.rest) == 0 {
		s.rest = make([]T, besideEachOther)
	}
	one := &s.rest[0]
	s.rest = s.rest[1:]
	return one
}

// besideEachOther is one less than a power of two, since there is a word before them.
const besideEachOther = 63
