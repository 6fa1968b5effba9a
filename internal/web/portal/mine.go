package portal

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/factor"
)

const (
	mineName = "tollgate_mine"
	// mineLife is how long a person may look after the own devices after password and code.
	mineLife = 10 * time.Minute
)

// minePlace is that of what a browser shows in which somebody has given password and code. It names the devices that
// the person had then: whoever removes one ends it.
var minePlace = config.Place{Purpose: "portal", Object: "mine"}

// mineRoutes are those of the page of one's own devices.
func (s *server) mineRoutes(get, post func(pattern string, h http.HandlerFunc)) {
	get("/mine", s.mine)
	post("/mine", s.enterMine)
	post("/mine/add", s.own(s.addOwn))
	post("/mine/remove", s.own(s.removeOwn))
	post("/mine/recovery", s.own(s.recoverOwn))
	post("/mine/leave", s.leaveMine)
}

func mineCookie(value string, age time.Duration) *http.Cookie {
	return &http.Cookie{Name: mineName, Value: value, Path: "/", HttpOnly: true, Secure: true,
		SameSite: http.SameSiteStrictMode, MaxAge: int(age / time.Second)}
}

// whose is who has given password and code in this browser, nil for nobody.
func (s *server) whose(r *http.Request) *Invitation {
	c, err := r.Cookie(mineName)
	if err != nil {
		return nil
	}
	var i Invitation
	if decode(s.Box, minePlace, c.Value, &i) != nil || i.Has == "" || s.Now().After(i.Until) ||
		s.has(i.Store, i.Name) != i.Has {
		return nil
	}
	return &i
}

// own calls a page for whoever has given password and code, and asks others for them.
func (s *server) own(page func(w http.ResponseWriter, r *http.Request, i *Invitation)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if i := s.whose(r); i != nil {
			page(w, r, i)
			return
		}
		s.page(w, r, http.StatusForbidden, "enter", view{Wrong: "again"})
	}
}

func (s *server) mine(w http.ResponseWriter, r *http.Request) {
	i := s.whose(r)
	if i == nil {
		s.page(w, r, http.StatusOK, "enter", view{})
		return
	}
	s.devices(w, r, http.StatusOK, i, "")
}

// enterMine takes name, password and code. All that may be wrong looks the same.
func (s *server) enterMine(w http.ResponseWriter, r *http.Request) {
	ctx, addr, begun := r.Context(), from(r), time.Now()
	if !s.tries.allow(addr, s.Now()) {
		w.Header().Set("Retry-After", "60")
		s.page(w, r, http.StatusTooManyRequests, "message", view{Wrong: "slower"})
		return
	}
	i, wrong := s.prove(ctx, r)
	if wrong != "" {
		s.wait(ctx, begun)
		s.page(w, r, http.StatusForbidden, "enter", view{Name: r.PostFormValue("name"), Wrong: wrong})
		return
	}
	s.tries.right(addr)
	if err := s.Note(ctx, i, addr, "looked at the own devices for a second factor"); err != nil {
		s.fault(w, r, "noting who looks at devices", err)
		return
	}
	s.Seen(i, addr)
	s.stay(w, i)
	http.Redirect(w, r, "/mine", http.StatusSeeOther)
}

// prove checks name, password and code, in this order; wrong is what is said otherwise.
func (s *server) prove(ctx context.Context, r *http.Request) (i *Invitation, wrong string) {
	if i, wrong = s.know(ctx, r.PostFormValue("name"), r.PostFormValue("password"), from(r)); i == nil {
		return nil, wrong
	}
	now := s.Now()
	if why, _, _ := s.Factors.Check(ctx, i.Store, i.Name, r.PostFormValue("code"), "portal", now); why != reason.OK {
		return nil, wrongMine(why)
	}
	i.Until = now.Add(mineLife)
	return i, ""
}

// know is who a name and a password are of, who has a second factor; nil with what is said otherwise.
func (s *server) know(ctx context.Context, name, password string, addr netip.Addr) (i *Invitation, wrong string) {
	if name = strings.TrimSpace(name); name == "" || len(name) > 256 {
		return nil, "mine"
	}
	person, code := s.Find(ctx, name)
	if code == reason.OK {
		person, code = s.Check(ctx, person.Store, person.Name, password, addr)
	}
	if code != reason.OK {
		return nil, wrongMine(code)
	}
	i = &Invitation{Store: person.Store, Name: person.Name, Display: person.Display,
		Has: s.has(person.Store, person.Name)}
	if person.Kind != "" || i.Has == "" { // such as a computer
		return nil, "mine"
	}
	return i, ""
}

