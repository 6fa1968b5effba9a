package cluster

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/store"
)

// as is a way to a node with the certificate of another machine, which stays open between calls.
func (m *machine) as(t *testing.T, to *machine) func(path string) (int, string) {
	t.Helper()
	id, err := loadIdentity(m.dir)
	if err != nil {
		t.Fatal(err)
	}
	config, err := id.tls(func(string) bool { return true })
	if err != nil {
		t.Fatal(err)
	}
	self := to.c.running().self
	config.ServerName = nameOf(self.Name)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: config}, Timeout: 10 * time.Second}
	t.Cleanup(client.CloseIdleConnections)
	return func(path string) (int, string) {
		r, err := client.Get("https://" + self.Address + path)
		if err != nil {
			return 0, err.Error()
		}
		defer r.Body.Close()
		text, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		return r.StatusCode, string(text)
	}
}

// A witness is given nothing of what it keeps, and a node that was removed gets nothing more by a connection that it
// had open, nor back in by what it knows.
func TestWhoIsGivenTheState(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 3, true)
	a, b, eye := nodes[0], nodes[1], nodes[2]
	b.until("the second knows the first", func() bool { _, ok := b.c.running().peers.node(0); return ok })
	removed, watching := b.as(t, a), eye.as(t, a)
	for _, path := range []string{"/snapshot", "/status", "/inside/api/v1/attempts"} {
		if status, text := watching(path); status != http.StatusForbidden && status != http.StatusNotFound {
			t.Errorf("a witness asks for %s and gets %d %.40q", path, status, text)
		}
	}
	if status, text := removed("/snapshot"); status != http.StatusOK ||
		!strings.HasPrefix(text, "SQLite format 3") {
		t.Fatalf("a node is given %d %.40q", status, text)
	}
	if err := a.c.Remove(t.Context(), "n1"); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/snapshot", "/status", "/soon"} { // by the connection from before
		if status, text := removed(path); status == http.StatusOK || strings.HasPrefix(text, "SQLite") {
			t.Errorf("a node that was removed is given %s: %d", path, status)
		}
	}
	// an invitation for a witness lets in nobody else, and no address of another one is taken
	i, err := a.c.Invite(t.Context(), "n3", true, "o.brandt")
	if err != nil {
		t.Fatal(err)
	}
	o := JoinOptions{Dir: t.TempDir(), Token: i.Token(), Address: "127.0.0.1:0", Version: "test"}
	if err := Join(t.Context(), o); err == nil || !strings.Contains(err.Error(), "for a witness") {
		t.Errorf("a node joins as a witness may: %v", err)
	}
	csr, _, err := request("n3")
	if err != nil {
		t.Fatal(err)
	}
	eyes, _ := a.c.running().peers.named("n2")
	for what, q := range map[string]joinRequest{"reached there": {Address: eyes.Address, Engine: "https://127.0.0.1:1"},
		"no https address": {Address: "127.0.0.1:1", Engine: "http://127.0.0.1:2"},
		"another node":     {Address: "127.0.0.1:1", Engine: eyes.Engine}} {
		q.Name, q.Secret, q.CSR, q.Witness = "n3", i.Secret, csr, true
		if _, err := a.c.letIn(t.Context(), &q); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("a joiner at %s with an engine at %s: %v", q.Address, q.Engine, err)
		}
	}
}

// A node on which something was changed beside the log, such as an owner who was reset while the service was stopped,
// takes the state of another one where both do not fit together, and does not stop.
func TestADatabaseThatIsAnotherOne(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 3, true)
	a, b := nodes[0], nodes[1]
	b.close()
	s, err := store.Open(t.Context(), b.dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SaveAccount(t.Context(), account("beside")); err == nil {
		t.Error("an account is added beside the log")
	}
	for id, name := range map[string]string{"o1": "o.brandt", "o2": "e.marsh"} {
		if err := s.ResetOwner(t.Context(), store.Operator{ID: id, Name: name, Hash: "reset"}); err != nil {
			t.Fatal(err)
		}
	}
	s.Close()
	other := store.Operator{ID: "other", Name: "o.brandt", Role: "owner"}
	if err := a.s.AddOperator(t.Context(), other, true); err != nil {
		t.Fatal(err)
	}
	b.open()
	b.until("it takes the state of the other", func() bool {
		o, err := b.s.OperatorByName(t.Context(), "o.brandt")
		return err == nil && o.ID == "other"
	})
	if err := b.s.SaveAccount(t.Context(), account("after")); err != nil {
		t.Error(err)
	}
	list, err := b.s.Unshared(t.Context())
	if err != nil || len(list) == 0 {
		t.Fatalf("what was changed beside the log is forgotten: %v, %v", list, err)
	}
	for _, u := range list {
		if ours, err := b.s.ShareAgain(t.Context(), u); err != nil || ours {
			t.Errorf("%s %s is put over what the others have: %v", u.Table, u.ID, err)
		}
	}
}
