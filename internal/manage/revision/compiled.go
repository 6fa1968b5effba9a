package revision

import (
	"slices"
	"sync/atomic"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
)

// Compiled is a configuration with what compiling it gave. It is immutable.
type Compiled struct {
	Config *config.Config
	// Plan is nil if the configuration has faults.
	Plan     *decide.Plan
	Problems []config.Problem
}

// compiles counts how often a configuration was compiled since the start.
var compiles atomic.Int64

// Compiles tells how often a configuration was compiled since the start of the process: it is what costs in an edit.
func Compiles() int64 { return compiles.Load() }

// Compile compiles a configuration, which must not be changed afterwards. What it shares with the one compiled before
// it is not compiled again.
func (k *Keeper) Compile(c *config.Config) *Compiled {
	compiles.Add(1)
	plan, problems := k.compiler.Compile(c)
	return &Compiled{Config: c, Plan: plan, Problems: problems}
}

// Fault returns the first problem that stops a publish.
func (c *Compiled) Fault() (config.Problem, bool) {
	i := slices.IndexFunc(c.Problems, func(p config.Problem) bool { return !p.Warning })
	if i < 0 {
		return config.Problem{}, false
	}
	return c.Problems[i], true
}
