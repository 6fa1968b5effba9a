package revision

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/gate"
)

const (
	// groupsFor is how long what became of the picked groups is taken for true; patience how long it is waited for the
	// first time.
	groupsFor = time.Minute
	patience  = 2 * time.Second
	// atOnce is how many policies are analysed with every edit; with more, the analysis has its own call.
	atOnce = 3_000
)

// Analysis is what was found in a configuration.
type Analysis struct {
	Items []results.Finding
	// Policies counts those that were looked at.
	Policies int
	Took     time.Duration
	// Problem says why there is no analysis, "" if there is one.
	Problem string
}

// Analyst analyses drafts, and keeps the last analysis. It is safe for concurrent use.
type Analyst struct {
	gate *gate.Gate
	// local lists the groups that local accounts are in.
	local func() []string
	// run lets one analysis run at a time; whoever waited for it takes what it found.
	run sync.Mutex

	mu     sync.Mutex
	of     *config.Config
	groups time.Time // of the groups it went by
	last   Analysis

	looking bool
	looked  time.Time
	gone    map[string]bool // picked groups that no longer exist, by name in lower case
}

// NewAnalyst makes an analyst; local lists the groups that local accounts are in.
func NewAnalyst(g *gate.Gate, local func() []string) *Analyst { return &Analyst{gate: g, local: local} }

// Lane analyses one lane of a configuration, by its place. Nothing is kept of it.
func (a *Analyst) Lane(c *Compiled, at int) Analysis {
	begun := time.Now()
	out := Analysis{Items: []results.Finding{}, Policies: len(c.Config.Lanes[at].Policies)}
	if fault, bad := c.Fault(); bad {
		out.Problem = fault.Error()
		return out
	}
	a.mu.Lock()
	gone := a.gone
	a.mu.Unlock()
	out.Items = c.Plan.AnalyseLane(at, decide.Known{At: begun.Truncate(time.Minute), Group: a.knownGroups(c.Config,
		gone)})
	out.Took = time.Since(begun)
	return out
}

// Analyse analyses a configuration, or returns what was found in it before.
func (a *Analyst) Analyse(c *Compiled) Analysis {
	a.run.Lock()
	defer a.run.Unlock()
	a.mu.Lock()
	if a.of == c.Config && a.groups.Equal(a.looked) {
		defer a.mu.Unlock()
		return a.last
	}
	gone, looked := a.gone, a.looked
	a.mu.Unlock()
	out := Analysis{Items: []results.Finding{}, Policies: policies(c.Config)}
	begun := time.Now()
	if fault, bad := c.Fault(); bad {
		out.Problem = "Correct the faults of the draft first: " + fault.Error()
	} else {
		out.Items = c.Plan.Analyse(decide.Known{At: begun.Truncate(time.Minute), Group: a.knownGroups(c.Config, gone)})
	}
	out.Took = time.Since(begun)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.of, a.groups, a.last = c.Config, looked, out
	return out
}

func policies(c *config.Config) int {
	n := 0
	for i := range c.Lanes {
		n += len(c.Lanes[i].Policies)
	}
	return n
}

// knownGroups tells which groups exist, as far as is known without asking anybody.
func (a *Analyst) knownGroups(c *config.Config, gone map[string]bool) func(string) (bool, bool) {
	known := map[string]bool{}
	for i := range c.Directories {
		for _, g := range c.Directories[i].Groups {
			known[strings.ToLower(g.Name)] = true
		}
	}
	for _, g := range a.local() {
		known[strings.ToLower(g)] = true
	}
	return func(name string) (exists, isGone bool) {
		lower := strings.ToLower(name)
		return known[lower], gone[lower]
	}
}

// LookAfterGroups finds out, once in a while and one at a time, what became of the groups that are picked in the
// directories in use.
func (a *Analyst) LookAfterGroups(ctx context.Context) {
	a.mu.Lock()
	if a.looking || time.Since(a.looked) < groupsFor {
		a.mu.Unlock()
		return
	}
	a.looking = true
	first := a.looked.IsZero()
	a.mu.Unlock()
	done := make(chan struct{})
	go func() {
		defer close(done)
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		gone := map[string]bool{}
		snapshot := a.gate.Current()
		for i := range snapshot.Plan.Config.Directories {
			cfg := snapshot.Plan.Config.Directories[i]
			if len(cfg.Groups) == 0 {
				continue
			}
			states, err := snapshot.Directory(cfg.Name).Picked(limited)
			if err != nil {
				continue // the checkup says so
			}
			for _, state := range states {
				if state.Now == "" {
					gone[strings.ToLower(state.Name)] = true
				}
			}
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		a.gone, a.looked, a.looking = gone, time.Now(), false
	}()
	if first {
		select {
		case <-done:
		case <-time.After(patience):
		}
	}
}

// Problems are the faults and warnings of a configuration, and what the analysis takes for mistakes.
func (a *Analyst) Problems(c *Compiled) []config.Problem {
	out := slices.Clone(c.Problems)
	if _, bad := c.Fault(); bad || policies(c.Config) > atOnce {
		return out
	}
	for _, f := range a.Analyse(c).Items {
		if f.Note {
			continue
		}
		problem := config.NewProblem(config.Finding+config.ProblemCode(f.Code), "%s", f.Message)
		if f.Policy != "" {
			problem = config.NewProblem(problem.Code, "policy %q: %s", f.Policy, f.Message)
		}
		out = append(out, problem.On(f.Kind, f.Object, f.ID, f.Field, f.Remedy).AsWarning())
	}
	return out
}
