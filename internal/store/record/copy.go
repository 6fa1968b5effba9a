package record

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"

	"tollgate.example/key/internal/base/ident"
)

// CopyTo has each batch handed on after its commit here, in order, for a copy elsewhere. f does not wait: it calls then
// when the copy is made, or when it is known that none will be, once and soon, from any goroutine. Until then whoever
// waits for the records of the batch is not told.
func (k *Keeper[T]) CopyTo(f func(blocks []Block, then func())) { k.copier.Store(&f) }

// copied hands a batch on, if somebody makes copies, and tells those who wait.
func (k *Keeper[T]) copied(blocks []Block, waiters []chan error) {
	tell := func() {
		for _, w := range waiters {
			w <- nil
		}
	}
	copier := k.copier.Load()
	if copier == nil || len(blocks) == 0 {
		tell()
		return
	}
	k.telling.Add(1)
	(*copier)(blocks, func() {
		tell()
		k.telling.Done()
	})
}

// Copying reads what is recorded, for a copy elsewhere. One goroutine uses it.
type Copying[T any] struct {
	k *Keeper[T]
	e *encoder
	p *packer
}

// Copying begins to read for a copy.
func (k *Keeper[T]) Copying() (*Copying[T], error) {
	p, err := newPacker()
	if err != nil {
		return nil, err
	}
	return &Copying[T]{k, newEncoder(), p}, nil
}

// After reads up to so many records that were committed after another one, the oldest first; more tells that there are
// more. What is damaged is left out.
func (c *Copying[T]) After(ctx context.Context, after ident.ID, limit int) (blocks []Block, more bool, err error) {
	page, err := c.k.List(ctx, Query[T]{Span: Span{After: max(after, 1)}, Limit: limit,
		Bodies: func(*T) bool { return true }})
	if err != nil {
		return nil, false, err
	}
	list := make([]*T, len(page.Items))
	for i := range page.Items {
		list[i] = &page.Items[i]
	}
	for _, part := range chunks(list) {
		blocks = append(blocks, encode(c.e, c.p, &c.k.kind, part))
	}
	return blocks, page.Next != 0, nil
}

// ErrCopy is returned for blocks that are not those of a copy: damaged, of another kind, or out of order.
var ErrCopy = errors.New("these blocks do not continue the copy")

// Adopt keeps blocks that another keeper of the same kind made, in order, and returns the highest identifier that is
// kept. They are committed as they would be there. Those that are here already are left out; what cannot be read, or
// does not follow what is here, is refused with ErrCopy, and nothing of the call is kept. Written is called with what
// is new, without its bodies.
func (k *Keeper[T]) Adopt(ctx context.Context, blocks []Block) (last ident.ID, err error) {
	read := make([][]T, len(blocks))
	for i := range blocks {
		if read[i], err = k.verify(&blocks[i]); err != nil {
			return 0, err
		}
		if i > 0 && blocks[i].ID <= blocks[i-1].Last {
			return 0, fmt.Errorf("%w: block %s comes after %s", ErrCopy, blocks[i].ID, blocks[i-1].Last)
		}
	}
	err = k.do(ctx, func() error {
		for len(blocks) > 0 && blocks[0].Last <= k.w.last {
			blocks, read = blocks[1:], read[1:]
		}
		if len(blocks) > 0 && blocks[0].ID <= k.w.last {
			return fmt.Errorf("%w: block %s begins before %s, which is here", ErrCopy, blocks[0].ID, k.w.last)
		}
		if len(blocks) > 0 {
			if err := k.w.adopt(blocks); err != nil {
				return fmt.Errorf("keeping a copy in %s: %w", k.file.Name(), err)
			}
			k.adopted(read)
		}
		last = k.w.last
		if k.w.behind() {
			k.w.tidy(context.WithoutCancel(ctx))
		}
		return nil
	})
	return last, err
}

// adopted tells of records that were adopted.
func (k *Keeper[T]) adopted(read [][]T) {
	if k.kind.Written == nil {
		return
	}
	var list []*T
	for _, part := range read {
		for i := range part {
			list = append(list, &part[i])
		}
	}
	k.kind.Written(list)
}

