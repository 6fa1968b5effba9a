package rule

import "testing"

// Each field is read in one way, and set; the search for facts knows what conditions know.
func TestEveryFieldIsReadAndSet(t *testing.T) {
	for _, f := range fields {
		readers := 0
		for _, has := range []bool{f.one != nil, f.many != nil, f.address != nil, f.age != nil} {
			if has {
				readers++
			}
		}
		if f.set == nil || readers != 1 && f.Type != Hours || readers > 1 {
			t.Errorf("%s has %d readers, and is set: %v", f.Name, readers, f.set != nil)
		}
	}
}
