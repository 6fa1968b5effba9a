// Package change asks clients to end open sessions, to authenticate them again, or to give them another pass (RFC
// 5176), and records what they answered with the session.
package change

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

// Action is what is to become of a session.
type Action string

// The actions.
const (
	Disconnect     Action = "disconnect"
	Reauthenticate Action = "reauthenticate"
	ChangePass     Action = "change"
)

// Values of RFC 2865 that ask for authentication again.
const (
	terminationAction        = 29
	terminationRADIUSRequest = 1
)

// Sessions are the open sessions, and what was recorded of them.
type Sessions interface {
	Find(id ident.ID) *session.Session
	Asked(ctx context.Context, s *session.Session, a session.Asked) error
	Records() *store.Accounting
}

// Keeper asks clients. It is safe for concurrent use.
type Keeper struct {
	sessions Sessions
	current  func() *snapshot.Snapshot
	attempts *store.Attempts
	ends     ends
	links    *links
}

// New makes a keeper. current is the configuration in effect. It has to be closed.
func New(sessions Sessions, current func() *snapshot.Snapshot, attempts *store.Attempts) *Keeper {
	k := &Keeper{sessions: sessions, current: current, attempts: attempts, links: &links{}}
	k.ends.init()
	return k
}

// Of asks for sessions that another node recorded.
func (k *Keeper) Of(sessions Sessions, attempts *store.Attempts) *Keeper {
	return &Keeper{sessions: sessions, current: k.current, attempts: attempts, links: k.links}
}

// ErrGone is returned for a session that is not open any more.
var ErrGone = errors.New("the session is not open any more")

// Ask asks the client of a session, and records what came of it, on behalf of an operator or a rule. pass is the one to
// change to. An error tells why the client could not be asked, or did not answer.
func (k *Keeper) Ask(ctx context.Context, id ident.ID, action Action, pass, by string) (upstream.Changed, error) {
	s := k.sessions.Find(id)
	if s == nil {
		return upstream.Changed{}, ErrGone
	}
	asked := session.Asked{By: by}
	c, err := k.request(ctx, s, action, pass, &asked)
	if err != nil {
		return upstream.Changed{}, err
	}
	out, err := c.Send(ctx)
	asked.What = title(action, pass) + ": "
	switch {
	case err != nil:
		asked.What += err.Error()
	case out.Done:
		asked.What += "done, " + out.Answer
		asked.Done = true
	default:
		asked.What += "refused, " + out.Answer
	}
	if e := k.sessions.Asked(context.WithoutCancel(ctx), s, asked); e != nil {
		err = errors.Join(err, fmt.Errorf("recording what the client answered: %w", e))
	}
	return out, err
}

// title says in words what is asked for.
func title(action Action, pass string) string {
	switch action {
	case Reauthenticate:
		return "authenticate again"
	case ChangePass:
		return "change to pass " + pass
	}
	return "disconnect"
}

// request prepares what is sent.
func (k *Keeper) request(ctx context.Context, s *session.Session, action Action, pass string,
	asked *session.Asked) (*upstream.Change, error) {
	current := k.current()
	source, err := netip.ParseAddr(s.Source)
	if err != nil {
		return nil, fmt.Errorf("the address of client %s is not known", s.Client)
	}
	client := current.Plan.Client(source)
	if client == nil || client.Name != s.Client {
		return nil, fmt.Errorf("client %s is not configured any more", s.Client)
	}
	c := &upstream.Change{To: client.Sessions.Changes(source), Code: radius.DisconnectRequest}
	keys := current.Keys(client)
	if client.Sessions.ChangeTLS && c.To.IsValid() {
		if c.Link, err = k.links.to(client, c.To, current); err != nil {
			return nil, err
		}
	}
	switch {
	case !c.To.IsValid():
		return nil, fmt.Errorf("client %s is set to take no changes. Give it a port for them", client.Name)
	case keys.Changes == nil && c.Link == nil:
		return nil, fmt.Errorf("client %s has no secret for RADIUS", client.Name)
	}
	c.Keys = []*radius.Key{keys.Changes}
	if c.Link == nil && !client.ChangeSecret.Set() && keys.RADIUS.Previous != nil &&
		time.Now().Before(keys.RADIUS.Until) {
		c.Keys = append(c.Keys, keys.RADIUS.Previous)
	}
	if c.Attributes, err = k.identify(ctx, s, client); err != nil {
		return nil, err
	}
	switch action {
	case Disconnect:
	case Reauthenticate:
		again(c, client.Sessions.Reauthenticate)
	case ChangePass:
		c.Code = radius.CoARequest
		reply, err := k.reply(ctx, current, s, pass, asked)
		if err != nil {
			return nil, err
		}
		c.Attributes = append(c.Attributes, reply...)
	default:
		return nil, fmt.Errorf("%q is not an action", action)
	}
	return c, nil
}

