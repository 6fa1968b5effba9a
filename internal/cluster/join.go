package cluster

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver of the file that is fetched

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// discardLog takes what the HTTP server says of those that are no nodes.
var discardLog = log.New(io.Discard, "", 0)

// joinRequest is what a joiner shows.
type joinRequest struct {
	Name    string `json:"name"`
	Secret  []byte `json:"secret"`
	CSR     []byte `json:"csr"`
	Address string `json:"address"`
	Engine  string `json:"engine"`
	Witness bool   `json:"witness"`
	Version string `json:"version"`
	// Log is the epoch of the log that it has found in the etcd cluster it is to use, "" where each node has an engine
	// of its own.
	Log string `json:"log,omitempty"`
}

// joinAnswer is what it is given. A witness is given no key.
type joinAnswer struct {
	Number      int    `json:"number"`
	Certificate []byte `json:"certificate"`
	CA          []byte `json:"ca"`
	Key         []byte `json:"key,omitempty"`
	Members     string `json:"members"`
	Token       string `json:"token"`
}

const maxJoin = 64 << 10

// serveJoin lets a node in that shows an invitation.
func (p *peers) serveJoin(w http.ResponseWriter, r *http.Request) {
	var q joinRequest
	if err := json.NewDecoder(io.LimitReader(r.Body, maxJoin)).Decode(&q); err != nil {
		http.Error(w, "the request cannot be read", http.StatusBadRequest)
		return
	}
	select { // strangers get here: few at once
	case p.joining <- struct{}{}:
		defer func() { <-p.joining }()
	case <-r.Context().Done():
		return
	}
	hash := sha256.Sum256(q.Secret)
	invited, err := p.c.o.Store.Invited(r.Context(), hash[:], time.Now().UnixMilli())
	if err == nil && !invited {
		err = store.ErrNotFound
	}
	var out *joinAnswer
	if err == nil {
		out, err = p.c.letIn(r.Context(), &q)
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		http.Error(w, "the invitation was used already, its hour is over, or it is for a witness: make another one "+
			"with tollgate node invite", http.StatusForbidden)
	case err != nil:
		p.c.o.Log.Warn("a node could not join", "name", q.Name, "from", r.RemoteAddr, "error", err)
		http.Error(w, err.Error(), http.StatusConflict)
	default:
		p.c.o.Log.Info("a node joined", "name", q.Name, "number", out.Number, "witness", q.Witness)
		writeJSON(w, out)
	}
}

// letIn takes the invitation, gives a certificate, and adds the engine of the new node.
func (c *Cluster) letIn(ctx context.Context, q *joinRequest) (*joinAnswer, error) {
	c.changing.Lock()
	defer c.changing.Unlock()
	r := c.running()
	if r == nil {
		return nil, ErrAlone
	}
	if err := checkName(q.Name); err != nil {
		return nil, err
	}
	host, _, err := net.SplitHostPort(q.Address)
	if err != nil {
		return nil, fmt.Errorf("its address %q is none: %w", q.Address, err)
	}
	if err := r.sameEngine(q); err != nil {
		return nil, err
	}
	if of, err := url.Parse(q.Engine); r.outside != nil {
		q.Engine = ""
	} else if err != nil || of.Scheme != "https" || of.Hostname() != host || of.Port() == "" {
		return nil, fmt.Errorf("its engine is at %q, which is no https address of %s", q.Engine, host)
	}
	ca, sealed, err := c.o.Store.NodeAuthority(ctx)
	if err != nil {
		return nil, err
	}
	key, err := c.o.Box.Open(place, config.Secret(sealed))
	if err != nil {
		return nil, err
	}
	certificate, err := issue([]byte(ca), []byte(key), q.CSR, q.Name, host)
	if err != nil {
		return nil, err
	}
	own, err := parseCertificate(certificate)
	if err != nil {
		return nil, err
	}
	hash, now := sha256.Sum256(q.Secret), time.Now().UnixMilli()
	n, err := c.o.Store.AddNode(ctx, hash[:], now, store.Node{Name: q.Name, Witness: q.Witness, Address: q.Address,
		Engine: q.Engine, Fingerprint: fingerprint(own), Version: q.Version, JoinedAt: now})
	if err != nil {
		return nil, err
	}
	r.peers.reload(ctx)
	list := ""
	if r.outside == nil {
		n.Member = memberName(n.Number)
		if list, err = r.addMember(ctx, n.Member, q.Engine); err == nil {
			err = c.o.Store.SaveNode(ctx, n)
		}
		if err != nil {
			return nil, errors.Join(err, c.o.Store.RemoveNode(context.WithoutCancel(ctx), n.Number, now))
		}
	}
	out := &joinAnswer{Number: n.Number, Certificate: certificate, CA: []byte(ca), Members: list, Token: r.epoch}
	if !q.Witness {
		out.Key = c.o.Box.Key()
	}
	return out, nil
}

