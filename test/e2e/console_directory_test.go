package e2e

import (
	"net"
	"net/http"
	"testing"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// An administrator connects a directory knowing its domain only, trusts its authority, picks a group, looks a person
// up, browses, and reads the checkup.
func TestConnectingADirectoryInTheConsole(t *testing.T) {
	w := start(t)
	w.directory()
	socket, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := socket.LocalAddr().String()
	socket.Close()
	dns, err := lab.ServeDNS(address, w.ldap)
	if err != nil {
		t.Fatal(err)
	}
	defer dns.Close()
	p := pageSteps{signedIn(t, w)}
	steps(t,
		p.open(w.app.URL+"/directories"), p.click("Add directory"), p.fill("Domain or server", "nowhere at all"),
		p.click("Find it"), p.see("neither a host nor a domain"),
		p.fill("Domain or server", "o.brandt@"+lab.Domain), p.fill("Service account", lab.ServiceName),
		p.fill("Its password", lab.ServicePassword), p.fill("Ask these DNS servers", dns.Address()), p.click("Find it"),
		p.see("1 for the domain "+lab.Domain), p.see("would learn the password"), p.click("Trust this authority"),
		p.see(lab.ServiceName+"@"+lab.Domain+", let in"),
		p.click("Take these settings"), p.see("They are in the form below"), p.fill("Name", "LANTERN"),
		p.click("Save to the draft"), p.see("Lockout guard"))
}

func TestWorkingWithADirectoryInTheConsole(t *testing.T) {
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	steps(t,
		p.open(w.app.URL+"/directories"), p.click("LANTERN"), p.click("Groups"), p.see("12 groups"),
		p.fill("Search the groups", "CREW"), p.see("1 groups"), p.click("Pick All Crew"), p.see("1 change"),
		p.see("picked"),
		p.click("Further settings"), p.fill("Note", "the only one"), p.click("Save to the draft"),
		p.see("Saved in the draft"), p.click("Unpick All Crew"), p.unsee("picked"), p.fill("Note", ""),
		p.click("Save to the draft"), p.see("nothing unpublished"),
		p.click("Forget now"), p.see("people dropped from the cache"),
		p.click("Find a person"), p.fill("Name of the person", "nobody.here"), p.click("Look up"),
		p.see("not found in"), p.fill("Name of the person", "s.lodge"), p.click("Look up"),
		p.see("through Ticketing, Shore Staff"), p.see("VLAN 20"), p.see("primary group"),
		p.click("Browse"), p.click("Open DC=lanternferries,DC=example"), p.click("Open People"), p.click("North Pier"),
		p.see("organizationalUnit"),
		p.click("Copies"), p.see("No copy was made yet"), p.click("Copy now"), p.see("copied"),
		p.click("Missing an attribute"), p.see("mobile"), p.fill("Search the copies", "zzz"), p.see("Nobody."),
		p.click("Lockout guard"), p.see("after 5 wrong passwords"), p.see("passwords are held back now"))
	for range 2 {
		if _, err := w.ask(func(q *trial.Request) {
			q.User, q.Password, q.Secret, q.From = "s.lodge", "an-old-one", "gangway-and-bollard-99",
				must("127.0.10.99")
		}); err != nil {
			t.Fatal(err)
		}
	}
	steps(t, p.see("00-00-5E-00-53-07"), p.click("Release s.lodge"), p.see("passwords are held back now"),
		p.click("Checkup"), p.see("Nothing has been checked yet"), p.click("Run now"), p.see("password expires in"),
		p.see("9 of 9 are there"), p.see("What changed"))
	var out apitype.Checkup
	w.do(http.MethodGet, "/checkup", nil, &out)
	if out.Ran == nil || len(out.Lines) < 10 || out.Lines[0].State != "warn" {
		t.Errorf("the checkup: %+v", out.Lines)
	}
}
