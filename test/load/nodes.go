package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

// program is the service, as make build leaves it: other nodes are processes of their own.
const program = "bin/tollgated"

// nodesOnly measures one node alone and then as one of two with a witness: attempts per second, publishing until it is
// in effect on the other, changes while the leading engine dies, and the memory of the engine.
func nodesOnly(duration time.Duration, rounds int) error {
	floor, err := startFloor()
	if err != nil {
		return err
	}
	defer floor.Close()
	s, err := start()
	if err != nil {
		return err
	}
	defer s.end()
	if err := s.configure(); err != nil {
		return err
	}
	target := s.RADIUS[0].String()
	if _, err := drive(target, options{window: 8, requests: 2 * people}); err != nil {
		return err
	}
	rate := func(what string) (float64, error) {
		var ratios []float64
		for range rounds {
			s.Attempts.Flush(context.Background())
			f, err := drive(floor.Addr(), options{window: 64, duration: duration})
			if err != nil {
				return 0, err
			}
			r, err := drive(target, options{window: 64, duration: duration})
			if err != nil {
				return 0, err
			}
			ratios = append(ratios, r.rate/f.rate)
		}
		slices.Sort(ratios)
		fmt.Printf("PAP of one node %s: median ratio to the floor %.3f\n", what, ratios[len(ratios)/2])
		return ratios[len(ratios)/2], nil
	}
	alone, err := rate("alone")
	if err != nil {
		return err
	}
	reports, err := s.acknowledged("alone", duration, rounds, 0)
	if err != nil {
		return err
	}
	far, stop, err := s.grow()
	defer stop()
	if err != nil {
		return err
	}
	among, err := rate("of two with a witness, all on this machine")
	if err != nil {
		return err
	}
	fmt.Printf("  one node among others to the same alone: %.2f\n", among/alone)
	copied, err := s.acknowledged("with a copy on the other node", duration, rounds, rounds)
	if err != nil {
		return err
	}
	fmt.Printf("  with a copy to the same alone: %.2f\n", copied/reports)
	if err := s.publishedFar(far, 200); err != nil {
		return err
	}
	if err := s.leaderDies(); err != nil {
		return err
	}
	return s.manyAccounts(100_000)
}

// acknowledged measures the records of accounting that are acknowledged in a second, in rounds from a number on.
func (s *service) acknowledged(what string, duration time.Duration, rounds, from int) (float64, error) {
	var rates []float64
	for round := range rounds {
		r, err := drive(s.Accounting[0].String(), options{window: 1920, duration: duration,
			build: reporter(from + round), code: radius.AccountingResponse})
		if err != nil {
			return 0, err
		}
		fmt.Printf("  accounting %s: %.0f/s acknowledged, p50 %v, p99 %v\n", what, r.rate, r.percentile(50),
			r.percentile(99))
		rates = append(rates, r.rate)
	}
	slices.Sort(rates)
	return rates[len(rates)/2], nil
}

// grow adds a second node and a witness as processes; it returns the API of the second.
func (s *service) grow() (far *client.Client, stop func(), err error) {
	var list []*exec.Cmd
	var dirs []string
	stop = func() {
		for _, c := range list {
			c.Process.Kill()
			c.Wait()
		}
		for _, d := range dirs {
			os.RemoveAll(d)
		}
	}
	console := "127.0.0.1:18441"
	for name, args := range map[string][]string{"second": {"-http", console, "-radius", "127.0.0.1:0", "-accounting=",
		"-radius-tls=", "-radius-dtls=", "-tacacs", "none", "-tacacs-tls", "none"}, "eye": {"-witness"}} {
		var i apitype.NodeInvitation
		if err := s.do(http.MethodPost, "/nodes", apitype.NodeInput{Name: name}, &i); err != nil {
			return nil, stop, err
		}
		dir, err := os.MkdirTemp("", "tollgate-load")
		if err != nil {
			return nil, stop, err
		}
		dirs = append(dirs, dir)
		c := exec.Command(program, append(args, "-data", dir, "-node-address", "127.0.0.1:0", "-join", i.Token)...)
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := c.Start(); err != nil {
			return nil, stop, fmt.Errorf("starting %s, which make build makes: %w", program, err)
		}
		list = append(list, c)
	}
	for end := time.Now().Add(time.Minute); ; time.Sleep(200 * time.Millisecond) {
		nodes, err := client.Get[apitype.Nodes](context.Background(), s.api, "/nodes")
		well := 0
		for _, n := range nodes.Items {
			if n.State == "well" {
				well++
			}
		}
		if err == nil && well == 3 && nodes.Items[0].Copied {
			return &client.Client{URL: "http://" + console, Token: s.api.Token}, stop, nil
		}
		if time.Now().After(end) {
			return nil, stop, fmt.Errorf("the nodes do not meet: %+v, %w", nodes, err)
		}
	}
}

