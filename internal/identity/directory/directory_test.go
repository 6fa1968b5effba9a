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
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

func TestExplainTellsFaultsApart(t *testing.T) {
	expired := &x509.Certificate{NotBefore: time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), NotAfter: time.Date(2025, 1,
		1, 0, 0, 0, 0, time.UTC)}
	cases := []struct {
		err          error
		mode         config.TLSMode
		says, remedy string
	}{
		{&net.DNSError{Name: "dc9", IsNotFound: true}, config.LDAPS, "not known to DNS", "Correct the name"},
		{&net.DNSError{Name: "dc9", IsTimeout: true}, config.LDAPS, "DNS did not answer", "DNS servers"},
		{fmt.Errorf("dial: %w", syscall.ECONNREFUSED), config.LDAPS, "refuses the connection", "port 636"},
		{fmt.Errorf("dial: %w", syscall.ECONNREFUSED), config.StartTLS, "refuses the connection", "port 389"},
		{syscall.ENETUNREACH, config.LDAPS, "cannot be reached", "route"},
		{x509.UnknownAuthorityError{}, config.LDAPS, "not trusted", "certificate of that authority"},
		{x509.HostnameError{Certificate: &x509.Certificate{DNSNames: []string{"dc1.lanternferries.example"}},
			Host: "dc9"}, config.LDAPS, "dc1.lanternferries.example", "server name"},
		{x509.HostnameError{Certificate: &x509.Certificate{}, Host: "dc9"}, config.LDAPS, "none at all", ""},
		{x509.CertificateInvalidError{Cert: expired, Reason: x509.Expired}, config.LDAPS,
			"valid from 2024-01-01 to 2025-01-01", "clock"},
		{tls.RecordHeaderError{}, config.LDAPS, "does not speak TLS", "starttls"},
		{io.EOF, config.StartTLS, "closed the connection", "port 389"},
		{os.ErrDeadlineExceeded, config.LDAPS, "did not answer in time", "firewalls"},
		{ldap.NewError(ldap.LDAPResultUnwillingToPerform, errors.New("no TLS")), config.StartTLS,
			"does not offer StartTLS", "ldaps"},
		{&Failure{Detail: "said before", Remedy: "do this"}, config.LDAPS, "said before", "do this"},
		{errors.New("something else\xff"), config.LDAPS, "something else?", "Run the test"},
	}
	for _, c := range cases {
		detail, remedy := explain(c.err, c.mode, "192.0.2.53:636")
		if !strings.Contains(detail, c.says) || !strings.Contains(remedy, c.remedy) {
			t.Errorf("%v: %q, %q; wanted %q, %q", c.err, detail, remedy, c.says, c.remedy)
		}
	}
}

func TestBindOutcomes(t *testing.T) {
	detail := func(data string) error {
		return ldap.NewError(ldap.LDAPResultInvalidCredentials,
			fmt.Errorf("80090308: LdapErr: DSID-0C090446, comment: AcceptSecurityContext error, data %s, v4563\x00",
				data))
	}
	cases := map[reason.Code]error{
		reason.OK: nil, reason.PersonUnknown: detail("525"), reason.PersonHours: detail("530"),
		reason.PersonStation:   detail("531"),
		reason.PasswordExpired: detail("532"), reason.PersonDisabled: detail("533"),
		reason.PersonExpired: detail("701"), reason.PasswordMustChange: detail("773"),
		reason.PersonLocked:         detail("775"),
		reason.PasswordWrong:        detail("52e"),
		reason.DirectoryUnreachable: ldap.NewError(ldap.ErrorNetwork, errors.New("broken pipe")),
		reason.DirectoryFailed:      ldap.NewError(ldap.LDAPResultStrongAuthRequired, errors.New("x")),
	}
	for want, err := range cases {
		if got, text := bindOutcome(err); got != want || strings.ContainsRune(text, 0) {
			t.Errorf("%v gives %s, %q; wanted %s", err, got, text, want)
		}
	}
	for _, err := range []error{ldap.NewError(ldap.LDAPResultInvalidCredentials, errors.New("")), detail("9999"),
		ldap.NewError(ldap.LDAPResultInappropriateAuthentication, errors.New("x"))} {
		if got, _ := bindOutcome(err); got != reason.PasswordWrong {
			t.Errorf("%v gives %s", err, got)
		}
	}
	for _, c := range []struct {
		err  error
		says string
	}{{detail("52e"), "is wrong"}, {detail("533"), "not let in: the account is disabled"},
		{ldap.NewError(ldap.LDAPResultStrongAuthRequired, errors.New("x")), "encrypted connection"}} {
		var f *Failure
		if err := bindFailure(c.err, "svc"); !errors.As(err, &f) || !f.Bind || !strings.Contains(f.Detail, c.says) ||
			f.Remedy == "" {
			t.Errorf("%v gives %v", c.err, err)
		}
	}
}

