package e2e

import (
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// odd is a directory that misbehaves: answer gets each request, and writes what it likes.
func odd(t *testing.T, answer func(c net.Conn, id int64, op *ber.Packet) bool) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for {
					request, err := ber.ReadPacket(c)
					if err != nil || len(request.Children) < 2 {
						return
					}
					if !answer(c, request.Children[0].Value.(int64), request.Children[1]) {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// message wraps an operation.
func message(id int64, op *ber.Packet) []byte {
	p := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	p.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
	p.AppendChild(op)
	return p.Bytes()
}

// result is the end of an operation; a referral names where else to look.
func result(id int64, tag ber.Tag, code int64, referral string) []byte {
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "")
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, code, ""))
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
	if referral != "" {
		list := ber.Encode(ber.ClassContext, ber.TypeConstructed, 3, nil, "")
		list.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, referral, ""))
		op.AppendChild(list)
	}
	return message(id, op)
}

// found is an entry of a search.
func found(id int64, dn string, attributes map[string][]string) []byte {
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultEntry, nil, "")
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, dn, ""))
	list := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	for name, values := range attributes {
		one := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
		one.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, name, ""))
		set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
		for _, v := range values {
			set.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, v, ""))
		}
		one.AppendChild(set)
		list.AppendChild(one)
	}
	op.AppendChild(list)
	return message(id, op)
}

// Whatever a directory does, an attempt ends within the set time, with a reason that names the server, and nobody is
// admitted.
func TestHostileDirectories(t *testing.T) {
	t.Parallel()
	bound := func(c net.Conn, id int64, op *ber.Packet) bool {
		if op.Tag == ldap.ApplicationBindRequest {
			c.Write(result(id, ldap.ApplicationBindResponse, 0, ""))
			return true
		}
		return false
	}
	var self string
	cases := map[string]func(c net.Conn, id int64, op *ber.Packet) bool{
		"never answers": func(c net.Conn, id int64, op *ber.Packet) bool {
			return bound(c, id, op) || op.Tag == ldap.ApplicationSearchRequest
		},
		"refers to itself": func(c net.Conn, id int64, op *ber.Packet) bool {
			if !bound(c, id, op) {
				c.Write(result(id, ldap.ApplicationSearchResultDone, 10, "ldap://"+self+
					"/dc=lanternferries,dc=example"))
			}
			return true
		},
		"refers inside the results": func(c net.Conn, id int64, op *ber.Packet) bool {
			if !bound(c, id, op) {
				reference := ber.Encode(ber.ClassApplication, ber.TypeConstructed,
					ldap.ApplicationSearchResultReference, nil, "")
				reference.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString,
					"ldap://"+self+"/", ""))
				for range 1000 {
					c.Write(message(id, reference))
				}
				c.Write(result(id, ldap.ApplicationSearchResultDone, 0, ""))
			}
			return true
		},
		"answers 10 MB": func(c net.Conn, id int64, op *ber.Packet) bool {
			if !bound(c, id, op) {
				c.Write(found(id, "uid=k.nance,dc=lanternferries,dc=example", map[string][]string{"uid": {"k.nance"},
					"jpegPhoto": {strings.Repeat("x", 10<<20)}}))
			}
			return true
		},
		"answers without end": func(c net.Conn, id int64, op *ber.Packet) bool {
			if bound(c, id, op) {
				return true
			}
			entry := found(id, "uid=k.nance,dc=lanternferries,dc=example", map[string][]string{"uid": {"k.nance"}})
			for {
				if _, err := c.Write(entry); err != nil {
					return false
				}
			}
		},
		"answers nonsense": func(c net.Conn, id int64, op *ber.Packet) bool {
			c.Write([]byte("HTTP/1.1 200 OK\r\n\r\nhello"))
			return false
		},
		"answers another request": func(c net.Conn, id int64, op *ber.Packet) bool {
			if !bound(c, id, op) {
				c.Write(result(id+77, ldap.ApplicationSearchResultDone, 0, ""))
			}
			return true
		},
		"closes at once": func(net.Conn, int64, *ber.Packet) bool { return false },
	}
	w := start(t)
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "ticketing", VLAN: "20"}, nil)
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "All", When: "always", Methods: []string{"pap"},
		Policies: []*config.Policy{{Name: "All", Enabled: true, When: "always", Outcome: config.Admit,
			Pass: "ticketing"}}}, nil)
	var suffixes []string
	for name, answer := range cases {
		self = odd(t, answer)
		suffix := strings.ReplaceAll(name, " ", "-") + ".example"
		suffixes = append(suffixes, suffix)
		w.do(http.MethodPost, "/directories", apitype.DirectoryInput{BindPassword: "x",
			DirectoryFields: apitype.DirectoryFields{Name: name, Kind: "generic", Servers: []string{self},
				TLS: "plain", BindName: "cn=x", Base: "dc=lanternferries,dc=example",
				Attributes: []string{"jpegPhoto"}, TimeoutMillis: 500}}, nil)
		w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: name,
			Forms: []config.Form{{Kind: config.Suffix, Value: suffix}}, Rewrite: "{name}",
			Lookup: []config.Lookup{{Store: name, Unreachable: config.Refuse}}}, nil)
	}
	w.publish()
	var wait sync.WaitGroup
	for _, suffix := range suffixes {
		for range 3 {
			wait.Go(func() {
				begun := time.Now()
				reply, err := w.ask(func(r *trial.Request) {
					r.User, r.Password, r.Timeout = "k.nance@"+suffix, "gangway-and-rope", 8*time.Second
				})
				if took := time.Since(begun); err != nil || reply.Accepted || took > 5*time.Second {
					t.Errorf("%s: accepted %v after %v, %v", suffix, reply.Accepted, took, err)
				}
			})
		}
	}
	wait.Wait()
	for _, a := range w.attempts("verdict=refused", 3*len(suffixes)) {
		if !strings.HasPrefix(a.Reason, "directory.") && a.Reason != "person.unknown" &&
			a.Reason != "person.ambiguous" {
			t.Errorf("%s is refused by %s", a.Sent, a.Reason)
		}
		if strings.Contains(a.Sent, "never-answers") {
			w.wants(0, []string{"attempt", "explain", a.ID}, "never answers")
		}
	}
}