// sameEngine tells whether a joiner is to share state by the same engine: it finds out before its invitation is used.
func (r *running) sameEngine(q *joinRequest) error {
	switch {
	case r.outside == nil && q.Log != "":
		return fmt.Errorf("%w: these have engines of their own; leave -engine away", ErrEngine)
	case r.outside != nil && q.Log == "":
		return fmt.Errorf("%w: start it with -engine, as the others: %s, under -engine-prefix %s", ErrEngine,
			strings.Join(r.outside.URLs, ","), r.outside.Prefix)
	case r.outside != nil && q.Log != r.epoch:
		return fmt.Errorf("%w: what -engine and -engine-prefix lead to holds the log of others; these use %s under %s",
			ErrEngine, r.outside.Where(), r.outside.Prefix)
	}
	return nil
}

// JoinOptions are what a machine needs to join others.
type JoinOptions struct {
	Dir, Token, Address, Version string
	// Witness joins as one that keeps a majority and nothing else.
	Witness bool
	// Outside is the etcd cluster that the nodes use, nil where each has an engine of its own.
	Outside *Outside
}

// ErrNotEmpty is returned where a directory that is to join others holds something.
var ErrNotEmpty = errors.New("the data directory is in use: a node that joins begins with an empty one")

// Join makes an empty data directory that of a node beside others. One that was interrupted leaves a directory that has
// to be emptied, and an invitation that was used.
func Join(ctx context.Context, o JoinOptions) error {
	invitation, err := ParseToken(o.Token)
	if err != nil {
		return err
	}
	for _, name := range []string{"tollgate.db", "node-cert.pem", "key"} {
		if _, err := os.Stat(filepath.Join(o.Dir, name)); !errors.Is(err, fs.ErrNotExist) {
			if done(o.Dir) {
				return nil // it joined before; the flag stands in a unit file
			}
			return fmt.Errorf("%s: %w (there is %s)", o.Dir, ErrNotEmpty, name)
		}
	}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return err
	}
	if time.Now().Unix() > invitation.Until {
		return fmt.Errorf(
			"the invitation ended %s by the clock of this machine: make another one with tollgate node "+
				"invite, or set the clock",
			time.Unix(invitation.Until, 0).Local().Format("2006-01-02 15:04:05"),
		)
	}
	_, address, err := reachable(o.Address)
	if err != nil {
		return err
	}
	engine, log := "", ""
	if o.Outside != nil {
		log, err = o.Outside.epoch(ctx)
	} else {
		engine, err = engineURL(address)
	}
	if err != nil {
		return err
	}
	csr, key, err := request(invitation.Name)
	if err != nil {
		return err
	}
	answer, err := ask(ctx, invitation, &joinRequest{Name: invitation.Name, Secret: invitation.Secret, CSR: csr,
		Address: address, Engine: engine, Witness: o.Witness, Version: o.Version, Log: log})
	if err != nil {
		return fmt.Errorf("joining at %s: %w", invitation.Address, err)
	}
	id := &identity{answer.CA, answer.Certificate, key}
	if err := (&members{Name: memberName(answer.Number), URL: engine, Members: answer.Members, Token: answer.Token,
		Join: true, Outside: o.Outside}).save(o.Dir); err != nil {
		return err
	}
	if !o.Witness {
		if err := seal.WriteKey(filepath.Join(o.Dir, "key"), answer.Key); err != nil {
			return fmt.Errorf("keeping the sealing key: %w", err)
		}
		if err := fetch(ctx, o.Dir, invitation, id, answer.Number); err != nil {
			return fmt.Errorf("taking the state of %s over: %w", invitation.Node, err)
		}
	} else if err := saveWitness(o.Dir, address); err != nil {
		return err
	}
	return id.save(o.Dir) // the last: what is there is whole
}

// done tells whether a directory is that of a node.
func done(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, "node-cert.pem"))
	return err == nil
}

// joinTime is how long the node that invited may take to answer.
const joinTime = 30 * time.Second

func ask(ctx context.Context, i *Invitation, q *joinRequest) (*joinAnswer, error) {
	ctx, cancel := context.WithTimeout(ctx, joinTime)
	defer cancel()
	body, err := json.Marshal(q)
	if err != nil {
		return nil, err
	}
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: pinned(i.Authority, i.Node),
		DisableKeepAlives: true}}
	post, err := http.NewRequestWithContext(
		ctx,
		http.MethodPost,
		"https://"+i.Address+"/join",
		bytes.NewReader(body),
	)
	if err != nil {
		return nil, err
	}
	r, err := client.Do(post)
	if err != nil {
		return nil, err
	}
	out := &joinAnswer{}
	return out, readAnswer(r, out)
}

// fetch brings the state of the node that invited into the data directory.
func fetch(ctx context.Context, dir string, i *Invitation, id *identity, number int) error {
	config, err := id.tls(func(string) bool { return true })
	if err != nil {
		return err
	}
	config.ServerName = nameOf(i.Node)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: config, DisableKeepAlives: true}}
	get, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+i.Address+"/snapshot", nil)
	if err != nil {
		return err
	}
	r, err := client.Do(get)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "tollgate.db.part")
	defer os.Remove(path)
	if err := saveSnapshot(r, path); err != nil {
		return err
	}
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=synchronous(FULL)")
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "UPDATE shared_state SET node = ?", number)
	if err = errors.Join(err, db.Close()); err != nil {
		return err
	}
	return os.Rename(path, filepath.Join(dir, "tollgate.db"))
}
