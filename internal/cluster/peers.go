package cluster

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	"golang.org/x/net/netutil"

	"tollgate.example/key/internal/store"
)

const (
	// pingEvery is how often nodes ask each other how they do, pingTime how long an answer may take.
	pingEvery = 2 * time.Second
	pingTime  = 1500 * time.Millisecond
	// clientsEvery is how often they ask for the clients that asked, which may be many thousands.
	clientsEvery = 10 * time.Second
	// maxAnswer bounds what another node answers, in octets; maxSnapshot its state.
	maxAnswer   = 64 << 20
	maxSnapshot = 8 << 30
)

// Own is what a node tells others of itself.
type Own struct {
	Version  string    `json:"version"`
	Revision int       `json:"revision"`
	Applied  int64     `json:"applied"`
	Now      time.Time `json:"now"`
	// URL is where its console is.
	URL string `json:"url"`
	// Attempts are those of the last hour.
	Attempts int `json:"attempts"`
	// Clients are those that asked it, with the last time of each.
	Clients map[string]time.Time `json:"clients,omitempty"`
	Engine  EngineState          `json:"engine"`
	// Holds are the nodes of whose records it has copies, by their numbers; Copied is how the copies of its own do.
	Holds  map[int]string `json:"holds,omitempty"`
	Copied []CopyState    `json:"copied,omitempty"`
}

// CopyState is how the copy of a kind of record does at another node.
type CopyState struct {
	Kind string `json:"kind"`
	// Node is the number of the other node, -1 for none. Live tells that it has everything, Since since when that or
	// its contrary is so, Wrong why it takes nothing.
	Node  int       `json:"node"`
	Live  bool      `json:"live,omitempty"`
	Since time.Time `json:"since"`
	Wrong string    `json:"wrong,omitempty"`
}

// EngineState is how the engine of a node does.
type EngineState struct {
	Running bool      `json:"running"`
	Leader  bool      `json:"leader,omitempty"`
	Learner bool      `json:"learner,omitempty"`
	Size    int64     `json:"size,omitempty"` // octets of its file
	Why     string    `json:"why,omitempty"`  // it died last
	Died    time.Time `json:"died,omitzero"`
	PID     int       `json:"pid,omitempty"`
}

// peers are the other nodes as this one meets them.
type peers struct {
	c      *Cluster
	r      *running
	server *http.Server
	client *http.Client

	// joining has a place for each joiner that is looked at.
	joining chan struct{}

	mu    sync.RWMutex
	nodes []store.Node
	seen  map[int]*Seen
}

// Seen is what was last seen of another node.
type Seen struct {
	// At is when it answered last, zero if it never did; Wrong what is wrong since, "" if it answers.
	At    time.Time
	Wrong string
	// Offset is by how much its clock is ahead of ours.
	Offset time.Duration
	Own    Own
	// clients is when it was asked for its clients.
	clients time.Time
}

// serve opens the address at which other nodes reach this one.
func (c *Cluster) serve(r *running) (*peers, error) {
	p := &peers{c: c, r: r, seen: map[int]*Seen{}, joining: make(chan struct{}, 4)}
	p.reload(context.Background())
	config, err := r.identity.tls(p.known)
	if err != nil {
		return nil, err
	}
	asking := config.Clone()
	p.client = &http.Client{Transport: &http.Transport{TLSHandshakeTimeout: pingTime, MaxIdleConnsPerHost: 8,
		IdleConnTimeout: time.Minute,
		DialTLSContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			own := asking.Clone()
			n, ok := p.at(address)
			if !ok {
				return nil, errors.New("this node was removed")
			}
			own.ServerName = nameOf(n.Name)
			return (&tls.Dialer{Config: own}).DialContext(ctx, network, address)
		}}}
	if r.self.Address == "" { // it was removed, and asks nobody
		return p, nil
	}
	l, err := listen(r.self.Address, config)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /join", p.serveJoin)
	mux.HandleFunc("GET /status", p.members(p.serveStatus))
	mux.HandleFunc("GET /snapshot", p.members(p.serveSnapshot))
	mux.HandleFunc("POST /soon", p.members(p.serveSoon))
	if c.o.Inside != nil {
		mux.HandleFunc("/inside/", p.members(http.StripPrefix("/inside", c.o.Inside).ServeHTTP))
	}
	p.server = &http.Server{
		Handler:           mux,
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       20 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          discardLog,
	}
	go p.server.Serve(l)
	return p, nil
}

