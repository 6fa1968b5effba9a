package e2e

import (
	"flag"
	"path/filepath"
	"testing"

	"tollgate.example/key/test/transcript"
)

// record has tests with real peers write what was said into testdata, where other tests replay it:
// go test ./test/e2e -run 'OfOtherAuthors|PerlClient' -record
var record = flag.Bool("record", false, "record conversations of real peers into testdata")

// recorded returns where a peer reaches a service: through a recorder, if this run records.
func recorded(t *testing.T, network, service, note string, path ...string) string {
	t.Helper()
	if !*record {
		return service
	}
	begin := transcript.TCP
	if network == "udp" {
		begin = transcript.UDP
	}
	r, err := begin(service, note)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := r.Write(filepath.Join(append([]string{root(), "internal"}, path...)...)); err != nil {
			t.Error(err)
		}
	})
	return r.Address
}
