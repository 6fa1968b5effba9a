package e2e

import (
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/web/apitype"
)

var (
	deviceShown = regexp.MustCompile(`name="id" value="([^"]+)"`)
	codeShown   = regexp.MustCompile(`<li>([^<]+)</li>`)
)

// ownCode sets up a device by an invitation, and returns its seed and the recovery codes.
func (w *world) ownCode(person, password string) (seed string, recovery []string) {
	w.t.Helper()
	t, v := w.t.(*testing.T), w.visitor("en")
	_, token, _ := strings.Cut(w.enrolLink(person), "?t=")
	_, page := v.post("/enrol", "t", token, "password", password)
	seed, recovery = v.confirm(t, page)
	return seed, recovery
}

// confirm gives the first code of the device that a page offers.
func (v *visitor) confirm(t *testing.T, offer string) (seed string, recovery []string) {
	t.Helper()
	seed = strings.ReplaceAll(first(t, seedShown, offer), " ", "")
	code, err := factor.Code(seed, time.Now().Add(-30*time.Second)) // so that the present one is left
	if err != nil {
		t.Fatal(err)
	}
	status, page := v.post("/confirm", "p", first(t, hiddenPass, offer), "code", code)
	if status != http.StatusOK {
		t.Fatalf("%d %s", status, page)
	}
	for _, found := range codeShown.FindAllStringSubmatch(page, -1) {
		recovery = append(recovery, found[1])
	}
	return seed, recovery
}

