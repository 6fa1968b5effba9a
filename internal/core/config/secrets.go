package config

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Place is what a sealed secret is for and which object it belongs to. It is sealed together with that, so that it
// opens nowhere else: whoever can write the database cannot move a secret to where it would be sent, or shown.
type Place struct{ Purpose, Object string }

// RADIUSPlace is that of the shared secrets for RADIUS, the present one and the one before.
func (c *Client) RADIUSPlace() Place { return Place{"radius", c.ID} }

// TACACSPlace is that of the shared secrets for TACACS+.
func (c *Client) TACACSPlace() Place { return Place{"tacacs", c.ID} }

// ChangePlace is that of the secret for changes of authorization.
func (c *Client) ChangePlace() Place { return Place{"changes", c.ID} }

// BindPlace is that of the password of the service account.
func (d *Directory) BindPlace() Place { return Place{"bind", d.ID} }

// SecretPlace is that of the secret for a remote server.
func (r *Remote) SecretPlace() Place { return Place{"remote", r.ID} }

// KeyPlace is that of the private key of an authority.
func (a *Authority) KeyPlace() Place { return Place{"authority", a.ID} }

// KeyPlace is that of the private key of a server certificate.
func (c *Certificate) KeyPlace() Place { return Place{"certificate", c.ID} }

// Secrets lets a function see every secret of a configuration, and return what stands in its place. path names it by
// kind, object and field. The configuration must be a Copy: an object of which a secret changes is replaced.
func (c *Config) Secrets(see func(at Place, path string, s Secret) (Secret, error)) error {
	return errors.Join(
		secrets("client", c.Clients, see, func(o *Client) []held {
			return []held{{o.RADIUSPlace(), "secret", &o.Secret}, {o.RADIUSPlace(), "previous", &o.Previous},
				{o.TACACSPlace(), "tacacsSecret", &o.TACACSSecret},
				{o.TACACSPlace(), "tacacsPrevious", &o.TACACSPrevious}, {o.ChangePlace(), "changeSecret",
					&o.ChangeSecret}}
		}),
		secrets("directory", c.Directories, see, func(o *Directory) []held {
			return []held{{o.BindPlace(), "bindPassword", &o.BindPassword}}
		}),
		secrets("remote", c.Remotes, see, func(o *Remote) []held {
			return []held{{o.SecretPlace(), "secret", &o.Secret}}
		}),
		secrets("source", c.Sources, see, func(o *Source) []held {
			return []held{{o.SecretPlace(), "secret", &o.Secret}}
		}),
		secrets("subscriber", c.Subscribers, see, func(o *Subscriber) []held {
			return []held{{o.SecretPlace(), "secret", &o.Secret}, {o.PushPlace(), "pushSecret", &o.PushSecret}}
		}),
		secrets("authority", c.Authorities, see, func(o *Authority) []held {
			return []held{{o.KeyPlace(), "key", &o.Key}}
		}),
		secrets("certificate", c.Certificates, see, func(o *Certificate) []held {
			return []held{{o.KeyPlace(), "key", &o.Key}}
		}))
}

// held is one secret of an object.
type held struct {
	at    Place
	field string
	s     *Secret
}

func secrets[T any, P Object[T]](kind string, list []*T, see func(at Place, path string, s Secret) (Secret, error),
	of func(*T) []held) error {
	for i, o := range list {
		for f, h := range of(o) {
			if !h.s.Set() {
				continue
			}
			next, err := see(h.at, fmt.Sprintf("%s %q, %s", kind, P(o).Label(), h.field), *h.s)
			if err != nil {
				return err
			}
			if next != *h.s {
				*of(Own(list, i))[f].s = next
			}
		}
	}
	return nil
}

// Destination is where the password of the service account goes to, and what protects it on the way. A stored password
// is sent to no other: whoever changes this has to know it. Servers are compared without their order.
func (d *Directory) Destination() string {
	servers := slices.Clone(d.Servers)
	slices.Sort(servers)
	sum := sha256.Sum256([]byte(strings.Join(append(servers, string(d.TLS), d.CA, d.ServerName, d.DNS), "\x00")))
	return hex.EncodeToString(sum[:8])
}
