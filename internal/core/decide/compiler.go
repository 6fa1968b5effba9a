package decide

import "tollgate.example/key/internal/core/config"

// Compiler compiles.
type Compiler struct{}

// Compile compiles.
func (k *Compiler) Compile(c *config.Config) (*Plan, []config.Problem) { return compileAll(c) }
