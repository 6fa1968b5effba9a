package portal

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
)

// Invitation lets one person enrol a second factor, once. It is not kept anywhere: it is sealed with the key that all
// nodes have, and names the second factors that the person has when it is made. Enrolling changes those, so that it
// counts no more.
type Invitation struct {
	Store   string    `json:"s"`
	Name    string    `json:"n"`
	Display string    `json:"d,omitempty"`
	Has     string    `json:"h,omitempty"`
	Until   time.Time `json:"u"`
	// Replace has the new device count in place of those from before.
	Replace bool `json:"r,omitempty"`
}

// pass is what a step of an enrolment hands to the next one: that the password of a person was right a moment ago.
type pass struct {
	Invitation
	Factor string `json:"f"`
}

// The places that the two are sealed for, so that one cannot be used as the other.
var (
	invitationPlace = config.Place{Purpose: "portal", Object: "invitation"}
	passPlace       = config.Place{Purpose: "portal", Object: "pass"}
)

// maxToken bounds what is opened.
const maxToken = 4096

// What is wrong with an invitation.
var (
	ErrUnreadable = errors.New("the invitation is not one of this service, or is incomplete")
	ErrOver       = errors.New("the time of the invitation is over")
	ErrUsed       = errors.New("the invitation was used")
)

func encode(box *seal.Box, at config.Place, v any) string {
	text, _ := json.Marshal(v) // of texts and a time
	return base64.RawURLEncoding.EncodeToString([]byte(box.Seal(at, string(text))))
}

func decode(box *seal.Box, at config.Place, token string, v any) error {
	if len(token) > maxToken {
		return ErrUnreadable
	}
	sealed, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil {
		return ErrUnreadable
	}
	text, err := box.Open(at, config.Secret(sealed))
	if err != nil || json.Unmarshal([]byte(text), v) != nil {
		return ErrUnreadable
	}
	return nil
}

// Token is the invitation as it stands in a link.
func (i *Invitation) Token(box *seal.Box) string { return encode(box, invitationPlace, i) }

// open reads an invitation. has is the second factor that a person has, "" for none.
func open(box *seal.Box, token string, has func(store, name string) string, now time.Time) (i Invitation, err error) {
	if err := decode(box, invitationPlace, token, &i); err != nil {
		return i, err
	}
	switch {
	case now.After(i.Until):
		return i, ErrOver
	case has(i.Store, i.Name) != i.Has:
		return i, ErrUsed
	}
	return i, nil
}
