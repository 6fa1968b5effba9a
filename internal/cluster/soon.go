package cluster

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"sync"
	"time"

	"tollgate.example/key/internal/store"
)

const (
	// soonEvery is how often nodes tell each other what is worth knowing soon, maxSoon how many of that wait at most:
	// who floods this node costs the others no more. What cannot be told is lost, and must not matter.
	soonEvery = 200 * time.Millisecond
	maxSoon   = 20_000
	soonTime  = time.Second
	maxTold   = 16 << 20
)

// Saying is one thing that a node tells others: its kind, and the rest for those who know that.
type Saying struct {
	Kind string          `json:"k"`
	Data json.RawMessage `json:"d"`
}

// sayings are what is to be told soon.
type sayings struct {
	mu   sync.Mutex
	list []Saying
}

// Say tells the other nodes something soon, without waiting for them.
func (c *Cluster) Say(kind string, v any) {
	if c.Alone() {
		return
	}
	data, err := json.Marshal(v)
	if err != nil {
		return
	}
	c.sayings.mu.Lock()
	defer c.sayings.mu.Unlock()
	if len(c.sayings.list) < maxSoon {
		c.sayings.list = append(c.sayings.list, Saying{kind, data})
	}
}

// say tells others what is to be told, until the context ends.
func (c *Cluster) say(ctx context.Context, r *running) {
	tick := time.NewTicker(soonEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		c.sayings.mu.Lock()
		list := c.sayings.list
		c.sayings.list = nil
		c.sayings.mu.Unlock()
		if len(list) == 0 {
			continue
		}
		text, err := json.Marshal(list)
		if err != nil {
			continue
		}
		var all sync.WaitGroup
		for _, n := range r.peers.others() {
			if !n.Witness {
				all.Go(func() { r.peers.told(ctx, n, text) })
			}
		}
		all.Wait()
	}
}

func (p *peers) told(ctx context.Context, n store.Node, text []byte) {
	ctx, cancel := context.WithTimeout(ctx, soonTime)
	defer cancel()
	answer, err := p.c.Ask(ctx, Peer{n.Number, n.Name}, http.MethodPost, "/soon", http.Header{}, bytes.NewReader(text))
	if err == nil {
		answer.Body.Close()
	}
}

func (p *peers) serveSoon(w http.ResponseWriter, r *http.Request) {
	var list []Saying
	if err := json.NewDecoder(io.LimitReader(r.Body, maxTold)).Decode(&list); err != nil || len(list) > maxSoon {
		http.Error(w, "this cannot be read", http.StatusBadRequest)
		return
	}
	if p.c.o.Hear != nil {
		for _, one := range list {
			p.c.o.Hear(one)
		}
	}
	w.WriteHeader(http.StatusNoContent)
}
