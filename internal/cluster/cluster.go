package cluster

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/cluster/engine"
	"tollgate.example/key/internal/store"
)

// Options are what a node needs to be one of several.
type Options struct {
	// Dir is the data directory.
	Dir string
	// Address is host and port at which other nodes reach this one; its engine takes the next port, or any if that is
	// 0. A host that is missing is the first address of this machine.
	Address string
	// Number is that of this node if it is the first of several.
	Number  int
	Version string
	// Command leads to etcd.Main.
	Command []string
	// Outside is an etcd cluster that serves instead of engines of the nodes' own; nil for those.
	Outside *Outside
	Store   *store.Store
	Box     *seal.Box
	// Tell tells the owner of a record that it was changed elsewhere.
	Tell func(ctx context.Context, kind, id string) error
	// Shared is called when changes go through the log of several nodes, before another one can join.
	Shared func(ctx context.Context, node int) error
	// Reunite shares what was done here while no majority was reached; it is called again and again.
	Reunite func(ctx context.Context) error
	// Hear takes what another node says.
	Hear func(Saying)
	// Gather lists what is to be said besides, each time that others are told; nil for nothing.
	Gather func() []Saying
	// Missed lists what was said here since a moment, for a node that did not hear it: of what matters so much.
	Missed func(ctx context.Context, since time.Time) []Saying
	// Own is what this node tells others of itself.
	Own func() Own
	// Catch runs something whose faults must not end the service.
	Catch func(run func())
	// Inside answers calls of other nodes to the API of this one.
	Inside http.Handler
	Log    *slog.Logger
}

// Cluster is this node among others. It is safe for concurrent use.
type Cluster struct {
	o       Options
	news    news
	sayings sayings

	// changing is held while nodes come, go or begin anew.
	changing sync.Mutex

	mu    sync.Mutex
	state *running // nil while there is but this node
	// stuck says why entries of the log cannot be brought into the database, "" if they can.
	stuck   string
	stopped bool
	// cutOff is since when no majority is reached, zero if one is.
	cutOff time.Time
	// met tells that a majority was reached since the start, head is the last entry that it told of.
	met  bool
	head int64
}

// running is a node among others.
type running struct {
	self     store.Node
	epoch    string
	identity *identity
	engine   *engine.Keeper // nil where there is one outside
	outside  *Outside       // nil where there is none
	client   *clientv3.Client
	log      *Log
	peers    *peers
	said     atomic.Pointer[EngineState]
	wrong    atomic.Pointer[string] // why the head of the log is not known, nil if it is
	stop     []func()
}

// ErrAlone is returned where several nodes are needed and there is but this one.
var ErrAlone = errors.New("there is only this node")

// Open goes on as one of several nodes if this one is; otherwise there is nothing to run.
func Open(ctx context.Context, o Options) (*Cluster, error) {
	if o.Catch == nil {
		o.Catch = func(run func()) { run() }
	}
	c := &Cluster{o: o, news: news{ready: make(chan struct{}, 1)}}
	if o.Outside != nil {
		if err := o.Outside.Check(); err != nil {
			return nil, err
		}
	}
	state, err := o.Store.SharedState(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return c, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the state of this node: %w", err)
	}
	self, err := c.self(ctx, state)
	if err != nil {
		return nil, err
	}
	if err := c.run(ctx, self, state.Epoch, false, nil); err != nil || o.Shared == nil {
		return c, err
	}
	return c, o.Shared(ctx, state.Node)
}

// self is this node as its own database knows it; its addresses are on the disk beside it too, since a removal from the
// list of nodes must not keep it from authenticating.
func (c *Cluster) self(ctx context.Context, state store.SharedState) (store.Node, error) {
	nodes, err := c.o.Store.Nodes(ctx)
	if err != nil {
		return store.Node{}, fmt.Errorf("reading the list of nodes: %w", err)
	}
	for _, n := range nodes {
		if n.Number == state.Node {
			return n, nil
		}
	}
	return store.Node{Number: state.Node, Name: "removed"}, nil
}

// Alone tells that there is but this node.
func (c *Cluster) Alone() bool { return c.running() == nil }

func (c *Cluster) running() *running {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state
}

// logPurpose is what the key of the log is derived for.
const logPurpose = "log of the nodes"

