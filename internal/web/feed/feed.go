// Package feed serves presence to subscribers, and takes what sources report over HTTP: apart from the calls of
// operators, each with a token of its own. docs/PRESENCE-FEED.md describes it.
package feed

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/presence"
)

const (
	// beatEvery is how often a quiet stream says that it is alive. Who hears nothing for three times as long may take
	// what it knows for stale.
	beatEvery = 5 * time.Second
	// longestWait is how long a question for changes may wait.
	longestWait = 60 * time.Second
	// batch is how many changes are sent at once.
	batch = 500
	// streamsAtOnce bounds the streams of one subscriber.
	streamsAtOnce = 4
)

// Event is somebody at an address, or no more.
type Event struct {
	// Type is begin, here, gone, end or alive.
	Type     string   `json:"type"`
	Position string   `json:"position,omitempty"`
	At       string   `json:"at,omitempty"`
	Address  string   `json:"address,omitempty"`
	Ports    string   `json:"ports,omitempty"`
	Who      string   `json:"who,omitempty"`
	Display  string   `json:"display,omitempty"`
	Groups   []string `json:"groups,omitempty"`
	Role     string   `json:"role,omitempty"`
	MAC      string   `json:"mac,omitempty"`
	Host     string   `json:"host,omitempty"`
	Source   string   `json:"source,omitempty"`
	Since    string   `json:"since,omitempty"`
	Entries  *int     `json:"entries,omitempty"`
}

func moment(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

func eventOf(e *core.Entry, gone bool) Event {
	out := Event{Type: "gone", Address: e.Address.String(), Ports: e.Ports.String(), Who: e.Who}
	if gone {
		return out
	}
	out.Type, out.Display, out.Groups, out.Role, out.MAC = "here", e.Display, e.Groups, e.Role, e.MAC.String()
	out.Host, out.Source, out.Since = e.Host, e.Source, moment(e.Since)
	return out
}

// Handler serves the calls below /presence/v1; done is closed when the service ends.
func Handler(k *presence.Keeper, done <-chan struct{}) http.Handler {
	s := &server{k, done}
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Control", "no-store")
			next.ServeHTTP(w, r)
		})
	})
	r.Get("/snapshot", s.subscribed(s.snapshot))
	r.Get("/stream", s.subscribed(s.stream))
	r.Get("/socket", s.subscribed(s.socket))
	r.Get("/changes", s.subscribed(s.changes))
	r.Get("/lists/{group}", s.subscribed(s.list))
	r.Get("/who", s.subscribed(s.who))
	r.Post("/sightings", s.reported(config.SourceReports, s.sightings))
	r.Post("/host", s.reported(config.SourceHosts, s.host))
	r.Post("/logons", s.reported(config.SourceLogons, s.logons))
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
		refuse(w, http.StatusNotFound, "there is no such call; see PRESENCE-FEED.md")
	})
	return r
}

type server struct {
	*presence.Keeper
	done <-chan struct{}
}

func refuse(w http.ResponseWriter, status int, why string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": why})
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

func from(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	a, _ := netip.ParseAddr(host)
	return a.Unmap().WithZone("")
}

// token is the one that a caller shows: as bearer, or as the password of basic authentication for those that can only
// fetch lists.
func token(r *http.Request) string {
	if t, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return t
	}
	_, password, _ := r.BasicAuth()
	return password
}

// subscribed lets subscribers in.
func (s *server) subscribed(next func(http.ResponseWriter, *http.Request, *config.Subscriber)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who, err := s.Subscriber(token(r), from(r))
		if err != nil {
			w.Header().Set("WWW-Authenticate", `Basic realm="presence"`)
			refuse(w, http.StatusUnauthorized, err.Error())
			return
		}
		if !s.Complete() {
			w.Header().Set("Retry-After", "1")
			refuse(
				w,
				http.StatusServiceUnavailable,
				"this node has just started, and does not know yet who is where",
			)
			return
		}
		next(w, r, who)
	}
}

// snapshot sends everybody who is somewhere, one to a line.
func (s *server) snapshot(w http.ResponseWriter, _ *http.Request, who *config.Subscriber) {
	w.Header().Set("Content-Type", "application/jsonl")
	out := json.NewEncoder(w)
	s.whole(who, func(e Event) error { return out.Encode(e) })
}

