package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"

	"tollgate.example/key/internal/cluster"
)

// AtNodeInput names the node that a call is about. Each node has an audit and a checkup of its own.
type AtNodeInput struct {
	Node string `query:"node" maxLength:"60" doc:"Node whose own it is; empty is the node that is asked"`
}

// ofEachNode tells that a call is about what each node has of its own: its audit, which is a chain, and its checkup.
func ofEachNode(path string) bool {
	return path == "/checkup" || path == "/audit" || strings.HasPrefix(path, "/audit/") ||
		strings.HasPrefix(path, "/audit-")
}

// atNode has the node answer that a call names. It decides by the bearer what its operator may see.
func (s *server) atNode(w http.ResponseWriter, r *http.Request, next http.Handler, name string) {
	if s.Cluster != nil && strings.EqualFold(name, s.Cluster.Name()) || !s.bearerIsGood(r) {
		next.ServeHTTP(w, r) // which refuses strangers
		return
	}
	refuse := func(status int, detail string) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(problem(status, detail, "See tollgate node list."))
	}
	var others []cluster.Peer
	if s.Cluster != nil {
		others = s.Cluster.Others()
	}
	for _, n := range others {
		if !strings.EqualFold(n.Name, name) {
			continue
		}
		ctx, cancel := context.WithCancel(r.Context())
		defer cancel()
		go func() { // it may be a stream
			select {
			case <-s.Done:
				cancel()
			case <-ctx.Done():
			}
		}()
		answer, err := s.askNode(ctx, n, r, strings.TrimPrefix(r.URL.RequestURI(), "/api/v1"), r.Body)
		if err != nil {
			refuse(http.StatusServiceUnavailable, "the node "+n.Name+" does not answer: "+err.Error())
			return
		}
		defer answer.Body.Close()
		for _, key := range []string{"Content-Type", "Content-Disposition", "Cache-Control"} {
			if v := answer.Header.Get(key); v != "" {
				w.Header().Set(key, v)
			}
		}
		w.WriteHeader(answer.StatusCode)
		passOn(w, answer)
		return
	}
	refuse(http.StatusNotFound, "there is no other node "+name+" that keeps records")
}

// passOn hands an answer on as it comes, since it may be a stream.
func passOn(w http.ResponseWriter, answer *http.Response) {
	control, buf := http.NewResponseController(w), make([]byte, 32<<10)
	for {
		n, err := answer.Body.Read(buf)
		if n > 0 {
			if _, failed := w.Write(buf[:n]); failed != nil {
				return
			}
			control.Flush()
		}
		if err != nil {
			return
		}
	}
}
