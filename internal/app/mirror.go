package app

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/manage/host"
	"tollgate.example/key/internal/mirror"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

const (
	copiesPath = "/copies/"
	// wholeHeader is "1" with blocks after which there are no more.
	wholeHeader = "X-Tollgate-Whole"
	// maxCopied bounds what another node sends at once, in octets.
	maxCopied = 64 << 20
	// adoptedAtOnce is how many of these are taken at once.
	adoptedAtOnce = 4
)

// copyAnswer is how a node answers that was sent records.
type copyAnswer struct {
	Last string `json:"last"`
}

// openCopies opens what other nodes recorded.
func (a *App) openCopies(ctx context.Context, o *Options, clock *host.Clock) (err error) {
	if a.ofOthers, err = store.OpenCopies(ctx, o.Data, o.retention(o.KeepAttempts, clock),
		o.retention(o.KeepJournal, clock), o.retention(o.KeepAccounting, clock), a.givenElsewhere); err != nil {
		return err
	}
	a.done = append(a.done, func() { a.ofOthers.Close() })
	return nil
}

// givenElsewhere has sessions that go on at this node joined with what another one gave them.
func (a *App) givenElsewhere(list []*store.Attempt) {
	for _, t := range list {
		if t.Class != "" && t.Verdict == string(results.Admitted) && time.Since(t.At) < recentlyGiven {
			a.Sessions.Gave(givenBy(t))
		}
	}
}

// openMirror begins to copy what is recorded here to another node.
func (a *App) openMirror(o *Options, ids *ident.Source) error {
	attempts, err := mirror.Of(store.KindAttempts, a.Attempts.Keeper, ids)
	if err != nil {
		return err
	}
	journal, err := mirror.Of(store.KindJournal, a.Journal.Keeper, ids)
	if err != nil {
		return err
	}
	accounting, err := mirror.Of(store.KindAccounting, a.Sessions.Records().Keeper, ids)
	if err != nil {
		return err
	}
	m := mirror.Open(int(o.Node), wayToOthers{a}, o.Log, func(run func()) {
		defer a.panicked.Catch(func() string { return "copying records to another node" }, nil)
		run()
	}, journal, accounting, attempts)
	a.mirror.Store(m)
	a.done = append(a.done, m.Close)
	return nil
}

// copiesOf is how copies do, as other nodes are told of it.
func copiesOf(list []mirror.State) (out []cluster.CopyState) {
	for _, s := range list {
		out = append(out, cluster.CopyState(s))
	}
	return out
}

// wayToOthers is the way of copies to other nodes.
type wayToOthers struct{ a *App }

// Others implements mirror.Way.
func (w wayToOthers) Others() (out []int) {
	for _, p := range w.a.cluster.Others() {
		out = append(out, p.Number)
	}
	return out
}

// Send implements mirror.Way.
func (w wayToOthers) Send(ctx context.Context, node int, kind string, whole bool, blocks []byte) (ident.ID, error) {
	header := http.Header{}
	if whole {
		header.Set(wholeHeader, "1")
	}
	answer, err := w.a.cluster.Ask(ctx, cluster.Peer{Number: node}, http.MethodPost, "/inside"+copiesPath+kind, header,
		bytes.NewReader(blocks))
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 4<<10))
	if err != nil {
		return 0, err
	}
	if answer.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("it answers %s: %s", answer.Status, bytes.TrimSpace(text[:min(len(text), 300)]))
	}
	var said copyAnswer
	if err := json.Unmarshal(text, &said); err != nil {
		return 0, fmt.Errorf("its answer cannot be read: %w", err)
	}
	return ident.Parse(said.Last)
}

// copiesOr takes what other nodes send to be kept here, and leaves all other calls to rest.
func (a *App) copiesOr(rest http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind, ok := strings.CutPrefix(r.URL.Path, copiesPath)
		if !ok {
			rest.ServeHTTP(w, r)
			return
		}
		from, known := cluster.Caller(r.Context())
		if !known || r.Method != http.MethodPost {
			http.Error(w, "only nodes send copies", http.StatusForbidden)
			return
		}
		last, err := a.adopt(w, r, kind, from)
		switch {
		case errors.Is(err, record.ErrCopy):
			http.Error(w, err.Error(), http.StatusConflict)
		case err != nil:
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
		default:
			w.Header().Set("Content-Type", "application/json")
			json.NewEncoder(w).Encode(copyAnswer{last.String()})
		}
	})
}

func (a *App) adopt(w http.ResponseWriter, r *http.Request, kind string, from cluster.Peer) (ident.ID, error) {
	select { // each may be large
	case a.adopting <- struct{}{}:
		defer func() { <-a.adopting }()
	case <-r.Context().Done():
		return 0, r.Context().Err()
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxCopied))
	if err != nil {
		return 0, err
	}
	var blocks []record.Block
	if len(body) > 0 {
		if disk := a.disk.Load(); disk != nil && disk.Space().Shedding {
			return 0, errors.New("its disk is nearly full")
		}
		if blocks, err = record.ReadBlocks(body); err != nil {
			return 0, err
		}
	}
	return a.ofOthers.Adopt(r.Context(), kind, from.Number, from.Name, blocks, r.Header.Get(wholeHeader) != "")
}
