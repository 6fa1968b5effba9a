package portal

import (
	_ "embed"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/securitykey"
)

//go:embed key.js
var keyScript []byte

// keyPlace is that of what shows that a person gave the password a moment ago, and is to touch the security key.
var keyPlace = config.Place{Purpose: "portal", Object: "key"}

// addKeyPlace is that of what shows that a person has just enrolled, and may add a security key.
var addKeyPlace = config.Place{Purpose: "portal", Object: "add-key"}

// keyLife is how long a person may take to touch the key.
const keyLife = 2 * time.Minute

// keyRoutes are those of security keys (W3C Web Authentication), with which people come to the page of their own
// devices. Gear asks for none, so that nobody has a key alone.
func (s *server) keyRoutes(get, post func(pattern string, h http.HandlerFunc)) {
	get("/key.js", asset("text/javascript; charset=utf-8", keyScript))
	post("/mine/key/ask", s.askKey)
	post("/mine/key/enter", s.enterByKey)
	post("/mine/key/begin", s.beginKey)
	post("/mine/key/add", s.addKey)
}

// keyOf is the person as keys know it.
func keyOf(i *Invitation) string { return i.Name + " (" + i.Store + ")" }

func (s *server) keysOf(i *Invitation) (out []securitykey.Key) {
	for _, k := range s.Factors.Keys(i.Store, i.Name) {
		out = append(out, securitykey.Key{ID: k.ID, Text: k.Text})
	}
	return out
}

func site(r *http.Request) (securitykey.Site, error) {
	return securitykey.SiteOf(r.Header.Get("Origin"), r.Host)
}

// asked is what the browser is to ask a key for.
type asked struct {
	Session string          `json:"session"`
	Options json.RawMessage `json:"options"`
	// Proof shows that the password was right.
	Proof string `json:"proof,omitempty"`
}

// askKey asks for a security key of whoever gives name and password. Whoever has none sees what a wrong password does.
func (s *server) askKey(w http.ResponseWriter, r *http.Request) {
	ctx, addr, begun := r.Context(), from(r), time.Now()
	var in struct{ Name, Password string }
	if !read(w, r, &in) {
		return
	}
	if !s.tries.allow(addr, s.Now()) {
		send(w, http.StatusTooManyRequests, refused{Why: "slower"})
		return
	}
	refuse := func(why string) {
		s.wait(ctx, begun)
		send(w, http.StatusForbidden, refused{Why: why})
	}
	at, err := site(r)
	if err != nil {
		refuse("mine")
		return
	}
	i, wrong := s.know(ctx, in.Name, in.Password, addr)
	if i == nil {
		refuse(wrong)
		return
	}
	i.Until = s.Now().Add(keyLife)
	session, options, err := s.keys.BeginShow(at, keyOf(i), s.keysOf(i), s.Now())
	if err != nil {
		refuse("mine")
		return
	}
	s.tries.right(addr)
	send(w, http.StatusOK, asked{session, options, encode(s.Box, keyPlace, i)})
}

// answered is what the browser says of a key.
type answered struct {
	Session  string          `json:"session"`
	Response json.RawMessage `json:"response"`
	Proof    string          `json:"proof"`
	Label    string          `json:"label"`
}

// enterByKey opens the page of the own devices to whoever touched the key.
func (s *server) enterByKey(w http.ResponseWriter, r *http.Request) {
	var in answered
	if !read(w, r, &in) {
		return
	}
	var i Invitation
	if decode(s.Box, keyPlace, in.Proof, &i) != nil || s.Now().After(i.Until) || s.has(i.Store, i.Name) != i.Has {
		send(w, http.StatusForbidden, refused{Why: "again"})
		return
	}
	key, err := s.keys.Show(in.Session, keyOf(&i), s.keysOf(&i), in.Response, s.Now())
	if err == nil {
		err = s.Factors.KeyShown(r.Context(), key.ID, key.Text, "portal", s.Now())
	}
	if err != nil {
		send(w, http.StatusForbidden, refused{Why: "mine"})
		return
	}
	if err := s.Note(r.Context(), &i, from(r), "looked at the own devices, with a security key"); err != nil {
		s.Log.Error("the portal", "while", "noting who looks at devices", "error", err)
		send(w, http.StatusInternalServerError, refused{Why: "later"})
		return
	}
	s.Seen(&i, from(r))
	i.Until = s.Now().Add(mineLife)
	s.stay(w, &i)
	send(w, http.StatusOK, map[string]any{})
}

// adder is who may add a security key: whoever looks at the own devices, or has just enrolled, as a proof shows; nil
// for nobody.
func (s *server) adder(r *http.Request, proof string) *Invitation {
	if proof == "" {
		return s.whose(r)
	}
	var i Invitation
	if decode(s.Box, addKeyPlace, proof, &i) != nil || s.Now().After(i.Until) || s.has(i.Store, i.Name) != i.Has {
		return nil
	}
	return &i
}

// beginKey begins to register a key.
func (s *server) beginKey(w http.ResponseWriter, r *http.Request) {
	var in answered
	if !read(w, r, &in) {
		return
	}
	i := s.adder(r, in.Proof)
	if i == nil {
		send(w, http.StatusForbidden, refused{Why: "again"})
		return
	}
	at, err := site(r)
	if err != nil {
		send(w, http.StatusConflict, refused{Why: "site"})
		return
	}
	session, options, err := s.keys.BeginRegister(at, keyOf(i), s.keysOf(i), s.Now())
	if err != nil {
		send(w, http.StatusServiceUnavailable, refused{Why: "later"})
		return
	}
	send(w, http.StatusOK, asked{session, options, ""})
}

func (s *server) addKey(w http.ResponseWriter, r *http.Request) {
	var in answered
	if !read(w, r, &in) {
		return
	}
	i := s.adder(r, in.Proof)
	if i == nil {
		send(w, http.StatusForbidden, refused{Why: "again"})
		return
	}
	text, err := s.keys.Register(in.Session, keyOf(i), in.Response, s.Now())
	if err != nil {
		send(w, http.StatusForbidden, refused{Why: "touched"})
		return
	}
	label := strings.TrimSpace(in.Label)
	if label == "" || len(label) > maxLabel {
		label = s.words(r)["kind.key"]
	}
	_, err = s.Factors.AddKey(r.Context(), factor.Request{Store: i.Store, Name: i.Name, Display: i.Display,
		Label: label, Still: &i.Has, By: i.Name}, text, s.Now())
	var field *factor.FieldError
	switch {
	case errors.As(err, &field):
		send(w, http.StatusConflict, refused{Why: "many"})
		return
	case errors.Is(err, factor.ErrUsed):
		send(w, http.StatusForbidden, refused{Why: "again"})
		return
	case err != nil:
		s.Log.Error("the portal", "while", "adding a security key", "error", err)
		send(w, http.StatusInternalServerError, refused{Why: "later"})
		return
	}
	s.noted(r, i, "added a security key to the own devices")
	s.Tell(i, Added)
	if in.Proof == "" {
		s.stay(w, i)
	}
	send(w, http.StatusOK, map[string]any{})
}