// maxConnections bounds the connections of nodes, and of whoever else finds the port.
const maxConnections = 1024

// listen opens the address at which other nodes reach this one.
func listen(address string, config *tls.Config) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listening for other nodes on %s: %w", address, err)
	}
	return tls.NewListener(netutil.LimitListener(l, maxConnections), config), nil
}

func (p *peers) close() {
	if p.server != nil {
		p.server.Close()
	}
	p.client.CloseIdleConnections()
}

// members lets in nodes alone, and no witnesses: what there is to ask is not for them. It looks at each call, since a
// node may be removed while a connection of it is open.
func (p *peers) members(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if len(r.TLS.PeerCertificates) == 0 {
			http.Error(w, "only nodes may ask that", http.StatusForbidden)
			return
		}
		n, ok := p.holder(fingerprint(r.TLS.PeerCertificates[0]))
		if !ok || n.Witness {
			http.Error(w, "this node was removed, or is a witness", http.StatusForbidden)
			return
		}
		next(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, Peer{n.Number, n.Name})))
	}
}

type callerKey struct{}

// Caller is the node that makes a call, by its certificate.
func Caller(ctx context.Context) (Peer, bool) {
	p, ok := ctx.Value(callerKey{}).(Peer)
	return p, ok
}

// known tells whether a certificate is that of a node.
func (p *peers) known(fingerprint string) bool {
	_, ok := p.holder(fingerprint)
	return ok
}

// holder is the node that has a certificate.
func (p *peers) holder(fingerprint string) (store.Node, bool) {
	return p.find(func(n store.Node) bool { return n.Fingerprint == fingerprint })
}

// reload reads the list of nodes anew.
func (p *peers) reload(ctx context.Context) {
	nodes, err := p.c.o.Store.Nodes(ctx)
	if err != nil {
		p.c.o.Log.Error("reading the list of nodes", "error", err)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.nodes = nodes
}

func (p *peers) find(fits func(store.Node) bool) (store.Node, bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	if i := slices.IndexFunc(p.nodes, fits); i >= 0 {
		return p.nodes[i], true
	}
	return store.Node{}, false
}

func (p *peers) node(number int) (store.Node, bool) {
	return p.find(func(n store.Node) bool { return n.Number == number })
}

func (p *peers) named(name string) (store.Node, bool) {
	return p.find(func(n store.Node) bool { return strings.EqualFold(n.Name, name) })
}

func (p *peers) at(address string) (store.Node, bool) {
	return p.find(func(n store.Node) bool { return n.Address == address })
}

// others are the nodes beside this one.
func (p *peers) others() []store.Node {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return slices.DeleteFunc(slices.Clone(p.nodes), func(n store.Node) bool { return n.Number == p.r.self.Number })
}

// get asks another node.
func (p *peers) get(ctx context.Context, n store.Node, path string) (*http.Response, error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+n.Address+path, nil)
	if err != nil {
		return nil, err
	}
	return p.client.Do(q)
}

func readAnswer(r *http.Response, into any) error {
	defer r.Body.Close()
	data, err := io.ReadAll(io.LimitReader(r.Body, maxAnswer))
	if err != nil {
		return err
	}
	if r.StatusCode != http.StatusOK {
		return fmt.Errorf("it answers %s: %s", r.Status, bytes.TrimSpace(data[:min(len(data), 300)]))
	}
	return json.Unmarshal(data, into)
}

