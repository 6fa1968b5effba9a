package api

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// copiesKey is the number of the node of whose records a call wants copies.
type copiesKey struct{}

// shadows are the open sessions of nodes that do not answer.
type shadows struct {
	sync.Mutex
	of map[int]*session.Shadow
}

// forget lets go of the sessions of a node that answers again.
func (s *shadows) forget(node int) {
	s.Lock()
	defer s.Unlock()
	delete(s.of, node)
}

// recordKinds are the kinds of records of the lists, by the first part of their path.
var recordKinds = map[string]string{"attempts": store.KindAttempts, "sessions": store.KindAccounting,
	"journal": store.KindJournal, "journal-export": store.KindJournal, "sessions-export": store.KindAccounting,
	"sessions-ask": store.KindAccounting, "presence": store.KindAccounting}

// ofCopies answers a call of another node, which may be about copies that are here.
func (s *server) ofCopies(w http.ResponseWriter, r *http.Request, path string, next http.Handler) {
	node, of := r.Context().Value(copiesKey{}).(int)
	if !of {
		next.ServeHTTP(w, r)
		return
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	kind, known := recordKinds[first]
	looks := r.Method == http.MethodGet || r.Method == http.MethodPost && path == askPath || asksSession(r.Method, path)
	if !known || !looks || s.OfOthers == nil || !s.OfOthers.Has(kind, node) {
		http.Error(w, "there are no copies of this", http.StatusNotFound)
		return
	}
	if until := s.OfOthers.Until(kind, node); !until.IsZero() {
		w.Header().Set(untilHeader, until.Format(time.RFC3339Nano))
	}
	next.ServeHTTP(w, r)
}

// holders are the nodes that have copies of the records of a node, and answer.
func (s *server) holders(node int) []cluster.Peer {
	held, _, _ := s.held()
	return held[node]
}

// held are the nodes that have copies of the records of each node, and answer, with the names of those that were
// copied; members are the nodes there are.
func (s *server) held() (held map[int][]cluster.Peer, names map[int]string, members map[int]bool) {
	held, names, members = map[int][]cluster.Peer{}, map[int]string{}, map[int]bool{}
	for _, n := range s.Cluster.Members() {
		members[n.Number] = true
		holds := n.Seen.Own.Holds
		if n.Self {
			holds = s.OfOthers.Nodes()
		}
		if n.Witness || n.Seen.Silent() {
			continue
		}
		for node, name := range holds {
			if node != n.Number {
				names[node] = name
				held[node] = append(held[node], cluster.Peer{Number: n.Number, Name: n.Name})
			}
		}
	}
	return held, names, members
}

// fromCopies answers a call from copies of what a node recorded, nil if no node that answers has them.
func (s *server) fromCopies(r *http.Request, node int, next http.Handler) *gathered {
	return s.copyOf(r, node, s.holders(node), next, nil)
}

func (s *server) copyOf(r *http.Request, node int, holders []cluster.Peer, next http.Handler, body []byte) *gathered {
	ctx, cancel := context.WithTimeout(r.Context(), nodePatience)
	defer cancel()
	r = r.WithContext(ctx)
	answers := make([]*gathered, len(holders))
	var all sync.WaitGroup
	for i, n := range holders {
		all.Go(func() { answers[i] = s.copyAt(within(r, node, body), n, next) })
	}
	all.Wait()
	var best *gathered
	for _, one := range answers { // that which was whole last has most
		if one != nil && (best == nil || after(one.copied.Until, best.copied.Until)) {
			best = one
		}
	}
	return best
}

func after(a, b *time.Time) bool { return a != nil && (b == nil || a.After(*b)) }

// copyAt asks one node for copies, which may be this one; nil if it refuses or does not answer.
func (s *server) copyAt(r *http.Request, n cluster.Peer, next http.Handler) *gathered {
	here := s.answerOf(r, n, next)
	if here == nil || here.status != http.StatusOK {
		return nil
	}
	return copyFrom(here, n)
}

// copyFrom is what a node answers from copies.
func copyFrom(here *kept, n cluster.Peer) *gathered {
	out := &gathered{body: here.body.Bytes(), copied: &apitype.Copied{}, holder: n}
	if until, err := time.Parse(time.RFC3339Nano, here.header.Get(untilHeader)); err == nil {
		out.copied.Until = &until
	}
	return out
}

// answerOf is what a node answers to a call about copies, nil if it does not.
func (s *server) answerOf(r *http.Request, n cluster.Peer, next http.Handler) *kept {
	path := strings.TrimPrefix(r.URL.Path, "/api/v1")
	here := &kept{header: http.Header{}, status: http.StatusOK}
	if n.Number == s.Cluster.Number() {
		s.ofCopies(here, r, path, next)
	} else if err := s.askCopies(r, n, path, here); err != nil {
		return nil
	}
	return here
}

func (s *server) askCopies(r *http.Request, n cluster.Peer, path string, into *kept) error {
	answer, err := s.askNode(r.Context(), n, r, (&url.URL{Path: path, RawQuery: r.URL.RawQuery}).String(), r.Body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	into.status, into.header = answer.StatusCode, answer.Header
	_, err = into.body.ReadFrom(http.MaxBytesReader(into, answer.Body, maxMerged))
	return err
}

// withCopies fills in, from copies, what nodes that do not answer recorded, and adds that of nodes which were removed.
func (s *server) withCopies(r *http.Request, list []gathered, next http.Handler, body []byte) []gathered {
	held, names, members := s.held()
	for node := range held {
		if !members[node] {
			list = append(list, gathered{node: cmp.Or(names[node], "node "+strconv.Itoa(node)), number: node})
		}
	}
	var all sync.WaitGroup
	for i := range list {
		if list[i].body != nil {
			s.shadows.forget(list[i].number)
			continue
		}
		if len(held[list[i].number]) == 0 {
			continue
		}
		all.Go(func() {
			if one := s.copyOf(r, list[i].number, held[list[i].number], next, body); one != nil {
				list[i].body, list[i].copied, list[i].holder = one.body, one.copied, one.holder
				list[i].copied.Node, list[i].copied.Removed = list[i].node, !members[list[i].number]
			}
		})
	}
	all.Wait()
	return slices.DeleteFunc(list, func(g gathered) bool { return g.body == nil && !members[g.number] })
}

// attemptsFor are those that a call is about: those of this node, or copies of those of another.
func (s *server) attemptsFor(ctx context.Context) *store.Attempts {
	if node, of := ctx.Value(copiesKey{}).(int); of {
		if copies := s.OfOthers.Attempts(node); copies != nil {
			return copies
		}
	}
	return s.Attempts
}

// journalFor is the gear journal that a call is about.
func (s *server) journalFor(ctx context.Context) *store.Journal {
	if node, of := ctx.Value(copiesKey{}).(int); of {
		if copies := s.OfOthers.Journal(node); copies != nil {
			return copies
		}
	}
	return s.Journal
}

// accountingFor is what is recorded of the sessions that a call is about.
func (s *server) accountingFor(ctx context.Context) *store.Accounting {
	if node, of := ctx.Value(copiesKey{}).(int); of {
		if copies := s.OfOthers.Accounting(node); copies != nil {
			return copies
		}
	}
	return s.Sessions.Records()
}

// bookFor are the open sessions that a call is about: of another node those that its records come to.
func (s *server) bookFor(ctx context.Context) *session.Book {
	node, of := ctx.Value(copiesKey{}).(int)
	if !of {
		return s.Sessions.Book
	}
	s.shadows.Lock()
	shadow := s.shadows.of[node]
	if shadow == nil {
		if s.shadows.of == nil {
			s.shadows.of = map[int]*session.Shadow{}
		}
		shadow = session.NewShadow()
		s.shadows.of[node] = shadow
	}
	s.shadows.Unlock()
	return shadow.Read(ctx, s.accountingFor(ctx), s.Sessions.Book)
}
