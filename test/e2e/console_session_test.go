package e2e

import (
	"net/http"
	"testing"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/radius"
)

// The console shows who is connected, says where the device did something else than it was told, and disconnects.
func TestConsoleSessions(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	switches, err := lab.TakeChanges("127.0.0.1:0", secret, lab.NoCoA)
	if err != nil {
		t.Fatal(err)
	}
	defer switches.Close()
	w.changeable(switches, nil)
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start", "Framed-IP-Address=192.0.2.50", "Tunnel-Private-Group-ID=1")
	d.must("Interim-Update", "Acct-Session-Time=60", "Acct-Input-Octets=2500000", "Framed-IP-Address=192.0.2.50")
	other := w.signIn("s-2", "00-00-5E-00-53-08")
	other.must("Start", "Framed-IP-Address=192.0.2.51", "Tunnel-Private-Group-ID=30")
	switches.Open("s-1", func(*radius.Packet) { d.must("Stop", "Acct-Terminate-Cause=Admin-Reset") })
	switches.Open("s-2", func(*radius.Packet) { other.must("Stop", "Acct-Terminate-Cause=Admin-Reset") })
	p := pageSteps{signedIn(t, w)}
	url := w.app.URL
	steps(t, p.open(url+"/sessions"), p.see("2 open"), p.see("device says 1"), p.see("192.0.2.51"), p.see("2.5 MB"),
		p.fill("Address", "192.0.2.50"), p.press("\r"), p.unsee("192.0.2.51"))
	steps(t, p.click("k.nance"), p.see("says that it applied VLAN 1"), p.see("Session started"), p.see("road"))
	steps(t, p.click("Re-authenticate"), p.see("Ask the client"), p.click("Ask"), p.see("Unsupported-Service"),
		p.click("Close"), p.click("Disconnect"), p.click("Ask"), p.see("Disconnect-ACK"), p.click("Close"),
		p.see("Asked by o.brandt"), p.see("Session ended"))
	steps(t, p.open(url+"/attempts/"+w.newest(2).ID), p.see("Connected now"), p.see("192.0.2.51"),
		p.click("Its session"),
		p.see("What is known"))
	steps(
		t,
		p.open(url+"/sessions?client=np-switch-1"),
		p.see("1 open"),
		p.click("Change these…"),
		p.see("1 session"),
		p.click("Ask for 1 session"),
		p.see("0 of 1 done"),
		p.click("Close"),
	)
	steps(t, p.open(url+"/sessions?state=ended"), p.see("Admin-Reset"))
	// what is set of a client's sessions survives other changes of it
	steps(t, p.open(url+"/clients"), p.click("np-switch-1"), p.see("Accounting and changes on the fly"),
		p.fill("Note", "by the gate"), p.click("Save and publish"), p.see("What is published"), p.click("Publish"),
		p.see("Saved, and in effect"))
	var c apitype.Client
	w.do(http.MethodGet, "/clients/np-switch-1", nil, &c)
	if c.Note != "by the gate" || c.Sessions.ChangePort != int(switches.Address().Port()) {
		t.Errorf("after a change in the console: %+v", c.Sessions)
	}
}
