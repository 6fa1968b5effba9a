package portal

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/securitykey"
)

// What a phone does about the security key with which alone sign-ins are approved on it.
const (
	lockBegin = "begin" // begin to register one
	lockSet   = "set"   // ask for it from now on
	lockAsk   = "ask"   // begin to show it
	lockDrop  = "drop"  // ask for none from now on, which takes it once more
)

// keying is one of those.
type keying struct {
	shown
	Do string `json:"do"`
	touched
}

// touched is what the browser says of a key.
type touched struct {
	Session  string          `json:"session,omitempty"`
	Response json.RawMessage `json:"response,omitempty"`
}

// holder is the phone with its person as keys know it: a key in the phone itself is apart from one for other pages.
func holder(t *factor.Token) string { return t.Name + " (" + t.Store + "), " + t.Label }

// phoneKeys is the key that a phone asks for.
func (s *server) phoneKeys(t *factor.Token) []securitykey.Key {
	if text := s.Factors.PhoneKey(t.ID); text != "" {
		return []securitykey.Key{{ID: t.ID, Text: text}}
	}
	return nil
}

// lock does what a phone wants about the key. A thief of the phone, unlocked, approves nothing without it.
func (s *server) lock(w http.ResponseWriter, r *http.Request) {
	var in keying
	if !read(w, r, &in) {
		return
	}
	t := s.phone(w, &in.shown, fmt.Sprintf("tollgate key\n%s\n%d\n%s\n%s", in.Device, in.At, in.Do, in.Session))
	if t == nil {
		return
	}
	switch in.Do {
	case lockBegin, lockAsk:
		s.beginLock(w, r, t, in.Do == lockBegin)
	case lockSet:
		if len(s.phoneKeys(t)) > 0 { // another one takes the first
			send(w, http.StatusConflict, refused{Why: "key"})
			return
		}
		text, err := s.locks.Register(in.Session, holder(t), in.Response, s.Now())
		if err != nil {
			send(w, http.StatusForbidden, refused{Why: "touched"})
			return
		}
		s.keyed(w, r, t, text, "has the phone "+t.Label+" ask for a security key")
	case lockDrop:
		if !s.opened(w, r, t, &in.touched) {
			return
		}
		s.keyed(w, r, t, "", "has the phone "+t.Label+" ask for no security key any more")
	default:
		send(w, http.StatusBadRequest, refused{Why: "unreadable"})
	}
}

func (s *server) beginLock(w http.ResponseWriter, r *http.Request, t *factor.Token, fresh bool) {
	at, err := site(r)
	if err != nil {
		send(w, http.StatusConflict, refused{Why: "site"})
		return
	}
	at.Verified = true
	begin := s.locks.BeginShow
	if fresh {
		begin = s.locks.BeginRegister
	}
	session, options, err := begin(at, holder(t), s.phoneKeys(t), s.Now())
	switch {
	case errors.Is(err, securitykey.ErrKey): // there is none, or one for another name of this page
		send(w, http.StatusConflict, refused{Why: "site"})
	case err != nil:
		send(w, http.StatusServiceUnavailable, refused{Why: "later"})
	default:
		send(w, http.StatusOK, asked{session, options, ""})
	}
}

// keyed has a phone ask for a key from now on, or for none.
func (s *server) keyed(w http.ResponseWriter, r *http.Request, t *factor.Token, text, what string) {
	switch err := s.Factors.SetPhoneKey(r.Context(), t.ID, text); {
	case errors.Is(err, factor.ErrNone):
		send(w, http.StatusForbidden, refused{Why: "unpaired"})
		return
	case err != nil:
		s.Log.Error("the portal", "while", "noting the security key of a phone", "error", err)
		send(w, http.StatusServiceUnavailable, refused{Why: "later"})
		return
	}
	i := &Invitation{Store: t.Store, Name: t.Name, Display: t.Display}
	s.noted(r, i, what)
	s.Tell(i, Relocked)
	send(w, http.StatusOK, map[string]any{"keyed": text != ""})
}

// opened reports whether a phone may approve: it asks for no key, or the key was touched by whoever it knows. It
// answers itself otherwise.
func (s *server) opened(w http.ResponseWriter, r *http.Request, t *factor.Token, in *touched) bool {
	keys := s.phoneKeys(t)
	if len(keys) == 0 {
		return true
	}
	if in.Session == "" {
		send(w, http.StatusForbidden, refused{Why: "key"})
		return false
	}
	key, err := s.locks.Show(in.Session, holder(t), keys, in.Response, s.Now())
	if err != nil {
		send(w, http.StatusForbidden, refused{Why: "touched"})
		return false
	}
	if err := s.Factors.SetPhoneKey(r.Context(), t.ID, key.Text); err != nil { // a node that is cut off stores nothing
		s.Log.Warn("the count of a security key, by which a copy shows, could not be stored", "who", t.Name,
			"error", err)
	}
	return true
}
