package portal

import (
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/identity/factor"
)

const (
	// clockLeeway is by how much the clock of a phone may be off; one that is told ours allows for the rest by itself.
	clockLeeway = time.Minute
	// pollFor is how long a phone waits for an ask; maxPolls bounds those that wait, pollsPerPhone those of one phone.
	pollFor       = 8 * time.Second
	maxPolls      = 4000
	pollsPerPhone = 2
	// usualPause is how long a phone rests before it asks again, longPause one that could not wait.
	usualPause = 250 * time.Millisecond
	longPause  = 3 * time.Second
	maxLabel   = 60
)

//go:embed phone.js
var phoneScript []byte

//go:embed worker.js
var workerScript []byte

//go:embed icon.svg
var icon []byte

// pairPlace is that of what a phone is paired by: whoever holds it gave the password of its person a moment ago.
var pairPlace = config.Place{Purpose: "portal", Object: "pair"}

// phoneRoutes are those of the page with which a phone approves sign-ins.
func (s *server) phoneRoutes(get, post func(pattern string, h http.HandlerFunc)) {
	get("/phone", s.phonePage)
	get("/phone.js", asset("text/javascript; charset=utf-8", phoneScript))
	get("/worker.js", asset("text/javascript; charset=utf-8", workerScript))
	get("/icon.svg", asset("image/svg+xml", icon))
	get("/phone.webmanifest", s.manifest)
	post("/phone/pair", s.pair)
	post("/phone/asks", s.asks)
	post("/phone/answer", s.answer)
	post("/phone/push", s.subscribe)
	post("/phone/key", s.lock)
}

func asset(kind string, data []byte) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		_, _ = w.Write(data) // whoever went away needs it no longer
	}
}

// phonePage is the page that a phone keeps. What it shows, its script writes.
func (s *server) phonePage(w http.ResponseWriter, r *http.Request) {
	allow(w, "script-src 'self'; connect-src 'self'; worker-src 'self'; manifest-src 'self'; img-src 'self';")
	said := map[string]string{}
	for name, text := range s.words(r) {
		if rest, ok := strings.CutPrefix(name, "phone."); ok {
			said[rest] = text
		}
	}
	said["pushKey"] = s.PushKey
	s.page(w, r, http.StatusOK, "phone", view{Said: said})
}

// manifest lets the page be put on the home screen (W3C Web Application Manifest).
func (s *server) manifest(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/manifest+json")
	send(w, http.StatusOK, map[string]any{"name": s.words(r)["phone.app"], "short_name": s.words(r)["phone.app"],
		"start_url": "/phone", "scope": "/phone", "display": "standalone", "background_color": "#f3f5f4",
		"theme_color": s.accent(), "icons": []map[string]string{{"src": "/icon.svg", "sizes": "any",
			"type": "image/svg+xml"}}})
}

// send answers the script of a phone.
func send(w http.ResponseWriter, status int, v any) {
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", "application/json")
	}
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // whoever went away needs it no longer
}

// refused is an answer to a phone: why is a text of the page.
type refused struct {
	Why string `json:"why"`
	// Now is our clock in milliseconds since 1970, for a phone whose own is off.
	Now int64 `json:"now,omitempty"`
}

// read reads what a phone sends; it answers itself what cannot be read.
func read(w http.ResponseWriter, r *http.Request, v any) bool {
	if !strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") { // no form of another page can send it
		send(w, http.StatusUnsupportedMediaType, refused{Why: "unreadable"})
		return false
	}
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	if d.Decode(v) != nil {
		send(w, http.StatusBadRequest, refused{Why: "unreadable"})
		return false
	}
	return true
}

// pairing is a phone that wants to approve sign-ins from now on.
type pairing struct {
	Pass string `json:"pass"`
	// Key is the public key of the phone, Signature shows that it has the private one.
	Key       []byte `json:"key"`
	Signature []byte `json:"signature"`
	Label     string `json:"label"`
}

