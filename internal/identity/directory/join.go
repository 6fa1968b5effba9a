package directory

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/wire/mschap"
)

// Joined is what a join left: our machine account.
type Joined struct {
	Domain   string
	Computer string
	Password string
	DN       string
}

// JoinInput says who may create the machine account, and where. The password is used once and not kept.
type JoinInput struct {
	BindName, Password string
	// Computer is the name of the account without the dollar sign.
	Computer string
	// OU is the container, empty for the one the domain keeps for computers.
	OU string
}

// Join creates our machine account in the domain of a directory, or sets its password anew if it exists.
func Join(ctx context.Context, cfg config.Directory, in JoinInput) (*Joined, error) {
	if cfg.Kind != config.ActiveDirectory {
		return nil, errors.New("only a directory of the Active Directory kind has machine accounts")
	}
	if cfg.TLS == config.Plain {
		return nil, errors.New("a machine account needs a connection by ldaps or starttls, since its password is set " +
			"over it")
	}
	if in.Computer == "" || len(in.Computer) > 15 || strings.Trim(strings.ToLower(in.Computer),
		"abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		return nil, fmt.Errorf("%q is no name of a computer: at most 15 letters, digits and -", in.Computer)
	}
	out := &Joined{Computer: strings.ToUpper(in.Computer), Password: MachinePassword()}
	err := as(ctx, cfg, in.BindName, in.Password, func(d *Directory, c *ldap.Conn, base string) (err error) {
		if out.Domain, err = d.netBIOS(c, base); err != nil {
			return err
		}
		return d.account(c, base, container(in.OU, base), domainOf(base), out)
	})
	return out, err
}

// container is where machine accounts are made: as given, or the one that the domain keeps for computers.
func container(ou, base string) string {
	if ou == "" {
		return "CN=Computers," + base
	}
	return ou
}

// as does something once, signed in as somebody else than the service account.
func as(ctx context.Context, cfg config.Directory, name, password string, do func(*Directory, *ldap.Conn,
	string) error) error {
	cfg.BindName = name
	cfg.Servers = writable(cfg.Servers)
	d, err := Open(cfg, password)
	if err != nil {
		return err
	}
	defer d.Close()
	ctx, cancel := context.WithTimeout(ctx, 3*cfg.Timeout())
	defer cancel()
	c, err := d.connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := d.bind(c.Conn); err != nil {
		return err
	}
	base, err := d.baseOn(c.Conn)
	if err != nil {
		return err
	}
	return do(d, c.Conn, base)
}

// writable turns the ports of the global catalog, which only reads, into those of the domain.
func writable(servers []string) []string {
	out := make([]string, len(servers))
	for i, server := range servers {
		out[i] = server
		if host, port, err := net.SplitHostPort(server); err == nil {
			switch port {
			case "3268":
				out[i] = net.JoinHostPort(host, "389")
			case "3269":
				out[i] = net.JoinHostPort(host, "636")
			}
		}
	}
	return out
}

// RemoveComputer removes our machine account, with credentials that are used once.
func RemoveComputer(ctx context.Context, cfg config.Directory, name, password string) error {
	return as(ctx, cfg, name, password, func(d *Directory, c *ldap.Conn, base string) error {
		dn, err := d.computerDN(c, base, cfg.Computer)
		if err != nil || dn == "" {
			return err
		}
		if err := c.Del(ldap.NewDelRequest(dn, nil)); err != nil {
			return fmt.Errorf("removing %s: %s", dn, message(err))
		}
		return nil
	})
}

// computerDN finds a machine account, "" if there is none.
func (d *Directory) computerDN(c *ldap.Conn, base, computer string) (string, error) {
	found, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, d.seconds(),
		false,
		fmt.Sprintf("(sAMAccountName=%s$)", ldap.EscapeFilter(computer)), []string{"objectClass"}, nil))
	if err != nil {
		return "", fmt.Errorf("looking for the machine account: %s", message(err))
	}
	if len(found.Entries) == 0 {
		return "", nil
	}
	return found.Entries[0].DN, nil
}

