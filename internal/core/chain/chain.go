// Package chain joins lines by hashes, so that one that is changed, removed, put in or moved shows: the hash of a line
// is the SHA-256 of the hash of the line before it and its own text. Each line is a JSON object that begins with its
// number, from 1 on without gaps.
package chain

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"time"
)

// Sum is the hash of a line.
type Sum [sha256.Size]byte

// String is the sum in hexadecimal.
func (s Sum) String() string { return hex.EncodeToString(s[:]) }

// ParseSum reads a sum in hexadecimal.
func ParseSum(text string) (s Sum, err error) {
	data, err := hex.DecodeString(text)
	if err != nil || len(data) != len(s) {
		return s, fmt.Errorf("%q is not a hash: it needs %d hexadecimal digits", text, 2*len(s))
	}
	return Sum(data), nil
}

// SumOf is a sum as it is stored; of anything that is none, what no line has.
func SumOf(stored []byte) (s Sum) {
	if len(stored) == len(s) {
		copy(s[:], stored)
	}
	return s
}

// Next is the hash of a line after another, whose hash is given. Before the first line that is all zeros.
func Next(before Sum, line []byte) (s Sum) {
	h := sha256.New()
	h.Write(before[:])
	h.Write(line)
	h.Sum(s[:0])
	return s
}

// Break is a place where the chain does not hold.
type Break struct {
	Number int64  `json:"number"`
	What   string `json:"what"`
}

// maxBreaks bounds the places that are listed.
const maxBreaks = 50

// Checker checks lines in their order. The zero value checks a whole chain.
type Checker struct {
	// Last is the number of the line that was checked last, and Hash its hash as it stands there.
	Last int64
	Hash Sum
	// Unknown tells that the hash before the next line is not known, so that it cannot be checked.
	Unknown bool
	// Breaks are the first places where the chain does not hold; Broken counts all.
	Breaks []Break
	Broken int
	// Lines counts the lines that were checked.
	Lines int64
}

// Add checks a line, with its number and its hash as they are kept beside it.
func (c *Checker) Add(number int64, line []byte, hash Sum) {
	switch {
	case number <= c.Last:
		c.fault(number, "line %d comes after line %d", number, c.Last)
	case number == c.Last+2:
		c.fault(number-1, "line %d is missing", number-1)
	case number > c.Last+2:
		c.fault(c.Last+1, "lines %d to %d are missing", c.Last+1, number-1)
	}
	var prefix [40]byte
	if begin := append(strconv.AppendInt(append(prefix[:0], `{"number":`...), number, 10), ','); !bytes.HasPrefix(line,
		begin) {
		c.fault(number, "line %d does not say that this is its number", number)
	} else if number == c.Last+1 && !c.Unknown && Next(c.Hash, line) != hash {
		c.fault(number, "line %d does not follow from the line before it: one of the two was changed", number)
	}
	c.Last, c.Hash, c.Unknown = number, hash, false
	c.Lines++
}

func (c *Checker) fault(number int64, format string, args ...any) {
	c.Broken++
	if len(c.Breaks) < maxBreaks {
		c.Breaks = append(c.Breaks, Break{number, fmt.Sprintf(format, args...)})
	}
}

// Join adds what another checker found, which began where this one ended.
func (c *Checker) Join(next *Checker) {
	c.Last, c.Hash = next.Last, next.Hash
	c.Lines += next.Lines
	c.Broken += next.Broken
	c.Breaks = append(c.Breaks, next.Breaks[:min(len(next.Breaks), maxBreaks-len(c.Breaks))]...)
}

// Head is where a chain stood at a moment, signed (Ed25519, RFC 8032). Noted elsewhere, it shows later whether what was
// there then still is.
type Head struct {
	Number    int64     `json:"number" doc:"Number of the last line"`
	Hash      string    `json:"hash" doc:"Its hash, which covers all lines up to it"`
	At        time.Time `json:"at"`
	Key       string    `json:"key" doc:"Public key (Ed25519), base64"`
	Signature string    `json:"signature" doc:"Over number, hash and moment, base64"`
}

// ErrSignature is returned for a head that is not what was signed.
var ErrSignature = errors.New("the signature of the head does not fit: it was changed, or is not from here")

func (h *Head) signed() []byte {
	return fmt.Appendf(nil, "head of a chain\n%d\n%s\n%s\n", h.Number, h.Hash, h.At.UTC().Format(time.RFC3339Nano))
}

// Sign makes a head.
func Sign(key ed25519.PrivateKey, number int64, hash Sum, at time.Time) Head {
	h := Head{Number: number, Hash: hash.String(), At: at.UTC().Truncate(time.Millisecond),
		Key: base64.StdEncoding.EncodeToString(key.Public().(ed25519.PublicKey))}
	h.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, h.signed()))
	return h
}

// Check checks the signature by the key that stands in the head. Whether that is the right key only the reader knows.
func (h *Head) Check() error {
	key, err := base64.StdEncoding.DecodeString(h.Key)
	signature, err2 := base64.StdEncoding.DecodeString(h.Signature)
	if err != nil || err2 != nil || len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, h.signed(), signature) {
		return ErrSignature
	}
	return nil
}