func (s *server) pair(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	var in pairing
	if !read(w, r, &in) {
		return
	}
	var i Invitation
	switch err := decode(s.Box, pairPlace, in.Pass, &i); {
	case err != nil:
		send(w, http.StatusGone, refused{Why: "unreadable"})
		return
	case s.Now().After(i.Until):
		send(w, http.StatusGone, refused{Why: "over"})
		return
	}
	label := strings.TrimSpace(in.Label)
	if label == "" || len(label) > maxLabel {
		label = s.words(r)["phone"]
	}
	t, recovery, err := s.Factors.PairPhone(ctx, factor.Request{Store: i.Store, Name: i.Name, Display: i.Display,
		Label: label, Replaces: i.Replace, Still: &i.Has, By: i.Name}, in.Key,
		fmt.Appendf(nil, "tollgate pair\n%s", in.Pass), in.Signature, s.Now())
	var field *factor.FieldError
	switch {
	case errors.As(err, &field):
		send(w, http.StatusBadRequest, refused{Why: "unreadable"})
		return
	case errors.Is(err, factor.ErrUsed):
		send(w, http.StatusGone, refused{Why: "used"})
		return
	case err != nil:
		s.Log.Error("the portal", "while", "pairing a phone", "error", err)
		send(w, http.StatusInternalServerError, refused{Why: "later"})
		return
	}
	if err := s.Note(ctx, &i, from(r), "set up a phone that approves sign-ins"); err != nil {
		s.Log.Error("a phone that was paired waits for the audit", "who", i.Name, "error", err)
	}
	s.Tell(&i, Added)
	send(
		w,
		http.StatusOK,
		map[string]any{"device": t.ID, "person": t.Name, "display": cmp.Or(t.Display, t.Name), "label": t.Label,
			"codes": append([]string{}, recovery...)},
	)
}

// shown is what a phone shows of itself: at is its time as it knows ours, in milliseconds since 1970.
type shown struct {
	Device    string `json:"device"`
	At        int64  `json:"at"`
	Signature []byte `json:"signature"`
}

// phone is the phone that sent a message; nil after an answer that says why not.
func (s *server) phone(w http.ResponseWriter, in *shown, message string) *factor.Token {
	now := s.Now()
	if off := now.Sub(time.UnixMilli(in.At)); off.Abs() > clockLeeway {
		send(w, http.StatusConflict, refused{Why: "clock", Now: now.UnixMilli()})
		return nil
	}
	t := s.Factors.Signed(in.Device, []byte(message), in.Signature)
	if t == nil {
		send(w, http.StatusForbidden, refused{Why: "unpaired"})
	}
	return t
}

// polls are the phones that wait for an ask, by their identifiers. One that asks too often does not wait, and neither
// keeps others from it.
type polls struct {
	mu  sync.Mutex
	all int
	of  map[string]int
}

// begin reports whether one more may wait; end is to be called after it then.
func (p *polls) begin(phone string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.all >= maxPolls || p.of[phone] >= pollsPerPhone {
		return false
	}
	p.all++
	p.of[phone]++
	return true
}

func (p *polls) end(phone string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.all--
	if p.of[phone]--; p.of[phone] == 0 {
		delete(p.of, phone)
	}
}

// polling asks for the sign-ins that wait.
type polling struct {
	shown
	// Known are those that the phone shows already: the answer comes when there are others.
	Known []string `json:"known"`
}

func (s *server) asks(w http.ResponseWriter, r *http.Request) {
	var in polling
	if !read(w, r, &in) {
		return
	}
	t := s.phone(w, &in.shown, fmt.Sprintf("tollgate asks\n%s\n%d", in.Device, in.At))
	if t == nil {
		return
	}
	patience, pause := pollFor, usualPause
	if s.polls.begin(t.ID) {
		defer s.polls.end(t.ID)
	} else {
		patience, pause = 0, longPause
	}
	ctx, cancel := context.WithTimeout(r.Context(), patience)
	defer cancel()
	list := s.Asks(ctx, t.Store, t.Name, in.Known)
	if s.Factors.Get(t.ID) == nil { // it was removed meanwhile
		send(w, http.StatusForbidden, refused{Why: "unpaired"})
		return
	}
	send(w, http.StatusOK, map[string]any{"now": s.Now().UnixMilli(), "asks": list, "pause": pause.Milliseconds(),
		"keyed": len(s.phoneKeys(t)) > 0})
}

// answering is what a person says to a sign-in.
type answering struct {
	shown
	Ask     string           `json:"ask"`
	Verdict approval.Verdict `json:"verdict"`
	Number  int              `json:"number"`
	touched
}

func (s *server) answer(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	var in answering
	if !read(w, r, &in) {
		return
	}
	t := s.phone(
		w,
		&in.shown,
		fmt.Sprintf("tollgate answer\n%s\n%d\n%s\n%s\n%d", in.Device, in.At, in.Ask, in.Verdict,
			in.Number),
	)
	if t == nil {
		return
	}
	if in.Verdict == approval.Approved && !s.opened(w, r, t, &in.touched) {
		return
	}
	came, err := s.Answer(ctx, t, in.Ask, in.Verdict, in.Number)
	switch {
	case errors.Is(err, approval.ErrOver):
		send(w, http.StatusGone, refused{Why: "over-ask"})
	case errors.Is(err, approval.ErrVerdict):
		send(w, http.StatusBadRequest, refused{Why: "unreadable"})
	case err != nil:
		s.Log.Error("the portal", "while", "answering a sign-in", "error", err)
		send(w, http.StatusServiceUnavailable, refused{Why: "later"})
	default:
		send(w, http.StatusOK, map[string]any{"came": came})
	}
}
