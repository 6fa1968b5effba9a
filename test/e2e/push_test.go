package e2e

import (
	"bytes"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/base/push"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/web/phone"
)

// tells has a phone take messages at an address, "" for nowhere.
func tells(t *testing.T, p *phone.Phone, to push.Subscription) error {
	t.Helper()
	at := time.Now().UnixMilli()
	signature, err := p.Sign(fmt.Sprintf("tollgate push\n%s\n%d\n%s", p.Device, at, to.Endpoint))
	if err != nil {
		t.Fatal(err)
	}
	return p.Send(t.Context(), "/phone/push", map[string]any{"device": p.Device, "at": at, "signature": signature,
		"endpoint": to.Endpoint, "p256dh": to.P256DH, "auth": to.Auth}, &struct{}{})
}

// A phone whose page is closed is told of a sign-in that waits, also after a restart, until it is no more there.
func TestAClosedPhoneIsTold(t *testing.T) {
	t.Parallel()
	got, gone := make(chan []byte, 20), false
	service := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if gone {
			w.WriteHeader(http.StatusGone)
		} else {
			w.WriteHeader(http.StatusCreated)
		}
		got <- body
	}))
	defer service.Close()
	ca := filepath.Join(t.TempDir(), "push.pem")
	if err := os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: service.Certificate().Raw}),
		0o600); err != nil {
		t.Fatal(err)
	}
	w := &world{t: t, dir: t.TempDir(), how: func(o *app.Options) {
		o.Push, o.PushPrivate, o.PushCA = "network@lanternferries.example", true, ca
	}}
	w.first()
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-reject-delay", "0", "-publish"},
		"revision")
	wade := w.phoneOf("m.wade", wadePassword, "Wade's phone")
	page := w.visitor("en")
	if _, text := page.open(w.app.PortalURL + "/phone"); !strings.Contains(text, `"pushKey":"B`) {
		t.Errorf("the page of the phone has no key to subscribe with:\n%s", text)
	}
	key, err := ecdh.P256().GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	encode := base64.RawURLEncoding.EncodeToString
	to := push.Subscription{Endpoint: service.URL + "/wade", P256DH: encode(key.PublicKey().Bytes()),
		Auth: encode(make([]byte, 16))}
	for _, bad := range []push.Subscription{{Endpoint: "http://127.0.0.1/"}, {Endpoint: service.URL},
		{Endpoint: "file:///etc/passwd", P256DH: to.P256DH, Auth: to.Auth}} {
		if err := tells(t, wade, bad); why(err) != "unreadable" {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	stranger := &phone.Phone{URL: wade.URL, Device: wade.Device}
	if other, err := phone.Enrol(t.Context(), nil, w.enrolLink("m.wade"), wadePassword, "other"); err != nil {
		t.Fatal(err)
	} else if private, err := other.Private(); err != nil || stranger.Restore(private) != nil {
		t.Fatal(err)
	}
	if err := tells(t, stranger, to); why(err) != "unpaired" {
		t.Errorf("with the key of another phone: %v", err)
	}
	if err := tells(t, wade, to); err != nil {
		t.Fatal(err)
	}
	told := func(want bool) {
		t.Helper()
		s := w.begins("m.wade", wadePassword)
		number := s.shown()
		select {
		case body := <-got:
			if !want || len(body) < 100 || bytes.Contains(body, []byte("np-switch-1")) {
				t.Errorf("the push service gets %q", body)
			}
		case <-time.After(map[bool]time.Duration{true: 20 * time.Second, false: time.Second}[want]):
			if want {
				t.Error("the push service is told of nothing")
			}
		}
		says(t, wade, waits(t, wade), approval.Approved, number, approval.Approved)
		s.ends("Access-Accept", "ok")
	}
	told(true)
	w.app.Stop()
	w.boot()
	wade.URL = w.app.PortalURL
	told(true)
	gone = true // the last one that is sent
	told(true)
	w.eventually("the subscription is forgotten", func() bool {
		return len(w.app.Gate.Factors.Pushes("local", "m.wade")) == 0
	})
	told(false)
	gone = false
	if err := tells(t, wade, to); err != nil {
		t.Fatal(err)
	}
	told(true)
	if err := tells(t, wade, push.Subscription{}); err != nil {
		t.Fatal(err)
	}
	told(false)
}
