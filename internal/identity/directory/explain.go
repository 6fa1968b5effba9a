package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"regexp"
	"strings"
	"syscall"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
)

// explain says in plain words why a server could not be reached or trusted, and what to do.
func explain(err error, mode config.TLSMode, server string) (detail, remedy string) {
	var failure *Failure
	if errors.As(err, &failure) {
		return failure.Detail, failure.Remedy
	}
	var dns *net.DNSError
	var unknown x509.UnknownAuthorityError
	var hostname x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &dns):
		if dns.IsNotFound {
			return fmt.Sprintf("the name %s is not known to DNS", dns.Name),
				"Correct the name, or use the address of the server."
		}
		return fmt.Sprintf("DNS did not answer when asked for %s: %s", dns.Name, dns.Err),
			"Check the DNS servers that are asked: " + dns.Server + "."
	case errors.Is(err, syscall.ECONNREFUSED):
		return server + " refuses the connection", "No directory listens on this port. " + portHint(mode)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return server + " cannot be reached from here", "Check the address and the route to it."
	case errors.As(err, &unknown):
		issuer := "an unknown authority"
		if unknown.Cert != nil {
			issuer = fmt.Sprintf("%q", unknown.Cert.Issuer.CommonName)
		}
		return fmt.Sprintf("the certificate of %s was issued by %s, which is not trusted", server, issuer),
			"Give the certificate of that authority (PEM) to this directory."
	case errors.As(err, &hostname):
		names := append([]string(nil), hostname.Certificate.DNSNames...)
		for _, ip := range hostname.Certificate.IPAddresses {
			names = append(names, ip.String())
		}
		if len(names) == 0 {
			names = []string{"none at all"}
		}
		return fmt.Sprintf("the certificate of %s is for other names: %s", server, strings.Join(names, ", ")),
			"Use one of these names as the server, or set the server name."
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return fmt.Sprintf("the certificate of %s is valid from %s to %s, which is not now", server,
				invalid.Cert.NotBefore.Format("2006-01-02"), invalid.Cert.NotAfter.Format("2006-01-02")),
			"Renew the certificate of the directory server, or correct the clock of this machine."
	case errors.As(err, &record), strings.Contains(err.Error(), "first record does not look like a TLS handshake"):
		return server + " does not speak TLS from the first octet", "This port is for starttls; for ldaps use port 636."
	case ldap.IsErrorWithCode(err, ldap.LDAPResultUnwillingToPerform), ldap.IsErrorWithCode(err,
		ldap.LDAPResultProtocolError), ldap.IsErrorWithCode(err, ldap.LDAPResultUnavailable):
		if mode == config.StartTLS {
			return server + " does not offer StartTLS: " + message(err),
				"Use ldaps (port 636), or give the server a certificate."
		}
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.ErrUnexpectedEOF),
		strings.HasSuffix(err.Error(), "EOF"):
		return server + " closed the connection", portHint(mode)
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() || errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err,
		context.DeadlineExceeded) || ldap.IsErrorWithCode(err, ldap.ErrorNetwork) && strings.Contains(err.Error(),
		"timed out") {
		return server + " did not answer in time", "Check the address, the port and firewalls on the way. " +
			portHint(mode)
	}
	if mode == config.StartTLS && ldap.IsErrorWithCode(err, ldap.ErrorNetwork) {
		return server + " closed the connection when asked for StartTLS: " + message(err), portHint(mode)
	}
	return server + ": " + message(err), "Run the test of this directory; it shows which step fails."
}

func portHint(mode config.TLSMode) string {
	if mode == config.LDAPS {
		return "ldaps is usually on port 636; port 389 is for starttls."
	}
	return fmt.Sprintf("%s is usually on port 389; port 636 is for ldaps.", mode)
}

// message takes the wrapping of the LDAP library off an error.
func message(err error) string {
	var e *ldap.Error
	if errors.As(err, &e) {
		text := ldap.LDAPResultCodeMap[e.ResultCode]
		if e.Err != nil && e.Err.Error() != "" {
			text += ": " + strings.TrimSpace(strings.Trim(e.Err.Error(), "\x00"))
		}
		return short(text)
	}
	return short(err.Error())
}

func short(text string) string {
	if len(text) > 300 {
		text = text[:300] + "..."
	}
	return strings.ToValidUTF8(text, "?")
}

// subCode finds the detail code that directories of the Active Directory kind put into bind errors.
var subCode = regexp.MustCompile(`\bdata ([0-9a-fA-F]{3,8})\b`)

// subCodes are those details; the texts are for the trace.
var subCodes = map[string]struct {
	code reason.Code
	text string
}{
	"525": {reason.PersonUnknown, "no such account"},
	"52e": {reason.PasswordWrong, "wrong name or password"},
	"530": {reason.PersonHours, "not at this hour"},
	"531": {reason.PersonStation, "not on this workstation"},
	"532": {reason.PasswordExpired, "the password has expired"},
	"533": {reason.PersonDisabled, "the account is disabled"},
	"701": {reason.PersonExpired, "the account has expired"},
	"773": {reason.PasswordMustChange, "the password must be changed"},
	"775": {reason.PersonLocked, "the account is locked"},
}

// bindOutcome says what the result of binding as a person means.
func bindOutcome(err error) (reason.Code, string) {
	switch {
	case err == nil:
		return reason.OK, ""
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials), ldap.IsErrorWithCode(err,
		ldap.LDAPResultConstraintViolation), ldap.IsErrorWithCode(err, ldap.LDAPResultUnwillingToPerform):
		if m := subCode.FindStringSubmatch(err.Error()); m != nil {
			if known, ok := subCodes[strings.ToLower(m[1])]; ok {
				return known.code, fmt.Sprintf("%s (data %s)", known.text, strings.ToLower(m[1]))
			}
		}
		if !ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials) {
			return reason.PersonLocked, message(err)
		}
		return reason.PasswordWrong, "the directory says: " + message(err)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInappropriateAuthentication), ldap.IsErrorWithCode(err,
		ldap.LDAPResultNoSuchObject):
		return reason.PasswordWrong, "the account has no password that could be checked"
	case broken(err):
		return reason.DirectoryUnreachable, message(err)
	}
	return reason.DirectoryFailed, message(err)
}

// bindFailure explains why our own service account is not let in.
func bindFailure(err error, name string) error {
	if broken(err) {
		return err
	}
	f := &Failure{Bind: true}
	code, text := bindOutcome(err)
	switch code {
	case reason.PasswordWrong, reason.PersonUnknown:
		f.Detail = fmt.Sprintf("the name or password of %s is wrong", name)
		f.Remedy = "Type the password again. The name may be a DN, name@domain, or DOMAIN\\name."
	case reason.DirectoryFailed, reason.DirectoryUnreachable:
		f.Detail = "binding as " + name + ": " + text
		f.Remedy = "Ask the administrator of the directory."
		if ldap.IsErrorWithCode(err, ldap.LDAPResultStrongAuthRequired) || ldap.IsErrorWithCode(err,
			ldap.LDAPResultConfidentialityRequired) {
			f.Detail, f.Remedy = "the directory wants an encrypted connection", "Choose ldaps or starttls."
		}
	default:
		f.Detail = fmt.Sprintf("the service account %s is not let in: %s", name, text)
		f.Remedy = "Put the service account right in the directory, and let its password not expire."
	}
	return f
}
