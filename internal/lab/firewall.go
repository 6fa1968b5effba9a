package lab

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// staleAfter is after how long without a word the firewall takes what it knows for stale: three missed heartbeats.
const staleAfter = 15 * time.Second

// FirewallRule lets a group reach a service.
type FirewallRule struct{ Group, Service string }

// FirewallRules are those of the stand-in; what none allows is dropped.
var FirewallRules = []FirewallRule{
	{"Ticketing", "tickets"},
	{"Harbour Office", "tickets"},
	{"Port Operations", "cranes"},
	{
		"Deck Officers",
		"charts",
	},
	{"Engine Room", "engines"},
	{"Network Team", "charts"},
	{"Network Team", "engines"},
	{"Network Team", "cranes"},
	{"Network Team", "tickets"},
}

// Firewall decides about connections by the groups of people, whom it knows by following presence at one of several
// nodes.
type Firewall struct {
	// URL is the node to ask at a try; Token is that of the subscriber.
	URL   func(try int) string
	Token string

	mu       sync.Mutex
	here     map[string]Told // by address, ports and person
	position string
	heard    time.Time
	node     string
	resumed  int
}

// Told is an event of the feed: somebody at an address, or no more.
type Told struct {
	Type     string   `json:"type"`
	Position string   `json:"position"`
	Address  string   `json:"address"`
	Ports    string   `json:"ports"`
	Who      string   `json:"who"`
	Display  string   `json:"display"`
	Groups   []string `json:"groups"`
	MAC      string   `json:"mac"`
	Source   string   `json:"source"`
	Since    string   `json:"since"`
}

// Follow follows presence until the context ends, at the next node when one does not answer.
func (f *Firewall) Follow(ctx context.Context) {
	for n := 0; ctx.Err() == nil; n++ {
		f.read(ctx, f.URL(n))
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (f *Firewall) read(ctx context.Context, url string) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	silence := time.AfterFunc(staleAfter, cancel) // a node that hangs is left
	defer silence.Stop()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, url+"/presence/v1/stream", nil)
	if err != nil {
		return
	}
	q.Header.Set("Authorization", "Bearer "+f.Token)
	f.mu.Lock()
	q.Header.Set("Last-Event-ID", f.position)
	f.mu.Unlock()
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		return
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return
	}
	lines := bufio.NewScanner(r.Body)
	for first := true; lines.Scan(); {
		silence.Reset(staleAfter)
		var e Told
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if ok && json.Unmarshal([]byte(data), &e) == nil {
			f.take(url, e, first)
			first = false
		}
	}
}

func (f *Firewall) take(url string, e Told, first bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.heard, f.node = time.Now(), url
	if first && e.Type != "begin" {
		f.resumed++
	}
	key := e.Address + " " + e.Ports + " " + e.Who
	switch e.Type {
	case "begin":
		f.here = map[string]Told{}
	case "here":
		if f.here == nil {
			f.here = map[string]Told{}
		}
		f.here[key] = e
	case "gone":
		delete(f.here, key)
	}
	if e.Position != "" {
		f.position = e.Position
	}
}

// At is somebody whom the whole address belongs to, and Resumed how many connections went on without a snapshot.
func (f *Firewall) At(address string) (out Told) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, e := range f.here {
		if e.Address == address && e.Ports == "" {
			out = e
		}
	}
	return out
}

func (f *Firewall) Resumed() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.resumed
}

// Stale tells since when nothing was heard, 0 while what is known is fresh.
func (f *Firewall) Stale() time.Duration {
	f.mu.Lock()
	defer f.mu.Unlock()
	if silent := time.Since(f.heard); silent > staleAfter {
		return silent
	}
	return 0
}

// Decide says whether an address may reach a service, and why.
func (f *Firewall) Decide(address, service string) (allowed bool, why string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, who := range f.here {
		if who.Address != address || who.Ports != "" {
			continue
		}
		for _, rule := range FirewallRules {
			if rule.Service == service && slices.ContainsFunc(who.Groups, func(g string) bool {
				return strings.EqualFold(g, rule.Group)
			}) {
				return true, who.Display + " is in " + rule.Group
			}
		}
		why = who.Display + " is in " + strings.Join(who.Groups, ", ")
	}
	return false, cmp.Or(why, "nobody is known there")
}

// Run decides about made-up connections of people who are there, and of one who is not, and writes what it decides.
func (f *Firewall) Run(ctx context.Context, out io.Writer, every time.Duration) {
	services := []string{"tickets", "cranes", "charts", "engines"}
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		f.mu.Lock()
		var list []string
		for _, e := range f.here {
			if e.Ports == "" {
				list = append(list, e.Address)
			}
		}
		node, known := f.node, len(f.here)
		f.mu.Unlock()
		slices.Sort(list)
		at := time.Now().Format("15:04:05")
		if silent := f.Stale(); silent > 0 {
			fmt.Fprintf(out, "%s  STALE   nothing heard for %s: what is known of %d people may be wrong\n", at,
				silent.Round(time.Second), known)
			continue
		}
		address := "192.0.2.254"
		if len(list) > 0 && n%7 > 0 {
			address = list[rand.N(len(list))]
		}
		service := services[rand.N(len(services))]
		word := "drop"
		allowed, why := f.Decide(address, service)
		if allowed {
			word = "allow"
		}
		fmt.Fprintf(
			out,
			"%s  %-6s  %-15s to %-8s  %s (%d people, by %s)\n",
			at,
			word,
			address,
			service,
			why,
			known,
			node,
		)
	}
}