// again asks for authentication in the way that the client understands.
func again(c *upstream.Change, way string) {
	integer := func(t byte, v uint32) {
		c.Attributes = append(c.Attributes, upstream.Attribute{Type: t, Value: binary.BigEndian.AppendUint32(nil, v)})
	}
	if way != config.ByDisconnect {
		c.Code = radius.CoARequest
		integer(radius.SessionTimeout, 1)
		integer(terminationAction, terminationRADIUSRequest)
	}
}

// identify are the attributes that name a session to its client, with the values that it sent itself.
func (k *Keeper) identify(ctx context.Context, s *session.Session, client *config.Client) ([]upstream.Attribute,
	error) {
	sent := map[string]string{"Acct-Session-Id": s.Session, "Framed-IP-Address": s.Address, "User-Name": s.Who,
		"Calling-Station-Id": s.MAC}
	if addr, err := netip.ParseAddr(s.Address); err != nil || !addr.Is4() {
		delete(sent, "Framed-IP-Address")
	}
	if row, err := k.sessions.Records().Get(ctx, s.ID); err == nil {
		for _, pair := range session.Attributes(&row) {
			sent[pair.Name] = pair.Value
		}
	}
	var out []upstream.Attribute
	for _, name := range client.Sessions.Names() {
		attribute := dict.ByName(name)
		if attribute == nil || sent[name] == "" {
			continue
		}
		if value, err := attribute.Encode(sent[name]); err == nil {
			out = append(out, upstream.Attribute{Type: attribute.Type, Value: value})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("client %s sent none of the attributes that name a session to it: %s", client.Name,
			strings.Join(client.Sessions.Names(), ", "))
	}
	return out, nil
}

// reply are the attributes of a pass, as the attempt that began the session would be given them.
func (k *Keeper) reply(ctx context.Context, current *snapshot.Snapshot, s *session.Session, name string,
	asked *session.Asked) ([]upstream.Attribute, error) {
	pass := current.Plan.Pass(name)
	if pass == nil {
		return nil, fmt.Errorf("there is no pass %q", name)
	}
	f, _, err := k.facts(ctx, s)
	if err != nil {
		return nil, err
	}
	asked.Pass, asked.VLAN = pass.Name, pass.VLANFor(f)
	made, err := pass.Reply.For(f)
	if err != nil {
		return nil, fmt.Errorf("pass %s cannot be made: %w", name, err)
	}
	if len(made) == 0 {
		return nil, fmt.Errorf("pass %s has no attributes to send", name)
	}
	out := make([]upstream.Attribute, len(made))
	for i, a := range made {
		out[i] = upstream.Attribute{Type: a.Type, Value: a.Value}
	}
	return out, nil
}

// facts are those of the attempt that began the session, or that authenticated it again; of one that is not known, what
// the session tells. pass is what that attempt was given.
func (k *Keeper) facts(ctx context.Context, s *session.Session) (f *facts.Facts, pass string, err error) {
	f = &facts.Facts{At: s.Began, Protocol: "radius", Service: facts.Network, Client: s.Client, MAC: s.MAC, Sent: s.Who}
	if s.Class == "" {
		return f, s.Pass, nil
	}
	page, err := k.attempts.List(ctx, store.ByClass(s.Class))
	if err != nil || len(page.Items) == 0 {
		return f, s.Pass, err
	}
	return f, page.Items[0].Pass, f.ParseJSON(page.Items[0].Facts)
}
