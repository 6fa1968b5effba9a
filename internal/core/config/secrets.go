package config

import (
	"crypto/sha256"
	"encoding/hex"
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

// BindPlace is that of the password of the service account.
func (d *Directory) BindPlace() Place { return Place{"bind", d.ID} }

// SecretPlace is that of the secret for a remote server.
func (r *Remote) SecretPlace() Place { return Place{"remote", r.ID} }

// KeyPlace is that of the private key of an authority.
func (a *Authority) KeyPlace() Place { return Place{"authority", a.ID} }

// KeyPlace is that of the private key of a server certificate.
func (c *Certificate) KeyPlace() Place { return Place{"certificate", c.ID} }

// Secrets lets a function see, and replace, every secret of a configuration. path names it by kind, object and field.
func (c *Config) Secrets(see func(at Place, path string, s *Secret) error) error {
	type found struct {
		at         Place
		kind, name string
		field      string
		s          *Secret
	}
	var all []found
	for i := range c.Clients {
		x := &c.Clients[i]
		all = append(all, found{x.RADIUSPlace(), "client", x.Name, "secret", &x.Secret}, found{x.RADIUSPlace(),
			"client", x.Name, "previous", &x.Previous},
			found{x.TACACSPlace(), "client", x.Name, "tacacsSecret", &x.TACACSSecret}, found{x.TACACSPlace(), "client",
				x.Name, "tacacsPrevious", &x.TACACSPrevious})
	}
	for i := range c.Directories {
		x := &c.Directories[i]
		all = append(all, found{x.BindPlace(), "directory", x.Name, "bindPassword", &x.BindPassword})
	}
	for i := range c.Remotes {
		x := &c.Remotes[i]
		all = append(all, found{x.SecretPlace(), "remote", x.Name, "secret", &x.Secret})
	}
	for i := range c.Authorities {
		x := &c.Authorities[i]
		all = append(all, found{x.KeyPlace(), "authority", x.Name, "key", &x.Key})
	}
	for i := range c.Certificates {
		x := &c.Certificates[i]
		all = append(all, found{x.KeyPlace(), "certificate", x.Name, "key", &x.Key})
	}
	for _, f := range all {
		if !f.s.Set() {
			continue
		}
		if err := see(f.at, fmt.Sprintf("%s %q, %s", f.kind, f.name, f.field), f.s); err != nil {
			return err
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