// verify reads a block that came from elsewhere, or reports what is wrong with it. Of the bodies it compares the
// checksum alone.
func (k *Keeper[T]) verify(b *Block) ([]T, error) {
	list, err := decode(&k.kind, b, false)
	if err == nil && len(b.Body) > 0 && !whole(b.Body) {
		err = errBlock
	}
	if err != nil {
		return nil, fmt.Errorf("%w: block %s cannot be read: %w", ErrCopy, b.ID, err)
	}
	if len(list) == 0 || len(list) > maxAdopted || len(list) != b.N {
		return nil, fmt.Errorf("%w: block %s has %d records instead of %d", ErrCopy, b.ID, len(list), b.N)
	}
	before := b.ID - 1
	for i := range list {
		id, at := k.kind.Key(&list[i])
		if *id <= before || at.UnixMicro() < b.Since || at.UnixMicro() > b.Until {
			return nil, fmt.Errorf("%w: record %s is out of place in block %s", ErrCopy, *id, b.ID)
		}
		before = *id
	}
	if first, _ := k.kind.Key(&list[0]); b.ID <= 0 || *first != b.ID || before != b.Last {
		return nil, fmt.Errorf("%w: block %s does not hold what it says", ErrCopy, b.ID)
	}
	return list, nil
}

// adopt commits blocks of another keeper.
func (w *writer[T]) adopt(blocks []Block) error {
	if err := w.within(func() error {
		for i := range blocks {
			if err := w.put(&blocks[i]); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	n := int64(0)
	for _, b := range blocks {
		w.tail = append(w.tail, unit{ID: b.ID, Last: b.Last, N: b.N})
		w.waiting += b.N
		w.last, n = b.Last, n+int64(b.N)
	}
	w.k.total.Add(n)
	return nil
}

const (
	// maxAdopted bounds the records of a block from elsewhere, maxBlocks how many blocks are read at once.
	maxAdopted = 1 << 12
	maxBlocks  = 1 << 16
)

// AppendBlocks writes blocks as they are sent: of each, in variable length (encoding/binary), the first identifier, how
// much higher the last is, the number of records, the first time in microseconds, how much later the last is, and head
// and body behind their lengths; after all of them their CRC-32C, in four octets.
func AppendBlocks(to []byte, blocks []Block) []byte {
	begin := len(to)
	for i := range blocks {
		b := &blocks[i]
		to = binary.AppendUvarint(to, uint64(b.ID))
		to = binary.AppendUvarint(to, uint64(b.Last-b.ID))
		to = binary.AppendUvarint(to, uint64(b.N))
		to = binary.AppendVarint(to, b.Since)
		to = binary.AppendUvarint(to, uint64(b.Until-b.Since))
		to = binary.AppendUvarint(to, uint64(len(b.Head)))
		to = append(to, b.Head...)
		to = binary.AppendUvarint(to, uint64(len(b.Body)))
		to = append(to, b.Body...)
	}
	return binary.BigEndian.AppendUint32(to, crc32.Checksum(to[begin:], castagnoli))
}

// ReadBlocks reads what AppendBlocks wrote. The blocks share memory with the data. What is in them is not looked at.
func ReadBlocks(data []byte) ([]Block, error) {
	end := len(data) - 4
	if end < 0 || binary.BigEndian.Uint32(data[end:]) != crc32.Checksum(data[:end], castagnoli) {
		return nil, fmt.Errorf("%w: the checksum does not match", ErrCopy)
	}
	r := cutter{data: data[:end]}
	var out []Block
	for len(r.data) > 0 && !r.bad {
		if len(out) == maxBlocks {
			return nil, fmt.Errorf("%w: these are too many", ErrCopy)
		}
		b := Block{ID: ident.ID(r.number())}
		b.Last = b.ID + ident.ID(r.number())
		b.N = int(r.number())
		b.Since = r.signed()
		b.Until = b.Since + int64(r.number())
		b.Head, b.Body = r.octets(), r.octets()
		out = append(out, b)
	}
	if r.bad {
		return nil, fmt.Errorf("%w: they end too early", ErrCopy)
	}
	return out, nil
}

// cutter takes values off data.
type cutter struct {
	data []byte
	bad  bool
}

func (c *cutter) took(n int) {
	if n <= 0 {
		c.bad, c.data = true, nil
		return
	}
	c.data = c.data[n:]
}

func (c *cutter) number() uint64 {
	v, n := binary.Uvarint(c.data)
	c.took(n)
	return v
}

func (c *cutter) signed() int64 {
	v, n := binary.Varint(c.data)
	c.took(n)
	return v
}

func (c *cutter) octets() []byte {
	n := c.number()
	if n > uint64(len(c.data)) {
		c.bad, c.data = true, nil
		return nil
	}
	out := c.data[:n:n]
	c.data = c.data[n:]
	return out
}