// People look after their own devices: whoever gives name, password and code, for ten minutes, and until the devices
// change by somebody else.
func TestPeopleLookAfterTheirDevices(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	const password = "gangplank-and-tide"
	w.account("m.wade", password, "Crew")
	w.account("v.vane", "weather-and-vane-1", "Crew")
	seed, recovery := w.ownCode("m.wade", password)
	v := w.visitor("en")
	if status, page := v.open(v.base + "/mine"); status != http.StatusOK ||
		!strings.Contains(page, "recovery code") ||
		strings.Contains(strings.ReplaceAll(page, `<script src="/key.js" defer>`, ""), "<script") {
		t.Errorf("%d %s", status, page)
	}
	// Whatever is wrong looks the same, and tells nobody whether the password was right.
	said := map[string]bool{}
	for _, wrong := range [][]string{{"m.wade", "wrong", recovery[0]}, {"m.wade", password, "000000x"},
		{"nobody.here", password, "123456"}, {"v.vane", "weather-and-vane-1", "123456"}, {"m.wade", password, ""}} {
		begun := time.Now()
		status, page := v.post("/mine", "name", wrong[0], "password", wrong[1], "code", wrong[2])
		if status != http.StatusForbidden || time.Since(begun) < 600*time.Millisecond {
			t.Errorf("%v: %d after %s", wrong, status, time.Since(begun))
		}
		said[strings.ReplaceAll(page, wrong[0], "")] = true
	}
	if len(said) != 1 {
		t.Errorf("%d answers to what is wrong: %v", len(said), said)
	}
	for _, path := range []string{"/mine/add", "/mine/recovery", "/mine/remove"} {
		if status, page := v.post(path); status != http.StatusForbidden ||
			!strings.Contains(page, "Sign in again") {
			t.Errorf("%s for anybody: %d %s", path, status, page)
		}
	}
	req, _ := http.NewRequest(http.MethodPost, v.base+"/mine", strings.NewReader("name=m.wade"))
	req.Header.Set("Sec-Fetch-Site", "cross-site") // a page elsewhere signs nobody in here
	if resp, err := http.DefaultClient.Do(req); err != nil || resp.StatusCode != http.StatusForbidden {
		t.Errorf("from a page elsewhere: %v, %v", resp, err)
	} else {
		resp.Body.Close()
	}
	enter := func(v *visitor, code string) string {
		t.Helper()
		status, page := v.post("/mine", "name", "m.wade", "password", password, "code", code)
		if status != http.StatusOK || !strings.Contains(page, "Makes codes") {
			t.Fatalf("%d %s", status, page)
		}
		return page
	}
	code, _ := factor.Code(seed, time.Now())
	if page := enter(v, code); strings.Contains(page, "/mine/remove") || !strings.Contains(page, "8 are left") {
		t.Errorf("%s", page)
	}
	here := func() string {
		var a apitype.PresenceAnswer
		w.do(http.MethodGet, "/presence/who?address=127.0.0.1", nil, &a)
		if a.Here == nil {
			return ""
		}
		return a.Here.Who + " by " + a.Here.Source
	}
	if who := here(); who != "" { // an address may be that of many
		t.Errorf("presence has %q without being told to", who)
	}
	var list apitype.Page[apitype.Factor]
	w.do(http.MethodGet, "/factors?q=m.wade", nil, &list)
	if status, page := v.post("/mine/remove", "id", list.Items[0].ID); status != http.StatusConflict ||
		!strings.Contains(page, "last device") {
		t.Errorf("the last one: %d %s", status, page)
	}
	// Another device, beside which the first can go; the visit goes on through that.
	_, page := v.post("/mine/add")
	v.confirm(t, page)
	_, page = v.open(v.base + "/mine")
	ids := deviceShown.FindAllStringSubmatch(page, -1)
	if len(ids) != 2 {
		t.Fatalf("%s", page)
	}
	other := w.visitor("de")
	enter = func(v *visitor, code string) string {
		_, page := v.post("/mine", "name", "m.wade", "password", password, "code", code)
		return page
	}
	if page := enter(other, recovery[0]); !strings.Contains(page, "Zeigt Codes") ||
		!strings.Contains(page, "Noch 7") {
		t.Errorf("%s", page)
	}
	// A device of somebody else is none of theirs; of two removals at once one is refused, and the other visit ends.
	w.ownCode("v.vane", "weather-and-vane-1")
	w.do(http.MethodGet, "/factors?q=v.vane", nil, &list)
	v.post("/mine/remove", "id", list.Items[0].ID)
	if w.do(http.MethodGet, "/factors?q=v.vane", nil, &list); len(list.Items) != 1 {
		t.Errorf("a device of somebody else was removed: %+v", list.Items)
	}
	kept := v.client.Transport.(*cookies).kept["tollgate_mine"]
	var both sync.WaitGroup
	for _, id := range ids {
		both.Go(func() {
			req, _ := http.NewRequest(http.MethodPost, v.base+"/mine/remove",
				strings.NewReader(url.Values{"id": {id[1]}}.Encode()))
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			req.AddCookie(&http.Cookie{Name: "tollgate_mine", Value: kept})
			if resp, err := http.DefaultTransport.RoundTrip(req); err == nil {
				resp.Body.Close()
			}
		})
	}
	both.Wait()
	if w.do(http.MethodGet, "/factors?q=m.wade", nil, &list); len(list.Items) != 1 {
		t.Errorf("after two removals at once: %+v", list.Items)
	}
	for _, v := range []*visitor{v, other} {
		if _, page := v.open(v.base + "/mine"); strings.Contains(page, `action="/mine/add"`) {
			t.Errorf("a visit goes on although the devices were changed elsewhere:\n%s", page)
		}
	}
	// New recovery codes end those of before; signing out ends the visit.
	enter(v, recovery[1])
	_, page = v.post("/mine/recovery")
	renewed := codeShown.FindAllStringSubmatch(page, -1)
	if len(renewed) != 8 {
		t.Fatalf("%s", page)
	}
	if page := enter(w.visitor("en"), recovery[2]); !strings.Contains(page, "Something of this is wrong") {
		t.Errorf("a recovery code of before counts:\n%s", page)
	}
	v.post("/mine/leave")
	if status, _ := v.post("/mine/add"); status != http.StatusForbidden {
		t.Errorf("after signing out: %d", status)
	}
	w.wants(0, []string{"source", "add", "people-pages", "-way", "portal", "-publish"}, "people-pages")
	// What an operator takes away ends a visit too.
	enter(v, renewed[0][1])
	w.eventually("it is known who is at the address", func() bool { return here() == "m.wade by people-pages" })
	w.wants(0, []string{"factor", "remove", "m.wade"}, "")
	if status, _ := v.post("/mine/add"); status != http.StatusForbidden {
		t.Errorf("after an operator removed the devices: %d", status)
	}
	w.wants(
		0,
		[]string{"audit", "list"},
		"removed the own device",
		"made new recovery codes",
		"looked at the own devices",
	)
}
