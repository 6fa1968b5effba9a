package revision

import (
	"fmt"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/audit"
)

// What the audit is told of an edit costs little among many clients too.
func BenchmarkNote(b *testing.B) {
	from := &config.Config{}
	for i := range 49_000 {
		from.Clients = append(from.Clients, &config.Client{ID: fmt.Sprint(i), Name: fmt.Sprintf("sw-%d", i),
			Enabled: true, Addresses: []string{fmt.Sprintf("10.%d.%d.1", i/250, i%250)}})
	}
	to := from.Copy()
	config.Own(to.Clients, 24_000).Note = "by the gate"
	ctx, _ := (&audit.Trail{}).Begin(b.Context(), audit.Line{}, true)
	for b.Loop() {
		note(ctx, from, to)
	}
}
