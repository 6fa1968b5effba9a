package main

import (
	"context"
	"fmt"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// retaining measures attempts at a rate while so many old ones are removed beside them, and before that without.
func retaining(old int, rate float64) error {
	s, err := start()
	if err != nil {
		return err
	}
	defer s.end()
	if err := s.configure(); err != nil {
		return err
	}
	const keep = 24 * time.Hour
	server := s.RADIUS[0].String()
	if err := s.atRate(server, rate, "nothing to remove"); err != nil {
		return err
	}
	s.Stop()
	if err := age(s.dir, old, time.Now().Add(-2*keep)); err != nil {
		return err
	}
	s.App, err = app.Start(context.Background(), app.Options{Data: s.dir, HTTP: "127.0.0.1:0", RADIUS: []string{server},
		TACACS: []string{"127.0.0.1:0"}, KeepAttempts: keep, RemoveAll: true})
	if err != nil {
		return err
	}
	before := s.Attempts.Len()
	if err := s.atRate(server, rate, fmt.Sprintf("%d old ones to remove", old)); err != nil {
		return err
	}
	s.Attempts.Flush(context.Background())
	fmt.Printf("  %d of them were removed meanwhile, %d attempts lost\n",
		before+s.Attempts.Added()-s.Attempts.Len(), s.Attempts.Lost())
	return nil
}

// atRate sends requests at a rate for ten seconds, after every person has signed in once.
func (s *service) atRate(server string, rate float64, beside string) error {
	if _, err := drive(server, options{window: 8, requests: 2 * people}); err != nil {
		return err
	}
	r, err := drive(server, options{window: 64, duration: 10 * time.Second, rate: rate})
	if err != nil {
		return err
	}
	fmt.Printf("%.0f/s, %s: p50 %v, p99 %v, unanswered %d\n", r.rate, beside, r.percentile(50), r.percentile(99),
		r.lost)
	return nil
}

// age records old attempts in the directory of a stopped service.
func age(dir string, n int, at time.Time) error {
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
	for i := range n {
		for i%1000 == 0 && a.Added()-a.Len() > 20_000 {
			time.Sleep(time.Millisecond)
		}
		a.Add(made(i, at.Add(time.Duration(i)*time.Millisecond)))
	}
	a.Flush(ctx)
	return nil
}
