package e2e

import (
	"net"
	"net/http"
	"testing"
	"time"

	"tollgate.example/key/internal/web/apitype"
)

// muteResolver takes every question and answers none.
func muteResolver(t *testing.T) string {
	t.Helper()
	socket, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { socket.Close() })
	return socket.LocalAddr().String()
}

// A domain is found by name through two DNS servers, of which the first says nothing: everybody signs in as ever, and
// the checkup says which one is mute.
func TestTheFirstResolverIsMute(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	w := start(t)
	mute := muteResolver(t)
	in := ofDomain(dc.ca, "dc1.lantern.example")
	in.DNS = mute + ", " + controller
	w.member(in)
	for _, method := range []string{"pap", "peap-mschapv2", "eap-mschapv2", "ttls-pap"} {
		begun := time.Now()
		if in, err := w.signs(method); !in {
			t.Errorf("%s with a mute resolver: %v", method, err)
		}
		if took := time.Since(begun); took > 3*time.Second {
			t.Errorf("%s took %v", method, took)
		}
	}
	w.wants(0, []string{"directory", "test", "LANTERN"}, "no answer from the DNS server "+mute,
		"Repair it or take it out")
	var d apitype.Directory
	w.do(http.MethodGet, "/directories/LANTERN", nil, &d)
	if d.DNS != mute+", "+controller+":53" {
		t.Errorf("the DNS servers are %q", d.DNS)
	}
	in.DNS = "192.0.2.1, nobody"
	in.Name = "OTHER"
	w.refused(422, http.MethodPost, "/directories", in, "nobody:53")
}
