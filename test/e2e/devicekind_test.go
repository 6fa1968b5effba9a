package e2e

import (
	"fmt"
	"net"
	"net/http"
	"testing"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// dhcpAsk is what a device asks a server: for an address, the options of its fingerprint, with its vendor class.
func dhcpAsk(device [6]byte, host, class string, options ...byte) []byte {
	b := make([]byte, 240, 400)
	b[0], b[1], b[2] = 1, 1, 6
	copy(b[28:], device[:])
	copy(b[236:], []byte{99, 130, 83, 99})
	b = append(b, 53, 1, 1, 12, byte(len(host)))
	b = append(append(b, host...), 60, byte(len(class)))
	b = append(append(b, class...), 55, byte(len(options)))
	return append(append(b, options...), 255)
}

// Rules tell the kind of a device by what copies of DHCP messages show of it, also out of scope and after a restart;
// policies decide by that, rehearsals tell what a change of the rules would do, and a known device counts more.
func TestTheKindOfADevice(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	w.wants(0, []string{"source", "add", "relays", "-way", "dhcp", "-from", "127.0.0.1"})
	w.wants(0, []string{"scope", "add", "printers", "-leave-out", "-mac", "02-00-99"})
	w.wants(0, []string{"device-kind", "add", "cameras", "-kind", "Camera", "-host", "cam-*", "-fingerprint",
		"1, 3,6,42"})
	w.wants(0, []string{"device-kind", "add", "printers", "-kind", "printer", "-mac", "02:00:99", "-order", "9"})
	w.publish()
	relay, err := net.Dial("udp", w.app.Reports[0].String())
	if err != nil {
		t.Fatal(err)
	}
	defer relay.Close()
	camera, printer := [6]byte{2, 0, 0x5e, 0, 0, 9}, [6]byte{2, 0, 0x99, 0, 0, 1}
	for _, b := range [][]byte{dhcpAsk(camera, "CAM-7", "udhcp 1.36", 1, 3, 6, 42), dhcpAsk(printer, "lp", "", 1),
		dhcpAsk([6]byte{2, 0, 0x5e, 0, 0, 8}, "desk-8", "quay <script>", 1, 3, 6)} {
		if _, err := relay.Write(b); err != nil {
			t.Fatal(err)
		}
	}
	seen := func(query string) (out apitype.SeenDevices) {
		w.do(http.MethodGet, "/presence/devices?"+query, nil, &out)
		return out
	}
	w.eventually("three devices are seen", func() bool { return seen("").Total == 3 })
	if list := seen("kind=camera"); list.Found != 1 || list.Items[0].MAC != "02-00-5e-00-00-09" ||
		list.Items[0].Host != "CAM-7" || list.Items[0].Fingerprint != "1,3,6,42" || list.Items[0].Rule != "cameras" {
		t.Errorf("%+v", list)
	}
	if list := seen("kind=none"); list.Found != 1 || list.Items[0].VendorClass != "quay <script>" {
		t.Errorf("%+v", list)
	}
	w.wants(0, []string{"presence", "devices", "02:00:99"}, "printer", "02-00-99-00-00-01", "3 devices seen")
	w.wants(0, []string{"device-kind", "list"}, "cameras", "camera")
	w.do(http.MethodPost, "/presence/sightings", apitype.SightingFields{Kind: "signed-in", Who: "k.nance",
		Address: "192.0.2.9", MAC: "02-00-5e-00-00-09"}, nil)
	w.wants(0, []string{"presence", "who", "192.0.2.9"}, "02-00-5e-00-00-09", "camera")
	w.wants(0, []string{"device-kind", "show", "printers"}, "1 that were seen")
	w.wants(1, []string{"device-kind", "add", "all", "-kind", "thing"}, "asks for nothing")
	w.wants(1, []string{"device-kind", "add", "bad", "-kind", "thing", "-fingerprint", "1,300"}, "1,300")
	w.wants(1, []string{"device-kind", "add", "bad", "-kind", "thing", "-host", "**"}, "more than *")
	w.wants(1, []string{"device-kind", "add", "bad", "-kind", "thing", "-mac", "02-0"}, "02-0")
	var fits apitype.SeenDevices
	w.do(http.MethodPost, "/device-kinds/fits", apitype.DeviceKindFields{MACs: []string{"02:00:5E"},
		Fingerprints: []string{}, VendorClasses: []string{}, Hosts: []string{}}, &fits)
	if fits.Found != 2 || fits.Total != 3 {
		t.Errorf("%+v", fits)
	}

	many := make([]string, 201)
	for i := range many {
		many[i] = fmt.Sprint("*cam-", i, "*")
	}
	w.refused(http.StatusUnprocessableEntity, http.MethodPost, "/device-kinds/fits", apitype.DeviceKindFields{
		MACs: []string{}, Fingerprints: []string{}, VendorClasses: []string{}, Hosts: many}, "at most 200")

	w.wants(0, []string{"policy", "change", "Wired", "Crew", "-when", `group is Crew and device.kind is "camera"`,
		"-publish"}, "published")
	signs := func(mac string, admitted bool) {
		t.Helper()
		reply, err := w.ask(func(r *trial.Request) {
			for i := range r.Attributes {
				if r.Attributes[i].Name == "Calling-Station-Id" {
					r.Attributes[i].Value = mac
				}
			}
		})
		if err != nil || reply.Accepted != admitted {
			t.Errorf("%s: %+v, %v", mac, reply, err)
		}
	}
	signs("02-00-5E-00-00-09", true)
	if f := w.newest(1).Facts; f.Traits == nil || f.Traits.Host != "CAM-7" || f.Traits.Fingerprint != "1,3,6,42" {
		t.Errorf("recorded is %+v", f.Traits)
	}
	signs("02-00-99-00-00-01", false)
	w.wants(0, []string{"attempt", "explain"}, "device.kind", "printer")
	signs("02-00-5E-00-00-77", false) // never seen
	w.wants(0, []string{"device-kind", "change", "cameras", "-host", "eye-*"}, "draft")
	w.wants(0, []string{"draft", "rehearse"}, "1 of ")
	w.wants(0, []string{"draft", "discard"})
	// a known device with the tag counts more than any guess
	w.do(http.MethodPost, "/devices", apitype.DeviceFields{Match: "02-00-99-00-00-01",
		Name: "lobby camera", Tags: map[string]string{"kind": "camera"}, Enabled: true}, nil)
	signs("02-00-99-00-00-01", true)

	w.app.Stop()
	w.boot()
	w.eventually("it is known again what was seen", func() bool { return seen("").Total == 3 })
	signs("02-00-5E-00-00-09", true)
	w.wants(0, []string{"config", "export"}, "deviceKinds:", "cam-*")
}