func entry(attributes map[string][]string) *ldap.Entry {
	return ldap.NewEntry("cn=x,dc=example", attributes)
}

func TestAccountStates(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		kind       config.DirectoryKind
		attributes map[string][]string
		want       reason.Code
	}{
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"512"}}, reason.OK},
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"514"}}, reason.PersonDisabled},
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"512"}, "accountExpires": {"0"}},
			reason.OK},
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"512"},
			"accountExpires": {"9223372036854775807"}}, reason.OK},
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"512"},
			"accountExpires": {"133000000000000000"}}, reason.PersonExpired},
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"512"},
			"accountExpires": {"150000000000000000"}}, reason.OK},
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"512"},
			"msDS-User-Account-Control-Computed": {"16"}}, reason.PersonLocked},
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"nonsense"}}, reason.PersonUnreadable},
		{config.ActiveDirectory, nil, reason.PersonUnreadable},
		// written as a signed number
		{config.ActiveDirectory, map[string][]string{"userAccountControl": {"-2147483134"}}, reason.PersonDisabled},
		{config.Generic, nil, reason.OK},
		{config.Generic, map[string][]string{"pwdAccountLockedTime": {"000001010000Z"}}, reason.PersonLocked},
		{config.Generic, map[string][]string{"nsAccountLock": {"TRUE"}}, reason.PersonDisabled},
		{config.Generic, map[string][]string{"shadowExpire": {"20000"}}, reason.PersonExpired},
		{config.Generic, map[string][]string{"shadowExpire": {"30000"}}, reason.OK},
		{config.Generic, map[string][]string{"shadowExpire": {"-1"}}, reason.OK},
	} {
		d := &Directory{cfg: config.Directory{Name: "X", Kind: c.kind}}
		if got := d.person(entry(c.attributes), now).State; got != c.want {
			t.Errorf("%s with %v is %s, wanted %s", c.kind, c.attributes, got, c.want)
		}
	}
}

// A computer is one by its entry, whatever name it was found by, and never a person.
func TestComputersAreToldFromPeople(t *testing.T) {
	for _, c := range []struct {
		attributes map[string][]string
		computer   bool
	}{
		{map[string][]string{"objectClass": {"top", "person", "user"}, "sAMAccountName": {"s.lodge"}}, false},
		{map[string][]string{"objectClass": {"top", "person", "user", "computer"}, "sAMAccountName": {"PC01$"}}, true},
		{map[string][]string{"objectClass": {"top", "person", "user", "Computer"}, "sAMAccountName": {"PC01"}}, true},
		{map[string][]string{"sAMAccountName": {"SVC01$"}}, true},
		{map[string][]string{"objectClass": {"device"}, "cn": {"pc01"}}, true},
	} {
		d := &Directory{cfg: config.Directory{Name: "X", Kind: config.ActiveDirectory}}
		if got := d.person(entry(c.attributes), time.Now()).Kind == facts.Computer; got != c.computer {
			t.Errorf("%v is a computer: %v", c.attributes, got)
		}
	}
}

func TestPersonKeepsBoundedAttributes(t *testing.T) {
	many := make([]string, 500)
	for i := range many {
		many[i] = strings.Repeat("x", 1000)
	}
	d := &Directory{cfg: config.Directory{Name: "X", Kind: config.Generic, Attributes: []string{"description"}}}
	p := d.person(entry(map[string][]string{"UID": {"s.lodge"}, "cn": {"Sunniva Lodge"}, "Mail": {"m"},
		"Description": many, "other": {"y"}}), time.Now())
	if p.Name != "s.lodge" || p.Display != "Sunniva Lodge" || p.Attributes["mail"][0] != "m" ||
		p.Attributes["other"] != nil {
		t.Errorf("read %+v", p)
	}
	if n := len(p.Attributes["description"]); n != 20 || len(p.Attributes["description"][0]) > 310 {
		t.Errorf("%d values of %d octets are kept", n, len(p.Attributes["description"][0]))
	}
}

func TestFiltersAreEscaped(t *testing.T) {
	for _, kind := range []config.DirectoryKind{config.Generic, config.ActiveDirectory} {
		d := &Directory{cfg: config.Directory{Kind: kind}}
		for _, name := range []string{"*", "a)(uid=*", "a\\b", "nul\x00", "(", "ü"} {
			for _, filter := range []string{d.personFilter(name), d.groupsFilter(name)} {
				p, err := ldap.CompileFilter(filter)
				if err != nil {
					t.Errorf("%q makes %s: %v", name, filter, err)
					continue
				}
				if again, err := ldap.DecompileFilter(p); err != nil || strings.Count(again, "(uid=") > 1 {
					t.Errorf("%q makes %s", name, again)
				}
			}
		}
	}
	if got := escapeOctets([]byte{0, 0xff, 'a'}); got != `\00\ff\61` {
		t.Errorf("octets are escaped as %s", got)
	}
}

