package api

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/cluster"
)

// Records stay where they were made: lists are asked of all nodes and brought together, and what is about one record is
// asked of the node that made it. The other node decides by the bearer what its operator may see: operators, sessions
// and tokens are the same everywhere.
const (
	// fromHeader is where the operator is for whom another node asks.
	fromHeader = "X-Tollgate-From"
	// nodePatience is how long another node may take.
	nodePatience = 2 * time.Second
	// defaultLimit is that of lists.
	defaultLimit = 100
	maxMerged    = 32 << 20
)

// recordLists are the lists of records, by their path.
var recordLists = set("/attempts", "/sessions", "/journal")

// Inside is the API for calls of other nodes, which come over a way that lets in nodes alone.
func Inside(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from := r.Header.Get(fromHeader)
		r = r.Clone(context.WithValue(r.Context(), insideKey{}, true))
		r.RemoteAddr, r.Host = net.JoinHostPort(from, "0"), "127.0.0.1"
		next.ServeHTTP(w, r)
	})
}

type insideKey struct{}

// everywhere brings calls about records to the nodes that have them.
func (s *server) everywhere(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if inside, _ := r.Context().Value(insideKey{}).(bool); inside || s.Cluster == nil || s.Cluster.Alone() {
			next.ServeHTTP(w, r)
			return
		}
		path := strings.TrimPrefix(r.URL.Path, "/api/v1")
		if r.Method == http.MethodGet && recordLists[path] {
			s.listEverywhere(w, r, next)
			return
		}
		if n, ok := s.keeperOf(path); ok && s.bearerIsGood(r) {
			s.handOn(w, r, n)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// bearerIsGood tells whether whoever makes a call is an operator: others are not asked for strangers.
func (s *server) bearerIsGood(r *http.Request) bool {
	bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		if cookie, err := r.Cookie(sessionName); err == nil {
			bearer = cookie.Value
		}
	}
	if bearer == "" || len(bearer) >= 200 {
		return false
	}
	_, err := s.Operators.Verify(r.Context(), bearer, sourceOf(r))
	return err == nil
}

// sourceOf is the address that a call came from, without the port.
func sourceOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// keeperOf is the other node that made the record of a path, if one did.
func (s *server) keeperOf(path string) (cluster.Peer, bool) {
	parts := strings.Split(path, "/")
	if len(parts) < 3 || !recordLists["/"+parts[1]] {
		return cluster.Peer{}, false
	}
	id, err := ident.Parse(parts[2])
	if err != nil {
		return cluster.Peer{}, false
	}
	return s.Cluster.Other(id.Node())
}

// askNode asks another node for the operator who makes a call.
func (s *server) askNode(ctx context.Context, n cluster.Peer, r *http.Request, path string, body io.Reader) (
	*http.Response, error) {
	header := http.Header{}
	for _, name := range []string{"Authorization", "Cookie", "Content-Type", "If-Match", "User-Agent"} {
		if v := r.Header.Values(name); len(v) > 0 {
			header[name] = v
		}
	}
	header.Set(fromHeader, sourceOf(r))
	return s.Cluster.Ask(ctx, n, r.Method, "/inside/api/v1"+path, header, body)
}

// handOn has another node answer a call.
func (s *server) handOn(w http.ResponseWriter, r *http.Request, n cluster.Peer) {
	path := strings.TrimPrefix(r.URL.Path, "/api/v1")
	if r.URL.RawQuery != "" {
		path += "?" + r.URL.RawQuery
	}
	ctx, cancel := context.WithTimeout(r.Context(), 30*time.Second)
	defer cancel()
	answer, err := s.askNode(ctx, n, r, path, r.Body)
	if err != nil {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusServiceUnavailable)
		json.NewEncoder(w).Encode(problem(http.StatusServiceUnavailable, "this was recorded by the node "+n.Name+
			", which does not answer: "+err.Error(), "See tollgate node list."))
		return
	}
	defer answer.Body.Close()
	w.Header().Set("Content-Type", answer.Header.Get("Content-Type"))
	w.WriteHeader(answer.StatusCode)
	io.Copy(w, answer.Body)
}

