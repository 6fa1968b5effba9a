package roster

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
)

type thing struct{ name string }

func entry(name string) Entry[thing] { return Entry[thing]{Key: name, Text: name, Of: &thing{name}} }

func names(list []*thing) string {
	var out []string
	for _, one := range list {
		out = append(out, one.name)
	}
	return strings.Join(out, " ")
}

func everything(*Entry[thing]) bool { return true }

// Whatever is put and removed, one by one and many at once, the list is what a sorted map would be.
func TestListIsSorted(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var list List[thing]
	want := map[string]bool{}
	for range 2000 {
		name := fmt.Sprintf("n%03d", r.IntN(300))
		switch r.IntN(5) {
		case 0:
			list.Remove(name)
			delete(want, name)
		case 1:
			other := fmt.Sprintf("n%03d", r.IntN(300))
			list.Put(entry(name), entry(other), entry(name))
			want[name], want[other] = true, true
		default:
			list.Put(entry(name))
			want[name] = true
		}
	}
	var sorted []string
	for name := range want {
		sorted = append(sorted, name)
	}
	slices.Sort(sorted)
	if got := names(list.All()); got != strings.Join(sorted, " ") {
		t.Errorf("%s\nwanted\n%s", got, strings.Join(sorted, " "))
	}
	list.Set(entry("b"), entry("a"))
	if got := names(list.All()); got != "a b" {
		t.Errorf("set anew it is %s", got)
	}
}

func TestPages(t *testing.T) {
	var list List[thing]
	list.Put(entry("a"), entry("b"), entry("bb"), entry("c"))
	for _, c := range []struct {
		after string
		limit int
		want  string
		more  bool
	}{{"", 2, "a b", true}, {"b", 2, "bb c", false}, {"b", 1, "bb", true}, {"ba", 9, "bb c", false},
		{"z", 9, "", false},
		{"", 4, "a b bb c", false}} {
		page, more := list.Page(c.after, c.limit, everything)
		if names(page) != c.want || more != c.more {
			t.Errorf("%+v gives %s, %v", c, names(page), more)
		}
	}
	page, more := list.Page("", 1, func(e *Entry[thing]) bool { return strings.Contains(e.Text, "b") })
	if names(page) != "b" || !more {
		t.Errorf("searched: %s, %v", names(page), more)
	}
	var empty List[thing]
	if page, more := empty.Page("x", 3, everything); len(page) > 0 || more {
		t.Error("an empty list has a page")
	}
	empty.Remove("x")
}

// A page is read from the list as it was when the reading began.
func TestReadersAndWriters(t *testing.T) {
	var list List[thing]
	for i := range 100 {
		list.Put(entry(fmt.Sprintf("stays%03d", i)))
	}
	var all sync.WaitGroup
	for w := range 4 {
		all.Go(func() {
			for i := range 200 {
				name := fmt.Sprintf("x%d-%d", w, i)
				list.Put(entry(name))
				list.Remove(name)
			}
		})
		all.Go(func() {
			for range 200 {
				if page, _ := list.Page("", 1000, func(e *Entry[thing]) bool {
					return strings.HasPrefix(e.Key, "stays")
				}); len(page) != 100 {
					t.Errorf("%d of 100 are there", len(page))
				}
			}
		})
	}
	all.Wait()
}
