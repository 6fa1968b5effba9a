package e2e

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/radius"
)

// Accounts come from a file, with hashes and with passwords, and these people sign in at once.
func TestAccountsFromAFile(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	hash, err := password.People.Hash(context.Background(), "rope-and-anchor")
	if err != nil {
		t.Fatal(err)
	}
	good := w.write("people.csv", "name;person;groups;enabled;hash;password\n"+
		"s.lodge;Sunniva Lodge;Crew;yes;"+hash+";\n"+"o.hale;Oda Hale;Crew|Deck;;;quay-light-and-tide\n"+
		"n.frost;Nils Frost;Crew;no;;quay-light-and-rope\n")
	w.wants(0, []string{"account", "import", "-check", good}, "nothing was stored: 3 added")
	w.wants(1, []string{"account", "show", "s.lodge"}, "no local account")
	w.wants(0, []string{"account", "import", good}, "imported: 3 added", "still to be hashed")
	for _, c := range []struct{ user, password, code string }{{"s.lodge", "rope-and-anchor", "Access-Accept"},
		{"o.hale", "quay-light-and-tide", "Access-Accept"}, {"o.hale", "quay-light", "Access-Reject"},
		{"n.frost", "quay-light-and-rope", "Access-Reject"}} {
		reply, err := w.ask(func(r *trial.Request) {
			r.User, r.Password, r.Timeout = c.user, c.password,
				8*time.Second
		})
		if err != nil || reply.Code != c.code {
			t.Errorf("%s with %s: %s, %v", c.user, c.password, reply.Code, err)
		}
	}
	var left apitype.Hashing
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if w.do(http.MethodGet, "/account-import", nil, &left); left.Left == 0 {
			break
		}
	}
	if left.Left != 0 {
		t.Fatalf("%d passwords are still not hashed", left.Left)
	}
	reply, err := w.ask(func(r *trial.Request) { r.User, r.Password = "o.hale", "quay-light-and-tide" })
	if err != nil || reply.Code != "Access-Accept" {
		t.Errorf("with its password hashed: %s, %v", reply.Code, err)
	}
	wrong := w.write("wrong.csv", "name,hash,password\na.b,$2y$10$nothing,\nc d,,x\ns.lodge,"+`"`+hash+`"`+",too\n")
	w.wants(1, []string{"account", "import", wrong}, "line 2  a.b  hash: the stored password is not an argon2id hash",
		"line 3", "line 4  s.lodge  password: there are a password and a hash", "nothing was stored", "3 wrong")
	w.wants(1, []string{"account", "import", w.write("none.csv", "person\nx\n")}, "no column name")
}

// A file of a million lines of which every third is wrong is refused with the number of them, and some of them named.
func TestAMillionLines(t *testing.T) {
	t.Parallel()
	w := start(t)
	var b strings.Builder
	b.WriteString("mac,name\n")
	for i := range 1_000_000 {
		if i%3 == 2 {
			fmt.Fprintf(&b, "02-00-5E-%02X-%02X,short,one field too many\n", i>>8&255, i&255)
			continue
		}
		fmt.Fprintf(&b, "02-00-%02X-%02X-%02X-00,d%d\n", i>>16, i>>8&255, i&255, i)
	}
	file := w.write("million.csv", b.String())
	out := w.wants(1, []string{"device", "import", file}, "nothing was stored: 666667 added, 0 changed, 0 the same, "+
		"333333 wrong", "line 4  02-00-5E-00-02  : 3 fields, the first line names 2 columns", "and 332333 lines more")
	if n := strings.Count(out, "\n"); n > 1100 {
		t.Errorf("%d lines are printed", n)
	}
	var page apitype.Page[apitype.Device]
	if w.do(http.MethodGet, "/devices", nil, &page); len(page.Items) != 0 {
		t.Error("something was stored")
	}
}

