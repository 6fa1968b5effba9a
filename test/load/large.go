package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// process is the built service in a process of its own.
type process struct {
	service
	cmd *exec.Cmd
}

// launch starts the built service on the data directory of one that was stopped.
func launch(s *service) (*process, time.Duration, error) {
	binary, err := filepath.Abs("bin/tollgated")
	if err == nil {
		_, err = os.Stat(binary)
	}
	if err != nil {
		return nil, 0, fmt.Errorf("bin/tollgated is not built (make build): %w", err)
	}
	p := &process{service: service{dir: s.dir, api: &client.Client{URL: "http://127.0.0.1:38442", Token: s.api.Token}}}
	p.cmd = exec.Command(binary, "-data", s.dir, "-http", "127.0.0.1:38442", "-radius", "127.0.0.1:38122", "-tacacs",
		"")
	begun := time.Now()
	if err := p.cmd.Start(); err != nil {
		return nil, 0, err
	}
	for {
		var now apitype.Now
		if err = p.do(http.MethodGet, "/now", nil, &now); err == nil {
			return p, time.Since(begun), nil
		}
		if time.Since(begun) > 30*time.Second {
			p.stop()
			return nil, 0, fmt.Errorf("no answer after 30 s: %w", err)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func (p *process) stop() {
	p.cmd.Process.Signal(os.Interrupt)
	p.cmd.Wait()
}

// memory is what the process holds, and the most it has held, in megabytes.
func (p *process) memory() (now, peak int) {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	for _, line := range strings.Split(string(text), "\n") {
		fields := strings.Fields(line)
		if len(fields) < 2 {
			continue
		}
		n, _ := strconv.Atoi(fields[1])
		switch fields[0] {
		case "VmRSS:":
			now = n >> 10
		case "VmHWM:":
			peak = n >> 10
		}
	}
	return now, peak
}

// largeOnly measures a configuration of 100,000 clients and 10,000 policies, with the service in a process of its own.
func largeOnly(clients, lanes, policies int) error {
	s, err := start()
	if err != nil {
		return err
	}
	defer os.RemoveAll(s.dir)
	err = s.configure()
	s.Stop()
	if err != nil {
		return err
	}
	p, _, err := launch(s)
	if err != nil {
		return err
	}
	octets, took, err := p.applyBig(clients, lanes, policies)
	if err != nil {
		p.stop()
		return err
	}
	_, peak := p.memory()
	fmt.Printf("%d clients and %d policies, a file of %d MB: applied in %v, at most %d MB\n", clients, lanes*policies,
		octets>>20, took.Round(time.Millisecond), peak)
	begun := time.Now()
	err = p.do(http.MethodPost, "/draft/publish", map[string]string{}, nil)
	fmt.Printf("  published all of it in %v\n", time.Since(begun).Round(time.Millisecond))
	p.stop()
	if err != nil {
		return err
	}
	p, took, err = launch(s)
	if err != nil {
		return err
	}
	defer p.stop()
	now, peak := p.memory()
	fmt.Printf("  started again in %v, %d MB, at most %d MB\n", took.Round(time.Millisecond), now, peak)
	written := p.written()
	err = errors.Join(
		p.several("one client edited", func(i int) error { return p.editClient(i, "") }),
		p.several("one policy edited", func(i int) error { return p.editPolicy(i, "") }),
		p.do(http.MethodDelete, "/draft", nil, nil),
		p.several("one client edited and published", func(i int) error { return p.editClient(i, "?publish=true") }),
		p.several("one policy edited and published", func(i int) error { return p.editPolicy(i, "?publish=true") }),
		p.several("/now", func(int) error { return p.do(http.MethodGet, "/now", nil, nil) }),
		p.several("/draft", func(int) error { return p.do(http.MethodGet, "/draft", nil, nil) }),
		p.several("a page of clients", func(int) error { return p.do(http.MethodGet, "/clients", nil, nil) }),
		p.several("clients searched", func(i int) error {
			return p.do(http.MethodGet, fmt.Sprintf("/clients?q=switch-0%d", 900+i), nil, nil)
		}))
	now, peak = p.memory()
	fmt.Printf("  afterwards %d MB, at most %d MB; %d kB written for each edit\n", now, peak,
		(p.written()-written)>>10/(4*times))
	return err
}

const times = 20

// several does something several times, and prints how long it took.
func (p *process) several(what string, do func(i int) error) error {
	var took []time.Duration
	for i := range times {
		begun := time.Now()
		if err := do(i); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		took = append(took, time.Since(begun))
	}
	slices.Sort(took)
	fmt.Printf("  %-32s median %v, slowest %v\n", what, took[times/2].Round(100*time.Microsecond),
		took[times-1].Round(100*time.Microsecond))
	return nil
}

// written is how much the process has written, in octets.
func (p *process) written() int {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/io", p.cmd.Process.Pid))
	_, rest, _ := strings.Cut(string(text), "\nwchar: ")
	line, _, _ := strings.Cut(rest, "\n")
	n, _ := strconv.Atoi(line)
	return n
}

func (p *process) editClient(i int, query string) error {
	path := fmt.Sprintf("/clients/switch-%06d", 1000*i)
	in := apitype.ClientInput{ClientFields: apitype.ClientFields{Name: fmt.Sprintf("switch-%06d", 1000*i),
		Enabled:              true,
		Addresses:            []string{fmt.Sprintf("10.%d.%d.%d", 1000*i>>16, 1000*i>>8&255, 1000*i&255)},
		MessageAuthenticator: "require", Tags: map[string]string{"site": "site-1"},
		Note: fmt.Sprint("change ", i, query, time.Now())}}
	return p.api.Do(context.Background(), http.MethodPut, path+query, in, nil, client.IfMatch("*"))
}

// editPolicy edits a policy in its lane, which is read for it.
func (p *process) editPolicy(i int, query string) error {
	path := fmt.Sprintf("/lanes/Lane%%20%d", i%10)
	var lane apitype.Lane
	if err := p.do(http.MethodGet, path, nil, &lane); err != nil {
		return err
	}
	at := *lane.Policies[i]
	at.When = fmt.Sprintf("group is Changed-%d-%d", i, time.Now().UnixNano())
	lane.Policies[i] = &at
	return p.api.Do(context.Background(), http.MethodPut, path+query, lane.LaneFields, nil, client.IfMatch("*"))
}
