// Package portal serves the pages where people look after their own second factor: apart from the console, at an
// address of its own, without any script but for phones that approve sign-ins and for security keys.
package portal

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/securitykey"
)

const (
	// maxForm bounds what is read of a form.
	maxForm = 16 << 10
	// passLife is how long an enrolment may take after the password.
	passLife = 10 * time.Minute
)

// Options are what the portal works with.
type Options struct {
	Box     *seal.Box
	Factors *factor.Keeper
	// Check checks the password of somebody in a store.
	Check func(ctx context.Context, store, name, password string, from netip.Addr) (*facts.Person, reason.Code)
	// Find finds the store of somebody by the name that is typed.
	Find func(ctx context.Context, name string) (*facts.Person, reason.Code)
	// Open tells whether people without an invitation may enrol: some lane admits them without for now.
	Open func(now time.Time) bool
	// Approves tells whether some lane takes approvals on phones; URL is where phones find these pages.
	Approves func() bool
	URL      func() string
	// PushKey is the key that phones subscribe with for messages while the page is closed, "" where there are none.
	PushKey string
	// Asks are the sign-ins of a person that wait for approval. It waits until there are others than those that are
	// known, or the context ends.
	Asks func(ctx context.Context, store, name string, known []string) []approval.Ask
	// Answer answers one of them.
	Answer func(ctx context.Context, phone *factor.Token, id string, verdict approval.Verdict, number int) (
		approval.Verdict, error)
	// Seen tells where somebody is who has given password and second factor.
	Seen func(who *Invitation, at netip.Addr)
	// Note records what somebody did, and Tell writes of it to the person, who may not have done it.
	Tell func(who *Invitation, what Change)
	Note func(ctx context.Context, who *Invitation, from netip.Addr, what string) error
	// Theme is how the pages look and speak, nil for as usual.
	Theme *Theme
	Log   *slog.Logger
	Now   func() time.Time
}

type server struct {
	Options
	tries tries
	polls polls
	keys  securitykey.Desk
	// locks are for the keys that phones ask for.
	locks securitykey.Desk
	// texts are by language.
	texts map[string]map[string]string
}

// Handler serves the portal.
func Handler(o Options) http.Handler {
	if o.Now == nil {
		o.Now = time.Now
	}
	theme := Theme{}
	if o.Theme != nil {
		theme = *o.Theme
	}
	theme.Name = cmp.Or(theme.Name, "Tollgate Key")
	o.Theme = &theme
	s := &server{Options: o, polls: polls{of: map[string]int{}}, texts: theme.words()}
	r := chi.NewRouter()
	r.Use(guard)
	r.Get("/", s.start)
	r.Get("/enrol", s.invited)
	r.Post("/enrol", s.enrol)
	r.Post("/confirm", s.confirm)
	r.Get("/style.css", asset("text/css; charset=utf-8", sheet))
	r.Get("/theme.css", asset("text/css; charset=utf-8", theme.css()))
	s.phoneRoutes(r.Get, r.Post)
	s.mineRoutes(r.Get, r.Post)
	s.keyRoutes(r.Get, r.Post)
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		s.page(w, r, http.StatusNotFound, "message", view{Wrong: "lost"})
	})
	return r
}

