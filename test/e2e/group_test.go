package e2e

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// ofDomain is the directory of the real domain controller.
func ofDomain(ca *lab.Authority, servers ...string) apitype.DirectoryInput {
	if len(servers) == 0 {
		servers = []string{controller}
	}
	return apitype.DirectoryInput{BindPassword: "Harbour-svc-tollgate-1",
		DirectoryFields: apitype.DirectoryFields{Name: "LANTERN", Kind: "active-directory", Servers: servers,
			TLS: "ldaps", CA: ca.PEM,
			BindName: "svc-tollgate@lantern.example", Attributes: []string{"department"}, TimeoutMillis: 3000,
			CacheSeconds: new(60)}}
}

// shore makes a client, the realm and a lane by PAP that admits by a condition.
func (w *world) shore(in apitype.DirectoryInput, when string) {
	w.t.Helper()
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "np-switch-1", Enabled: true, Addresses: []string{"127.0.0.1"},
			MessageAuthenticator: "require"}}, nil)
	w.do(http.MethodPost, "/directories", in, nil)
	w.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "shore", Forms: []config.Form{{Kind: config.Bare},
		{Kind: config.Suffix, Value: "lantern.example"}}, Rewrite: "{name}",
		Lookup: []config.Lookup{{Store: "LANTERN", Unreachable: config.Refuse}}}, nil)
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "ticketing", VLAN: "20"}, nil)
	w.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Wired", When: "always", Methods: []string{"pap"},
		Policies: []*config.Policy{{Name: "Shore", Enabled: true, When: when, Outcome: config.Admit,
			Pass: "ticketing"}}}, nil)
	w.publish()
}

// vlan signs somebody in by PAP, and tells the VLAN, or else why not.
func (w *world) vlan(user, password string) string {
	w.t.Helper()
	reply, err := w.ask(func(r *trial.Request) { r.User, r.Password = user, password })
	if err != nil {
		w.t.Fatalf("%s: %v", user, err)
	}
	w.asked++
	if last := w.newest(w.asked); !reply.Accepted {
		return last.Reason
	}
	for _, a := range reply.Attributes {
		if a.Name == "Tunnel-Private-Group-ID" {
			return a.Value
		}
	}
	return ""
}

