package audit

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/chain"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

func trail(t testing.TB, o Options) (*Trail, *store.Store) {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	box, err := seal.Open(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	out, err := Open(t.Context(), s, box, o)
	if err != nil {
		t.Fatal(err)
	}
	return out, s
}

// A change and its line are both there, or neither is.
func TestLinesGoWithTheirTransaction(t *testing.T) {
	a, s := trail(t, Options{})
	ctx, e := a.Begin(t.Context(), Line{Actor: Actor{Who: "o.brandt"}, Call: "add-account", Result: Done}, true)
	e.On("account", "7", "k.nance").Say("added account k.nance").From(nil, map[string]any{"name": "k.nance"})
	if err := s.SaveAccount(ctx, store.Account{ID: "7", Name: "k.nance", Groups: []byte("[]")}); err != nil {
		t.Fatal(err)
	}
	if err := e.Close(ctx); err != nil { // it is recorded already
		t.Fatal(err)
	}
	ctx, _ = a.Begin(t.Context(), Line{Call: "add-account", Result: Done}, true)
	if err := s.SaveAccount(ctx, store.Account{ID: "8", Name: "K.Nance", Groups: []byte("[]")}); err == nil {
		t.Fatal("the name is in use")
	}
	// a reader that went away before the end leaves neither
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if err := s.SaveAccount(gone, store.Account{ID: "9", Name: "s.lodge", Groups: []byte("[]")}); err == nil {
		t.Fatal("a context that is over")
	}
	lines, _, _, err := a.Find(t.Context(), store.AuditFilter{Limit: 10}, 0)
	if err != nil || len(lines) != 1 || lines[0].Name != "k.nance" || lines[0].Number != 1 {
		t.Fatalf("%+v, %v", lines, err)
	}
	if accounts, _ := s.Accounts(t.Context()); len(accounts) != 1 {
		t.Errorf("%d accounts", len(accounts))
	}
}

func TestCompareMasksSecrets(t *testing.T) {
	box := seal.New(make([]byte, 32))
	at := config.Place{Purpose: "radius", Object: "c"}
	type object struct {
		ID     string            `json:"id"`
		Name   string            `json:"name"`
		Secret config.Secret     `json:"secret"`
		Tags   map[string]string `json:"tags"`
		List   []string          `json:"list"`
		Parts  []map[string]any  `json:"parts"`
		On     bool              `json:"on"`
	}
	from := object{"1", "np-1", box.Seal(at, "first"), map[string]string{"site": "a"}, []string{"x"},
		[]map[string]any{{"vlan": 20}}, true}
	to := object{"1", "np-1", box.Seal(at, "second"), map[string]string{"site": "b"}, []string{"x", "y"},
		[]map[string]any{{"vlan": 30}}, false}
	changes, before, after := Compare(from, to)
	want := []Change{{"list", "x", "x, y"}, {"on", "true", ""}, {"parts[1].vlan", "20", "30"},
		{"secret", mask, mask}, {"tags.site", "a", "b"}}
	if fmt.Sprint(changes) != fmt.Sprint(want) {
		t.Errorf("%v, want %v", changes, want)
	}
	for _, text := range []string{string(before), string(after), fmt.Sprint(changes)} {
		if strings.Contains(text, "sealed") || strings.Contains(text, "first") {
			t.Errorf("a secret is in %s", text)
		}
	}
	if changes, _, _ := Compare(from, from); len(changes) != 0 {
		t.Errorf("of the same: %v", changes)
	}
	// what is too large is left out as a whole, and what changed is said all the same
	to.Name = strings.Repeat("n", 100_000)
	changes, _, after = Compare(from, to)
	if after != nil || len(changes) == 0 || len(changes[1].After) > 1000 {
		t.Errorf("of something large: %d octets", len(after))
	}
}

// Lines that are followed are the ones that are listed.
func TestFollowingSelectsAsListing(t *testing.T) {
	a, _ := trail(t, Options{})
	for i := range 30 {
		if err := a.Put(t.Context(), Line{Actor: Actor{Who: []string{"o.brandt", "e_marsh", "a%b"}[i%3]}, Call: "x",
			What: fmt.Sprintf("changed lane %d", i), Kind: []string{"lane", "pass"}[i%2], Object: fmt.Sprint(i % 4),
			Name: fmt.Sprintf("Lane-%d", i%5), Result: []string{Done, Refused}[i/15]}); err != nil {
			t.Fatal(err)
		}
	}
	all, _, _, err := a.Find(t.Context(), store.AuditFilter{Limit: 100}, 0)
	if err != nil || len(all) != 30 {
		t.Fatal(len(all), err)
	}
	for _, f := range []store.AuditFilter{{Who: "O.BRANDT"}, {Who: "*arsh"}, {Who: "e*m*h"}, {Who: "a%*"},
		{Who: "e.marsh"},
		{Kind: "lane", Object: "2"}, {Name: "lane-3"}, {Name: "*-3"}, {Result: Refused}, {Text: "LANE 2"}, {Text: "%"},
		{Since: all[10].At}, {Until: all[10].At}, {After: 12}} {
		f.Limit = 100
		got, _, _, err := a.Find(t.Context(), f, 0)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for i := range all {
			if Fits(&f, &all[i]) {
				n++
			}
		}
		if n != len(got) {
			t.Errorf("%+v: %d are listed and %d followed", f, len(got), n)
		}
	}
}

// Lines go after their time, the chain stays whole, and what is missing without that is seen.
func TestTrim(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	doubtful := true
	a, s := trail(t, Options{Keep: 10 * 24 * time.Hour, Now: func() time.Time { return now },
		Doubtful: func() bool { return doubtful }})
	for range 20 {
		if err := a.Put(t.Context(), Line{Call: "x", What: "y", Result: Done}); err != nil {
			t.Fatal(err)
		}
		now = now.Add(24 * time.Hour)
	}
	for _, wrong := range []bool{true, false, false} {
		if doubtful = wrong; a.Trim(t.Context()) != nil {
			t.Fatal("trim")
		}
		first, last, _ := s.AuditBounds(t.Context())
		if wrong && first != 1 || !wrong && (first != 11 || last != 21) {
			t.Errorf("doubtful %v: lines %d to %d", wrong, first, last)
		}
		if r, err := a.Verify(t.Context(), nil); err != nil || r.Broken != 0 {
			t.Errorf("after trimming: %+v, %v", r, err)
		}
	}
	now = now.Add(365 * 24 * time.Hour) // whatever happens, the last line stays
	if err := a.Trim(t.Context()); err != nil {
		t.Fatal(err)
	}
	if r, err := a.Verify(t.Context(), nil); err != nil || r.Broken != 0 || r.Lines != 2 {
		t.Errorf("after a year: %+v, %v", r, err)
	}
	if err := s.TrimAudit(t.Context(), 22); err != nil { // somebody else removes one
		t.Fatal(err)
	}
	if r, err := a.Verify(t.Context(), nil); err != nil || r.Broken != 1 || !strings.Contains(r.Breaks[0].What,
		"no line says") {
		t.Errorf("after another one was removed: %+v, %v", r, err)
	}
}

// What cannot be recorded waits, and comes first when it can; a flood is told of in one line.
func TestWhatWaits(t *testing.T) {
	a, s := trail(t, Options{})
	over, cancel := context.WithCancel(t.Context())
	cancel()
	_, e := a.Begin(over, Line{Call: "sign-in", What: "signed in", Result: Done}, true)
	if err := e.Close(over); err == nil {
		t.Fatal("nothing can be written")
	}
	if waiting, lost := a.Waiting(); waiting != 1 || lost != 0 {
		t.Fatalf("%d wait, %d lost", waiting, lost)
	}
	for i := range 5000 {
		a.Refused(
			t.Context(),
			Line{Actor: Actor{Who: fmt.Sprintf("name-%d", i), From: fmt.Sprintf("192.0.2.%d", i%250)},
				Call: "sign-in", What: "signed in"},
		)
	}
	a.tell(t.Context())
	lines, _, _, err := a.Find(t.Context(), store.AuditFilter{After: 1, Limit: 6000, Oldest: true}, 0)
	if err != nil || len(lines) > allBurst+20 {
		t.Fatalf("%d lines, %v", len(lines), err)
	}
	first, _, _ := a.Get(t.Context(), 1)
	if last := lines[len(lines)-1]; first.What != "signed in" || first.Result != Done ||
		last.Call != "refusals" ||
		!strings.Contains(last.What, "more refusals") {
		t.Errorf("first %+v, last %+v", first, last)
	}
	if r, err := a.Verify(t.Context(), nil); err != nil || r.Broken != 0 {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err := s.AuditLine(t.Context(), 1<<40); err == nil {
		t.Error("a line that is not there")
	}
}

// What the audit adds to a change: the difference to the same change without.
func BenchmarkChange(b *testing.B) {
	a, s := trail(b, Options{})
	for _, noted := range []bool{false, true} {
		b.Run(fmt.Sprintf("noted=%v", noted), func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				ctx := b.Context()
				if noted {
					inner, e := a.Begin(
						ctx,
						Line{Actor: Actor{"o.brandt", "owner", "192.0.2.9", "console"}, Call: "change-account",
							Result: Done},
						true,
					)
					e.On("account", "1", "k.nance").
						Say("changed account k.nance").
						From(map[string]any{"name": "k.nance",
							"groups": []string{
								"Crew",
							}}, map[string]any{"name": "k.nance", "groups": []string{"Crew", "Deck"}})
					ctx = inner
				}
				if err := s.SaveAccount(ctx, store.Account{ID: "1", Name: "k.nance", Groups: []byte("[]"),
					Version: int64(i)}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// A million lines are verified in seconds.
func BenchmarkVerify(b *testing.B) {
	a, s := trail(b, Options{})
	const lines = 1_000_000
	for at := 0; at < lines; at += 20_000 {
		if err := s.Record(b.Context(), bulk(20_000)); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		r, err := a.Verify(b.Context(), nil)
		if err != nil || r.Broken != 0 || r.Lines != lines {
			b.Fatal(r, err)
		}
	}
}

// bulk is a note of so many lines.
type bulk int

func (bulk) Draft() []byte { return nil }

func (n bulk) Lines(next int64) (out [][]byte, _ func(chain.Sum, error)) {
	for i := range int64(n) {
		l := Line{
			At:      Moment(time.Unix(1_750_000_000+next+i, 0)),
			Actor:   Actor{"o.brandt", "owner", "192.0.2.9", "console"},
			Call:    "change-lane",
			What:    "changed lane wired in the draft",
			Kind:    "lane",
			Object:  "0EHK2V6W00000",
			Name:    "wired",
			Result:  Done,
			Changes: []Change{{"lane wired, policy Crew", "", "changed: VLAN 20, not 30"}},
			Before: json.RawMessage(
				`{"lane 0EHK2V6W00000":{"name":"wired","methods":["PEAP"],"realm":"fleet"}}`,
			),
			After: json.RawMessage(
				`{"lane 0EHK2V6W00000":{"name":"wired","methods":["PEAP","TTLS"],"realm":"fleet"}}`,
			),
		}
		out = append(out, l.encode(next+i))
	}
	return out, func(chain.Sum, error) {}
}