func TestDomainOf(t *testing.T) {
	for base, want := range map[string]string{"dc=lantern,dc=example": "lantern.example", "OU=x,DC=a,DC=b": "a.b",
		"o=ferries": "", "nonsense": ""} {
		if got := domainOf(base); got != want {
			t.Errorf("%s is %q", base, got)
		}
	}
}

func TestPoolIsBounded(t *testing.T) {
	var p pool
	p.init()
	for range poolSize {
		if c, err := p.take(context.Background()); c != nil || err != nil {
			t.Fatalf("taken %v, %v", c, err)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if _, err := p.take(ctx); err == nil {
		t.Error("one more than allowed is taken")
	}
	p.drop(nil)
	if _, err := p.take(context.Background()); err != nil {
		t.Errorf("after one was given back: %v", err)
	}
}

func TestEmptyPasswordNeverReachesTheDirectory(t *testing.T) {
	d, err := Open(config.Directory{Name: "X", Servers: []string{"127.0.0.1:1"}, TLS: config.Plain}, "")
	if err != nil {
		t.Fatal(err)
	}
	if code, _ := d.CheckPassword(context.Background(), "cn=x", ""); code != reason.PasswordEmpty {
		t.Errorf("an empty password gives %s", code)
	}
	if code, detail := d.CheckPassword(context.Background(), "cn=x", "y"); code != reason.DirectoryUnreachable ||
		detail == "" {
		t.Errorf("without a server: %s, %q", code, detail)
	}
	if _, code, detail := d.Find(context.Background(), "x"); code != reason.DirectoryUnreachable ||
		!strings.Contains(detail, "refuses") {
		t.Errorf("without a server: %s, %q", code, detail)
	}
}

func TestTheDomainAboveAnEntry(t *testing.T) {
	names := map[string]string{"dc=lantern,dc=example": "LANTERN", "dc=ships,dc=lantern,dc=example": "SHIPS"}
	for dn, want := range map[string]string{"CN=S,OU=Pier,DC=Lantern,DC=Example": "LANTERN",
		"cn=x\\,y,dc=ships,dc=lantern,dc=example": "SHIPS", "cn=x,dc=other": "", "": ""} {
		if got := domainAbove(names, dn); got != want {
			t.Errorf("%s lies in %q, wanted %q", dn, got, want)
		}
	}
}

func TestIdentifiers(t *testing.T) {
	const sid = "S-1-5-21-1004336348-1177238915-682003330-512"
	raw, ok := parseSID(sid)
	if !ok || formatSID(raw) != sid {
		t.Errorf("%s comes back as %s", sid, formatSID(raw))
	}
	for _, text := range []string{"", "S", "S-1", "S-1-x", "S-1-5-99999999999", "S-300-5", "X-1-5-32"} {
		if _, ok := parseSID(text); ok {
			t.Errorf("%q is taken for an identifier", text)
		}
	}
	if got := formatGUID([]byte{0x33, 0x22, 0x11, 0x00, 0x55, 0x44, 0x77, 0x66, 0x88, 0x99, 0xaa, 0xbb, 0xcc, 0xdd,
		0xee, 0xff}); got != "00112233-4455-6677-8899-aabbccddeeff" {
		t.Errorf("a GUID is %s", got)
	}
	names := &groupNames{}
	names.init([]config.PickedGroup{{ID: "S-1-5-1", Name: "Crew"}})
	if got := fmt.Sprint(names.of([]results.Group{{ID: "S-1-5-1", Name: "Deckhands"}, {ID: "S-1-5-2", Name: "crew",
		DN: "CN=crew"}, {ID: "S-1-5-3"}, {ID: "S-1-5-4", Name: "Ashore"},
		{ID: "S-1-5-5", Name: "Ashore"}})); got != "[Ashore CN=crew Crew]" {
		t.Errorf("the names are %s", got)
	}
}

func FuzzIdentifiers(f *testing.F) {
	f.Add([]byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 32, 2, 0, 0})
	f.Add([]byte{1, 255})
	f.Fuzz(func(t *testing.T, b []byte) {
		text := formatSID(b)
		if text == "" {
			return
		}
		raw, ok := parseSID(text)
		if len(b) <= 8+15*4 && (!ok || string(raw) != string(b)) {
			t.Errorf("%x is %s, which is %x", b, text, raw)
		}
	})
}