// Groups of a real domain: picked ones follow renames, a stranger of the same name does not count, nested and primary
// groups and mail groups do, and what is remembered can be forgotten.
func TestPickedGroupsFollowRenames(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	admin := administrator(t, dc.ca)
	group := func(name string, attributes map[string][]string) {
		t.Helper()
		r := ldap.NewAddRequest("CN="+name+",CN=Users,"+domainBase, nil)
		r.Attribute("objectClass", []string{"group"})
		r.Attribute("sAMAccountName", []string{"g" + fmt.Sprint(len(name), name[:1])})
		for attribute, values := range attributes {
			r.Attribute(attribute, values)
		}
		if err := admin.Add(r); err != nil {
			t.Fatalf("adding %s: %v", name, err)
		}
	}
	lodge := "CN=s.lodge,CN=Users," + domainBase
	group("Sea News", map[string][]string{"groupType": {"2"}, "member": {lodge}}) // a mail group
	group(`Deck (Nörd) \2C \2B\3D*`, map[string][]string{"member": {"CN=Ticketing,CN=Users," + domainBase}})
	w := start(t)
	w.shore(ofDomain(dc.ca), `group is "Shore Staff"`)
	w.wants(0, []string{"directory", "groups", "LANTERN", "STAFF"}, "Shore Staff")
	w.wants(0, []string{"directory", "groups", "LANTERN", "(nörd) , +=*"}, "Deck (Nörd) , +=*")
	w.wants(0, []string{"directory", "groups", "LANTERN", "no such group"}, "None.")
	w.wants(0, []string{"directory", "pick", "LANTERN", "Shore Staff", "-publish"}, "picked")
	w.refused(422, http.MethodPost, "/directories/LANTERN/pick", apitype.PickInput{ID: "S-1-5-21-9-9-9-9"},
		"no group S-1-5-21-9-9-9-9")
	if got := w.vlan("s.lodge", "Harbour-s.lodge-1"); got != "20" {
		t.Errorf("before the group is renamed: %s", got)
	}
	w.wants(0, []string{"directory", "find", "LANTERN", "s.lodge"}, "through Ticketing", "Domain Users",
		"primary group", "Sea News", "Deck (Nörd) , +=*", "ticketing, VLAN 20", "s.lodge@lantern.example")
	if err := admin.ModifyDN(ldap.NewModifyDNRequest("CN=Shore Staff,CN=Users,"+domainBase, "CN=Ashore", true,
		"")); err != nil {
		t.Fatal(err)
	}
	group("Shore Staff", map[string][]string{"member": {"CN=b.tulloch,CN=Users," + domainBase, lodge}})
	w.wants(0, []string{"directory", "forget", "LANTERN"}, "1 dropped")
	if got := w.vlan("s.lodge", "Harbour-s.lodge-1"); got != "20" {
		t.Errorf("after the group was renamed: %s", got)
	}
	if groups := strings.Join(w.newest(w.asked).Facts.Person.Groups, ";"); !strings.Contains(groups,
		"CN=Shore Staff,CN=Users,"+domainBase) || strings.Contains(groups, "Ashore") {
		t.Errorf("the stranger of the same name is not told apart: %s", groups)
	}
	w.wants(0, []string{"directory", "picked", "LANTERN"}, "Shore Staff", "Ashore")
	m := ldap.NewModifyRequest("CN=Ashore,CN=Users,"+domainBase, nil)
	m.Delete("member", []string{"CN=Ticketing,CN=Users," + domainBase})
	if err := admin.Modify(m); err != nil {
		t.Fatal(err)
	}
	if got := w.vlan("s.lodge", "Harbour-s.lodge-1"); got != "20" {
		t.Errorf("what was remembered is not used: %s", got)
	}
	w.wants(0, []string{"directory", "forget", "LANTERN", "s.lodge"}, "1 dropped")
	if got := w.vlan("s.lodge", "Harbour-s.lodge-1"); got != "policy.none" {
		t.Errorf("after the membership ended: %s", got)
	}
	again := ldap.NewModifyRequest("CN=Ashore,CN=Users,"+domainBase, nil)
	again.Add("member", []string{lodge})
	if err := admin.Modify(again); err != nil {
		t.Fatal(err)
	}
	if got := w.vlan("s.lodge", "Harbour-s.lodge-1"); got != "20" {
		t.Errorf("somebody who was refused, remembered, and is given the group waits for it: %s", got)
	}
	if err := admin.Del(ldap.NewDelRequest("CN=Ashore,CN=Users,"+domainBase, nil)); err != nil {
		t.Fatal(err)
	}
	w.wants(1, []string{"directory", "picked", "LANTERN"}, "gone")
	w.wants(0, []string{"directory", "unpick", "LANTERN", "Shore Staff", "-publish"}, "no longer picked")
	if got := w.vlan("s.lodge", "Harbour-s.lodge-1"); got != "20" {
		t.Errorf("by its name alone, the new group counts: %s", got)
	}
}

