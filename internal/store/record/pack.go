package record

import "fmt"

// maxUnpacked bounds how many records are unpacked at once.
const maxUnpacked = 1 << 17

// Pack writes records of a kind in a few octets each, to be sent. They need no identifiers.
func Pack[T any](kind *Kind[T], list []*T) ([]byte, error) {
	p, err := newPacker()
	if err != nil {
		return nil, err
	}
	e, blocks := newEncoder(), make([]Block, 0, len(list)/blockSize+1)
	for _, part := range chunks(list) {
		blocks = append(blocks, encode(e, p, kind, part))
	}
	return AppendBlocks(nil, blocks), nil
}

// Unpack reads what Pack wrote.
func Unpack[T any](kind *Kind[T], data []byte) ([]T, error) {
	blocks, err := ReadBlocks(data)
	if err != nil {
		return nil, err
	}
	var out []T
	for i := range blocks {
		list, err := decode(kind, &blocks[i], true)
		if err != nil {
			return nil, err
		}
		if len(out)+len(list) > maxUnpacked {
			return nil, fmt.Errorf("these are more than %d records", maxUnpacked)
		}
		out = append(out, list...)
	}
	return out, nil
}