// whole sends a snapshot as events, and returns the position after it.
func (s *server) whole(who *config.Subscriber, send func(Event) error) (string, error) {
	n := 0
	if err := send(Event{Type: "begin", At: moment(time.Now())}); err != nil {
		return "", err
	}
	position, err := s.Snapshot(presence.FilterOf(who), func(list []core.Entry) error {
		for i := range list {
			n++
			if err := send(eventOf(&list[i], false)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	s.Reached(who, position, n)
	s.Note(who, func(f *presence.Follower, now time.Time) { f.Snapshot = now })
	return position, send(Event{Type: "end", Position: position, At: moment(time.Now()), Entries: &n})
}

// still tells that a subscriber is what it was when it was let in: its token and its filter may have changed since.
func (s *server) still(r *http.Request, who *config.Subscriber) bool {
	now, err := s.Subscriber(token(r), from(r))
	return err == nil && now == who
}

// stream sends a snapshot and then changes as they happen (HTML, section 9.2); after a Last-Event-ID that is known,
// changes alone.
func (s *server) stream(w http.ResponseWriter, r *http.Request, who *config.Subscriber) {
	leave, ok := s.Connect(who, from(r).String(), streamsAtOnce)
	if !ok {
		refuse(w, http.StatusTooManyRequests, "this subscriber has several streams open already")
		return
	}
	defer leave()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	flush := http.NewResponseController(w)
	send := func(e Event) error {
		text, err := json.Marshal(e)
		if err != nil {
			return err
		}
		id := ""
		if e.Position != "" {
			id = "id: " + e.Position + "\n"
		}
		_, err = w.Write([]byte(id + "event: " + e.Type + "\ndata: " + string(text) + "\n\n"))
		return err
	}
	s.follow(r.Context(), r, who, send, flush.Flush)
}

// follow sends a snapshot and then changes as they happen, or changes alone after a position that is known, until the
// context ends, the subscriber is no longer what it was, or something cannot be sent.
func (s *server) follow(ctx context.Context, r *http.Request, who *config.Subscriber, send func(Event) error,
	flush func() error) {
	position := r.Header.Get("Last-Event-ID")
	if position == "" {
		position = r.URL.Query().Get("after")
	}
	filter := presence.FilterOf(who)
	for s.still(r, who) {
		beat, cancel := context.WithTimeout(ctx, beatEvery)
		list, next, err := s.until(beat, position, filter)
		cancel()
		switch {
		case ctx.Err() != nil, s.ending():
			return
		case errors.Is(err, presence.ErrGap):
			if next, err = s.whole(who, send); err != nil {
				return
			}
		case err != nil:
			return
		}
		for i := range list {
			e := eventOf(&list[i].Entry, list[i].Gone)
			e.Position, e.At = list[i].Position, moment(list[i].At)
			if send(e) != nil {
				return
			}
		}
		if len(list) == 0 && next == position {
			if send(Event{Type: "alive", Position: position, At: moment(time.Now())}) != nil {
				return
			}
		}
		if flush() != nil {
			return
		}
		position = next
		s.Reached(who, position, len(list))
	}
}

// until waits for changes until the context or the service ends.
func (s *server) until(ctx context.Context, position string, f presence.Filter) ([]presence.Told, string, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-s.done:
			cancel()
		case <-ctx.Done():
		}
	}()
	return s.Changes(ctx, position, f, batch)
}

func (s *server) ending() bool {
	select {
	case <-s.done:
		return true
	default:
		return false
	}
}

// changes answers with what changed after a position, and waits for it if nothing did.
func (s *server) changes(w http.ResponseWriter, r *http.Request, who *config.Subscriber) {
	wait := time.Duration(0)
	if text := r.URL.Query().Get("wait"); text != "" {
		seconds, err := strconv.Atoi(text)
		if err != nil || seconds < 0 {
			refuse(w, http.StatusBadRequest, "wait is a number of seconds, not "+strconv.Quote(text))
			return
		}
		wait = min(time.Duration(seconds)*time.Second, longestWait)
	}
	ctx, cancel := context.WithTimeout(r.Context(), max(wait, time.Millisecond))
	defer cancel()
	list, next, err := s.until(ctx, r.URL.Query().Get("after"), presence.FilterOf(who))
	if err != nil {
		refuse(w, http.StatusGone, err.Error())
		return
	}
	s.Reached(who, next, len(list))
	out := struct {
		Position string  `json:"position"`
		Changes  []Event `json:"changes"`
	}{next, []Event{}}
	for i := range list {
		e := eventOf(&list[i].Entry, list[i].Gone)
		e.Position, e.At = list[i].Position, moment(list[i].At)
		out.Changes = append(out.Changes, e)
	}
	answer(w, out)
}