// wrongMine is what is said of a reason: what is about us, or that something is wrong.
func wrongMine(code reason.Code) string {
	if code == reason.FactorFailed || wrongPassword(code) == "later" {
		return "later"
	}
	return "mine"
}

// stay has the browser go on, with the devices that there are now.
func (s *server) stay(w http.ResponseWriter, i *Invitation) {
	i.Has = s.has(i.Store, i.Name)
	http.SetCookie(w, mineCookie(encode(s.Box, minePlace, i), i.Until.Sub(s.Now())))
}

func (s *server) leaveMine(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, mineCookie("", -time.Second))
	http.Redirect(w, r, "/mine", http.StatusSeeOther)
}

// owned is a device as its person sees it.
type owned struct {
	ID, Label, Kind, Used, On string
	// Last tells that it is the last one that counts, which the person cannot remove.
	Last bool
}

// devices shows those of a person.
func (s *server) devices(w http.ResponseWriter, r *http.Request, status int, i *Invitation, wrong string) {
	v := view{Name: i.Name, Display: i.Display, Wrong: wrong}
	list, counting := s.Factors.OfPerson(i.Store, i.Name, s.Now()), 0
	for _, t := range list {
		if t.Confirmed && t.Kind != factor.KindTemporary && t.Kind != factor.KindKey {
			counting++
		}
	}
	for _, t := range list {
		if !t.Confirmed || t.Kind == factor.KindTemporary {
			continue
		}
		v.Recovery = t.RecoveryLeft
		kind := kindWord(t.Kind)
		if t.Keyed {
			kind = "keyed"
		}
		one := owned{ID: t.ID, Label: t.Label, Kind: "kind." + kind, On: t.UsedOn,
			Last: counting == 1 && t.Kind != factor.KindKey}
		if !t.UsedAt.IsZero() {
			one.Used = t.UsedAt.Format("2006-01-02 15:04")
		}
		v.Owned = append(v.Owned, one)
	}
	s.page(w, r, status, "mine", v)
}

func kindWord(kind string) string {
	if kind == factor.KindCode {
		return "code"
	}
	return kind
}

// addOwn begins to set up a further device.
func (s *server) addOwn(w http.ResponseWriter, r *http.Request, i *Invitation) {
	offer, err := s.Factors.Enrol(r.Context(), factor.Request{Store: i.Store, Name: i.Name, Display: i.Display,
		Label: s.words(r)["phone"], By: i.Name}, s.Now())
	var field *factor.FieldError
	if errors.As(err, &field) {
		s.devices(w, r, http.StatusConflict, i, "many")
		return
	} else if err != nil {
		s.fault(w, r, "adding a device", err)
		return
	}
	next := Invitation{Store: i.Store, Name: i.Name, Display: i.Display, Has: i.Has, Until: s.Now().Add(passLife)}
	s.offer(w, r, http.StatusOK, &pass{next, offer.Token.ID}, offer.Seed, offer.URI, offer.QR, "")
}

func (s *server) removeOwn(w http.ResponseWriter, r *http.Request, i *Invitation) {
	id, label := r.PostFormValue("id"), ""
	if t := s.Factors.Get(id); t != nil {
		label = t.Label
	}
	switch err := s.Factors.RemoveOwn(r.Context(), i.Store, i.Name, id, s.Now()); {
	case errors.Is(err, factor.ErrLast):
		s.devices(w, r, http.StatusConflict, i, "last")
		return
	case errors.Is(err, factor.ErrNone): // a form from before
	case err != nil:
		s.fault(w, r, "removing a device", err)
		return
	default:
		s.noted(r, i, "removed the own device "+label)
		s.Tell(i, Removed)
	}
	s.stay(w, i)
	http.Redirect(w, r, "/mine", http.StatusSeeOther)
}

// recoverOwn makes new recovery codes.
func (s *server) recoverOwn(w http.ResponseWriter, r *http.Request, i *Invitation) {
	list := s.Factors.OfPerson(i.Store, i.Name, s.Now())
	if len(list) == 0 {
		s.page(w, r, http.StatusForbidden, "enter", view{Wrong: "again"})
		return
	}
	codes, err := s.Factors.Recover(r.Context(), list[0].ID)
	if err != nil {
		s.fault(w, r, "making recovery codes", err)
		return
	}
	s.noted(r, i, "made new recovery codes for the own devices")
	s.Tell(i, Renewed)
	s.page(w, r, http.StatusOK, "renewed", view{Name: i.Name, Display: i.Display, Codes: codes})
}

func (s *server) noted(r *http.Request, i *Invitation, what string) {
	if err := s.Note(r.Context(), i, from(r), what); err != nil {
		s.Log.Error("what somebody did with the own devices waits for the audit", "who", i.Name, "what", what,
			"error", err)
	}
}
