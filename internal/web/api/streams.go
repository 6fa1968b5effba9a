package api

import (
	"bufio"
	"bytes"
	"context"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/cluster"
)

// recordStreams are the streams of records as they are made, by their path.
var recordStreams = set("/attempts-live", "/sessions-live", "/journal-live")

const (
	// followAgain is after how long another node whose stream ended is asked again.
	followAgain = 2 * time.Second
	// clocksApart is how far the clock of another node may be behind.
	clocksApart = time.Minute
	// maxRelays bounds the streams and exports for which other nodes are asked at once: each holds a connection to
	// them, of which they take a number.
	maxRelays = 64
	// maxEvent bounds an event of another node.
	maxEvent = 1 << 20
)

// events are the events of several nodes on one stream.
type events struct {
	http.ResponseWriter
	control *http.ResponseController
	node    string
	begin   func() // called once, when the stream of this node has begun

	mu      sync.Mutex // of what is below
	pending bytes.Buffer
	status  int
	begun   bool
}

// WriteHeader implements http.ResponseWriter.
func (e *events) WriteHeader(status int) {
	e.status = status
	e.ResponseWriter.WriteHeader(status)
}

// Write takes a part of an event of this node, which goes out as a whole.
func (e *events) Write(data []byte) (int, error) {
	if e.status != 0 && e.status != http.StatusOK {
		return e.ResponseWriter.Write(data)
	}
	return e.pending.Write(data)
}

// SetWriteDeadline is for those who look for it.
func (e *events) SetWriteDeadline(at time.Time) error { return e.control.SetWriteDeadline(at) }

// Flush implements http.Flusher.
func (e *events) Flush() {
	_ = e.send(e.pending.Bytes(), e.node)
	e.pending.Reset()
	if !e.begun {
		e.begun = true
		e.begin()
	}
}

// send writes an event of a node.
func (e *events) send(event []byte, node string) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, err := e.ResponseWriter.Write(ofNode(event, node)); err != nil {
		return err
	}
	return e.control.Flush()
}

// ofNode is an event with the name of the node in what it tells, if that is an object.
func ofNode(event []byte, node string) []byte {
	const data = "data: {"
	at := bytes.Index(event, []byte(data))
	if at < 0 || bytes.Contains(event, []byte("event: beat\n")) || bytes.HasPrefix(event[at+len(data):], []byte("}")) {
		return event
	}
	return append(bytes.Clone(event[:at+len(data)-1]), named(event[at+len(data)-1:], node)...)
}

// followEverywhere sends what is recorded at any node.
func (s *server) followEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler) {
	ctx, cancel := context.WithCancel(r.Context())
	var others sync.WaitGroup
	relayed := false
	defer func() {
		cancel()
		others.Wait()
		if relayed {
			<-s.relays
		}
	}()
	r = r.WithContext(ctx)
	e := &events{ResponseWriter: w, control: http.NewResponseController(w), node: s.Cluster.Name()}
	e.begin = func() { // this node lets its operator in
		select {
		case s.relays <- struct{}{}:
		default: // this node's alone
			return
		}
		for _, n := range s.Cluster.Others() {
			others.Go(func() {
				defer s.Gate.Panics.Catch(func() string { return "following another node" }, nil)
				s.followAt(ctx, r, n, e)
			})
		}
		relayed = true
	}
	next.ServeHTTP(e, r)
	if !e.begun && e.pending.Len() > 0 {
		w.Write(e.pending.Bytes())
	}
}

// followAt hands on what another node records, for as long as somebody looks: a stream that ended is begun anew behind
// its last event.
func (s *server) followAt(ctx context.Context, r *http.Request, n cluster.Peer, to *events) {
	again, begun := time.NewTimer(0), time.Now()
	defer again.Stop()
	r = r.Clone(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case <-again.C:
		}
		if answer, err := s.askNode(ctx, n, r, strings.TrimPrefix((&url.URL{Path: r.URL.Path,
			RawQuery: r.URL.RawQuery}).String(), "/api/v1"), nil); err == nil {
			if answer.StatusCode == http.StatusOK {
				s.handEvents(answer, n, r, to)
			}
			answer.Body.Close()
		}
		if r.Header.Get("Last-Event-ID") == "" { // nothing of it came yet; its clock may be another one
			r.Header.Set("Last-Event-ID", strconv.FormatInt(int64(ident.At(begun.Add(-clocksApart))), 10))
		}
		again.Reset(followAgain)
	}
}

func (s *server) handEvents(answer *http.Response, n cluster.Peer, r *http.Request, to *events) {
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, maxEvent)
	var event bytes.Buffer
	for lines.Scan() {
		line := lines.Text()
		if id, ok := strings.CutPrefix(line, "id: "); ok {
			r.Header.Set("Last-Event-ID", id)
		}
		if event.WriteString(line + "\n"); line != "" {
			if event.Len() > maxEvent {
				return
			}
			continue
		}
		if !bytes.Contains(event.Bytes(), []byte("event: beat\n")) && to.send(event.Bytes(), n.Name) != nil {
			return
		}
		event.Reset()
	}
}
