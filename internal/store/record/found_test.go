package record

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// What is noted when a block is made is what is read from it.
func TestFoundIsWhatIsRead(t *testing.T) {
	type seen struct {
		visit
		Of ident.ID
	}
	kind := Kind[seen]{Name: "seen", Key: func(s *seen) (*ident.ID, *time.Time) { return &s.ID, &s.At },
		Fields: func(f *Fields, s *seen) {
			base := visits(false)
			base.Fields(f, &s.visit)
			f.Identifier("of", &s.Of)
		}}
	k, err := Open(t.Context(), t.TempDir(), ident.NewSource(1), kind, Retention{})
	if err != nil {
		t.Fatal(err)
	}
	defer k.Close()
	r := rand.New(rand.NewPCG(5, 8))
	for range 40 {
		n := smallBlock + r.IntN(blockSize-smallBlock)
		list := make([]*seen, n)
		for i := range list {
			s := &seen{visit: visit{At: time.Unix(int64(r.IntN(1000)), 0)}, Of: ident.ID(r.IntN(3) * r.IntN(50))}
			s.Who = []string{"", "ann", "Ann", "ann", fmt.Sprint("p", r.IntN(200))}[r.IntN(5)]
			s.Sent = []string{"", "ANN", "ann", "Ünder", s.Who}[r.IntN(5)]
			s.Gate = []string{"gate", "GATE", ""}[r.IntN(3)]
			s.Tags = []string{"a", "", "A", "ann"}[:r.IntN(5)]
			list[i] = s
		}
		fromMaking, fromReading := map[string]terms{}, map[string]terms{}
		err := k.do(t.Context(), func() error {
			_, units, err := k.w.try(list)
			if err != nil {
				return err
			}
			for place := range units {
				u := units[place]
				if u.found == nil {
					t.Error("nothing was noted of a block that stays as it is")
				}
				for to, u := range map[*map[string]terms]*unit{&fromMaking: &u, &fromReading: {ID: u.ID, N: u.N}} {
					if err := k.w.collect(context.Background(), u, uint32(place), *to); err != nil {
						return err
					}
					if u.since != units[place].since || u.until != units[place].until {
						t.Errorf("a block is of %d to %d, not %d to %d", u.since, u.until, units[place].since,
							units[place].until)
					}
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		same := maps.EqualFunc(fromMaking, fromReading, func(a, b terms) bool {
			return maps.EqualFunc(a, b, slices.Equal)
		})
		if !same || len(fromMaking["who"]) == 0 || len(fromMaking["of"]) == 0 {
			t.Fatalf("noted is %v, read %v", fromMaking, fromReading)
		}
	}
}
