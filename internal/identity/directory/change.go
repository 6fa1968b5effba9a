package directory

import (
	"context"
	"errors"
	"strings"

	ldap "github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
)

// ChangePassword has a person's password changed by the directory, which checks the old one: in Active Directory by
// deleting the old and adding the new value of unicodePwd, which anybody may do who knows the old one; elsewhere by the
// password modify operation (RFC 3062) as the person. Both need TLS, since the passwords go over the wire.
func (d *Directory) ChangePassword(ctx context.Context, dn, old, next string) (reason.Code, string) {
	if d.cfg.TLS == config.Plain {
		return reason.PasswordRejected, "the connection to the directory is not protected, so no password is sent " +
			"for changing"
	}
	ctx, cancel := context.WithTimeout(ctx, 2*d.cfg.Timeout())
	defer cancel()
	c, err := d.connect(ctx)
	if err != nil {
		return d.outcome(err)
	}
	defer c.Close()
	c.SetTimeout(d.share())
	if d.cfg.Kind == config.ActiveDirectory {
		if err := d.bind(c.Conn); err != nil {
			return d.outcome(err)
		}
		change := ldap.NewModifyRequest(dn, nil)
		change.Delete("unicodePwd", []string{quotedPassword(old)})
		change.Add("unicodePwd", []string{quotedPassword(next)})
		return changeOutcome(c.Modify(change))
	}
	if err := c.Bind(dn, old); err != nil {
		return bindOutcome(err)
	}
	_, err = c.PasswordModify(ldap.NewPasswordModifyRequest("", old, next))
	return changeOutcome(err)
}

func changeOutcome(err error) (reason.Code, string) {
	var said *ldap.Error
	switch {
	case err == nil:
		return reason.OK, ""
	case !errors.As(err, &said) || broken(err):
		return reason.DirectoryUnreachable, err.Error()
	// ERROR_INVALID_PASSWORD
	case said.ResultCode == ldap.LDAPResultInvalidCredentials, strings.Contains(err.Error(), "00000056"):
		return reason.PasswordWrong, "the old password that came with the change"
	case said.ResultCode == ldap.LDAPResultConstraintViolation, said.ResultCode == ldap.LDAPResultUnwillingToPerform:
		return reason.PasswordRejected, "it breaks a rule of the directory on length, kinds of characters, age or " +
			"repetition: " + said.Err.Error()
	}
	return reason.PasswordRejected, "the directory does not let people change their own: " + said.Error()
}
