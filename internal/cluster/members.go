package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/store"
)

// members is how the engine of this node was told of the others when it was made; what it has on the disk wins.
type members struct {
	Name    string `json:"name"`
	URL     string `json:"url"`
	Members string `json:"members"`
	Token   string `json:"token"`
	Join    bool   `json:"join"`
	// Outside is the etcd cluster that is used instead, nil for an engine of this node.
	Outside *Outside `json:"outside,omitempty"`
	// Earlier are the epochs of logs that this node went on from alone.
	Earlier []string `json:"earlier,omitempty"`
}

func membersFile(dir string) string { return filepath.Join(dir, "engine.json") }

func (m *members) save(dir string) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return seal.WriteFile(membersFile(dir), text)
}

func loadMembers(dir string) (*members, error) {
	text, err := os.ReadFile(membersFile(dir))
	m := &members{}
	if err == nil {
		err = json.Unmarshal(text, m)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the settings of the engine: %w", err)
	}
	return m, nil
}

var goodName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)

// ErrName is returned for a name that no node can have.
var ErrName = errors.New("the name of a node has 1 to 63 letters, digits and hyphens, as the name of a host")

func checkName(name string) error {
	if !goodName.MatchString(name) {
		return fmt.Errorf("%q: %w", name, ErrName)
	}
	return nil
}

// hostName is the name of this machine as that of a node.
func hostName() string {
	name, _ := os.Hostname()
	name, _, _ = strings.Cut(name, ".")
	if checkName(name) != nil {
		return "first"
	}
	return strings.ToLower(name)
}

// engineURL is where the engine of a node is reached by others: at the port behind its own, or at any that is free.
func engineURL(address string) (string, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", err
	}
	n, err := strconv.Atoi(port)
	if err != nil || n < 1 || n > 65534 {
		return "", fmt.Errorf("the address for other nodes has the port %q", port)
	}
	for n++; n < 65535; n++ {
		l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(n)))
		if err == nil {
			l.Close()
			u := url.URL{Scheme: "https", Host: net.JoinHostPort(host, strconv.Itoa(n))}
			return u.String(), nil
		}
	}
	return "", errors.New("no port is free for the engine")
}

// addMember adds the engine of a node as a learner, which counts for no majority until it has caught up, and returns
// the list that it has to begin with. One can join at a time, so it waits for one before; and the engine may drop such
// a question in silence, so it is asked again.
func (r *running) addMember(ctx context.Context, name, engine string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, memberTime)
	defer cancel()
	for {
		list, err := r.tryMember(ctx, name, engine)
		if err == nil {
			return list, nil
		}
		select {
		case <-ctx.Done():
			return "", err
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// memberTime is how long it is tried to add or remove an engine.
const memberTime = 20 * time.Second

func (r *running) tryMember(ctx context.Context, name, engine string) (string, error) {
	asked, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	before, err := r.client.MemberList(asked)
	if err != nil {
		return "", fmt.Errorf("%w: asking for the members of the engine: %w", store.ErrCutOff, err)
	}
	var out []string
	there := false
	for _, m := range before.Members {
		url := strings.Join(m.PeerURLs, ",")
		switch {
		case url == engine: // added by a question whose answer was lost
			there = true
			continue
		case m.Name == "":
			return "", fmt.Errorf(
				"another node is about to join, and its engine at %s has not started: try again when "+
					"it has, or remove it",
				url,
			)
		}
		out = append(out, m.Name+"="+url)
	}
	if !there {
		if _, err := r.client.MemberAddAsLearner(asked, []string{engine}); err != nil {
			if strings.Contains(err.Error(), "too many learner") {
				return "", errors.New("another node is joining: try again when it has caught up")
			}
			return "", fmt.Errorf("%w: adding the engine of %s: %w", store.ErrCutOff, name, err)
		}
	}
	return strings.Join(append(out, name+"="+engine), ","), nil
}

// removeMember removes the engine at a URL, if there is one. The engine refuses that while its members have not been
// connected for some seconds, as after one joined or was started again, so it is asked until the context ends.
func (r *running) removeMember(ctx context.Context, engine string) error {
	for {
		err := r.tryRemove(ctx, engine)
		if err == nil || !strings.Contains(err.Error(), "unhealthy cluster") {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (r *running) tryRemove(ctx context.Context, engine string) error {
	list, err := r.client.MemberList(ctx)
	if err != nil {
		return fmt.Errorf("%w: asking for the members of the engine: %w", store.ErrCutOff, err)
	}
	for _, m := range list.Members {
		if len(m.PeerURLs) > 0 && m.PeerURLs[0] == engine {
			if _, err := r.client.MemberRemove(ctx, m.ID); err != nil {
				return fmt.Errorf("%w: removing the engine at %s: %w", store.ErrCutOff, engine, err)
			}
		}
	}
	return nil
}

// careEvery is how often the members of the engine are looked after.
const careEvery = time.Second

// care makes learners that caught up full members, and notes the version of this node.
func (c *Cluster) care(ctx context.Context, r *running) {
	tick := time.NewTicker(careEvery)
	defer tick.Stop()
	for {
		if r.outside == nil {
			r.promote(ctx)
		}
		c.majority(ctx, r)
		r.look(ctx)
		if self, ok := r.peers.node(r.self.Number); ok && self.Version != c.o.Version {
			self.Version = c.o.Version
			if err := c.o.Store.SaveNode(ctx, self); err == nil {
				r.peers.reload(ctx)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// promote makes learners that caught up full members.
func (r *running) promote(ctx context.Context) {
	asked, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	list, err := r.client.MemberList(asked, clientv3.WithSerializable())
	if err != nil {
		return
	}
	for _, m := range list.Members {
		if m.IsLearner && m.Name != "" {
			r.client.MemberPromote(asked, m.ID) // refused until it has caught up
		}
	}
}

// Remove removes a node: it is let in no more, and its engine counts no more.
func (c *Cluster) Remove(ctx context.Context, name string) error {
	c.changing.Lock()
	defer c.changing.Unlock()
	r := c.running()
	if r == nil {
		return ErrAlone
	}
	n, ok := r.peers.named(name)
	switch {
	case !ok:
		return store.ErrNotFound
	case n.Number == r.self.Number:
		return ErrSelf
	}
	if r.outside == nil {
		asked, cancel := context.WithTimeout(ctx, memberTime)
		defer cancel()
		if err := r.removeMember(asked, n.Engine); err != nil {
			return err
		}
	}
	if err := c.o.Store.RemoveNode(ctx, n.Number, time.Now().UnixMilli()); err != nil {
		return err
	}
	r.peers.reload(ctx)
	return nil
}

// ErrSelf is returned where a node is to remove itself.
var ErrSelf = errors.New("a node cannot remove itself: ask another one to")
