package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"

	"tollgate.example/key/internal/web/feed"
)

// Subscribers follow by WebSocket as by events: a snapshot, changes, and after a break changes alone; whoever is no
// longer let in is cut off.
func TestPresenceBySocket(t *testing.T) {
	t.Parallel()
	w := lantern(t)
	token := w.subscribe("hh-firewall-1")
	w.accounted("Start", "s-1", "s.lodge", "192.0.2.41", "02-00-5e-00-00-01")
	address := "ws" + strings.TrimPrefix(w.app.URL, "http") + "/presence/v1/socket"
	dial := func(token, after string) (*websocket.Conn, *http.Response, error) {
		t.Helper()
		return websocket.Dial(t.Context(), address+"?after="+after, &websocket.DialOptions{
			HTTPHeader: http.Header{"Authorization": {"Bearer " + token}}})
	}
	if _, r, err := dial("nobody", ""); err == nil || r.StatusCode != http.StatusUnauthorized {
		t.Errorf("a stranger: %v", err)
	}
	next := func(c *websocket.Conn) (e feed.Event, err error) {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		_, text, err := c.Read(ctx)
		if err == nil {
			err = json.Unmarshal(text, &e)
		}
		return e, err
	}
	until := func(c *websocket.Conn, kind, who string) feed.Event {
		t.Helper()
		for {
			e, err := next(c)
			if err != nil {
				t.Fatalf("waiting for %s %s: %v", kind, who, err)
			}
			if e.Type == kind && (who == "" || e.Who == who) {
				return e
			}
		}
	}
	c, _, err := dial(token, "")
	if err != nil {
		t.Fatal(err)
	}
	defer c.CloseNow()
	if e, err := next(c); err != nil || e.Type != "begin" {
		t.Fatalf("begins with %+v, %v", e, err)
	}
	until(c, "end", "")
	w.accounted("Start", "s-2", "t.marchetti", "192.0.2.42", "02-00-5e-00-00-02")
	position := until(c, "here", "t.marchetti").Position
	c.CloseNow()
	w.accounted("Stop", "s-2", "t.marchetti", "192.0.2.42", "02-00-5e-00-00-02")
	again, _, err := dial(token, position)
	if err != nil {
		t.Fatal(err)
	}
	defer again.CloseNow()
	for {
		e, err := next(again)
		if err != nil || e.Type == "begin" {
			t.Fatalf("resumed with %+v, %v", e, err)
		}
		if e.Type == "gone" && e.Who == "t.marchetti" {
			break
		}
	}
	w.wants(0, []string{"subscriber", "change", "hh-firewall-1", "-enabled=false", "-publish"}, "changed")
	for end := time.Now().Add(30 * time.Second); ; {
		if _, err := next(again); err != nil {
			if websocket.CloseStatus(err) != websocket.StatusGoingAway {
				t.Errorf("ends with %v", err)
			}
			break
		}
		if time.Now().After(end) {
			t.Fatal("one that is switched off is still told")
		}
	}
}
