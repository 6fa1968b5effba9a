package cluster

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"
)

// Invitation is what a node that joins is given: where to ask, whom to trust, and a secret that counts once.
type Invitation struct {
	// Name is what the new node is called, Node the one that invites, at Address.
	Name    string `json:"n"`
	Node    string `json:"i"`
	Address string `json:"a"`
	// Authority is the SHA-256 of the certificate of the authority of the nodes.
	Authority []byte `json:"c"`
	Secret    []byte `json:"s"`
	Until     int64  `json:"u"` // seconds since 1970
}

const (
	tokenPrefix = "tkn1_"
	// inviteTime is how long an invitation counts.
	inviteTime = time.Hour
)

// Token writes an invitation on one line.
func (i *Invitation) Token() string {
	text, _ := json.Marshal(i)
	return tokenPrefix + base64.RawURLEncoding.EncodeToString(text)
}

// ParseToken reads an invitation.
func ParseToken(text string) (*Invitation, error) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(text), tokenPrefix)
	data, err := base64.RawURLEncoding.DecodeString(rest)
	i := &Invitation{}
	if err == nil {
		err = json.Unmarshal(data, i)
	}
	if !ok || err != nil || len(i.Authority) != 32 || len(i.Secret) != 32 || i.Name == "" || i.Address == "" {
		return nil, errors.New(
			"this is no invitation: give -join what tollgate node invite printed, whole and on one line",
		)
	}
	return i, nil
}
