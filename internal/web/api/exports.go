package api

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/web/apitype"
)

// recordExports are the exports of records, by their path: true for those with the oldest first.
var recordExports = map[string]bool{"/journal-export": true, "/sessions-export": false}

const (
	// exportPatience is how long another node may take to begin with its part.
	exportPatience = 10 * time.Second
)

// part is what one node exports, record by record.
type part struct {
	node   string
	copied *apitype.Copied
	status int
	header http.Header
	body   io.ReadCloser
	table  *csv.Reader
	lines  *bufio.Reader

	// row or line is the next record, key what it is ordered by.
	row  []string
	line []byte
	key  string
	over bool
}

// next reads the next record. An error other than the end means that the part is cut short.
func (p *part) next() (err error) {
	if p.table != nil {
		if p.row, err = p.table.Read(); err == nil && len(p.row) > 0 {
			p.key = p.row[0]
		}
	} else if p.line, err = p.lines.ReadBytes('\n'); err == nil {
		var head struct {
			ID string `json:"id"`
		}
		err = json.Unmarshal(p.line, &head)
		p.key = head.ID
	}
	if err == io.EOF && len(p.line) == 0 {
		p.over = true
		return nil
	}
	if err == nil && p.key == "" {
		err = errors.New("a record has no identifier")
	}
	return err
}

// begin reads what comes before the first record: the names of columns.
func (p *part) begin(format string) (columns []string, err error) {
	if format != "csv" {
		p.lines = bufio.NewReader(p.body)
		return nil, p.next()
	}
	p.table = csv.NewReader(p.body)
	p.table.FieldsPerRecord = -1
	if columns, err = p.table.Read(); err != nil {
		return nil, err
	}
	return columns, p.next()
}

// exportEverywhere exports what all nodes have, in one order: with the oldest first where up tells so.
func (s *server) exportEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler, up bool) {
	select {
	case s.relays <- struct{}{}:
		defer func() { <-s.relays }()
	default:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusServiceUnavailable)
		json.NewEncoder(w).Encode(problem(http.StatusServiceUnavailable, "Too many exports are under way.",
			"Try again in a moment."))
		return
	}
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	r = r.WithContext(ctx)
	here := s.exportHere(r, next)
	defer here.body.Close()
	if here.status != http.StatusOK { // others are not asked for whom this node does not let in
		copyHeader(w.Header(), here.header)
		w.WriteHeader(here.status)
		io.Copy(w, here.body)
		return
	}
	parts, missing := s.exportsOfOthers(r, next)
	parts = append(parts, here)
	copied := []apitype.Copied{}
	for _, p := range parts {
		defer p.body.Close()
		if p.copied != nil {
			copied = append(copied, *p.copied)
		}
	}
	copyHeader(w.Header(), here.header)
	setJSON(w.Header(), apitype.MissingHeader, missing)
	setJSON(w.Header(), apitype.CopiedHeader, copied)
	if err := join(w, parts, r.URL.Query().Get("format"), up); err != nil {
		slog.Warn("an export of several nodes was cut short", "error", err)
		panic(http.ErrAbortHandler) // half of it must not look like all of it
	}
}

func copyHeader(to, from http.Header) {
	for name, values := range from {
		to[name] = values
	}
}

func setJSON[T any](header http.Header, name string, list []T) {
	if text, err := json.Marshal(list); err == nil && len(list) > 0 {
		header.Set(name, string(text))
	}
}

// pipe is an answer that is read while it is made.
type pipe struct {
	*io.PipeWriter
	header http.Header
	status int
	once   sync.Once
	begun  chan struct{}
}

func (p *pipe) Header() http.Header { return p.header }

func (p *pipe) WriteHeader(status int) {
	p.once.Do(func() {
		p.status = status
		close(p.begun)
	})
}

func (p *pipe) Write(data []byte) (int, error) {
	p.WriteHeader(http.StatusOK)
	return p.PipeWriter.Write(data)
}

// exportHere begins to export what this node has, or what it has of another one.
func (s *server) exportHere(r *http.Request, next http.Handler) *part {
	reader, writer := io.Pipe()
	p := &pipe{PipeWriter: writer, header: http.Header{}, begun: make(chan struct{})}
	go func() {
		err := io.ErrUnexpectedEOF
		defer func() {
			if fault := recover(); fault != nil && fault != http.ErrAbortHandler {
				slog.Error("exporting", "fault", fault)
			}
			p.WriteHeader(http.StatusInternalServerError)
			writer.CloseWithError(err)
		}()
		next.ServeHTTP(p, r)
		p.WriteHeader(http.StatusOK)
		err = nil
	}()
	<-p.begun
	return &part{node: s.Cluster.Name(), status: p.status, header: p.header, body: reader}
}