// A hundred thousand clients come from a file and are published; after that one client is changed as quickly as among
// ten, and is in effect at once.
func TestManyClientsFromAFile(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	var exported []byte
	w.do(http.MethodGet, "/file?of=running&secrets=true", nil, &exported)
	var b strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&b, "- name: sw-%06d\n  addresses:\n  - 10.%d.%d.%d\n  secret: clear:%s\n  messageAuthenticator: "+
			"require\n  tags:\n    site: s%d\n", i, i>>16, i>>8&255, i&255, secret, i%50)
	}
	at := "\nclients:\n"
	before, after, found := strings.Cut(string(exported), at)
	if !found {
		t.Fatalf("the file has no list of clients:\n%s", exported)
	}
	file := w.write("many.yaml", before+at+b.String()+after)
	w.wants(0, []string{"config", "apply", "-yes", file}, "100000 changes", "and 99000 changes more")
	var d apitype.Draft
	if w.do(http.MethodGet, "/draft", nil, &d); len(d.Changes) != 1000 || d.More != 99_000 || !d.Publishable {
		t.Fatalf("%d changes are listed, and %d more", len(d.Changes), d.More)
	}
	w.publish()
	var revisions apitype.Page[apitype.Revision]
	if w.do(http.MethodGet, "/revisions?limit=1", nil, &revisions); revisions.Items[0].More != 99_000 {
		t.Errorf("the revision says that %d are not listed", revisions.Items[0].More)
	}
	seen := 0
	for after, more := "", true; more; more = after != "" {
		var page apitype.Page[apitype.Client]
		w.do(http.MethodGet, "/clients?limit=1000&q=sw-&after="+after, nil, &page)
		seen, after = seen+len(page.Items), page.Next
	}
	if seen != 100_000 {
		t.Errorf("%d clients are found page by page", seen)
	}
	if reply, err := w.ask(nil); err != nil || reply.Code != "Access-Accept" {
		t.Errorf("among 100,000: %s, %v", reply.Code, err)
	}
	w.wants(0, []string{"client", "change", "sw-099999", "-address", "127.0.0.7", "-publish"}, "sw-099999")
	if c := w.app.Gate.Current().Plan.Client(local(7)); c == nil || c.Name != "sw-099999" {
		t.Errorf("127.0.0.7 belongs to %+v", c)
	}
	w.app.Stop()
	w.boot()
	if c := w.app.Gate.Current().Plan.Client(local(7)); c == nil || c.Name != "sw-099999" {
		t.Errorf("after a start 127.0.0.7 belongs to %+v", c)
	}
	w.wants(0, []string{"revision", "return", "1", "-note", "as it was"}, "revision 4")
	if c := w.app.Gate.Current().Plan.Client(local(7)); c != nil {
		t.Errorf("after the return 127.0.0.7 belongs to %+v", c)
	}
	if reply, err := w.ask(nil); err != nil || reply.Code != "Access-Accept" {
		t.Errorf("after the return: %s, %v", reply.Code, err)
	}
}

// Twenty operators search for what nobody has while devices sign in: everybody is answered, everything is recorded, and
// a list of accounts comes at once.
func TestSearchesBesideLoad(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	if _, err := w.ask(nil); err != nil { // its password by argon2id, once
		t.Fatal(err)
	}
	build := func(b *radius.Builder, authenticator [16]byte) {
		b.AddText(radius.UserName, "k.nance")
		b.AddInteger(radius.NASPortType, 15)
		w.hide(b, authenticator, "gangway-and-rope")
	}
	_, first := w.offer(2000, 2*time.Second, build)
	var all sync.WaitGroup
	stop := make(chan struct{})
	var slowest, accounts atomic.Int64
	get := func(path string, took *atomic.Int64) {
		all.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				begun := time.Now()
				if err := w.api.Do(context.Background(), http.MethodGet, path, nil, nil); err != nil {
					t.Error(err)
					return
				}
				for now, was := int64(time.Since(begun)), took.Load(); was < now && !took.CompareAndSwap(was, now); {
					was = took.Load()
				}
			}
		})
	}
	for i := range 20 {
		get(fmt.Sprintf("/attempts?q=zzyzx%d", i), &slowest)
	}
	get("/accounts", &accounts)
	sent, answered := w.offer(500, 3*time.Second, build)
	close(stop)
	all.Wait()
	t.Logf("%d of %d answered; the slowest search %v, the slowest list of accounts %v", answered[radius.AccessAccept],
		sent, time.Duration(slowest.Load()), time.Duration(accounts.Load()))
	if answered[radius.AccessAccept] < sent*98/100 {
		t.Errorf("%d of %d are answered", answered[radius.AccessAccept], sent)
	}
	if slow := max(slowest.Load(), accounts.Load()); slow > int64(3*time.Second) {
		t.Errorf("somebody waited for %v", time.Duration(slow))
	}
	w.app.Attempts.Flush(context.Background())
	if n := w.app.Attempts.Len(); w.app.Attempts.Lost() > 0 ||
		n < int64(first[radius.AccessAccept]+answered[radius.AccessAccept]) {
		t.Errorf("%d are recorded, %d lost", n, w.app.Attempts.Lost())
	}
}
