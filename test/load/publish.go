package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/document"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// big adds clients and policies to a configuration.
func big(c *config.Config, clients, lanes, policies int) {
	for i := range clients {
		c.Clients = append(c.Clients, &config.Client{Name: fmt.Sprintf("switch-%06d", i), Enabled: true,
			Addresses: []string{fmt.Sprintf("10.%d.%d.%d", i>>16, i>>8&255, i&255)}, Secret: "clear:" + secret,
			MessageAuthenticator: config.Require, Tags: map[string]string{"site": fmt.Sprintf("site-%d", i%100)}})
	}
	for l := range lanes {
		lane := &config.Lane{Name: fmt.Sprintf("Lane %d", l), When: fmt.Sprintf("ssid is net-%d", l),
			Methods: []string{"pap"}}
		for p := range policies {
			lane.Policies = append(lane.Policies, &config.Policy{Name: fmt.Sprintf("Policy %d", p), Enabled: true,
				When:    fmt.Sprintf(`group is "Group %d" and client.site in site-%d, site-%d`, p, p%100, (p+1)%100),
				Outcome: config.Admit, Pass: c.Passes[0].Name})
		}
		c.Lanes = append(c.Lanes, lane)
	}
}

// publishing measures a publish of a big configuration, and counts requests lost while it happens again and again.
func publishing(s *service, target string, rate float64) error {
	octets, took, err := s.applyBig(10_000, 10, 100)
	if err != nil {
		return err
	}
	fmt.Printf("A file of 10,000 clients and 1,000 policies, %d kB, applied: %v\n", octets>>10,
		took.Round(time.Millisecond))
	begun := time.Now()
	if err := s.do(http.MethodPost, "/draft/publish", map[string]string{}, nil); err != nil {
		return err
	}
	fmt.Printf("Publish of 10,000 clients and 1,000 policies: %v\n", time.Since(begun).Round(time.Millisecond))
	if err := s.saving(); err != nil {
		return err
	}
	// the process is new: argon2id once
	if _, err := drive(target, options{window: 8, requests: 2 * people}); err != nil {
		return err
	}
	done := make(chan result, 1)
	failed := make(chan error, 1)
	go func() {
		r, err := drive(target, options{window: 64, duration: 6 * time.Second, rate: rate})
		failed <- err
		done <- r
	}()
	worst, count := time.Duration(0), 0
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end); count++ {
		var lane apitype.Lane
		if err := s.do(http.MethodGet, "/lanes/Wired", nil, &lane); err != nil {
			return err
		}
		fields := lane.LaneFields
		fields.Note = fmt.Sprint(count)
		if err := s.do(http.MethodPut, "/lanes/Wired", fields, nil, func(r *http.Request) {
			r.Header.Set("If-Match", lane.Tag)
		}); err != nil {
			return err
		}
		begun := time.Now()
		if err := s.do(http.MethodPost, "/draft/publish", map[string]string{}, nil); err != nil {
			return err
		}
		worst = max(worst, time.Since(begun))
	}
	if err := <-failed; err != nil {
		return err
	}
	r := <-done
	fmt.Printf("%d publishes of one change in it under %.0f/s: the slowest %v, %d requests answered, %d lost\n", count,
		r.rate, worst.Round(time.Millisecond), r.answered, r.lost)
	return nil
}

// saving measures what an operator waits for who changes one client and publishes, in one step, and how often the
// configuration is compiled for it.
func (s *service) saving() error {
	const times = 15
	var took []time.Duration
	compiled := revision.Compiles()
	for i := range times {
		var c apitype.Client
		if err := s.do(http.MethodGet, "/clients/load-1", nil, &c); err != nil {
			return err
		}
		in := apitype.ClientInput{ClientFields: c.ClientFields}
		in.Note = fmt.Sprint("change ", i)
		begun := time.Now()
		if err := s.do(http.MethodPut, "/clients/load-1?publish=true", in, nil, func(r *http.Request) {
			r.Header.Set("If-Match", c.Tag)
		}); err != nil {
			return err
		}
		took = append(took, time.Since(begun))
	}
	slices.Sort(took)
	fmt.Printf("One change saved and published in it: median %v, slowest %v, compiled %.1f times each\n",
		took[times/2].Round(time.Millisecond), took[times-1].Round(time.Millisecond),
		float64(revision.Compiles()-compiled)/times)
	return nil
}

// publishOnly measures publishing alone.
func publishOnly() error {
	s, err := start()
	if err != nil {
		return err
	}
	defer s.end()
	if err := s.configure(); err != nil {
		return err
	}
	return publishing(s, s.RADIUS[0].String(), 2000)
}

// applyBig adds clients and policies to what is running, as an administrator would: by a file.
func (s *service) applyBig(clients, lanes, policies int) (octets int, took time.Duration, err error) {
	var text []byte
	if err := s.do(http.MethodGet, "/file?of=running&secrets=true", nil, &text); err != nil {
		return 0, 0, err
	}
	doc, err := document.Read(text)
	if err != nil {
		return 0, 0, err
	}
	big(&doc.Config, clients, lanes, policies)
	text = document.Write(&doc.Config, true)
	begun := time.Now()
	err = s.do(http.MethodPost, "/file/apply", client.Raw{Type: "application/yaml", Body: text}, nil)
	return len(text), time.Since(begun), err
}

// coldStart measures the built service from the start of its process to its first answer, with an empty data
// directory and with one that was used.
func coldStart() error {
	binary, err := filepath.Abs("bin/tollgated")
	if err == nil {
		_, err = os.Stat(binary)
	}
	if err != nil {
		return fmt.Errorf("bin/tollgated is not built (make build): %w", err)
	}
	dir, err := os.MkdirTemp("", "tollgate-cold")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := start()
	if err != nil {
		return err
	}
	if err := s.configure(); err != nil {
		return err
	}
	s.Stop()
	defer os.RemoveAll(s.dir)
	address := "127.0.0.1:38121"
	cmd := exec.Command(binary, "-data", s.dir, "-http", "127.0.0.1:38441", "-radius", address)
	begun := time.Now()
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() { cmd.Process.Signal(os.Interrupt); cmd.Wait() }()
	for {
		reply, err := trial.Send(context.Background(), trial.Request{Server: address, Secret: secret, User: user(0),
			Password: password, Timeout: 300 * time.Millisecond, Tries: 1,
			Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}})
		if err == nil {
			fmt.Printf("Cold start to the first answer, a password by argon2id (%s): %v\n",
				strings.ToLower(reply.Code), time.Since(begun).Round(time.Millisecond))
			return nil
		}
		if time.Since(begun) > 10*time.Second {
			return fmt.Errorf("no answer after 10 s: %w", err)
		}
		time.Sleep(5 * time.Millisecond)
	}
}
