package gate

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// A question waits for the answer of its own person, client and device, once, and for two minutes; there is an end to
// how many wait.
func TestQuestions(t *testing.T) {
	var all questions
	now := time.Now()
	asked := facts.Facts{Client: "vpn", Sent: "k.nance", Address: netip.MustParseAddr("192.0.2.1"),
		From: netip.MustParseAddr("198.51.100.7")}
	person := 0
	ask := func(client string, until time.Time) (state, error) {
		sent := asked.Sent
		if person++; person > 1 {
			sent = fmt.Sprint("person ", person)
		}
		s, _, err := all.add(&question{client: client, sent: sent, from: asked.From, source: asked.Address,
			until: until, right: true}, func() {})
		return s, err
	}
	first, err := ask("vpn", now.Add(answerWithin))
	if err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(*facts.Facts){
		"client": func(f *facts.Facts) { f.Client = "switch" },
		"name":   func(f *facts.Facts) { f.Sent = "n.quay" },
		"source": func(f *facts.Facts) { f.Address = netip.MustParseAddr("192.0.2.2") },
		"from":   func(f *facts.Facts) { f.From = netip.Addr{} },
		"device": func(f *facts.Facts) { f.MAC = "02-00-5E-00-00-01" },
		"trial":  func(f *facts.Facts) { f.Tried = "o.brandt" },
	} {
		other := asked
		change(&other)
		if q, why := all.find(first[:], &other, now); q == nil || why == "" {
			t.Errorf("with another %s: %v %q", what, q, why)
		}
	}
	for _, given := range [][]byte{nil, {}, first[:15], append(first[:], 0), make([]byte, 16)} {
		if q, _ := all.find(given, &asked, now); q != nil {
			t.Errorf("State %x found %+v", given, q)
		}
	}
	if q, _ := all.find(first[:], &asked, now.Add(answerWithin+time.Second)); q != nil {
		t.Error("an answer after the time was taken")
	}
	if q, why := all.find(first[:], &asked, now); q == nil || why != "" {
		t.Errorf("its own answer: %v %q", q, why)
	}
	if q, _ := all.find(first[:], &asked, now); q != nil {
		t.Error("it was answered twice")
	}
	if list, again := all.over(now); len(list) != 0 || again {
		t.Errorf("over are %v, again %v", list, again)
	}
	for n := range maxAsked + 10 {
		_, err := ask(fmt.Sprint("client ", n/askedPerClient%5), now.Add(time.Duration(n/100)*time.Second))
		if (err != nil) != (n >= maxAsked) {
			t.Fatalf("question %d: %v", n, err)
		}
	}
	list, again := all.over(now.Add(99*time.Second + time.Millisecond))
	if len(list) != 10_000 || !again {
		t.Errorf("%d are over after 99 s, again %v", len(list), again)
	}
	for n := range askedPerClient + 1 {
		if _, err := ask("one", now.Add(time.Hour)); (err != nil) != (n >= askedPerClient) {
			t.Fatalf("question %d of one client: %v", n, err)
		}
	}
	// Whoever guesses takes no place of others: of those who are wrong the oldest gives way.
	wrong := func(until time.Time) (s state, gone *question, err error) {
		return all.add(&question{client: "two", until: until}, func() {})
	}
	begun := now.Add(time.Hour)
	for n := range wrongPerClient + 50 {
		_, gone, err := wrong(begun.Add(time.Duration(n)))
		if err != nil || (gone != nil) != (n >= wrongPerClient) ||
			gone != nil && gone.until != begun.Add(time.Duration(n-wrongPerClient)) {
			t.Fatalf("wrong one %d: %+v, %v", n, gone, err)
		}
	}
	if _, err := ask("two", now.Add(time.Hour)); err != nil {
		t.Errorf("beside those who guess: %v", err)
	}
	// Neither does whoever knows one password.
	for n := range 3 * wrongPerClient {
		if _, _, err := all.add(&question{client: "three", sent: "k.nance", right: true,
			until: now.Add(time.Hour)}, func() {}); err != nil {
			t.Fatalf("question %d of one person: %v", n, err)
		}
	}
	if of := all.byClient["three"]; of.stay != askedPerPerson || of.yield != wrongPerClient {
		t.Errorf("of one person wait %d and %d", of.stay, of.yield)
	}
	if _, err := ask("three", now.Add(time.Hour)); err != nil {
		t.Errorf("beside one who asks without end: %v", err)
	}
	all.close()
	if _, err := ask("vpn", now.Add(time.Hour)); err == nil {
		t.Error("asked after the end")
	}
}
