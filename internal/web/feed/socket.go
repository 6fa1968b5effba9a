package feed

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/coder/websocket"

	"tollgate.example/key/internal/core/config"
)

// sendWithin is how long one message may take: whoever reads nothing for longer is cut off.
const sendWithin = 30 * time.Second

// socket sends what stream sends as messages of a WebSocket (RFC 6455), one event each. Nothing is taken from the other
// side but the end.
func (s *server) socket(w http.ResponseWriter, r *http.Request, who *config.Subscriber) {
	leave, ok := s.Connect(who, from(r).String(), streamsAtOnce)
	if !ok {
		refuse(w, http.StatusTooManyRequests, "this subscriber has several streams open already")
		return
	}
	defer leave()
	c, err := websocket.Accept(w, r, nil)
	if err != nil { // it has answered
		return
	}
	defer c.CloseNow() // after a farewell this does nothing
	ctx := c.CloseRead(r.Context())
	send := func(e Event) error {
		text, err := json.Marshal(e)
		if err != nil {
			return err
		}
		within, cancel := context.WithTimeout(ctx, sendWithin)
		defer cancel()
		return c.Write(within, websocket.MessageText, text)
	}
	s.follow(ctx, r, who, send, func() error { return nil })
	_ = c.Close(websocket.StatusGoingAway, "connect again") // whoever is gone already hears it no longer
}
