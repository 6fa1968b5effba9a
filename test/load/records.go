package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// pagePatience is how long the API searches before it answers with what it found so far.
const pagePatience = 80 * time.Millisecond

// recording records so many attempts of 50,000 people at 2,000 clients as quickly as it can, and then asks for pages.
func recording(n int) error {
	dir, err := os.MkdirTemp("", "tollgate-load")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	s, err := store.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer s.Close()
	a, err := store.OpenAttempts(ctx, dir, ident.NewSource(0), s, record.Retention{}, nil)
	if err != nil {
		return err
	}
	defer a.Close()
	begun := time.Now()
	for i := range n {
		for i%1000 == 0 && a.Added()-a.Len() > 20_000 {
			time.Sleep(time.Millisecond)
		}
		a.Add(made(i, begun.Add(time.Duration(i-n)*20*time.Millisecond)))
	}
	a.Flush(ctx)
	took := time.Since(begun)
	fmt.Printf("%d attempts recorded and indexed: %.0f/s, %d MB, %.0f MB per million, lost %d\n", n,
		float64(n)/took.Seconds(), a.Size()>>20, float64(a.Size())/float64(n), a.Lost())
	for _, q := range []struct {
		name string
		f    store.Filter
	}{
		{"newest", store.Filter{}}, {"one person", store.Filter{User: "p4711"}}, {"one device", store.Filter{
			MAC: mac(12_345)}},
		{"absent prefix zz*", store.Filter{User: "zz*"}}, {"any text, absent", store.Filter{Text: "zzyzx"}},
		{"any text, rare", store.Filter{Text: "son 4711"}}, {"absent client", store.Filter{Client: "nowhere"}},
		{"absent reason", store.Filter{Reason: "pool.exhausted"}}, {"absent person in a lane",
			store.Filter{Lane: "Wired",
				User: "nobody"}},
		{"a day, long ago", store.Filter{
			Span:    store.Span{Until: begun.Add(-time.Duration(n/2) * 20 * time.Millisecond)},
			Verdict: "refused"}},
		{"text %", store.Filter{Text: "%"}},
	} {
		if err := ask(ctx, a, q.name, q.f); err != nil {
			return err
		}
	}
	return many(ctx, s, a)
}

func mac(i int) string { return fmt.Sprintf("02-00-5E-%02X-%02X-%02X", i>>16&255, i>>8&255, i&255) }

// made is an attempt like those of the demo.
func made(i int, at time.Time) *store.Attempt {
	r := rand.New(rand.NewPCG(uint64(i), 7))
	person, client := r.IntN(50_000), r.IntN(2000)
	name, where := fmt.Sprintf("p%d", person), fmt.Sprintf("1/0/%d", r.IntN(48))
	f := facts.Facts{At: at, Protocol: "radius", Service: "network", Client: fmt.Sprintf("np-switch-%d", client),
		Address: netip.AddrFrom4([4]byte{10, byte(client >> 8), byte(client), 1}), PortType: "Ethernet", Port: where,
		MAC: mac(person), Sent: name, Method: "pap", Credential: "ok",
		Attributes: []facts.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}, {Name: "NAS-Port-Id", Value: where},
			{Name: "Calling-Station-Id", Value: mac(person)}, {Name: "NAS-IP-Address", Value: "10.1.2.3"}},
		Lookups: []facts.Lookup{{Store: "LANTERN", Outcome: "ok", Micros: int64(r.IntN(4000))}},
		Person: &facts.Person{Store: "LANTERN", ID: fmt.Sprintf("%032x", person), Name: name, State: "ok",
			Display: fmt.Sprintf("Person %d", person), Groups: []string{"Shore Staff", "Ticketing",
				fmt.Sprintf("Site %d", person%40)}}}
	f.Spent.Directory, f.Spent.Credential = int64(r.IntN(4000)), int64(r.IntN(900))
	a := &store.Attempt{At: at, Verdict: "admitted", Reason: "ok", Client: f.Client, Who: name, Sent: name,
		Display: f.Person.Display, MAC: f.MAC, Place: "port " + where, Lane: "Wired", Policy: "Ticketing",
		Pass: "ticketing",
		VLAN: "20", Revision: 7, Micros: int64(r.IntN(9000)), Facts: f.AppendJSON(nil)}
	if r.IntN(10) == 0 {
		a.Verdict, a.Reason, a.Policy, a.Pass, a.VLAN = "refused", "password.wrong", "", "", ""
	}
	return a
}

// ask asks for a page of 100 as the API does, and goes on until it is full or nothing is left.
func ask(ctx context.Context, a *store.Attempts, name string, f store.Filter) error {
	f.Limit, f.Patience = 100, pagePatience
	begun, slowest, pages, found := time.Now(), time.Duration(0), 0, 0
	for f.Limit > 0 {
		at := time.Now()
		page, err := a.Find(ctx, f)
		if err != nil {
			return err
		}
		slowest, pages, found = max(slowest, time.Since(at)), pages+1, found+len(page.Items)
		if f.Limit -= len(page.Items); page.Next == 0 {
			break
		}
		f.Before = page.Next
	}
	fmt.Printf("  %-24s found %3d in %2d answers, slowest %4d ms, all %5d ms\n", name, found, pages,
		slowest.Milliseconds(), time.Since(begun).Milliseconds())
	return nil
}

// many has fifty operators search at a time, while accounts are listed.
func many(ctx context.Context, s *store.Store, a *store.Attempts) error {
	var all sync.WaitGroup
	stop, failed := make(chan struct{}), make(chan error, 50)
	var mu sync.Mutex
	var searches []time.Duration
	for i := range 50 {
		all.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				at := time.Now()
				if _, err := a.Find(ctx, store.Filter{Text: fmt.Sprintf("zz%d", i), Limit: 100,
					Patience: pagePatience}); err != nil {
					failed <- err
					return
				}
				mu.Lock()
				searches = append(searches, time.Since(at))
				mu.Unlock()
			}
		})
	}
	var lists []time.Duration
	for range 50 {
		time.Sleep(100 * time.Millisecond)
		at := time.Now()
		if _, err := s.Accounts(ctx); err != nil {
			return err
		}
		lists = append(lists, time.Since(at))
	}
	close(stop)
	all.Wait()
	select {
	case err := <-failed:
		return err
	default:
	}
	fmt.Printf("  50 searches at a time: p50 %v, slowest %v; the list of accounts meanwhile: slowest %v\n",
		middle(searches).Round(time.Millisecond), slices.Max(searches).Round(time.Millisecond),
		slices.Max(lists).Round(time.Microsecond))
	return nil
}

func middle(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}