// guard bounds requests, and has browsers run and send nothing elsewhere.
func guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; form-action 'self'; "+
			"frame-ancestors 'none'; base-uri 'none'")
		h.Set("Referrer-Policy", "no-referrer") // an invitation stands in the address
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Cache-Control", "no-store")
		r.Body = http.MaxBytesReader(w, r.Body, maxForm)
		// W3C Fetch Metadata: a page elsewhere sends nothing here, such as to sign a browser in as somebody else.
		if site := r.Header.Get("Sec-Fetch-Site"); r.Method == http.MethodPost && site != "" && site != "same-origin" &&
			site != "none" { // that is somebody who sends a form again
			http.Error(w, "this comes from a page elsewhere", http.StatusForbidden)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func from(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	a, _ := netip.ParseAddr(host) // the zero address is of nobody
	return a.Unmap().WithZone("")
}

// has is the second factor of somebody, "" for none.
func (s *server) has(store, name string) string { return s.Factors.Of(store, name) }

func (s *server) start(w http.ResponseWriter, r *http.Request) {
	if !s.Open(s.Now()) {
		s.page(w, r, http.StatusOK, "message", view{Wrong: "invitation"})
		return
	}
	s.page(w, r, http.StatusOK, "password", view{Named: true})
}

// invited asks the person who was invited for the password.
func (s *server) invited(w http.ResponseWriter, r *http.Request) {
	token := r.URL.Query().Get("t")
	i, err := open(s.Box, token, s.has, s.Now())
	if err != nil {
		s.page(w, r, http.StatusGone, "message", view{Wrong: wrongOf(err)})
		return
	}
	s.page(w, r, http.StatusOK, "password", view{Token: token, Name: i.Name, Display: i.Display})
}

func wrongOf(err error) string {
	switch {
	case errors.Is(err, ErrOver):
		return "over"
	case errors.Is(err, ErrUsed):
		return "used"
	}
	return "unreadable"
}

// whom is who wants to enrol: whoever was invited, or, where that is open, somebody by name who has no second factor.
func (s *server) whom(ctx context.Context, r *http.Request) (i Invitation, wrong string) {
	now := s.Now()
	if token := r.PostFormValue("t"); token != "" {
		i, err := open(s.Box, token, s.has, now)
		if err != nil {
			return i, wrongOf(err)
		}
		return i, ""
	}
	name := strings.TrimSpace(r.PostFormValue("name"))
	if !s.Open(now) || name == "" || len(name) > 256 {
		return i, "invitation"
	}
	person, code := s.Find(ctx, name)
	if code != reason.OK {
		return i, "password" // whoever is not known looks like whoever has the password wrong
	}
	return Invitation{Store: person.Store, Name: person.Name, Display: person.Display,
		Has: s.has(person.Store, person.Name), Until: now.Add(passLife)}, ""
}

// enrol takes the password, and shows what the phone is to take.
func (s *server) enrol(w http.ResponseWriter, r *http.Request) {
	ctx, addr, begun := r.Context(), from(r), time.Now()
	again := view{Token: r.PostFormValue("t"), Named: r.PostFormValue("t") == "", Name: r.PostFormValue("name")}
	slower := func() {
		w.Header().Set("Retry-After", "60")
		s.page(w, r, http.StatusTooManyRequests, "message", view{Wrong: "slower"})
	}
	if again.Named && !s.tries.allow(addr, s.Now()) { // before anybody is looked up
		slower()
		return
	}
	i, wrong := s.whom(ctx, r)
	switch {
	case wrong != "" && wrong != "password": // no password is guessed by an invitation that is none
		s.page(w, r, http.StatusGone, "message", view{Wrong: wrong})
		return
	case !again.Named && !s.tries.allow(addr, s.Now()):
		slower()
		return
	case wrong != "":
		again.Wrong = wrong
		s.wait(ctx, begun)
		s.page(w, r, http.StatusForbidden, "password", again)
		return
	}
	person, code := s.Check(ctx, i.Store, i.Name, r.PostFormValue("password"), addr)
	if code == reason.OK && person.Kind != "" { // a computer, or an account that lies in an envelope
		code = reason.PersonUnknown
	}
	if code != reason.OK {
		s.wait(ctx, begun)
		again.Name, again.Display, again.Wrong = i.Name, i.Display, wrongPassword(code)
		s.page(w, r, http.StatusForbidden, "password", again)
		return
	}
	s.tries.right(addr)
	if again.Named && i.Has != "" { // the password alone replaces no second factor
		s.page(w, r, http.StatusForbidden, "message", view{Wrong: "has"})
		return
	}
	offer, err := s.Factors.Enrol(ctx, factor.Request{Store: i.Store, Name: i.Name, Display: person.Display,
		Label: s.words(r)["phone"], Replaces: i.Replace, By: i.Name}, s.Now())
	if err != nil {
		s.fault(w, r, "enrolling", err)
		return
	}
	i.Display, i.Until = person.Display, s.Now().Add(passLife)
	s.offer(w, r, http.StatusOK, &pass{i, offer.Token.ID}, offer.Seed, offer.URI, offer.QR, "")
}

// refuseAfter is how long a refusal takes at least, so that its time tells nobody who is known.
const refuseAfter = 700 * time.Millisecond

func (s *server) wait(ctx context.Context, begun time.Time) {
	select {
	case <-ctx.Done():
	case <-time.After(refuseAfter - time.Since(begun)):
	}
}

func wrongPassword(code reason.Code) string {
	switch code {
	case reason.PasswordWrong, reason.PasswordEmpty, reason.PersonUnknown:
		return "password"
	case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed, reason.Busy:
		return "later"
	}
	return "account" // such as a locked one, which is told behind a right password only
}

func (s *server) offer(w http.ResponseWriter, r *http.Request, status int, p *pass, seed, uri string, rows []string,
	wrong string) {
	v := view{Pass: encode(s.Box, passPlace, p), Name: p.Name, Display: p.Display, Seed: seed, URI: uri, Rows: rows,
		Wrong: wrong}
	if s.Approves() {
		v.Pair = s.URL() + "/phone#p=" + encode(s.Box, pairPlace, &p.Invitation)
		var err error
		if v.PairRows, err = factor.Picture(v.Pair); err != nil {
			s.fault(w, r, "drawing the picture for a phone", err)
			return
		}
	}
	s.page(w, r, status, "offer", v)
}

// confirm takes the first code, and shows the recovery codes.
func (s *server) confirm(w http.ResponseWriter, r *http.Request) {
	ctx, addr := r.Context(), from(r)
	var p pass
	switch err := decode(s.Box, passPlace, r.PostFormValue("p"), &p); {
	case err != nil:
		s.page(w, r, http.StatusGone, "message", view{Wrong: "unreadable"})
		return
	case s.Now().After(p.Until):
		s.page(w, r, http.StatusGone, "message", view{Wrong: "over"})
		return
	case s.has(p.Store, p.Name) != p.Has:
		s.page(w, r, http.StatusGone, "message", view{Wrong: "used"})
		return
	case !s.tries.allow(addr, s.Now()):
		w.Header().Set("Retry-After", "60")
		s.page(w, r, http.StatusTooManyRequests, "message", view{Wrong: "slower"})
		return
	}
	mine := s.whose(r)
	codes, err := s.Factors.ConfirmStill(ctx, p.Factor, r.PostFormValue("code"), p.Has, s.Now())
	var field *factor.FieldError
	switch {
	case errors.As(err, &field):
		s.page(w, r, http.StatusForbidden, "again", view{Pass: r.PostFormValue("p"), Name: p.Name, Display: p.Display,
			Wrong: "code"})
		return
	case errors.Is(err, factor.ErrNone), errors.Is(err, factor.ErrUsed):
		s.page(w, r, http.StatusGone, "message", view{Wrong: "used"})
		return
	case err != nil:
		s.fault(w, r, "confirming", err)
		return
	}
	s.tries.right(addr)
	if err := s.Note(ctx, &p.Invitation, addr, "set up a second factor"); err != nil {
		s.Log.Error("an enrolment waits for the audit", "who", p.Name, "error", err)
	}
	s.Tell(&p.Invitation, Added)
	done := view{Name: p.Name, Display: p.Display, Codes: codes}
	if mine != nil && mine.Store == p.Store && mine.Name == p.Name {
		s.stay(w, mine)
	}
	// A security key can be added from this page, as long as it is open. No visit begins: the next one at this computer
	// may be somebody else.
	done.Pass = encode(s.Box, addKeyPlace, &Invitation{Store: p.Store, Name: p.Name, Display: p.Display,
		Has: s.has(p.Store, p.Name), Until: s.Now().Add(passLife)})
	s.page(w, r, http.StatusOK, "done", done)
}

func (s *server) fault(w http.ResponseWriter, r *http.Request, doing string, err error) {
	s.Log.Error("the portal", "while", doing, "error", err)
	s.page(w, r, http.StatusInternalServerError, "message", view{Wrong: "later"})
}
