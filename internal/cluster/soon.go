package cluster

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
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
	Kind string
	Data []byte
}

// appendSayings writes sayings as they are sent: of each the kind and the rest, each behind its length
// (encoding/binary).
func appendSayings(to []byte, list []Saying) []byte {
	for i := range list {
		to = binary.AppendUvarint(to, uint64(len(list[i].Kind)))
		to = append(to, list[i].Kind...)
		to = binary.AppendUvarint(to, uint64(len(list[i].Data)))
		to = append(to, list[i].Data...)
	}
	return to
}

var errSayings = errors.New("these are no sayings")

// readSayings reads what appendSayings wrote. The sayings share memory with it.
func readSayings(data []byte) (list []Saying, err error) {
	part := func() []byte {
		n, size := binary.Uvarint(data)
		if size <= 0 || n > uint64(len(data)-size) {
			err, data = errSayings, nil
			return nil
		}
		out := data[size : size+int(n)]
		data = data[size+int(n):]
		return out
	}
	for len(data) > 0 {
		if len(list) == maxSoon {
			return nil, errSayings
		}
		s := Saying{Kind: string(part()), Data: part()}
		if list = append(list, s); err != nil {
			return nil, err
		}
	}
	return list, nil
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
	var mu sync.Mutex
	deaf := map[int]time.Time{} // since when nodes did not hear what was said, zero for those that did
	rest := map[int]pause{}     // of those that could not be told what they missed
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
		if c.o.Gather != nil {
			list = append(list, c.o.Gather()...)
		}
		now := time.Now()
		var all sync.WaitGroup
		for _, n := range r.peers.others() {
			if n.Witness {
				continue
			}
			since, known := deaf[n.Number]
			if !known { // this node has just started, or that one has just joined
				since = now.Add(-shortly)
				if joined := time.UnixMilli(n.JoinedAt); now.Sub(joined) < newcomer {
					since = now.Add(-missedTime)
				}
			}
			waits := rest[n.Number]
			if len(list) == 0 && known && since.IsZero() || now.Before(waits.until) {
				continue
			}
			all.Go(func() {
				began := time.Now()
				failed, there := c.tellOne(ctx, r.peers, n, list, since)
				switch {
				case !failed:
					since, waits = time.Time{}, pause{}
				case since.IsZero():
					since = now.Add(-shortly)
				case there: // it is slow, and gathering what it missed costs much
					waits.next(began)
				}
				mu.Lock()
				deaf[n.Number], rest[n.Number] = since, waits
				mu.Unlock()
			})
		}
		all.Wait()
	}
}

const (
	// missedTime is how far back a node is told what it missed, shortly how much further than it seems, and newcomer
	// how long one that joined counts as new.
	missedTime = 24 * time.Hour
	shortly    = 5 * time.Second
	newcomer   = 10 * time.Minute
	// perTelling is how much is told at once, in octets, and a saying more.
	perTelling = 2 << 20
)

// pause is until when a node is not told what it missed.
type pause struct {
	until time.Time
	wait  time.Duration
}

// longestPause bounds it.
const longestPause = 30 * time.Second

// next makes it longer than the one before, and than what was tried in vain took.
func (p *pause) next(began time.Time) {
	p.wait = min(max(2*p.wait, 4*time.Since(began), 500*time.Millisecond), longestPause)
	p.until = time.Now().Add(p.wait)
}

// tellOne tells a node what is new, or what it missed since a moment; failed tells that it did not hear it, and there
// that it answers.
func (c *Cluster) tellOne(
	ctx context.Context,
	p *peers,
	n store.Node,
	list []Saying,
	since time.Time,
) (failed, there bool) {
	if !since.IsZero() {
		if p.told(ctx, n, nil) != nil { // it is not there yet
			return true, false
		}
		if c.o.Missed != nil {
			list = append(c.o.Missed(ctx, since), list...)
		}
	}
	for len(list) > 0 {
		size, count := 0, 0
		for count < len(list) && size < perTelling {
			size += len(list[count].Data)
			count++
		}
		if p.told(ctx, n, list[:count]) != nil {
			return true, true
		}
		list = list[count:]
	}
	return false, true
}

func (p *peers) told(ctx context.Context, n store.Node, list []Saying) error {
	ctx, cancel := context.WithTimeout(ctx, soonTime)
	defer cancel()
	answer, err := p.c.Ask(
		ctx,
		Peer{n.Number, n.Name},
		http.MethodPost,
		"/soon",
		http.Header{},
		bytes.NewReader(appendSayings(nil, list)),
	)
	if err != nil {
		return err
	}
	answer.Body.Close()
	if answer.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}

func (p *peers) serveSoon(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxTold))
	list, wrong := readSayings(data)
	if err != nil || wrong != nil {
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
