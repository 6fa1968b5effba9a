package store

import (
	"context"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// SightingGroups is the kind of a record that is no sighting: the groups that somebody was in, as JSON in Detail.
const SightingGroups = "groups"

// Sighting is one report of who was where, as it was taken, with how far it counted then.
type Sighting struct {
	// At is when it happened; ID follows the order of taking, and names the node that took it.
	At   time.Time
	ID   ident.ID
	Kind string
	// Source is the name of the source, Way how it reports; Trust and Shared are those of the source, Role is that of
	// the pass of the person.
	Source string
	Way    string
	Trust  int
	Shared bool
	Role   string
	// Who is the name in lower case, Display the person, MAC the device, Host what it calls itself.
	Who     string
	Display string
	Ref     string
	Address string
	// First and Last are the ports, 0 for all.
	First, Last int
	MAC         string
	Host        string
	// Until is when it is over without another word.
	Until time.Time
	// Detail is what was reported, in words.
	Detail string
	// Of is the identifier that another node gave it, 0 for one that was taken here.
	Of ident.ID
}

// sightings is the kind of record that sightings are. They come in thousands and prevent nothing, so they do not wait
// for the disk.
var sightings = record.Kind[Sighting]{Name: "sightings",
	Key: func(s *Sighting) (*ident.ID, *time.Time) { return &s.ID, &s.At },
	Fields: func(f *record.Fields, s *Sighting) {
		f.Term("kind", &s.Kind)
		f.Term("source", &s.Source)
		f.Text(&s.Way)
		f.Whole(&s.Trust)
		f.Bool(&s.Shared)
		f.Text(&s.Role)
		f.Term("who", &s.Who)
		f.Text(&s.Display)
		f.Text(&s.Ref)
		f.Term("address", &s.Address)
		f.Whole(&s.First)
		f.Whole(&s.Last)
		f.Term("mac", &s.MAC)
		f.Term("host", &s.Host)
		f.Moment(&s.Until)
		f.Text(&s.Detail)
		f.Identifier("of", &s.Of)
	}}

// PackSightings writes sightings for another node, UnpackSightings reads them.
func PackSightings(list []*Sighting) ([]byte, error) { return record.Pack(&sightings, list) }

// UnpackSightings reads what PackSightings wrote.
func UnpackSightings(data []byte) ([]Sighting, error) { return record.Unpack(&sightings, data) }

// Sightings are the records of sightings, in a file of their own.
type Sightings struct{ *record.Keeper[Sighting] }

// OpenSightings opens or creates the records in a data directory.
func OpenSightings(ctx context.Context, dir string, ids *ident.Source, keep record.Retention) (*Sightings, error) {
	k, err := record.Open(ctx, dir, ids, sightings, keep)
	if err != nil {
		return nil, err
	}
	return &Sightings{k}, nil
}

// SightingFilter selects sightings. Empty fields select everything.
type SightingFilter struct {
	Who, Address, MAC, Source, Kind string
	// Kinds selects several kinds; Most tells that these are most of all, so that it does not pay to look where they
	// are.
	Kinds []string
	Most  bool
	Span
	Limit    int
	Patience time.Duration
}

func (f *SightingFilter) conditions() conditions[Sighting] {
	c := conditions[Sighting]{}
	if who := strings.ToLower(f.Who); strings.Contains(who, "*") {
		c.match(who, func(s *Sighting, match func(string) bool) bool { return match(s.Who) }, "who")
	} else {
		c.equal("who", who, func(s *Sighting) string { return s.Who })
	}
	c.equal("address", f.Address, func(s *Sighting) string { return s.Address })
	c.equal("mac", f.MAC, func(s *Sighting) string { return s.MAC })
	c.equal("source", f.Source, func(s *Sighting) string { return s.Source })
	c.equal("kind", f.Kind, func(s *Sighting) string { return s.Kind })
	if f.Kind == "" && len(f.Kinds) == 0 {
		c = append(c, record.Condition[Sighting]{Fits: func(s *Sighting) bool { return s.Kind != SightingGroups }})
	}
	if len(f.Kinds) > 0 {
		one := record.Condition[Sighting]{Fits: func(s *Sighting) bool {
			for _, kind := range f.Kinds {
				if s.Kind == kind {
					return true
				}
			}
			return false
		}}
		for i := 0; i < len(f.Kinds) && !f.Most; i++ {
			one.In = append(one.In, record.Lookup{Field: "kind", Pattern: f.Kinds[i]})
		}
		c = append(c, one)
	}
	return c
}

// Find lists sightings from the newest to the oldest; with After alone, the oldest of the newer ones first.
func (s *Sightings) Find(ctx context.Context, f SightingFilter) (record.Page[Sighting], error) {
	return s.List(ctx, record.Query[Sighting]{Span: f.Span, Conditions: f.conditions(), Limit: f.Limit,
		Patience: f.Patience})
}

// Each hands out all that a filter selects, the oldest first, some at a time.
func (s *Sightings) Each(ctx context.Context, f SightingFilter, each func([]Sighting) error) error {
	return s.Walk(ctx, record.Query[Sighting]{Span: f.Span, Conditions: f.conditions()}, each)
}