// Names with everything that filters and DNs are written with, and letters of other scripts, find exactly whom they
// name.
func TestOddNamesFindTheRightPerson(t *testing.T) {
	t.Parallel()
	names := []string{`o'malley`, `a*b`, `p(q)r`, `x\y`, `c,d+e`, `f#g`, `h<i>j`, `k;l="m"`, `øyvind.å`, `たかし`, `юлия`,
		`n o p`, `*`, `)(uid=*`}
	var ldif strings.Builder
	for i, name := range names {
		fmt.Fprintf(&ldif, "dn: employeeNumber=%d,ou=people,dc=lanternferries,dc=example\nobjectClass: "+
			"inetOrgPerson\nemployeeNumber: %d\nuid:: %s\ncn: Person %d\nsn: Person\nuserPassword: harbour-%d\n\n", i,
			i, base64.StdEncoding.EncodeToString([]byte(name)), i, i)
	}
	s := startSlapdWith(t, ldif.String(), "")
	w := start(t)
	w.do(http.MethodPost, "/directories", s.input(nil), nil)
	for i, name := range names {
		var out apitype.Found
		w.do(http.MethodGet, "/directories/PIER/people/"+url.PathEscape(name), nil, &out)
		if out.Person == nil ||
			out.Person.ID != fmt.Sprintf("employeeNumber=%d,ou=people,dc=lanternferries,dc=example", i) {
			t.Errorf("%q finds %+v (%s)", name, out.Person, out.Reason)
		}
	}
	for _, name := range []string{"a", "a*", "**", "o", "p(q", `\2a`} {
		var out apitype.Found
		if w.do(http.MethodGet, "/directories/PIER/people/"+url.PathEscape(name), nil, &out); out.Person != nil {
			t.Errorf("%q finds %s", name, out.Person.ID)
		}
	}
}

// Checking passwords by binding, against a real directory: how fast, and nobody refused who is right.
func TestPasswordsByBind(t *testing.T) {
	s := startSlapd(t)
	w := start(t)
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil)
	w.do(http.MethodPost, "/directories", s.input(func(in *apitype.DirectoryInput) { in.CacheSeconds = new(60) }), nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "shore", Forms: []config.Form{{Kind: config.Bare}},
		Rewrite: "{name}", Lookup: []config.Lookup{{Store: "PIER", Unreachable: config.Refuse}}}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "ticketing", VLAN: "20"}, nil)
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Wired", When: "always", Methods: []string{"pap"},
		Policies: []*config.Policy{{Name: "Shore", Enabled: true, When: `group is "Shore Staff"`, Outcome: config.Admit,
			Pass: "ticketing"}}}, nil)
	w.publish()
	bind, err := ldap.DialURL("ldap://" + s.ldap)
	if err != nil {
		t.Fatal(err)
	}
	defer bind.Close()
	var mu sync.Mutex // one connection, one bind at a time
	bare := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return bind.Bind("uid=s.lodge,ou=people,dc=lanternferries,dc=example", "harbour-s.lodge") == nil
	}
	pap := func() bool {
		reply, err := w.ask(func(r *trial.Request) {
			r.User, r.Password, r.Timeout = "s.lodge", "harbour-s.lodge",
				5*time.Second
		})
		return err == nil && reply.Accepted
	}
	a, b := rate(t, 1, 2*time.Second, bare), rate(t, 8, 2*time.Second, pap)
	t.Logf("bare binds on one connection %.0f/s, PAP attempts %.0f/s: %.2f", a, b, b/a)
	if b < 100 {
		t.Errorf("%.0f PAP attempts a second", b)
	}
}
