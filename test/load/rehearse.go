package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// rehearsing records a million attempts, then rehearses them while devices go on asking, and compares how long those
// wait with and without.
func rehearsing(s *service, target string, n int) error {
	for kept := recorded(s); kept < int64(n); kept = recorded(s) {
		if _, err := drive(target, options{window: 64, duration: 5 * time.Second}); err != nil {
			return err
		}
		s.Attempts.Flush(context.Background())
	}
	var lane apitype.Lane
	if err := s.do(http.MethodGet, "/lanes/Wired", nil, &lane); err != nil {
		return err
	}
	lane.Policies[2].Enabled = false
	if err := s.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*")); err != nil {
		return err
	}
	alone, err := rehearseOnce(s)
	if err != nil {
		return err
	}
	fmt.Printf("Rehearsal of %d attempts: %v, %.0f/s; %d would change\n", alone.Total,
		time.Duration(alone.Micros)*time.Microsecond, float64(alone.Total)/(float64(alone.Micros)/1e6), alone.Changed)
	const rate = 10_000
	quiet, err := drive(target, options{window: 64, duration: 8 * time.Second, rate: rate})
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() {
		for range 2 { // long enough for the whole measurement
			if _, err := rehearseOnce(s); err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	busy, err := drive(target, options{window: 64, duration: 8 * time.Second, rate: rate})
	if err = errors.Join(err, <-done); err != nil {
		return err
	}
	fmt.Printf("Meanwhile at %.0f/s: p50 %v and p99 %v without it, p50 %v and p99 %v with it, unanswered %d and %d\n",
		busy.rate, quiet.percentile(50), quiet.percentile(99), busy.percentile(50), busy.percentile(99), quiet.lost,
		busy.lost)
	return nil
}

func rehearseOnce(s *service) (*apitype.Rehearsal, error) {
	var end apitype.RehearsalEnd
	err := s.api.Stream(context.Background(), http.MethodPost, "/rehearsal", apitype.RehearsalInput{Hours: 24},
		func(e client.Event) bool {
			return e.Name != "end" || json.Unmarshal(e.Data, &end) != nil
		})
	if err == nil && end.Result == nil {
		err = errors.New(end.Problem)
	}
	return &apitype.Rehearsal{Rehearsal: end.Result}, err
}