// run starts the engine, and has changes go through the log. The engine leaves all others if it is to go on alone;
// begin, if it is set, begins the log.
func (c *Cluster) run(ctx context.Context, self store.Node, epoch string, alone bool,
	begin func(*running) error) error {
	id, err := loadIdentity(c.o.Dir)
	if err != nil {
		return err
	}
	r := &running{self: self, epoch: epoch, identity: id}
	fail := func(err error) error {
		r.close()
		return err
	}
	if err := c.startEngine(r, alone); err != nil {
		return fail(err)
	}
	if r.log, err = c.logOf(r, epoch); err != nil {
		return fail(err)
	}
	if r.peers, err = c.serve(r); err != nil {
		return fail(err)
	}
	r.stop = append(r.stop, r.peers.close)
	if begin != nil {
		if err := begin(r); err != nil {
			return fail(err)
		}
	}
	c.tellAll(ctx) // what a log before this one brought
	unshare, err := c.o.Store.Share(ctx, r.log)
	if err != nil {
		return fail(err)
	}
	r.stop = append(r.stop, unshare)
	background, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	for _, run := range []func(){func() { c.follow(background, r) }, func() { c.spread(background) },
		func() { c.say(background, r) }, func() { c.care(background, r) }, func() { r.peers.watch(background) }} {
		all.Go(func() {
			for background.Err() == nil { // again after a fault of the program
				c.o.Catch(run)
				select {
				case <-background.Done():
				case <-time.After(time.Second):
				}
			}
		})
	}
	r.stop = append(r.stop, func() { cancel(); all.Wait() })
	c.mu.Lock()
	c.state, c.met, c.head = r, false, 0
	c.mu.Unlock()
	return nil
}

// logOf is the log of an epoch in the engine of this node.
func (c *Cluster) logOf(r *running, epoch string) (*Log, error) {
	prefix := DefaultPrefix
	if r.outside != nil {
		prefix = r.outside.Prefix
	}
	return NewLog(r.client, c.o.Box.Derive(logPurpose), epoch, prefix)
}

func (r *running) close() {
	for i := len(r.stop) - 1; i >= 0; i-- {
		r.stop[i]()
	}
	r.stop = nil
}

// Close ends what runs.
func (c *Cluster) Close() {
	c.changing.Lock()
	defer c.changing.Unlock()
	c.mu.Lock()
	r := c.state
	c.state, c.stopped = nil, true
	c.mu.Unlock()
	if r != nil {
		r.close()
	}
}

// startEngine starts the engine of this node, and a client of it.
func (c *Cluster) startEngine(r *running, force bool) error {
	setting, err := loadMembers(c.o.Dir)
	if err != nil {
		return err
	}
	changed, err := setting.outside(c.o.Outside)
	if err != nil {
		return err
	}
	if changed {
		if err := setting.save(c.o.Dir); err != nil {
			return fmt.Errorf("keeping the settings of the engine: %w", err)
		}
	}
	if r.outside = setting.Outside; r.outside != nil {
		r.client, err = r.outside.client()
	} else {
		var socket string
		var remove func()
		if socket, remove, err = socketIn(c.o.Dir); err != nil {
			return err
		}
		ca, cert, key := r.identity.files(c.o.Dir)
		r.engine = engine.Start(c.o.Command, engine.Config{Name: setting.Name, Dir: filepath.Join(c.o.Dir, "engine"),
			Listen: setting.URL, Advertise: setting.URL, Socket: socket, CA: ca, Cert: cert, Key: key,
			Members: setting.Members, Token: setting.Token, Join: setting.Join, Force: force})
		r.stop = append(r.stop, remove, r.engine.Close)
		r.client, err = newClient([]string{"unix://" + socket}, nil)
	}
	if err != nil {
		return err
	}
	r.stop = append(r.stop, func() { r.client.Close() })
	return nil
}

// longestSocket is how long the path of a Unix socket may be.
const longestSocket = 100

// socketIn is the socket of the engine: in the data directory, or in one of its own where that path is too long.
func socketIn(dir string) (path string, remove func(), err error) {
	if path, err = filepath.Abs(filepath.Join(dir, "engine.sock")); err == nil && len(path) < longestSocket {
		return path, func() { os.Remove(path) }, nil
	}
	if dir, err = os.MkdirTemp("", "tk-"); err != nil { // only we can read it
		return "", nil, fmt.Errorf("making a directory for the socket of the engine: %w", err)
	}
	return filepath.Join(dir, "e.sock"), func() { os.RemoveAll(dir) }, nil
}