// recordPage is a list of records as it is sent, with the parts that are brought together.
type recordPage struct {
	Items      []json.RawMessage `json:"items"`
	Next       string            `json:"next,omitempty"`
	Searched   *time.Time        `json:"searched,omitempty"`
	Unreadable int               `json:"unreadable,omitempty"`
	Open       *int              `json:"open,omitempty"`
	Missing    []string          `json:"missing,omitempty"`
}

// kept is an answer that is looked at before it is sent.
type kept struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (k *kept) Header() http.Header { return k.header }

func (k *kept) WriteHeader(status int) { k.status = status }

func (k *kept) Write(data []byte) (int, error) { return k.body.Write(data) }

// listEverywhere lists what all nodes have.
func (s *server) listEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler) {
	ctx, cancel := context.WithTimeout(r.Context(), nodePatience)
	defer cancel()
	others := s.Cluster.Others()
	pages, names := make([]*recordPage, 1+len(others)), make([]string, 1+len(others))
	here := &kept{header: http.Header{}, status: http.StatusOK}
	next.ServeHTTP(here, r)
	var all sync.WaitGroup
	for i, n := range others {
		names[1+i] = n.Name
		if here.status == http.StatusOK { // others are not asked for whom this node does not let in
			all.Go(func() { pages[1+i] = s.listOf(ctx, n, r) })
		}
	}
	all.Wait()
	own := &recordPage{}
	if here.status != http.StatusOK || json.Unmarshal(here.body.Bytes(), own) != nil {
		for k, v := range here.header {
			w.Header()[k] = v
		}
		w.WriteHeader(here.status)
		w.Write(here.body.Bytes())
		return
	}
	pages[0], names[0] = own, s.Cluster.Name()
	limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
	if err != nil {
		limit = defaultLimit
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(merge(pages, names, limit))
}

func (s *server) listOf(ctx context.Context, n cluster.Peer, r *http.Request) *recordPage {
	answer, err := s.askNode(ctx, n, r, strings.TrimPrefix((&url.URL{Path: r.URL.Path,
		RawQuery: r.URL.RawQuery}).String(), "/api/v1"), nil)
	if err != nil {
		return nil
	}
	defer answer.Body.Close()
	out := &recordPage{}
	if answer.StatusCode != http.StatusOK || json.NewDecoder(io.LimitReader(answer.Body,
		maxMerged)).Decode(out) != nil {
		return nil
	}
	return out
}

// merge brings the pages of nodes together, the newest record first. Where one has more, what others have beyond that
// is left for the next page.
func merge(pages []*recordPage, names []string, limit int) recordPage {
	out := recordPage{Items: []json.RawMessage{}}
	type item struct {
		id   string
		text json.RawMessage
	}
	var list []item
	for i, p := range pages {
		if p == nil {
			out.Missing = append(out.Missing, names[i])
			continue
		}
		out.Next = max(out.Next, p.Next)
		out.Unreadable += p.Unreadable
		if p.Open != nil {
			open := *p.Open
			if out.Open != nil {
				open += *out.Open
			}
			out.Open = &open
		}
		if p.Searched != nil && (out.Searched == nil || p.Searched.After(*out.Searched)) {
			out.Searched = p.Searched
		}
		name, _ := json.Marshal(names[i])
		for _, text := range p.Items {
			var head struct {
				ID string `json:"id"`
			}
			if json.Unmarshal(text, &head) != nil || len(text) < 2 {
				continue
			}
			named := append(append([]byte(`{"node":`), name...), ',')
			list = append(list, item{head.ID, append(named, text[1:]...)})
		}
	}
	slices.SortFunc(list, func(a, b item) int { return strings.Compare(b.id, a.id) })
	for _, one := range list {
		if one.id < out.Next {
			break
		}
		if len(out.Items) == limit {
			var last struct {
				ID string `json:"id"`
			}
			json.Unmarshal(out.Items[limit-1], &last)
			out.Next, out.Searched = last.ID, nil
			break
		}
		out.Items = append(out.Items, one.text)
	}
	return out
}
