package directory

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
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
		return nil, errors.New("a machine account needs a connection by ldaps or starttls, since its password is set over it")
	}
	if in.Computer == "" || len(in.Computer) > 15 || strings.Trim(strings.ToLower(in.Computer), "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		return nil, fmt.Errorf("%q is no name of a computer: at most 15 letters, digits and -", in.Computer)
	}
	cfg.BindName = in.BindName
	d, err := Open(cfg, in.Password)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	ctx, cancel := context.WithTimeout(ctx, 3*cfg.Timeout())
	defer cancel()
	c, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if err := d.bind(c.Conn); err != nil {
		return nil, err
	}
	base, err := d.baseOn(c.Conn)
	if err != nil {
		return nil, err
	}
	out := &Joined{Computer: strings.ToUpper(in.Computer), Password: machinePassword()}
	if out.Domain, err = d.netBIOS(c.Conn, base); err != nil {
		return nil, err
	}
	container := in.OU
	if container == "" {
		container = "CN=Computers," + base
	}
	return out, d.account(c.Conn, base, container, domainOf(base), out)
}

// machinePassword is a random password of 256 bits.
func machinePassword() string {
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
	result, err := c.Search(ldap.NewSearchRequest(where, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 2, d.seconds(), false, fmt.Sprintf("(&(nCName=%s)(nETBIOSName=*))", ldap.EscapeFilter(base)), []string{"nETBIOSName"}, nil))
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
	found, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, d.seconds(), false,
		fmt.Sprintf("(sAMAccountName=%s$)", ldap.EscapeFilter(j.Computer)), []string{"objectClass"}, nil))
	if err != nil {
		return fmt.Errorf("looking for the machine account: %s", message(err))
	}
	if len(found.Entries) > 0 {
		j.DN = found.Entries[0].DN
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
