package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
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
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/web/apitype"
)

// Records stay where they were made: lists are asked of all nodes and brought together, and what is about one record is
// asked of the node that made it. The other node decides by the bearer what its operator may see: operators, sessions
// and tokens are the same everywhere.
const (
	// fromHeader is where the operator is for whom another node asks.
	fromHeader = "X-Tollgate-From"
	// copiesHeader is the number of a node of whose records copies are wanted, untilHeader up to when those go.
	copiesHeader = "X-Tollgate-Copies-Of"
	untilHeader  = "X-Tollgate-Copied-Until"
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
		if node, err := strconv.Atoi(r.Header.Get(copiesHeader)); err == nil {
			r = r.WithContext(context.WithValue(r.Context(), copiesKey{}, node))
		}
		next.ServeHTTP(w, r)
	})
}

type insideKey struct{}

// everywhere brings calls about records to the nodes that have them.
func (s *server) everywhere(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/api/v1")
		inside, _ := r.Context().Value(insideKey{}).(bool)
		if name := r.URL.Query().Get("node"); name != "" && !inside && ofEachNode(path) {
			s.atNode(w, r, next, name)
			return
		}
		if inside || s.Cluster == nil || s.Cluster.Alone() {
			s.ofCopies(w, r, path, next)
			return
		}
		if r.Method == http.MethodGet && recordLists[path] {
			s.listEverywhere(w, r, next)
			return
		}
		if r.Method == http.MethodGet && path == "/hits" {
			s.hitsEverywhere(w, r, next)
			return
		}
		if up, of := recordExports[path]; of && r.Method == http.MethodGet {
			s.exportEverywhere(w, r, next, up)
			return
		}
		if r.Method == http.MethodGet && recordStreams[path] {
			s.followEverywhere(w, r, next)
			return
		}
		if r.Method == http.MethodGet && path == differingPath {
			s.differEverywhere(w, r, next)
			return
		}
		if r.Method == http.MethodPost && path == askPath {
			s.askEverywhere(w, r, next)
			return
		}
		if r.Method == http.MethodGet && presentPaths[path] {
			if caller, ok := s.caller(r); ok && len(caller.Limits) > 0 {
				s.presentEverywhere(w, r, next)
				return
			}
		}
		if n, ok := s.keeperOf(path); ok && s.bearerIsGood(r) {
			s.handOn(w, r, n, next)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// bearerIsGood tells whether whoever makes a call is an operator: others are not asked for strangers.
func (s *server) bearerIsGood(r *http.Request) bool {
	_, ok := s.caller(r)
	return ok
}

// caller is the operator who makes a call, if it is one.
func (s *server) caller(r *http.Request) (operator.Who, bool) {
	bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		if cookie, err := r.Cookie(sessionName); err == nil {
			bearer = cookie.Value
		}
	}
	if bearer == "" || len(bearer) >= 200 {
		return operator.Who{}, false
	}
	w, err := s.Operators.Verify(r.Context(), bearer, sourceOf(r))
	return w, err == nil
}

// sourceOf is the address that a call came from, without the port.
func sourceOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// keeperOf is the other node that made the record of a path, if one did; its name is "" if there is no such node now.
func (s *server) keeperOf(path string) (cluster.Peer, bool) {
	parts := strings.Split(path, "/")
	if len(parts) < 3 || !recordLists["/"+parts[1]] {
		return cluster.Peer{}, false
	}
	id, err := ident.Parse(parts[2])
	if err != nil {
		return cluster.Peer{}, false
	}
	if n, ok := s.Cluster.Other(id.Node()); ok {
		return n, true
	}
	return cluster.Peer{Number: id.Node()}, id.Node() != s.Cluster.Number() && len(s.holders(id.Node())) > 0
}

// askNode asks another node for the operator who makes a call. A call that is about copies stays one.
func (s *server) askNode(ctx context.Context, n cluster.Peer, r *http.Request, path string, body io.Reader) (
	*http.Response, error) {
	header := http.Header{}
	for _, name := range []string{"Authorization", "Cookie", "Content-Type", "If-Match", "User-Agent",
		"Last-Event-Id"} {
		if v := r.Header.Values(name); len(v) > 0 {
			header[name] = v
		}
	}
	header.Set(fromHeader, sourceOf(r))
	if node, of := r.Context().Value(copiesKey{}).(int); of {
		header.Set(copiesHeader, strconv.Itoa(node))
	}
	return s.Cluster.Ask(ctx, n, r.Method, "/inside/api/v1"+path, header, body)
}

// handOn has another node answer a call; what is asked of one that does not, another may have a copy of.
func (s *server) handOn(w http.ResponseWriter, r *http.Request, n cluster.Peer, next http.Handler) {
	path := strings.TrimPrefix(r.URL.Path, "/api/v1")
	if r.URL.RawQuery != "" {
		path += "?" + r.URL.RawQuery
	}
	ctx, cancel := context.WithTimeout(r.Context(), 30*time.Second)
	defer cancel()
	body := io.Reader(r.Body)
	var text []byte
	asks := asksSession(r.Method, strings.TrimPrefix(r.URL.Path, "/api/v1"))
	if asks {
		text, _ = io.ReadAll(http.MaxBytesReader(w, r.Body, maxAskBody)) // one cut short is refused by whoever reads it
		body = bytes.NewReader(text)
	}
	answer, err := s.askNode(ctx, n, r, path, body)
	if err != nil {
		switch {
		case r.Method == http.MethodGet:
			if one := s.fromCopies(r, n.Number, next); one != nil {
				w.Header().Set("Content-Type", "application/json")
				w.Write(one.body)
				return
			}
		case asks && (n.Name == "" || errors.Is(err, cluster.ErrSilent)): // one that answers late has asked already
			if one := s.askOfCopies(r, n.Number, text, next); one != nil {
				w.Header().Set("Content-Type", one.header.Get("Content-Type"))
				w.WriteHeader(one.status)
				w.Write(one.body.Bytes())
				return
			}
		}
	}
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
	Copied     []apitype.Copied  `json:"copied,omitempty"`
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

// gathered is what a node answers, nil if it does not. With copied it is what another one has of it.
type gathered struct {
	node   string
	number int
	body   []byte
	copied *apitype.Copied
	holder cluster.Peer
	// refused tells that it answers, and does not let its operator know.
	refused bool
}

// gather makes a call here and, if this node lets its operator in, at all other nodes. ok is false where it was
// refused, which is answered already.
// Its body, if it has any, goes to each.
func (s *server) gather(w http.ResponseWriter, r *http.Request, next http.Handler, body []byte,
	patience time.Duration) (list []gathered, ok bool) {
	ctx, cancel := context.WithTimeout(r.Context(), patience)
	defer cancel()
	here := &kept{header: http.Header{}, status: http.StatusOK}
	if body != nil {
		r.Body = io.NopCloser(bytes.NewReader(body))
	}
	next.ServeHTTP(here, r)
	if here.status != http.StatusOK { // others are not asked for whom this node does not let in
		here.send(w)
		return nil, false
	}
	return s.askOthers(ctx, r, here, body), true
}

// askOthers makes a call that was answered here at all other nodes.
func (s *server) askOthers(ctx context.Context, r *http.Request, here *kept, body []byte) (list []gathered) {
	others := s.Cluster.Others()
	list = make([]gathered, 1+len(others))
	list[0] = gathered{node: s.Cluster.Name(), number: s.Cluster.Number(), body: here.body.Bytes()}
	var all sync.WaitGroup
	for i, n := range others {
		list[1+i].node, list[1+i].number = n.Name, n.Number
		all.Go(func() { list[1+i].body, list[1+i].refused = s.bodyOf(ctx, n, r, body) })
	}
	all.Wait()
	return list
}

// bodyOf is what another node answers to a call, nil if it does not, or refuses it.
func (s *server) bodyOf(ctx context.Context, n cluster.Peer, r *http.Request, with []byte) (body []byte, refused bool) {
	answer, err := s.askNode(ctx, n, r, strings.TrimPrefix((&url.URL{Path: r.URL.Path,
		RawQuery: r.URL.RawQuery}).String(), "/api/v1"), bytes.NewReader(with))
	if err != nil {
		return nil, false
	}
	defer answer.Body.Close()
	body, err = io.ReadAll(io.LimitReader(answer.Body, maxMerged))
	if answer.StatusCode != http.StatusOK || err != nil {
		return nil, answer.StatusCode == http.StatusForbidden
	}
	return body, false
}

// listEverywhere lists what all nodes have.
func (s *server) listEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler) {
	list, ok := s.gather(w, r, next, nil, nodePatience)
	if !ok {
		return
	}
	list = s.withCopies(r, list, next, nil)
	pages, names := make([]*recordPage, len(list)), make([]string, len(list))
	var copied []apitype.Copied
	for i, one := range list {
		page := &recordPage{}
		if names[i] = one.node; one.body != nil && json.Unmarshal(one.body, page) == nil {
			pages[i] = page
			if one.copied != nil {
				copied = append(copied, *one.copied)
			}
		}
	}
	limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
	if err != nil {
		limit = defaultLimit
	}
	w.Header().Set("Content-Type", "application/json")
	out := merge(pages, names, limit)
	out.Copied = copied
	json.NewEncoder(w).Encode(out)
}

// hitsEverywhere counts the hits of all nodes. Where one does not answer, no policy is called stale.
func (s *server) hitsEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler) {
	list, ok := s.gather(w, r, next, nil, nodePatience)
	if !ok {
		return
	}
	var out apitype.AllHits
	for i, one := range list {
		var hits apitype.AllHits
		switch {
		case one.body == nil || json.Unmarshal(one.body, &hits) != nil:
			out.Missing = append(out.Missing, one.node)
		case i == 0:
			out = hits
		default:
			out.Items = joinHits(out.Items, hits.Items)
		}
	}
	for i := range out.Items {
		out.Items[i].Stale = out.Items[i].Stale && len(out.Missing) == 0
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(out)
}

// joinHits adds what another node counted to the policies that are known here.
func joinHits(list, others []apitype.Hits) []apitype.Hits {
	for i := range list {
		h := &list[i]
		for j := range others {
			o := &others[j]
			if o.Policy != h.Policy || o.Group != h.Group {
				continue
			}
			h.Since, h.Before, h.Stale = h.Since+o.Since, h.Before+o.Before, h.Stale && o.Stale
			if o.Last != nil && (h.Last == nil || o.Last.After(*h.Last)) {
				h.Last = o.Last
			}
			for k := range min(len(h.Hours), len(o.Hours)) {
				h.Hours[k] += o.Hours[k]
			}
		}
	}
	return list
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
		for _, text := range p.Items {
			var head struct {
				ID string `json:"id"`
			}
			if json.Unmarshal(text, &head) != nil || len(text) < 2 {
				continue
			}
			list = append(list, item{head.ID, named(text, names[i])})
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
