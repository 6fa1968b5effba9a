// Package record keeps records of one kind, such as attempts or entries of the journal: it gives them identifiers,
// writes them in batches, finds them again, removes them after their time, and survives what happens to clock and disk.
//
// Records lie in a SQLite file of their own, about a hundred together in a block, compressed. A block is one row: it
// costs one insertion, and one deletion when its time is over. What records are found by is kept in segments: of some
// sixteen thousand records together the sorted values of each field, with the blocks that hold them. What is too new
// for a segment is looked at block by block.
package record

import (
	"time"

	"tollgate.example/key/internal/base/ident"
)

// Kind describes one kind of record.
type Kind[T any] struct {
	// Name is that of the file, without its extension.
	Name string
	// Durable has each record on the disk before Record returns, whatever happens to the machine. The others are
	// committed without waiting for the disk.
	Durable bool
	// Gather is how long a record that is durable waits for others to share its commit with; 0 is not at all.
	Gather time.Duration
	// Key is where the identifier and the time of a record are.
	Key func(r *T) (*ident.ID, *time.Time)
	// Fields goes through the fields of a record, always in the same order. New fields are added at the end: in older
	// records they are empty.
	Fields func(f *Fields, r *T)
	// Written, if it is set, is called with each batch after its commit, in order, before those who wait are told.
	Written func([]*T)
}

// Condition is one thing that a search asks of a record.
type Condition[T any] struct {
	// Fits decides.
	Fits func(r *T) bool
	// In names where the index can help: a record that fits has in one of these fields a value that matches. Without
	// any, each record is looked at.
	In []Lookup
}

// Lookup is a value in an indexed field. In the pattern, * stands for any characters; the case of ASCII letters does
// not matter.
type Lookup struct{ Field, Pattern string }

// Span is a part of the time, and of the order of recording.
type Span struct {
	Since, Until time.Time
	// Before is a cursor: only those recorded earlier. After: only those recorded later.
	Before, After ident.ID
}

// Holds reports whether a record is within the span.
func (s *Span) Holds(id ident.ID, at time.Time) bool {
	return (s.Since.IsZero() || !at.Before(s.Since)) && (s.Until.IsZero() || at.Before(s.Until)) &&
		(s.Before == 0 || id < s.Before) && (s.After == 0 || id > s.After)
}

// Query asks for records, the newest first; with After alone, the oldest first, which is what following needs.
type Query[T any] struct {
	Span
	Conditions []Condition[T]
	Limit      int
	// Bodies reads the bodies too: of all records, or of those for which it returns true.
	Bodies func(r *T) bool
	// Patience is how long to search before what was found so far is returned; 0 is as long as it takes.
	Patience time.Duration
}

// Page is what a search found.
type Page[T any] struct {
	Items []T
	// Next continues: as Before, or with After alone as After. It is 0 at the end.
	Next ident.ID
	// Searched is the time of the record at which the search stopped because its time was over; zero if it did not.
	Searched time.Time
	// Unreadable counts records in damaged blocks that were left out.
	Unreadable int
}

// fits reports whether a record fulfils all conditions.
func fits[T any](conditions []Condition[T], r *T) bool {
	for i := range conditions {
		if !conditions[i].Fits(r) {
			return false
		}
	}
	return true
}
