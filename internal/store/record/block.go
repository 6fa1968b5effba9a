package record

import (
	"encoding/binary"
	"hash/crc32"
	"slices"
	"unsafe"

	"github.com/klauspost/compress/zstd"

	"tollgate.example/key/internal/base/ident"
)

const (
	// blockSize is how many records a full block has: enough for what they have in common to be kept once, and few
	// enough for one to be read quickly.
	blockSize = 128
	// smallBlock is what is merged with its neighbours when there is time.
	smallBlock = blockSize / 2
	// compressFrom is the number of records from which a block is compressed at once. What is smaller will be merged
	// soon.
	compressFrom = 16
	// maxPlain bounds what a damaged blob may be taken to unfold to.
	maxPlain = 64 << 20

	plainBlob, zstdBlob = 0, 1
	blobHead            = 5 // the form, then the CRC-32C of what follows
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// packer makes blobs; it is used by one goroutine.
type packer struct{ zstd *zstd.Encoder }

func newPacker() (*packer, error) {
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithEncoderCRC(false), zstd.WithWindowSize(256<<10), zstd.WithLowerEncoderMem(true))
	return &packer{z}, err
}

// blob puts a checksum before content, compressed if that makes it smaller.
func (p *packer) blob(content []byte, compress bool) []byte {
	out := make([]byte, blobHead, blobHead+len(content))
	if compress {
		if out = p.zstd.EncodeAll(content, out); len(out) < blobHead+len(content) {
			out[0] = zstdBlob
			binary.BigEndian.PutUint32(out[1:], crc32.Checksum(out[blobHead:], castagnoli))
			return out
		}
	}
	out = append(out[:blobHead], content...)
	out[0] = plainBlob
	binary.BigEndian.PutUint32(out[1:], crc32.Checksum(out[blobHead:], castagnoli))
	return out
}

var unzstd = func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(maxPlain),
		zstd.WithDecoderLowmem(true))
	if err != nil {
		panic(err) // the options are constant
	}
	return d
}()

// whole reports whether a blob has its checksum.
func whole(blob []byte) bool {
	return len(blob) >= blobHead && binary.BigEndian.Uint32(blob[1:]) == crc32.Checksum(blob[blobHead:], castagnoli)
}

// plain is the content of a blob. It may share memory with it.
func plain(blob []byte) ([]byte, error) {
	if !whole(blob) {
		return nil, errBlock
	}
	switch blob[0] {
	case plainBlob:
		return blob[blobHead:], nil
	case zstdBlob:
		return unzstd.DecodeAll(blob[blobHead:], nil)
	}
	return nil, errBlock
}

// Block is a row of the table blocks: some records, in order. Since and Until are the first and the last time of its
// records, in microseconds.
type Block struct {
	ID    ident.ID `db:"id"`
	Last  ident.ID `db:"last"`
	N     int      `db:"n"`
	Since int64    `db:"since"`
	Until int64    `db:"until"`
	Head  []byte   `db:"head"`
	Body  []byte   `db:"body"`
}

// encode makes a block of records, which have their identifiers.
func encode[T any](e *encoder, p *packer, kind *Kind[T], list []*T) Block {
	e.reset()
	e.noting.reset(len(list) >= smallBlock) // the others are merged first
	var b Block
	for i, r := range list {
		add(e, kind, r)
		if i == 0 {
			b.ID, b.Since, b.Until = e.last, e.at, e.at
		}
		b.Since, b.Until = min(b.Since, e.at), max(b.Until, e.at)
	}
	b.Last, b.N = e.last, len(list)
	b.Head = p.blob(e.head(nil), len(list) >= compressFrom)
	if len(e.body) > 0 {
		b.Body = p.blob(e.body, len(list) >= compressFrom)
	}
	return b
}

// open begins to read the records of a block.
func (b *Block) open(bodies bool) (*decoder, error) {
	head, err := plain(b.Head)
	if err != nil {
		return nil, err
	}
	d := newDecoder(unsafe.String(unsafe.SliceData(head), len(head))) // which nobody changes any more
	if bodies && len(b.Body) > 0 {
		body, err := plain(b.Body)
		if err != nil {
			return nil, err
		}
		d.body = string(body)
	}
	d.bodies = bodies
	return d, d.err
}

// chunks divides records evenly into blocks.
func chunks[T any](list []*T) [][]*T {
	if len(list) == 0 {
		return nil
	}
	n := (len(list) + blockSize - 1) / blockSize
	return slices.Collect(slices.Chunk(list, (len(list)+n-1)/n))
}
