package e2e

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func TestAWildcardSocketAnswersFromTheAddressThatWasAsked(t *testing.T) {
	w := &world{t: t, dir: t.TempDir()}
	a, err := app.Start(context.Background(), app.Options{Data: w.dir, HTTP: "127.0.0.1:0", RADIUS: []string{":0"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(a.Stop)
	w.app, w.api = a, &client.Client{URL: a.URL}
	w.do(http.MethodPost, "/setup", apitype.SetupInput{Code: a.SetupCode, Name: "o.brandt",
		Password: "lantern-demo-2026"}, nil)
	var signed apitype.SignedIn
	w.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "o.brandt", Password: "lantern-demo-2026",
		TokenName: "test"}, &signed)
	w.api.Token = signed.Token
	w.basic("require", "127.0.0.0/8", "::1")
	port := a.RADIUS[0].Port()
	for _, host := range []string{"127.0.0.1", "127.0.0.5", "[::1]"} {
		reply, err := w.ask(func(r *trial.Request) { r.Server = fmt.Sprintf("%s:%d", host, port) })
		if err != nil || !reply.Accepted { // the client's socket takes answers from that address only
			t.Errorf("%s: %+v, %v", host, reply, err)
		}
	}
}

func TestTheConsoleIsServedByTLSBeyondLoopback(t *testing.T) {
	dir := t.TempDir()
	a, err := app.Start(context.Background(), app.Options{Data: dir, HTTP: "0.0.0.0:0",
		RADIUS: []string{"127.0.0.1:0"}})
	if err != nil {
		t.Fatal(err)
	}
	defer a.Stop()
	if !strings.HasPrefix(a.URL, "https://") {
		t.Fatalf("served at %s", a.URL)
	}
	at := strings.Replace(a.URL, "[::]", "127.0.0.1", 1)
	c := &client.Client{URL: strings.Replace(at, "0.0.0.0", "127.0.0.1", 1),
		HTTP: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}
	about, err := client.Get[apitype.About](context.Background(), c, "/about")
	if err != nil || !about.SetupNeeded {
		t.Errorf("%+v, %v", about, err)
	}
}

func TestADataDirectoryIsUsedOnce(t *testing.T) {
	t.Parallel()
	w := start(t)
	_, err := app.Start(context.Background(), app.Options{Data: w.dir, HTTP: "127.0.0.1:0",
		RADIUS: []string{"127.0.0.1:0"}})
	if err == nil || !strings.Contains(err.Error(), "in use by another tollgated") {
		t.Errorf("a second service in it: %v", err)
	}
	_, err = app.Start(context.Background(), app.Options{Data: t.TempDir(), HTTP: "127.0.0.1:0",
		RADIUS: []string{w.radius}})
	if err == nil || !strings.Contains(err.Error(), w.radius) {
		t.Errorf("a port that is taken: %v", err)
	}
}

func TestListsArePagedByCursorAndSearched(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	for i := range 25 {
		w.do(http.MethodPost, "/passes", apitype.PassFields{Name: fmt.Sprintf("Pass %02d", i),
			VLAN: fmt.Sprint(100 + i)}, nil)
	}
	items, err := client.All[apitype.Pass](context.Background(), w.api, "/passes", url.Values{"limit": {"10"}})
	if err != nil || len(items) != 26 || items[0].Name != "crew" || items[25].Name != "Pass 24" {
		t.Errorf("%d passes, %v", len(items), err)
	}
	items, _ = client.All[apitype.Pass](context.Background(), w.api, "/passes", url.Values{"q": {"pass 1"}})
	if len(items) != 10 {
		t.Errorf("%d passes fit", len(items))
	}
	for range 30 {
		w.ask(nil)
	}
	w.attempts("", 30)
	var seen []string
	next := ""
	for {
		var page apitype.Page[apitype.Attempt]
		w.do(http.MethodGet, "/attempts?limit=7"+next, nil, &page)
		for _, a := range page.Items {
			seen = append(seen, a.ID)
		}
		if page.Next == "" {
			break
		}
		next = "&before=" + page.Next
	}
	if len(seen) != 30 || seen[0] <= seen[29] {
		t.Errorf("%d attempts over all pages", len(seen))
	}
	for query, want := range map[string]int{"user=k.nance": 30, "user=K.*": 30, "mac=0000.5e00.5307": 30,
		"q=nance": 30, "client=np-switch-1": 30, "verdict=refused": 0, "reason=ok": 30, "lane=Wired": 30,
		"since=" + url.QueryEscape(time.Now().Add(-time.Minute).Format(time.RFC3339)): 30, "until=" +
			url.QueryEscape(time.Now().Add(-time.Minute).Format(time.RFC3339)): 0} {
		var page apitype.Page[apitype.Attempt]
		w.do(http.MethodGet, "/attempts?limit=100&"+query, nil, &page)
		if len(page.Items) != want {
			t.Errorf("%s gives %d, wanted %d", query, len(page.Items), want)
		}
	}
	w.refused(422, http.MethodGet, "/attempts?mac=nonsense", nil, "not a MAC address")
	w.refused(422, http.MethodGet, "/attempts?before=nonsense", nil, "identifier")
	w.refused(422, http.MethodGet, "/attempts?colour=blue", nil, "colour")
	w.refused(404, http.MethodGet, "/attempts/0000000000001", nil, "no such attempt")
}

// described is what the service says of its calls: of each path, of each method.
type described struct {
	OpenAPI string `json:"openapi"`
	Paths   map[string]map[string]struct {
		OperationID string `json:"operationId"`
	} `json:"paths"`
}

func (w *world) openAPI() (doc described) {
	w.t.Helper()
	resp, err := http.Get(w.api.URL + "/api/v1/openapi.json")
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(&doc); err != nil {
		w.t.Fatal(err)
	}
	return doc
}

func TestOpenAPIDescribesTheCalls(t *testing.T) {
	t.Parallel()
	w := start(t)
	doc := w.openAPI()
	if !strings.HasPrefix(doc.OpenAPI, "3.1") {
		t.Fatalf("version %s", doc.OpenAPI)
	}
	for _, path := range []string{"/clients", "/clients/{ref}", "/attempts", "/attempts-live", "/directory-test",
		"/draft/publish", "/revisions/{number}/return"} {
		if doc.Paths[path] == nil {
			t.Errorf("%s is not described", path)
		}
	}
}

func TestHostilePacketsDoNoHarm(t *testing.T) {
	w := start(t)
	w.basic("off", "127.0.0.1")
	seed := uint32(7)
	random := func() byte { seed = seed*1664525 + 1013904223; return byte(seed >> 24) }
	for i := range 2000 {
		data := make([]byte, 20+int(random())%80)
		for j := range data {
			data[j] = random()
		}
		if i%2 == 0 { // well formed as far as the header goes
			data[0], data[2], data[3] = 1, 0, byte(len(data))
		}
		send(t, w.radius, data)
	}
	for _, data := range [][]byte{{}, {1}, make([]byte, 4096), make([]byte, 5000)} {
		send(t, w.radius, data)
	}
	if reply, err := w.ask(nil); err != nil || !reply.Accepted {
		t.Errorf("after noise: %+v, %v", reply, err)
	}
	var c apitype.Client
	w.do(http.MethodGet, "/clients/np-switch-1", nil, &c)
	if c.Dropped < 900 {
		t.Errorf("%d packets were counted as discarded", c.Dropped)
	}
}
