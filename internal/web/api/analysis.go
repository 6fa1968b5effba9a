package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
)

// analyst keeps the last analysis, and what became of the groups that were picked.
type analyst struct {
	// run lets one analysis run at a time; whoever waited for it takes what it found.
	run sync.Mutex

	mu     sync.Mutex
	of     *config.Config
	groups time.Time // of the groups it went by
	last   apitype.Analysis

	looking bool
	looked  time.Time
	picked  map[string]bool // by name in lower case: whether it is gone
}

const (
	// groupsFor is how long is gone by what became of the picked groups; patience how long is waited for it the first time.
	groupsFor = time.Minute
	patience  = 2 * time.Second
	// atOnce is how many policies are analysed with every edit; with more, the analysis has its own call.
	atOnce = 3_000
)

func (s *server) analyses() {
	huma.Register(s.api, operation("GET", "/draft/analysis", "analyse-draft", "What in the draft can never happen, overlaps, is not used or no longer exists"), func(ctx context.Context, _ *none) (*body[apitype.Analysis], error) {
		s.lookAfterGroups(ctx)
		return ok(s.analysis(s.Revisions.Draft())), nil
	})
	huma.Register(s.api, operation("POST", "/lanes/{ref}/analysis", "analyse-lane", "What would be found in a lane as it is typed; nothing is saved"), func(_ context.Context, in *struct {
		OneInput
		Body apitype.LaneFields
	}) (*body[apitype.Analysis], error) {
		return ok(s.tryLane(in.Ref, &in.Body)), nil
	})
}

// tryLane analyses a lane as it is being typed, in the draft.
func (s *server) tryLane(ref string, in *apitype.LaneFields) apitype.Analysis {
	c := *s.Revisions.Draft()
	c.Lanes = slices.Clone(c.Lanes)
	_, at := config.Find(c.Lanes, ref)
	lane := config.Lane{ID: ref}
	if at >= 0 {
		lane = c.Lanes[at]
	} else {
		at = len(c.Lanes)
		c.Lanes = append(c.Lanes, lane)
	}
	lane.Name, lane.When, lane.Methods, lane.Realm, lane.Forward, lane.TLS, lane.Policies = in.Name, in.When, in.Methods, in.Realm, in.Forward, in.TLS, slices.Clone(in.Policies)
	c.Lanes[at] = lane
	next := c.Clone()
	next.Normalise()
	begun := time.Now()
	out := apitype.Analysis{Items: []results.Finding{}, Policies: len(in.Policies)}
	plan, problems := decide.Compile(&next)
	if plan == nil {
		i := slices.IndexFunc(problems, func(p config.Problem) bool { return !p.Warning })
		out.Problem = problems[i].Error()
		return out
	}
	s.analyst.mu.Lock()
	picked := s.analyst.picked
	s.analyst.mu.Unlock()
	out.Items = plan.AnalyseLane(at, decide.Known{At: begun.Truncate(time.Minute), Group: s.knownGroups(&next, picked)})
	out.Micros = time.Since(begun).Microseconds()
	return out
}

// analysis analyses a configuration, or returns what was found in it before.
func (s *server) analysis(c *config.Config) apitype.Analysis {
	a := &s.analyst
	a.run.Lock()
	defer a.run.Unlock()
	a.mu.Lock()
	if a.of == c && a.groups.Equal(a.looked) {
		defer a.mu.Unlock()
		return a.last
	}
	picked, looked := a.picked, a.looked
	a.mu.Unlock()
	out := apitype.Analysis{Items: []results.Finding{}, Policies: policies(c)}
	begun := time.Now()
	if plan, problems := decide.Compile(c); plan == nil {
		at := slices.IndexFunc(problems, func(p config.Problem) bool { return !p.Warning })
		out.Problem = "The draft has faults, which come first: " + problems[at].Error()
	} else {
		out.Items = plan.Analyse(decide.Known{At: begun.Truncate(time.Minute), Group: s.knownGroups(c, picked)})
	}
	out.Micros = time.Since(begun).Microseconds()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.of, a.groups, a.last = c, looked, out
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
func (s *server) knownGroups(c *config.Config, picked map[string]bool) func(string) (bool, bool) {
	known := map[string]bool{}
	for i := range c.Directories {
		for _, g := range c.Directories[i].Groups {
			known[strings.ToLower(g.Name)] = true
		}
	}
	for _, a := range s.Accounts.List("") {
		for _, g := range a.Groups {
			known[strings.ToLower(g)] = true
		}
	}
	return func(name string) (exists, gone bool) {
		lower := strings.ToLower(name)
		return known[lower], picked[lower]
	}
}

// lookAfterGroups finds out, once in a while and one at a time, what became of the groups that are picked in the directories in
// use.
func (s *server) lookAfterGroups(ctx context.Context) {
	a := &s.analyst
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
		snapshot := s.Gate.Current()
		for i := range snapshot.Plan.Config.Directories {
			cfg := &snapshot.Plan.Config.Directories[i]
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
		a.picked, a.looked, a.looking = gone, time.Now(), false
	}()
	if first {
		select {
		case <-done:
		case <-time.After(patience):
		}
	}
}

// problems are the faults and warnings of a configuration, and what the analysis takes for mistakes.
func (s *server) problems(c *config.Config) []config.Problem {
	out := slices.Clone(s.Revisions.Problems(c))
	if slices.ContainsFunc(out, func(p config.Problem) bool { return !p.Warning }) || policies(c) > atOnce {
		return out
	}
	for _, f := range s.analysis(c).Items {
		if f.Note {
			continue
		}
		message := f.Message
		if f.Policy != "" {
			message = fmt.Sprintf("policy %q: %s", f.Policy, f.Message)
		}
		out = append(out, config.Problem{Kind: f.Kind, Object: f.Object, ID: f.ID, Field: f.Field, Message: message, Remedy: f.Remedy, Warning: true})
	}
	return out
}