// watch asks the other nodes how they do.
func (p *peers) watch(ctx context.Context) {
	tick := time.NewTicker(pingEvery)
	defer tick.Stop()
	for {
		var all sync.WaitGroup
		for _, n := range p.others() {
			all.Go(func() { p.ping(ctx, n) })
		}
		all.Wait()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (p *peers) ping(ctx context.Context, n store.Node) {
	asked, cancel := context.WithTimeout(ctx, pingTime)
	defer cancel()
	begun, path := time.Now(), "/status"
	p.mu.RLock()
	before := p.seen[n.Number]
	p.mu.RUnlock()
	long := before == nil || time.Since(before.clients) > clientsEvery
	if long {
		path += "?clients=1"
	}
	r, err := p.get(asked, n, path)
	var own Own
	if err == nil {
		err = readAnswer(r, &own)
	}
	if ctx.Err() != nil {
		return
	}
	took := time.Since(begun)
	p.mu.Lock()
	defer p.mu.Unlock()
	s := p.seen[n.Number]
	if s == nil {
		s = &Seen{}
	}
	next := *s
	if err != nil {
		next.Wrong = plain(err)
	} else {
		next = Seen{At: time.Now(), Offset: own.Now.Sub(begun.Add(took / 2)), Own: own}
		if next.clients = begun; !long {
			next.clients, next.Own.Clients = s.clients, s.Own.Clients
		}
	}
	p.seen[n.Number] = &next
}

// plain is an error without the call that met it.
func plain(err error) string {
	var of *url.Error
	if errors.As(err, &of) {
		err = of.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return "nothing came back within " + pingTime.String()
	}
	return err.Error()
}

func (p *peers) serveStatus(w http.ResponseWriter, r *http.Request) {
	own := p.c.own(p.r)
	if r.URL.Query().Get("clients") == "" {
		own.Clients = nil
	}
	writeJSON(w, own)
}

// own is what this node tells of itself.
func (c *Cluster) own(r *running) Own {
	own := Own{}
	if c.o.Own != nil {
		own = c.o.Own()
	}
	own.Version, own.Now = c.o.Version, time.Now()
	if c.o.Store != nil {
		own.Applied = c.o.Store.Applied()
	}
	own.Engine = r.engineState()
	return own
}

// engineState is how the engine does; what it says itself is as old as the last look.
func (r *running) engineState() EngineState {
	out := EngineState{}
	said := r.said.Load()
	if r.outside != nil {
		if said != nil {
			out = *said
		}
		if wrong := r.wrong.Load(); wrong != nil {
			out.Why = r.where() + ": " + *wrong
		}
		out.Running = out.Why == ""
		return out
	}
	s := r.engine.State()
	if said != nil && s.Running {
		out = *said
	}
	out.Running, out.Why, out.Died, out.PID = s.Running, s.Why, s.Died, s.PID
	return out
}

// look asks the engine how it does.
func (r *running) look(ctx context.Context) {
	asked, cancel := context.WithTimeout(ctx, attempt)
	defer cancel()
	st, err := r.status(asked)
	switch {
	case err != nil:
		r.said.Store(nil)
	case r.outside != nil: // who leads there is no node
		r.said.Store(&EngineState{Size: st.DbSize})
	default:
		r.said.Store(&EngineState{Leader: st.Leader == st.Header.MemberId, Learner: st.IsLearner, Size: st.DbSize})
	}
}

// status is that of the engine; of an etcd cluster, of the first member that answers.
func (r *running) status(ctx context.Context) (out *clientv3.StatusResponse, err error) {
	all := r.client.Endpoints()
	answers := make(chan *clientv3.StatusResponse, len(all))
	faults := make(chan error, len(all))
	for _, one := range all {
		go func() {
			if st, err := r.client.Status(ctx, one); err != nil {
				faults <- err
			} else {
				answers <- st
			}
		}()
	}
	for range all {
		select {
		case out := <-answers:
			return out, nil
		case err = <-faults:
		}
	}
	return nil, err
}

func writeJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}
