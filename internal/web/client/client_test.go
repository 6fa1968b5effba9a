package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"tollgate.example/key/internal/web/apitype"
)

func TestCalls(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/api/v1/pages":
			next := map[string]string{"": `{"items":[1,2],"next":"a"}`,
				"a": `{"items":[3]}`}[r.URL.Query().Get("after")]
			fmt.Fprint(w, next)
		case "/api/v1/problem":
			w.WriteHeader(422)
			fmt.Fprint(w, `{"title":"T","status":422,"detail":"nothing was changed","errors":[{"field":"vlan","message":"too big","remedy":"Use less"}]}`)
		case "/api/v1/broken":
			w.WriteHeader(502)
			fmt.Fprint(w, "<html>")
		case "/api/v1/who":
			fmt.Fprintf(w, "%q", r.Header.Get("Authorization")+" "+r.Header.Get("If-Match"))
		case "/api/v1/events":
			fmt.Fprint(w, ": a comment\n\nid: 7\nevent: attempt\ndata: {\"a\":\ndata: 1}\n\nevent: beat\ndata: {}\n\n")
		}
	}))
	defer s.Close()
	ctx, c := context.Background(), &Client{URL: s.URL + "/", Token: "tk_x"}
	if list, err := All[int](ctx, c, "/pages", nil); err != nil || fmt.Sprint(list) != "[1 2 3]" {
		t.Errorf("pages: %v, %v", list, err)
	}
	var p *apitype.Problem
	if err := c.Do(ctx, "GET", "/problem", nil, nil); !errors.As(err, &p) || p.Status != 422 ||
		err.Error() != "nothing was changed: vlan: too big. Use less" {
		t.Errorf("problem: %v", err)
	}
	if err := c.Do(ctx, "GET", "/broken", nil, nil); !errors.As(err, &p) || p.Status != 502 {
		t.Errorf("something else than a problem: %v", err)
	}
	var who string
	if err := c.Do(ctx, "PUT", "/who", 1, &who, IfMatch(`"t"`)); err != nil || who != `Bearer tk_x "t"` {
		t.Errorf("headers %q, %v", who, err)
	}
	var got []string
	err := c.Stream(ctx, "GET", "/events", nil, func(e Event) bool {
		got = append(got, e.ID+" "+e.Name+" "+string(e.Data))
		return true
	})
	if err != nil || fmt.Sprint(got) != `[7 attempt {"a":1}  beat {}]` {
		t.Errorf("events %q, %v", got, err)
	}
	s.Close()
	var gone *UnreachableError
	if err := c.Do(ctx, "GET", "/who", nil, nil); !errors.As(err, &gone) {
		t.Errorf("without a service: %v", err)
	}
}
