package api

import (
	"encoding/csv"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"tollgate.example/key/internal/cluster"
)

// Events of a node go out whole, with its name in what they tell.
func TestEventsHaveTheirNode(t *testing.T) {
	for event, want := range map[string]string{
		"id: 7\nevent: attempt\ndata: {\"id\":\"x\"}\n\n": "id: 7\nevent: attempt\n" +
			`data: {"node":"south \"1\"","id":"x"}` + "\n\n",
		"event: beat\ndata: {\"at\":\"now\"}\n\n": "event: beat\ndata: {\"at\":\"now\"}\n\n",
		"data: {}\n\n":  "data: {}\n\n",
		"data: 7\n\n":   "data: 7\n\n",
		": nothing\n\n": ": nothing\n\n",
	} {
		if got := string(ofNode([]byte(event), `south "1"`)); got != want {
			t.Errorf("%q is %q", event, got)
		}
	}
}

// With so many under way that ask other nodes, one more export is refused, and one more stream is that of this node.
func TestOnlySoManyAskOtherNodes(t *testing.T) {
	s := &server{Service: &Service{Cluster: &cluster.Cluster{}}, relays: make(chan struct{}, 1)}
	s.relays <- struct{}{}
	out := httptest.NewRecorder()
	s.exportEverywhere(out, httptest.NewRequest(http.MethodGet, "/api/v1/journal-export", nil), nil, true)
	if out.Code != http.StatusServiceUnavailable || !strings.Contains(out.Body.String(), "Try again") {
		t.Errorf("an export too many: %d %s", out.Code, out.Body)
	}
	out = httptest.NewRecorder()
	s.followEverywhere(out, httptest.NewRequest(http.MethodGet, "/api/v1/journal-live", nil), http.HandlerFunc(
		func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, "event: entry\n")
			io.WriteString(w, "data: {\"id\":\"x\"}\n\n")
			w.(http.Flusher).Flush()
		}))
	if out.Code != http.StatusOK || !strings.Contains(out.Body.String(), `"id":"x"`) || len(s.relays) != 1 {
		t.Errorf("a stream too many: %d %s", out.Code, out.Body)
	}
}

// Parts are joined in one order, either way, whatever is in their fields; what has no identifier cuts an export short.
func TestPartsAreJoined(t *testing.T) {
	parts := func(texts ...string) (out []*part) {
		for i, text := range texts {
			out = append(out, &part{node: []string{"one", "two"}[i], body: io.NopCloser(strings.NewReader(text))})
		}
		return out
	}
	var to strings.Builder
	two := parts("id,what\n1,\"a\nb\"\n4,\"c,d\"\n", "id,what\n2,e\n3,f\n5,g\n")
	if err := join(&to, two, "csv", true); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(to.String())).ReadAll()
	got := ""
	for _, row := range rows {
		got += strings.Join(row, "|") + ";"
	}
	if want := "id|what|node;1|a\nb|one;2|e|two;3|f|two;4|c,d|one;5|g|two;"; err != nil || got != want {
		t.Errorf("%q, %v", got, err)
	}
	to.Reset()
	err = join(&to, parts("{\"id\":\"4\"}\n{\"id\":\"1\"}\n", "{\"id\":\"3\"}\n"), "jsonl", false)
	want := `{"node":"one","id":"4"}` + "\n" + `{"node":"two","id":"3"}` + "\n" + `{"node":"one","id":"1"}` + "\n"
	if err != nil || to.String() != want {
		t.Errorf("%q, %v", to.String(), err)
	}
	for _, text := range []string{"{}\n", "no object\n", "{\"id\":\"2\"}\n{\"id\":"} {
		if err := join(io.Discard, parts("{\"id\":\"4\"}\n", text), "jsonl", false); err == nil {
			t.Errorf("%q is joined", text)
		}
	}
}
