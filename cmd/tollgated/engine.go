package main

import (
	"flag"
	"fmt"
	"strings"

	"tollgate.example/key/internal/cluster"
)

// engineFlags adds the flags that lead to an etcd cluster by which nodes share state. The function that it returns
// tells what they say once they are parsed: nil where each node has an engine of its own.
func engineFlags(f *flag.FlagSet) func() (*cluster.Outside, error) {
	out := &cluster.Outside{}
	members := f.String("engine", "", "members of an etcd cluster by which nodes share state, https://HOST:PORT, "+
		"separated by commas; else each node has an engine of its own")
	f.StringVar(&out.CA, "engine-ca", "", "PEM file with the authority of its certificates")
	f.StringVar(&out.Cert, "engine-cert", "", "PEM certificate that this node shows it")
	f.StringVar(&out.Key, "engine-key", "", "PEM key of that certificate")
	f.StringVar(&out.Prefix, "engine-prefix", cluster.DefaultPrefix, "what the names of entries begin with there")
	return func() (*cluster.Outside, error) {
		if out.URLs = list(*members); len(out.URLs) > 0 {
			return out, out.Check()
		}
		var lonely error
		f.Visit(func(one *flag.Flag) {
			if strings.HasPrefix(one.Name, "engine-") {
				lonely = fmt.Errorf("-%s needs -engine", one.Name)
			}
		})
		return nil, lonely
	}
}