// publishedFar measures publishing until it is in effect on the other node.
func (s *service) publishedFar(far *client.Client, count int) error {
	var here, there []time.Duration
	for n := range count {
		if err := s.do(http.MethodPost, "/passes", map[string]any{"name": fmt.Sprintf("pass-%d", n), "vlan": "7"},
			nil); err != nil {
			return err
		}
		begun := time.Now()
		var out apitype.Published
		if err := s.do(http.MethodPost, "/draft/publish", map[string]string{}, &out); err != nil {
			return err
		}
		here = append(here, time.Since(begun))
		for {
			draft, err := client.Get[struct {
				Revision int `json:"revision"`
			}](context.Background(), far, "/draft")
			if err != nil {
				return err
			}
			if draft.Revision >= out.Revision {
				break
			}
			if time.Since(begun) > 10*time.Second {
				return errors.New("a revision is not in effect on the other node")
			}
		}
		there = append(there, time.Since(begun))
	}
	slices.Sort(here)
	slices.Sort(there)
	fmt.Printf("Published: answered p50 %v, p99 %v; in effect on the other node p50 %v, p99 %v\n", here[count/2],
		here[count*99/100], there[count/2], there[count*99/100])
	return nil
}

// engines are the processes of engines, by the process that started them.
func engines() map[int]int {
	out := map[int]int{}
	list, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range list {
		text, err := os.ReadFile(path)
		if err != nil || !strings.HasSuffix(string(text), "\x00-run-engine\x00") {
			continue
		}
		dir := filepath.Dir(path)
		pid, _ := strconv.Atoi(filepath.Base(dir))
		stat, err := os.ReadFile(filepath.Join(dir, "stat"))
		if err != nil {
			continue
		}
		if fields := strings.Fields(string(stat[strings.LastIndex(string(stat), ")")+1:])); len(fields) > 1 {
			parent, _ := strconv.Atoi(fields[1])
			out[parent] = pid
		}
	}
	return out
}

// leaderDies kills the engine of this node, which leads unless it died before, and measures how long nothing can be
// changed.
func (s *service) leaderDies() error {
	var gaps []time.Duration
	for n := range 5 {
		pid := engines()[os.Getpid()]
		if pid == 0 {
			return errors.New("the engine of this node is not found")
		}
		syscall.Kill(pid, syscall.SIGKILL)
		begun := time.Now()
		for try := 0; ; try++ {
			err := s.do(
				http.MethodPost,
				"/passes",
				map[string]any{"name": fmt.Sprintf("gap-%d-%d", n, try), "vlan": "7"},
				nil,
			)
			if err == nil {
				break
			}
			if time.Since(begun) > 30*time.Second {
				return err
			}
		}
		gaps = append(gaps, time.Since(begun))
		time.Sleep(3 * time.Second)
	}
	slices.Sort(gaps)
	fmt.Printf(
		"The engine of this node is killed: changes here go on after %v (median of 5, the longest %v)\n",
		gaps[2],
		gaps[4],
	)
	return nil
}

// manyAccounts imports accounts, and tells how large the engine is then.
func (s *service) manyAccounts(count int) error {
	var text strings.Builder
	text.WriteString("name,groups,password\n")
	begun := time.Now()
	const part = 20_000
	for n := range count {
		fmt.Fprintf(&text, "many.%06d,Crew,gangway-and-rope\n", n)
		if (n+1)%part != 0 {
			continue
		}
		var report json.RawMessage
		if err := s.do(http.MethodPost, "/account-import", apitype.Sheet{CSV: text.String()}, &report); err != nil {
			return err
		}
		text.Reset()
		text.WriteString("name,groups,password\n")
	}
	took := time.Since(begun)
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", engines()[os.Getpid()]))
	if err != nil {
		return err
	}
	memory := ""
	for line := range strings.Lines(string(status)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			memory = strings.TrimSpace(rest)
		}
	}
	fmt.Printf(
		"%d accounts imported in %v; the engine of this node has %s\n",
		count,
		took.Round(time.Millisecond),
		memory,
	)
	return nil
}