// computerClass is the schema identifier of the class computer.
const computerClass = "bf967a86-0de6-11d0-a285-00aa003049e2"

// Delegation works out what to delegate to an account, so that it can join the domain and nothing else.
func (d *Directory) Delegation(ctx context.Context, name, ou string) (*results.Delegation, error) {
	if d.cfg.Kind != config.ActiveDirectory {
		return nil, errors.New("only a directory of the Active Directory kind has machine accounts")
	}
	bare, _, _ := strings.Cut(name, "@")
	if _, after, ok := strings.Cut(bare, `\`); ok {
		bare = after
	}
	out := &results.Delegation{}
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		out.Container = container(ou, base)
		result, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2,
			d.seconds(), false, fmt.Sprintf("(sAMAccountName=%s)", ldap.EscapeFilter(bare)), []string{"objectSid"},
			nil))
		if err != nil {
			return err
		}
		if len(result.Entries) != 1 {
			return &Failure{Detail: fmt.Sprintf("the domain has no account %q", bare)}
		}
		out.Account, out.SID = result.Entries[0].DN,
			formatSID(result.Entries[0].GetEqualFoldRawAttributeValue("objectSid"))
		out.ACE = fmt.Sprintf("(OA;;CC;%s;;%s)", computerClass, out.SID)
		return nil
	})
	if err != nil {
		_, detail := d.outcome(err)
		return nil, errors.New(detail)
	}
	return out, nil
}

// MachinePassword makes a random password of 256 bits.
func MachinePassword() string {
	var b [32]byte
	rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// netBIOS finds the short name of the domain among the cross references of the forest.
func (d *Directory) netBIOS(c *ldap.Conn, base string) (string, error) {
	root, err := readRoot(c)
	if err != nil {
		return "", err
	}
	where := "CN=Partitions," + root.entry.GetEqualFoldAttributeValue("configurationNamingContext")
	result, err := c.Search(ldap.NewSearchRequest(where, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 2, d.seconds(),
		false, fmt.Sprintf("(&(nCName=%s)(nETBIOSName=*))", ldap.EscapeFilter(base)), []string{"nETBIOSName"}, nil))
	if err != nil {
		return "", fmt.Errorf("reading the short name of the domain: %s", message(err))
	}
	if len(result.Entries) != 1 {
		return "", fmt.Errorf("the short name of the domain was not found under %s", where)
	}
	return result.Entries[0].GetEqualFoldAttributeValue("nETBIOSName"), nil
}

const workstationAccount = "4096"

// account adds the machine account, or takes over one of that name.
func (d *Directory) account(c *ldap.Conn, base, container, realm string, j *Joined) error {
	password := quotedPassword(j.Password)
	dn, err := d.computerDN(c, base, j.Computer)
	if err != nil {
		return err
	}
	if j.DN = dn; dn != "" {
		change := ldap.NewModifyRequest(j.DN, nil)
		change.Replace("unicodePwd", []string{password})
		if err := c.Modify(change); err != nil {
			return fmt.Errorf("setting the password of %s anew: %s", j.DN, message(err))
		}
		return nil
	}
	j.DN = "CN=" + j.Computer + "," + container
	add := ldap.NewAddRequest(j.DN, nil)
	add.Attribute("objectClass", []string{"computer"})
	add.Attribute("sAMAccountName", []string{j.Computer + "$"})
	add.Attribute("userAccountControl", []string{workstationAccount})
	add.Attribute("unicodePwd", []string{password})
	add.Attribute("dNSHostName", []string{strings.ToLower(j.Computer) + "." + strings.ToLower(realm)})
	if err := c.Add(add); err != nil {
		return fmt.Errorf("creating %s: %s", j.DN, message(err))
	}
	return nil
}

// quotedPassword is a password as unicodePwd takes it: UTF-16LE between quotation marks.
func quotedPassword(password string) string { return string(mschap.UTF16(`"` + password + `"`)) }
