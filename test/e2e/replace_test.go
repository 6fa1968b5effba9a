package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/radius"
)

// A server certificate is replaced while the service runs: the next conversation shows the new one.
func TestACertificateIsReplacedWithoutARestart(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	shown := func() string {
		t.Helper()
		var out apitype.TrialResult
		w.do(http.MethodPost, "/trials", apitype.TrialInput{Client: "np-switch-1", Method: "ttls-pap", User: "k.nance",
			Password: "gangway-and-rope", Attributes: []config.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}},
			&out)
		if !out.Accepted || out.TLS == nil {
			t.Fatalf("%+v", out)
		}
		return out.TLS.Chain[0]
	}
	before := shown()
	w.do(http.MethodPut, "/certificates/radius?publish=true", apitype.CertificateInput{Name: "radius",
		Authority: "Lantern", Make: &apitype.Make{Subject: "radius2.lanternferries.example"}}, nil, client.IfMatch("*"))
	if after := shown(); before == after || !strings.Contains(after, "radius2") {
		t.Errorf("shown before: %s, after: %s", before, after)
	}
	var back map[string]any
	w.do(http.MethodPost, "/revisions/1/return", map[string]string{}, &back) // and returned to
	if after := shown(); after != before {
		t.Errorf("after taking back: %s", after)
	}
	if err := w.api.Do(context.Background(), http.MethodDelete, "/certificates/radius?publish=true", nil, nil,
		client.IfMatch("*")); err == nil || !strings.Contains(err.Error(), "tls.certificate") {
		t.Errorf("the only certificate of a lane can be removed: %v", err)
	}
}

// A device that stops answering is recorded, with how far it came.
func TestAnAbandonedConversationIsRecorded(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(func(l *apitype.LaneFields) { l.Methods = []string{"peap-mschapv2"} })
	r := w.hand()
	if p, ok := r.ask(r.build("anonymous", firstMAC, nil, identity("anonymous"))); !ok ||
		p.Code != radius.AccessChallenge {
		t.Fatal("the conversation does not begin")
	} else if packet, err := eap.Decode(p.EAP()); err != nil || packet.Type != eap.PEAP {
		t.Fatalf("offered %v: %v", packet, err)
	}
	w.app.Stop() // gives up what is open, as 30 s of silence do
	w.boot()
	if a := w.newest(1); a.Reason != "eap.abandoned" || !strings.Contains(a.Trace.Sentence,
		"stopped answering after: offers PEAP") || a.MAC != firstMAC || len(a.Facts.EAP.Steps) != 2 {
		t.Errorf("recorded as %s: %s %+v", a.Reason, a.Trace.Sentence, a.Facts.EAP)
	}
}