// People are copied below a subtree: those who lack an attribute are listed and stop nobody, somebody renamed stays the
// same, and who is removed is marked.
func TestCopyOfPeople(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	admin := administrator(t, dc.ca)
	w := start(t)
	w.shore(ofDomain(dc.ca), "always")
	w.wants(1, []string{"directory", "copy", "LANTERN"}, "has no subtree to copy")
	w.wants(1, []string{"directory", "change", "LANTERN", "-copy-every", "2"}, "5 minutes to a week")
	w.wants(0, []string{"directory", "change", "LANTERN", "-copy-below", "CN=Users," + domainBase, "-copy-wanted",
		"department", "-publish"}, "published")
	w.wants(0, []string{"directory", "copied", "LANTERN"}, "No copy was made yet")
	w.wants(0, []string{"directory", "copy", "LANTERN"}, "below CN=Users", "people copied", "0 are no longer there")
	w.wants(0, []string{"directory", "copied", "LANTERN", "ticketing"}, "s.lodge", "The s.lodge")
	w.wants(0, []string{"directory", "copied", "LANTERN", "-missing"}, "b.tulloch", "person.disabled", "department")
	if err := admin.ModifyDN(ldap.NewModifyDNRequest("CN=b.tulloch,CN=Users,"+domainBase, "CN=Brid Tulloch", true,
		"")); err != nil {
		t.Fatal(err)
	}
	if err := admin.Del(ldap.NewDelRequest("CN=f.oakes,CN=Users,"+domainBase, nil)); err != nil {
		t.Fatal(err)
	}
	w.wants(0, []string{"directory", "copy", "LANTERN"}, "1 are no longer there")
	if out := w.wants(0, []string{"directory", "copied", "LANTERN", "-gone"}, "f.oakes",
		"gone since"); strings.Contains(out, "tulloch") {
		t.Errorf("somebody renamed is taken for gone: %s", out)
	}
	var page, next apitype.Copy
	w.do(http.MethodGet, "/directories/LANTERN/copy?limit=2", nil, &page)
	w.do(http.MethodGet, "/directories/LANTERN/copy?limit=2&after="+page.Next, nil, &next)
	if len(page.Items) != 2 || page.Run == nil || page.Run.Ended == nil || len(next.Items) != 2 ||
		next.Items[0].Name <= page.Items[1].Name {
		t.Errorf("pages %+v, %+v", page, next)
	}
	dc.stop()
	w.wants(1, []string{"directory", "copy", "LANTERN"}, "reading the people below CN=Users")
	w.wants(0, []string{"directory", "copied", "LANTERN", "-gone"}, "f.oakes", "failed after 0 people")
	w.do(http.MethodGet, "/directories/LANTERN/copy?gone=true", nil, &page)
	if len(page.Items) != 1 {
		t.Errorf("a run that failed marked %d people as gone", len(page.Items))
	}
}

// A directory with 20,000 groups is searched by any part of a name, and paged through, quickly.
func TestTwentyThousandGroups(t *testing.T) {
	var ldif strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&ldif, "dn: cn=Crew of ship %05d,ou=groups,dc=lanternferries,dc=example\nobjectClass: "+
			"groupOfNames\ncn: Crew of ship %05d\nmember: uid=s.lodge,ou=people,dc=lanternferries,dc=example\n\n", i, i)
	}
	big := startSlapdWith(t, ldif.String(), "sizelimit unlimited\nindex objectClass,member eq")
	w := start(t)
	w.do(http.MethodPost, "/directories", big.input(func(in *apitype.DirectoryInput) {
		in.Name, in.TimeoutMillis = "big", 5000
	}), nil)
	page := func(q, after string, limit int) (out apitype.Groups) {
		t.Helper()
		w.do(http.MethodGet, "/directories/big/groups?"+url.Values{"q": {q}, "after": {after},
			"limit": {fmt.Sprint(limit)}}.Encode(), nil, &out)
		return out
	}
	begun := time.Now()
	waitFor(t, "the list of groups", func() bool { return page("", "", 1).Total > 20_000 })
	t.Logf("the list of 20,000 groups was there after %v", time.Since(begun))
	stopwatch := func(do func()) time.Duration {
		begun := time.Now()
		do()
		return time.Since(begun)
	}
	count, after, slowest := 0, "", time.Duration(0)
	for {
		var out apitype.Groups
		if took := stopwatch(func() { out = page("SHIP 0", after, 500) }); took > slowest {
			slowest = took
		}
		count += len(out.Items)
		if after = out.Next; after == "" {
			break
		}
	}
	if count != 10_000 {
		t.Errorf("paged through %d groups, wanted 10000", count)
	}
	if took := stopwatch(func() { page("p 19999", "", 100) }); took > slowest {
		slowest = took
	}
	if t.Logf("the slowest page took %v", slowest); slowest.Milliseconds() > 200 {
		t.Errorf("a page of groups took %v, wanted at most 200 ms", slowest)
	}
	var many apitype.Found // somebody in 20,000 groups: bounded, not refused
	w.do(http.MethodGet, "/directories/big/people/s.lodge", nil, &many)
	if many.Person == nil || len(many.Person.Groups) < 1000 {
		t.Errorf("somebody in 20,000 groups: %+v", many.Reason)
	}
}