// exportsOfOthers begins to export what other nodes have; of those that do not answer, and of those that were removed,
// from copies. missing are those of which there is nothing.
func (s *server) exportsOfOthers(r *http.Request, next http.Handler) (parts []*part, missing []string) {
	held, names, members := s.held()
	type wanted struct {
		cluster.Peer
		member bool
	}
	var list []wanted
	for _, n := range s.Cluster.Others() {
		list = append(list, wanted{n, true})
	}
	for number := range held {
		if !members[number] {
			list = append(list, wanted{cluster.Peer{Number: number, Name: names[number]}, false})
		}
	}
	found := make([]*part, len(list))
	var all sync.WaitGroup
	for i, n := range list {
		all.Go(func() {
			if n.member {
				found[i] = s.exportAt(r, n.Peer)
			}
			for _, holder := range held[n.Number] {
				if found[i] != nil {
					return
				}
				found[i] = s.exportCopy(r, n.Number, holder, next)
			}
		})
	}
	all.Wait()
	for i, p := range found {
		switch {
		case p == nil && list[i].member:
			missing = append(missing, list[i].Name)
		case p != nil:
			p.node = list[i].Name
			if p.copied != nil {
				p.copied.Node, p.copied.Removed = p.node, !list[i].member
			}
			parts = append(parts, p)
		}
	}
	return parts, missing
}

// exportCopy begins to export what a node has of another one.
func (s *server) exportCopy(r *http.Request, of int, holder cluster.Peer, next http.Handler) (out *part) {
	r = r.WithContext(context.WithValue(r.Context(), copiesKey{}, of))
	if holder.Number != s.Cluster.Number() {
		out = s.exportAt(r, holder)
	} else if out = s.exportHere(r, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.ofCopies(w, r, strings.TrimPrefix(r.URL.Path, "/api/v1"), next)
	})); out.status != http.StatusOK {
		out.body.Close()
		out = nil
	}
	if out != nil {
		out.copied = &apitype.Copied{}
		if until, err := time.Parse(time.RFC3339Nano, out.header.Get(untilHeader)); err == nil {
			out.copied.Until = &until
		}
	}
	return out
}

// exportAt begins to export what another node has, nil if it does not answer.
func (s *server) exportAt(r *http.Request, n cluster.Peer) *part {
	ctx, cancel := context.WithCancel(r.Context())
	patience := time.AfterFunc(exportPatience, cancel)
	answer, err := s.askNode(ctx, n, r, strings.TrimPrefix((&url.URL{Path: r.URL.Path,
		RawQuery: r.URL.RawQuery}).String(), "/api/v1"), nil)
	if err != nil || !patience.Stop() || answer.StatusCode != http.StatusOK {
		if err == nil {
			answer.Body.Close()
		}
		cancel()
		return nil
	}
	return &part{status: answer.StatusCode, header: answer.Header, body: closing{answer.Body, cancel}}
}

// closing ends a call when its answer is closed.
type closing struct {
	io.ReadCloser
	cancel context.CancelFunc
}

func (c closing) Close() error {
	c.cancel()
	return c.ReadCloser.Close()
}

// join writes the records of all parts in one order, each with its node.
func join(w io.Writer, parts []*part, format string, up bool) error {
	table := csv.NewWriter(w)
	for i, p := range parts {
		columns, err := p.begin(format)
		if err != nil {
			return fmt.Errorf("what %s exports: %w", p.node, err)
		}
		if i == len(parts)-1 && columns != nil {
			if err := table.Write(append(columns, "node")); err != nil {
				return err
			}
		}
	}
	for {
		var first *part
		for _, p := range parts {
			if !p.over && (first == nil || (p.key < first.key) == up && p.key != first.key) {
				first = p
			}
		}
		if first == nil {
			table.Flush()
			return table.Error()
		}
		var err error
		if first.table != nil {
			err = table.Write(append(first.row, first.node))
		} else {
			_, err = w.Write(named(first.line, first.node))
		}
		if err == nil {
			err = first.next()
		}
		if err != nil {
			table.Flush()
			return fmt.Errorf("what %s exports: %w", first.node, err)
		}
	}
}

// named is a JSON object with the name of the node that it is from.
func named(object []byte, node string) []byte {
	name, _ := json.Marshal(node)
	out := append(append([]byte(`{"node":`), name...), ',')
	return append(out, object[1:]...)
}
