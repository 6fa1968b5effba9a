package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/web/apitype"
)

// discoveryPatience bounds one discovery.
const discoveryPatience = time.Minute

func (s *server) discovery() {
	op := operation("POST", "/directory-discovery", "discover-directory",
		"Find a directory, knowing a host or a domain only; each step as it happens, then what could be set")
	sse.Register(s.api, op, map[string]any{"step": results.Step{}, "end": apitype.Proposal{}},
		func(ctx context.Context, in *struct {
			Body apitype.Discovery
		}, send sse.Sender) {
			ctx, cancel := context.WithTimeout(ctx, discoveryPatience)
			defer cancel()
			search := directory.Search{Text: in.Body.Text, DNS: in.Body.DNS, Source: in.Body.Source,
				BindName: in.Body.BindName, Password: in.Body.Password, CA: in.Body.CA}
			found := directory.Discover(ctx, search, func(step results.Step) {
				if send.Data(step) != nil {
					cancel() // nobody reads any more
				}
			})
			send.Data(apitype.Proposal{Proposal: found})
		})
}
