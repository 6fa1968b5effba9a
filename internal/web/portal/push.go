package portal

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"tollgate.example/key/internal/base/push"
	"tollgate.example/key/internal/identity/factor"
)

// subscribing is where a phone takes messages from now on; without an endpoint, nowhere.
type subscribing struct {
	shown
	push.Subscription
}

func (s *server) subscribe(w http.ResponseWriter, r *http.Request) {
	var in subscribing
	if !read(w, r, &in) {
		return
	}
	t := s.phone(w, &in.shown, fmt.Sprintf("tollgate push\n%s\n%d\n%s", in.Device, in.At, in.Endpoint))
	if t == nil {
		return
	}
	var to *factor.Push
	if in.Endpoint != "" {
		if s.PushKey == "" || in.Check() != nil {
			send(w, http.StatusBadRequest, refused{Why: "unreadable"})
			return
		}
		to = &factor.Push{Endpoint: in.Endpoint, P256DH: in.P256DH, Auth: in.Auth, Language: languageOf(r)}
	}
	switch err := s.Factors.SetPush(r.Context(), t.ID, to); {
	case errors.Is(err, factor.ErrNone):
		send(w, http.StatusForbidden, refused{Why: "unpaired"})
	case err != nil:
		s.Log.Error("the portal", "while", "noting where a phone takes messages", "error", err)
		send(w, http.StatusServiceUnavailable, refused{Why: "later"})
	default:
		send(w, http.StatusOK, map[string]any{})
	}
}

// PushText is the message to a phone about a sign-in at a client.
func PushText(language, client string) []byte {
	words := texts[language]
	if words == nil {
		words = texts["en"]
	}
	text, _ := json.Marshal(map[string]string{"title": words["push.title"], "body": client}) // of two texts
	return text
}
